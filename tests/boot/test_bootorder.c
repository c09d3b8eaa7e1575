/* Boot orders, which are read from the right. */
#include "boot/board/bootorder.h"

#include "suite.h"

#include <string.h>

Suite *suite_bootorder(void);

static const struct {
	const char *text;
	const char *words;  /* NULL: it is none */
	const char *medium; /* what is looked for, */
	int place;          /* where it comes; -1: never */
	const char *first;  /* and the order with it put first; NULL: there is none */
} orders[] = {
	{ "0xf41", "SD or eMMC, then USB, then repeat", "SD card", 0, "0xf41" },
	{ "0xf41", "SD or eMMC, then USB, then repeat", "USB disk", 1, "0xf14" },
	{ "0xf41", "SD or eMMC, then USB, then repeat", "NVMe", -1, "0xf416" },
	{ "0xf416", "NVMe, then SD or eMMC, then USB, then repeat", "eMMC", 1, "0xf461" },
	{ "F416", "NVMe, then SD or eMMC, then USB, then repeat", "NVMe", 0, "0xf416" },
	{ "0x4f1", "SD or eMMC, then repeat", "USB disk", -1, "0xf14" },
	{ "0xe6", "NVMe, then stop", "SD card", -1, "0xe61" },
	{ "0x6", "NVMe, then stop", "NVMe", 0, "0xf16" },
	{ "0xf", "repeat", "NVMe", -1, "0xf16" },
	{ "0xf7654321",
		"SD or eMMC, then the network, then another machine by USB, then USB, then USB on the "
		"USB-C controller, then NVMe, then HTTP, then repeat",
		"NVMe", 5, "0xf7543216" },
	{ "0xf6", "NVMe, then repeat", "disk", -1, NULL },
	{ "0xf9", NULL, NULL, 0, NULL },
	{ "0xf41f41f41", NULL, NULL, 0, NULL },
	{ "", NULL, NULL, 0, NULL },
	{ "0x", NULL, NULL, 0, NULL },
	{ "sd", NULL, NULL, 0, NULL },
};

START_TEST(orders_are_read_from_the_right)
{
	g_autoptr(GError) error = NULL;
	WdrBootOrder o;
	unsigned place = 0;
	bool is_one = wdr_boot_order_parse(orders[_i].text, &o, &error);

	ck_assert(is_one == (orders[_i].words != NULL));
	ck_assert(is_one || g_error_matches(error, WDR_ERROR, WDR_ERROR_FORMAT));
	if (!is_one)
		return;
	g_autofree char *words = wdr_boot_order_words(&o);
	ck_assert_str_eq(words, orders[_i].words);
	/* However it is given, it is stored in one form. */
	g_autofree char *number = wdr_boot_order_number(&o);
	const char *digits = orders[_i].text + (orders[_i].text[1] == 'x' ? 2 : 0);
	g_autofree char *want = g_strconcat("0x", digits, NULL);
	g_autofree char *lower = g_ascii_strdown(want, -1);
	ck_assert_str_eq(number, lower);
	bool is_tried = wdr_boot_order_tries(&o, orders[_i].medium, &place);
	ck_assert_int_eq(is_tried ? (int)place : -1, orders[_i].place);
	g_autofree char *first = wdr_boot_order_with_first(&o, orders[_i].medium);
	ck_assert_int_eq(g_strcmp0(first, orders[_i].first), 0);
	if (first) {
		ck_assert(wdr_boot_order_parse(first, &o, &error));
		ck_assert(wdr_boot_order_tries(&o, orders[_i].medium, &place) && place == 0);
	}
}
END_TEST

Suite *suite_bootorder(void)
{
	Suite *s = suite_create("boot/bootorder");
	TCase *t = tcase_create("orders");

	tcase_add_loop_test(t, orders_are_read_from_the_right, 0, (int)G_N_ELEMENTS(orders));
	suite_add_tcase(s, t);
	return s;
}
