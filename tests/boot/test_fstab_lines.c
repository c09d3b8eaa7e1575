/* The lines of an fstab, as mounting reads them. */
#include "boot/formats/fstab.h"

#include "suite.h"

#include <string.h>

Suite *suite_fstab_lines(void);

static const char text[] = "# a comment\n"
			   "UUID=1 / ext4 defaults,noatime 0 1\r\n"
			   "too few\n"
			   "\n"
			   "  LABEL=\"heron data\"\t/srv/heron\\040data  vfat nofail,uid=7\n"
			   "/swap none swap";

static const struct {
	unsigned line;
	const char *device, *point, *type, *options;
} lines[] = {
	{ 2, "UUID=1", "/", "ext4", "defaults,noatime" },
	{ 5, "LABEL=\"heron data\"", "/srv/heron data", "vfat", "nofail,uid=7" },
	{ 6, "/swap", "none", "swap", "" },
};

START_TEST(fields_are_unescaped)
{
	g_autoptr(GPtrArray) got = wdr_fstab_lines(text, strlen(text));

	ck_assert_uint_eq(got->len, G_N_ELEMENTS(lines));
	const WdrFstabLine *l = got->pdata[_i];
	ck_assert_uint_eq(l->line, lines[_i].line);
	ck_assert_str_eq(l->device, lines[_i].device);
	ck_assert_str_eq(l->point, lines[_i].point);
	ck_assert_str_eq(l->type, lines[_i].type);
	ck_assert_str_eq(l->options, lines[_i].options);
}
END_TEST

START_TEST(options_are_whole_words)
{
	g_autoptr(GPtrArray) got = wdr_fstab_lines(text, strlen(text));

	ck_assert(wdr_fstab_has_option(got->pdata[0], "noatime"));
	ck_assert(!wdr_fstab_has_option(got->pdata[0], "atime"));
	ck_assert(wdr_fstab_has_option(got->pdata[1], "nofail"));
	ck_assert(!wdr_fstab_has_option(got->pdata[2], "nofail"));
}
END_TEST

Suite *suite_fstab_lines(void)
{
	Suite *s = suite_create("boot/fstab");
	TCase *t = tcase_create("lines");

	tcase_add_loop_test(t, fields_are_unescaped, 0, (int)G_N_ELEMENTS(lines));
	tcase_add_test(t, options_are_whole_words);
	suite_add_tcase(s, t);
	return s;
}
