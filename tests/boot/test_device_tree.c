/* Device trees inside of boot loaders, and which boards they suit. Trees are made by libfdt. */
#include "boot/board/device_tree.h"

#include "suite.h"

#include <libfdt.h>
#include <string.h>

Suite *suite_device_tree(void);

enum { TREE_BYTES = 512, BEFORE = 37, BEHIND = 11, FILE_BYTES = BEFORE + TREE_BYTES + BEHIND };

/* A loader with one tree in it, at an odd place. */
static void make_loader(uint8_t *bytes, const char *compatible, size_t len)
{
	char tree[TREE_BYTES];

	memset(bytes, 0xd0, FILE_BYTES);
	ck_assert_int_eq(fdt_create_empty_tree(tree, TREE_BYTES), 0);
	if (len > 0)
		ck_assert_int_eq(fdt_setprop(tree, 0, "compatible", compatible, (int)len), 0);
	ck_assert_int_eq(fdt_setprop_string(tree, 0, "model", "Owl Box"), 0);
	memcpy(bytes + BEFORE, tree, TREE_BYTES);
}

START_TEST(a_tree_is_found)
{
	static const char names[] = "owls,box\0rockchip,rk3399";
	uint8_t bytes[FILE_BYTES];

	make_loader(bytes, names, sizeof(names));
	g_autoptr(GPtrArray) trees = wdr_device_trees_in(bytes, FILE_BYTES);
	ck_assert_uint_eq(trees->len, 1);
	const WdrDeviceTree *t = trees->pdata[0];
	ck_assert_str_eq(t->names[0], "owls,box");
	ck_assert_str_eq(t->names[1], "rockchip,rk3399");
	ck_assert_ptr_null(t->names[2]);
	ck_assert_str_eq(t->model, "Owl Box");
}
END_TEST

/* A property without an end, one of nothing, and none at all. */
START_TEST(trees_without_names_are_none)
{
	uint8_t bytes[FILE_BYTES];

	make_loader(bytes, "owls", 4);
	g_autoptr(GPtrArray) unended = wdr_device_trees_in(bytes, FILE_BYTES);
	ck_assert_uint_eq(unended->len, 1);
	ck_assert_str_eq(((const WdrDeviceTree *)unended->pdata[0])->names[0], "owls");
	make_loader(bytes, "\0\0", 2);
	g_autoptr(GPtrArray) empty = wdr_device_trees_in(bytes, FILE_BYTES);
	ck_assert_uint_eq(empty->len, 0);
	make_loader(bytes, NULL, 0);
	g_autoptr(GPtrArray) none = wdr_device_trees_in(bytes, FILE_BYTES);
	ck_assert_uint_eq(none->len, 0);
}
END_TEST

/* Cut anywhere, it is no tree; with any byte changed, it is one or none, and what is read lies
 * within the bytes (the sanitizers see to that). */
START_TEST(damaged_trees)
{
	static const char names[] = "owls,box\0rockchip,rk3399";
	uint8_t bytes[FILE_BYTES];

	make_loader(bytes, names, sizeof(names));
	for (size_t len = 0; len < BEFORE + TREE_BYTES; len++) {
		g_autofree uint8_t *cut = g_memdup2(bytes, len);
		g_autoptr(GPtrArray) trees = wdr_device_trees_in(cut, len);
		ck_assert_uint_eq(trees->len, 0);
	}
	for (size_t at = BEFORE; at < BEFORE + TREE_BYTES; at++) {
		g_autofree uint8_t *changed = g_memdup2(bytes, FILE_BYTES);
		changed[at] ^= 0xff;
		g_autoptr(GPtrArray) trees = wdr_device_trees_in(changed, FILE_BYTES);
		ck_assert_uint_le(trees->len, 1);
	}
}
END_TEST

static const struct {
	const char *tree, *board; /* names with blanks between them */
	int fits;                 /* better than the rows with a lower number; 0: not at all */
} fits[] = {
	{ "owls,box rockchip,rk3399", "owls,box rockchip,rk3399", 4 },
	{ "owls,box rockchip,rk3399", "owls,box-v2 owls,box rockchip,rk3399", 3 },
	{ "owls,box-v2 owls,box rockchip,rk3399", "owls,box rockchip,rk3399", 2 },
	{ "owls,box-b owls,box rockchip,rk3399", "owls,box-a owls,box rockchip,rk3399", 2 },
	{ "owls,box rockchip,rk3399", "owls,barn rockchip,rk3399", 0 },
	{ "owls,box ti,am5728 ti,dra7", "owls,barn ti,am5728 ti,dra7", 0 },
	{ "owls,box rockchip,rk3399", "rockchip,rk3399", 0 },
	{ "rockchip,rk3399", "owls,box rockchip,rk3399", 0 },
	{ "owls,box", "owls,box", 4 },
	{ "owls,box", "", 0 },
};

static unsigned fit_of(size_t i)
{
	g_auto(GStrv) tree = g_strsplit(fits[i].tree, " ", -1);
	g_auto(GStrv) board = g_strsplit(fits[i].board, " ", -1);
	WdrDeviceTree t = { tree, NULL };

	return wdr_device_tree_fit(&t, board);
}

START_TEST(boards_that_a_tree_suits)
{
	for (size_t i = 0; i < G_N_ELEMENTS(fits); i++) {
		ck_assert_msg((fit_of(i) > 0) == (fits[i].fits > 0), "%zu: %u", i, fit_of(i));
		for (size_t k = 0; k < G_N_ELEMENTS(fits); k++)
			ck_assert_msg(fits[i].fits <= fits[k].fits || fit_of(i) > fit_of(k),
				"%zu and %zu: %u, %u", i, k, fit_of(i), fit_of(k));
	}
}
END_TEST

Suite *suite_device_tree(void)
{
	Suite *s = suite_create("boot/device_tree");
	TCase *t = tcase_create("device_tree");

	tcase_add_test(t, a_tree_is_found);
	tcase_add_test(t, trees_without_names_are_none);
	tcase_add_test(t, damaged_trees);
	tcase_add_test(t, boards_that_a_tree_suits);
	suite_add_tcase(s, t);
	return s;
}
