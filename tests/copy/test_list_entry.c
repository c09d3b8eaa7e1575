#include "support.h"

#include "copy/list_entry.h"

#include <string.h>

Suite *suite_list_entry(void);

/* In the order of a walk: the test compares each with each. */
static const char *const walk[] = { "", "Z", "a", "a-b", "a.d", "b", "c", "a/0", "a/x", "a/y",
	"a/x/1", "a/x/2", "a/y/1", "a-b/1", "a.d/0", "b/\xff", "c/1", "c/1/2/3", "c/1/2/3/4" };

START_TEST(the_order_is_that_of_a_walk)
{
	for (int i = 0; i < (int)G_N_ELEMENTS(walk); i++) {
		int order = wdr_list_entry_order(walk[_i], walk[i]);
		ck_assert_msg((order < 0) == (_i < i) && (order > 0) == (_i > i), "'%s', '%s': %d",
			walk[_i], walk[i], order);
	}
}
END_TEST

#define TIMES "1.000000002\t-3.999999999\t5.000000000"
#define HASH "0123456789abcdef0123456789abcdef"

static const char *const lines[] = {
	"file\t4755\t0\t4294967295\t12\t" TIMES "\t77\t" HASH "\t" HASH "\tetc/a\\x09b\n",
	"file\t644\t0\t0\t0\t" TIMES "\t77\t-\t" HASH "\tempty\n",
	"folder\t755\t1\t2\t0\t" TIMES "\t2\t-\t" HASH "\t\n",
	"link\t644\t0\t0\t12\t" TIMES "\t77\t-\t" HASH "\tb\ta\n",
	"block-device\t660\t0\t6\t0\t" TIMES "\t9\t-\t" HASH "\tdev/x\\x5c\n",
};

START_TEST(a_line_read_is_the_line_written)
{
	g_auto(WdrListEntry) p = { 0 };
	g_autoptr(GString) again = g_string_new("old");

	sup_ok(wdr_list_entry_from_line(lines[_i], &p, &error));
	wdr_list_entry_to_line(&p, again);
	ck_assert_str_eq(again->str, lines[_i]);
}
END_TEST

static const char *const damaged[] = {
	"",
	"\n",
	"file\n",
	"king\t644\t0\t0\t0\t" TIMES "\t77\t-\t" HASH "\tx\n",
	"file\t10000\t0\t0\t0\t" TIMES "\t77\t-\t" HASH "\tx\n",
	"file\t648\t0\t0\t0\t" TIMES "\t77\t-\t" HASH "\tx\n",
	"file\t644\t-1\t0\t0\t" TIMES "\t77\t-\t" HASH "\tx\n",
	"file\t644\t0\t4294967296\t0\t" TIMES "\t77\t-\t" HASH "\tx\n",
	"file\t644\t0\t0\t99999999999999999999\t" TIMES "\t77\t-\t" HASH "\tx\n",
	"file\t644\t0\t0\t0\t1\t2.0\t3.0\t77\t-\t" HASH "\tx\n",
	"file\t644\t0\t0\t0\t1.0000000001\t2.000000000\t3.000000000\t77\t-\t" HASH "\tx\n",
	"file\t644\t0\t0\t5\t" TIMES "\t77\t0123\t" HASH "\tx\n",
	"file\t644\t0\t0\t0\t" TIMES "\t77\t-\t-\tx\n",
	"file\t644\t0\t0\t0\t" TIMES "\t77\t-\t" HASH "\tx\ty\n",
	"link\t644\t0\t0\t0\t" TIMES "\t77\t-\t" HASH "\tx\n",
	"link\t644\t0\t0\t0\t" TIMES "\t77\t-\t" HASH "\tx\ty\tz\n",
	"file\t644\t0\t0\t0\t" TIMES "\t77\t-\t" HASH "\tx\\y\n",
	"file\t644\t0\t0\t0\t" TIMES "\t77\t-\t" HASH "\tx\\x0\n",
	"file\t644\t0\t0\t0\t" TIMES "\t77\t-\t" HASH "\tx\\x00\n",
};

START_TEST(damaged_lines_are_refused)
{
	WdrListEntry p = { 0 };

	sup_fails(WDR_ERROR_FORMAT, "no line", wdr_list_entry_from_line(damaged[_i], &p, &error));
	ck_assert_ptr_null(p.path);
}
END_TEST

START_TEST(a_line_cut_anywhere_is_refused_or_another)
{
	g_autofree char *line = g_strdup(lines[0]);

	unsigned refused = 0;

	for (size_t len = strlen(line); len > 0; len--) {
		g_auto(WdrListEntry) p = { 0 };
		line[len - 1] = '\0';
		sup_either(refused, wdr_list_entry_from_line(line, &p, &error));
	}
	ck_assert_uint_gt(refused, 0);
}
END_TEST

START_TEST(differences_are_named)
{
	g_auto(WdrListEntry) a = { 0 };
	g_auto(WdrListEntry) b = { 0 };

	sup_ok(wdr_list_entry_from_line(lines[0], &a, &error));
	sup_ok(wdr_list_entry_from_line(lines[0], &b, &error));
	b.id = 1;
	ck_assert_ptr_null(wdr_list_entry_difference(&a, &b));
	b.mode = 0;
	b.content.low++;
	b.mtime.nsec++;
	g_autofree char *what = wdr_list_entry_difference(&a, &b);
	ck_assert_str_eq(what, "mode, modification time, content");
}
END_TEST

Suite *suite_list_entry(void)
{
	Suite *s = suite_create("copy/list_entry");
	TCase *tc = tcase_create("list_entry");

	tcase_add_loop_test(tc, the_order_is_that_of_a_walk, 0, G_N_ELEMENTS(walk));
	tcase_add_loop_test(tc, a_line_read_is_the_line_written, 0, G_N_ELEMENTS(lines));
	tcase_add_loop_test(tc, damaged_lines_are_refused, 0, G_N_ELEMENTS(damaged));
	tcase_add_test(tc, a_line_cut_anywhere_is_refused_or_another);
	tcase_add_test(tc, differences_are_named);
	suite_add_tcase(s, tc);
	return s;
}
