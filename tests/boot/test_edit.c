#include "support.h"

#include "boot/formats/edit.h"
#include "boot/formats/rewrite.h"

#include <string.h>

Suite *suite_edit(void);

static char *apply(const WdrEdit *e, const char *text, size_t len)
{
	GBytes *bytes = NULL;
	size_t got = 0;

	sup_ok(wdr_edit_apply(e, text, len, &bytes, &error));
	const char *data = g_bytes_get_data(bytes, &got);
	char *copy = g_strndup(data ? data : "", got);
	g_bytes_unref(bytes);
	return copy;
}

START_TEST(splices_leave_the_rest)
{
	static const char text[] = "a\tUUID=old  /\r\nb UUID=older /x\n";
	g_autoptr(WdrEdit) e = wdr_edit_new(2, "etc/fstab", wdr_hash(text, strlen(text)));

	wdr_edit_add(e, 17, 2, 3, "UUID=older", "PARTUUID=n-01");
	wdr_edit_add(e, 2, 1, 3, "UUID=old", "X");
	g_autofree char *got = apply(e, text, strlen(text));
	ck_assert_str_eq(got, "a\tX  /\r\nb PARTUUID=n-01 /x\n");
}
END_TEST

START_TEST(any_bytes_stay_as_they_are)
{
	g_autoptr(GRand) rand = g_rand_new_with_seed(11);

	for (unsigned round = 0; round < 200; round++) {
		char text[300];
		size_t len = (size_t)g_rand_int_range(rand, 0, sizeof(text));
		for (size_t i = 0; i < len; i++)
			text[i] = (char)g_rand_int_range(rand, 1, 256);
		text[len < sizeof(text) ? len : sizeof(text) - 1] = '\0';
		g_autoptr(WdrEdit) e = wdr_edit_new(1, "f", wdr_hash(text, len));
		g_autofree char *got = apply(e, text, len);
		ck_assert_mem_eq(got, text, len);
	}
}
END_TEST

START_TEST(another_file_is_refused)
{
	g_autoptr(WdrEdit) e = wdr_edit_new(1, "cmdline.txt", wdr_hash("root=x", 6));
	GBytes *bytes = NULL;

	wdr_edit_add(e, 5, 1, 6, "x", "y");
	sup_fails(WDR_ERROR_REFUSED, "has changed since",
		wdr_edit_apply(e, "root=z", 6, &bytes, &error));
}
END_TEST

static const struct {
	size_t offset;
	const char *old_text;
} wrong[] = { { 0, "x" }, { 100, "root" }, { 4, "=x and more" }, { SIZE_MAX, "r" } };

START_TEST(splices_that_do_not_fit)
{
	g_autoptr(WdrEdit) e = wdr_edit_new(1, "cmdline.txt", wdr_hash("root=x", 6));
	GBytes *bytes = NULL;

	wdr_edit_add(e, wrong[_i].offset, 1, 1, wrong[_i].old_text, "y");
	sup_fails(WDR_ERROR_FORMAT, "does not fit", wdr_edit_apply(e, "root=x", 6, &bytes, &error));
}
END_TEST

START_TEST(overlapping_splices)
{
	g_autoptr(WdrEdit) e = wdr_edit_new(1, "f", wdr_hash("abcdef", 6));
	GBytes *bytes = NULL;

	wdr_edit_add(e, 1, 1, 2, "bcd", "x");
	wdr_edit_add(e, 3, 1, 4, "de", "y");
	sup_fails(WDR_ERROR_FORMAT, "does not fit", wdr_edit_apply(e, "abcdef", 6, &bytes, &error));
}
END_TEST

/* What each place can hold of a label with a blank. */
static const struct {
	WdrWriting writing;
	bool is_link;
	const char *want; /* NULL: refused */
} writings[] = {
	{ WDR_WRITE_ESCAPED, false, "LABEL=reed\\040bed" },
	{ WDR_WRITE_ESCAPED, true, "/dev/disk/by-label/reed\\x20bed" },
	{ WDR_WRITE_WORD, true, "/dev/disk/by-label/reed\\x20bed" },
	{ WDR_WRITE_WORD, false, NULL },
	{ WDR_WRITE_QUOTED, false, "LABEL=reed bed" },
	{ WDR_WRITE_LINE, false, "LABEL=reed bed" },
};

START_TEST(labels_as_places_can_hold_them)
{
	WdrMention m = { .file = (char *)"f",
		.what = (char *)"",
		.writing = writings[_i].writing,
		.identifier = { .kind = WDR_BY_LABEL, .is_link = writings[_i].is_link } };
	const WdrIdentity to = { .label = "reed bed", .number = 3 };
	const WdrNaming naming = { .keeps_forms = true };
	g_autofree char *got = NULL;
	g_autofree char *why = NULL;

	if (writings[_i].want) {
		sup_ok(wdr_rewrite(&m, &to, &naming, &got, &why, &error));
		ck_assert_str_eq(got, writings[_i].want);
	} else {
		sup_fails(WDR_ERROR_REFUSED, "cannot be written at this place",
			wdr_rewrite(&m, &to, &naming, &got, &why, &error));
	}
}
END_TEST

static const struct {
	const char *before, *after, *want;
} diffs[] = {
	{ "same\n", "same\n", "--- f\n+++ f\n" },
	{ "old\n", "new\n", "--- f\n+++ f\n@@ -1,1 +1,1 @@\n-old\n+new\n" },
	{ "1\n2\n3\n4\n5\n6\n7\n8\n9\n", "1\n2\n3\n4\nX\n6\n7\n8\n9\n",
		"--- f\n+++ f\n@@ -2,7 +2,7 @@\n 2\n 3\n 4\n-5\n+X\n 6\n 7\n 8\n" },
	{ "a\nb\nc\n", "A\nB\nc\n", "--- f\n+++ f\n@@ -1,3 +1,3 @@\n-a\n-b\n+A\n+B\n c\n" },
	{ "a\n1\n2\n3\n4\n5\n6\n7\n8\n9\nb\n", "A\n1\n2\n3\n4\n5\n6\n7\n8\n9\nB\n",
		"--- f\n+++ f\n@@ -1,4 +1,4 @@\n-a\n+A\n 1\n 2\n 3\n@@ -8,4 +8,4 @@\n 7\n 8\n 9\n-b\n+B\n" },
	{ "esc\x1b[0m", "esc", "--- f\n+++ f\n@@ -1,1 +1,1 @@\n-esc\\x1b[0m\n+esc\n" },
};

START_TEST(unified_diffs)
{
	g_autofree char *got = wdr_diff("f", diffs[_i].before, strlen(diffs[_i].before),
		diffs[_i].after, strlen(diffs[_i].after));

	ck_assert_str_eq(got, diffs[_i].want);
}
END_TEST

Suite *suite_edit(void)
{
	Suite *s = suite_create("boot/edit");
	TCase *t = tcase_create("edit");

	tcase_add_test(t, splices_leave_the_rest);
	tcase_add_test(t, any_bytes_stay_as_they_are);
	tcase_add_test(t, another_file_is_refused);
	tcase_add_loop_test(t, splices_that_do_not_fit, 0, (int)G_N_ELEMENTS(wrong));
	tcase_add_test(t, overlapping_splices);
	tcase_add_loop_test(t, labels_as_places_can_hold_them, 0, (int)G_N_ELEMENTS(writings));
	tcase_add_loop_test(t, unified_diffs, 0, (int)G_N_ELEMENTS(diffs));
	suite_add_tcase(s, t);
	return s;
}
