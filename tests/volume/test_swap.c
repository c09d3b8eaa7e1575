#include "support.h"

#include "base/io.h"
#include "base/text.h"
#include "volume/swap.h"
#include "volume/tree/tree.h"

#include <string.h>

Suite *suite_swap(void);

enum { SWAP_BYTES = 1024 * 1024 };
#define UUID "0f7b7d0a-4c4e-4d6b-9a3e-2b1c5d6e7f80"

static void make_swap(const char *page)
{
	sup_make_image(sup_path("swap"), SWAP_BYTES);
	SUP_TOOL("mkswap", "-q", "-L", "field", "-U", UUID, "-p", page, sup_path("swap"));
}

static uint8_t *head_of(const char *path)
{
	uint8_t *head = g_malloc(WDR_SWAP_HEAD_BYTES);

	sup_peek(path, 0, head, WDR_SWAP_HEAD_BYTES);
	return head;
}

static const char *const pages[] = { "4096", "8192", "16384", "65536" };

/* What mkswap makes is read, and made again byte for byte. */
START_TEST(areas_as_mkswap_makes_them)
{
	WdrSwap swap;

	make_swap(pages[_i]);
	g_autofree uint8_t *head = head_of(sup_path("swap"));
	g_autofree uint8_t *made = g_malloc(WDR_SWAP_HEAD_BYTES);
	ck_assert(wdr_swap_parse(head, WDR_SWAP_HEAD_BYTES, &swap));
	ck_assert_uint_eq(swap.page_bytes, g_ascii_strtoull(pages[_i], NULL, 10));
	ck_assert_str_eq(swap.label, "field");
	ck_assert(wdr_swap_make(&swap, SWAP_BYTES, made));
	ck_assert_int_eq(memcmp(head, made, swap.page_bytes), 0);
}
END_TEST

START_TEST(the_other_byte_order)
{
	WdrSwap swap;
	WdrSwap again;

	make_swap("4096");
	g_autofree uint8_t *head = head_of(sup_path("swap"));
	const uint8_t one[] = { 0, 0, 0, 1 };
	memcpy(head + 1024, one, sizeof(one));
	ck_assert(wdr_swap_parse(head, WDR_SWAP_HEAD_BYTES, &swap));
	ck_assert(swap.is_big_endian);
	ck_assert(wdr_swap_make(&swap, SWAP_BYTES, head));
	ck_assert_uint_eq(head[1024 + 3], 1);
	ck_assert_uint_eq(head[1028 + 3], 255);
	ck_assert(wdr_swap_parse(head, WDR_SWAP_HEAD_BYTES, &again));
}
END_TEST

START_TEST(what_is_none)
{
	WdrSwap swap;

	make_swap("4096");
	g_autofree uint8_t *head = head_of(sup_path("swap"));
	ck_assert(!wdr_swap_parse(head, 4095, &swap));
	ck_assert(wdr_swap_parse(head, 4096, &swap));
	ck_assert(!wdr_swap_make(&swap, 9 * 4096 + 4095, head));
	head[1024] = 2;
	ck_assert(!wdr_swap_parse(head, 4096, &swap));
	head[1024] = 1;
	head[4095] = '1';
	ck_assert(!wdr_swap_parse(head, WDR_SWAP_HEAD_BYTES, &swap));
}
END_TEST

/* A swap file comes without what was swapped out, and without holes. */
START_TEST(swap_files_are_made_new)
{
	g_auto(WdrExtSpec) spec = sup_ext_spec(NULL, 4096, 256);
	g_autoptr(WdrVolume) v = NULL;

	make_swap("4096");
	sup_ok(wdr_make_folder(sup_path("t"), &error));
	SUP_TOOL("cp", "--sparse=always", sup_path("swap"), sup_path("t/swap"));
	sup_poke(sup_path("t/swap"), 500000, "secret of the reed bed", 22);
	sup_write(sup_path("t/same-size"), "");
	SUP_TOOL("truncate", "-s", "1M", sup_path("t/same-size"));
	sup_poke(sup_path("t/same-size"), 500000, "kept", 4);
	sup_ok(wdr_tree_volume_open(sup_path("t"), &v, &error));
	sup_make_image(sup_path("v.img"), 32 * WDR_MIB);
	sup_build_ext(v, sup_path("v.img"), 0, 32 * WDR_MIB, &spec);
	g_autofree char *dump = g_strdup_printf("dump /swap %s", sup_path("out"));
	g_autofree char *other = g_strdup_printf("dump /same-size %s", sup_path("other"));
	SUP_TOOL("debugfs", "-R", dump, sup_path("v.img"));
	SUP_TOOL("debugfs", "-R", other, sup_path("v.img"));
	SUP_TOOL("cmp", sup_path("out"), sup_path("swap"));
	SUP_TOOL("cmp", sup_path("other"), sup_path("t/same-size"));
	ck_assert_ptr_nonnull(strstr(SUP_TOOL("blkid", "-p", sup_path("out")), UUID));
	ck_assert_ptr_nonnull(strstr(
		SUP_TOOL("debugfs", "-R", "stat /swap", sup_path("v.img")), "Blockcount: 2048"));
}
END_TEST

Suite *suite_swap(void)
{
	Suite *s = suite_create("volume/swap");
	TCase *tc = tcase_create("swap");

	tcase_add_checked_fixture(tc, sup_setup, sup_teardown);
	tcase_add_loop_test(tc, areas_as_mkswap_makes_them, 0, G_N_ELEMENTS(pages));
	tcase_add_test(tc, the_other_byte_order);
	tcase_add_test(tc, what_is_none);
	tcase_add_test(tc, swap_files_are_made_new);
	suite_add_tcase(s, tc);
	return s;
}
