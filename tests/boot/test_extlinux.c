/* A second way to start in an extlinux.conf. */
#include "support.h"

#include "boot/formats/extlinux.h"

#include <string.h>

Suite *suite_extlinux(void);

static const WdrExtlinuxChoice choice = { "SD card", "NVMe", "PARTUUID=9d8e7f60-02" };

static char *add_choice(const char *text)
{
	g_autoptr(WdrEdit) edit =
		wdr_edit_new(1, "extlinux/extlinux.conf", wdr_hash(text, strlen(text)));
	g_autoptr(GBytes) bytes = NULL;
	size_t len = 0;

	sup_ok(wdr_extlinux_add_choice(text, strlen(text), &choice, edit, &error));
	sup_ok(wdr_edit_apply(edit, text, strlen(text), &bytes, &error));
	const char *data = g_bytes_get_data(bytes, &len);
	return g_strndup(data, len);
}

static const struct {
	const char *name, *before, *after;
} menus[] = {
	{ "all there",
		"timeout 20\ndefault l0\nprompt 0\nlabel l0\n\tmenu label Debian\n\tlinux /k\n\tappend root=UUID=a ro\n",
		"MENU TITLE Which root to start\ntimeout 50\ndefault l0-on-nvme\nprompt 1\nlabel l0-on-nvme\n\tmenu label Debian (NVMe)\n"
		"\tlinux /k\n\tappend root=PARTUUID=9d8e7f60-02 ro\n\n"
		"label l0\n\tmenu label Debian (SD card)\n\tlinux /k\n\tappend root=UUID=a ro\n" },
	{ "nothing there", "LABEL main\n  KERNEL /k\n  APPEND root=/dev/mmcblk0p1",
		"DEFAULT main-on-nvme\nMENU TITLE Which root to start\nTIMEOUT 50\nPROMPT 1\n"
		"LABEL main-on-nvme\n  MENU LABEL main (NVMe)\n  KERNEL /k\n  APPEND root=PARTUUID=9d8e7f60-02\n\n"
		"LABEL main\n  MENU LABEL main (SD card)\n  KERNEL /k\n  APPEND root=/dev/mmcblk0p1" },
	{ "menu default, second entry, CRLF",
		"timeout 100\r\nprompt 1\r\nlabel a\r\n\tlinux /k\r\nlabel b\r\n\tmenu default\r\n\tappend root=UUID=x\r\n",
		"DEFAULT b-on-nvme\r\nMENU TITLE Which root to start\r\ntimeout 100\r\nprompt 1\r\nlabel a\r\n\tlinux /k\r\n"
		"label b-on-nvme\r\n\tMENU LABEL b (NVMe)\r\n\tmenu default\r\n\tappend root=PARTUUID=9d8e7f60-02\r\n\r\n"
		"label b\r\n\tMENU LABEL b (SD card)\r\n\tappend root=UUID=x\r\n" },
	{ "its medium named already, its new label taken",
		"menu title Hide\nontimeout a\ntimeout 60\nprompt 1\nlabel a\n menu label Hide (SD card)\n append root=UUID=x\n"
		"label a-on-nvme\n append root=UUID=y\n",
		"menu title Hide\nontimeout a-on-nvme-2\ntimeout 60\nprompt 1\nlabel a-on-nvme-2\n menu label Hide (NVMe)\n"
		" append root=PARTUUID=9d8e7f60-02\nlabel a\n menu label Hide (SD card)\n append root=UUID=x\n"
		"label a-on-nvme\n append root=UUID=y\n" },
};

START_TEST(choices)
{
	g_autofree char *got = add_choice(menus[_i].before);

	ck_assert_msg(strcmp(got, menus[_i].after) == 0, "%s:\n%s\nand not:\n%s", menus[_i].name,
		got, menus[_i].after);
}
END_TEST

/* What was added is what starts, and the old way is there as it was. */
START_TEST(the_old_way_stays)
{
	g_autofree char *got = add_choice(menus[_i].before);
	g_autoptr(GPtrArray) mentions = wdr_mentions_new();
	g_autoptr(GPtrArray) warnings = wdr_warnings_new();
	WdrReading r = { "f", got, strlen(got), 0, mentions, warnings };
	g_autoptr(WdrExtlinux) x = wdr_extlinux_parse(&r);
	unsigned news = 0;

	sup_ok(wdr_extlinux_read(&r, &error));
	for (guint i = 0; i < mentions->len; i++) {
		const WdrMention *m = mentions->pdata[i];
		bool is_new = strcmp(m->text, choice.new_root) == 0;
		ck_assert(m->is_default == is_new);
		news += is_new ? 1 : 0;
	}
	ck_assert_uint_eq(news, 1);
	ck_assert_uint_eq(x->timeout >= 50, 1);
	ck_assert(x->has_prompt);
}
END_TEST

static const struct {
	const char *text, *why;
} refusals[] = {
	{ "", "no entry" },
	{ "default a\n", "no entry" },
	{ "default a\nlabel a\n kernel /k\n", "has no root= that names a disk" },
	{ "default a\nlabel a\n append root=UUID=x\nlabel b\n menu default\n append root=UUID=y\n",
		"two defaults" },
	{ "label\n append root=UUID=x\n", "has no label, so a second entry cannot be added" },
	{ "label a\nendtext\n append root=UUID=x\ntext\n", "cannot get a second entry" },
};

START_TEST(menus_that_cannot_take_one)
{
	const char *text = refusals[_i].text;
	g_autoptr(WdrEdit) edit = wdr_edit_new(1, "extlinux.conf", wdr_hash(text, strlen(text)));

	sup_fails(WDR_ERROR_REFUSED, refusals[_i].why,
		wdr_extlinux_add_choice(text, strlen(text), &choice, edit, &error));
}
END_TEST

Suite *suite_extlinux(void)
{
	Suite *s = suite_create("boot/extlinux");
	TCase *t = tcase_create("extlinux");

	tcase_add_loop_test(t, choices, 0, (int)G_N_ELEMENTS(menus));
	tcase_add_loop_test(t, the_old_way_stays, 0, (int)G_N_ELEMENTS(menus));
	tcase_add_loop_test(t, menus_that_cannot_take_one, 0, (int)G_N_ELEMENTS(refusals));
	suite_add_tcase(s, t);
	return s;
}
