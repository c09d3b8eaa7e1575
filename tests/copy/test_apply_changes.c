/* What changed in a tree is copied to the ext volume that was made from it. debugfs and e2fsck
 * judge; a second look at the source must find nothing. */
#include "support.h"

#include "base/io.h"
#include "base/text.h"
#include "copy/apply_changes.h"
#include "volume/tree/tree.h"

#include <string.h>
#include <unistd.h>

Suite *suite_apply_changes(void);

enum { VOLUME_BYTES = 32 * 1024 * 1024 };

#define TREE sup_path("t")
#define IMAGE sup_path("t.img")
#define LIST sup_path("packing.list")

static void in_tree(const char *script)
{
	g_autofree char *command = g_strdup_printf("cd '%s' && %s", TREE, script);
	const char *argv[] = { "bash", "-ec", command, NULL };

	sup_tool(argv);
}

static const char start[] =
	"mkdir d1 d2 d3 d3/deep; for i in 1 2 3 4 5; do echo $i > f$i; echo $i > d1/f$i; done;"
	"echo in > d2/in; echo deep > d3/deep/down; echo two > l1; ln l1 l2; ln l1 d1/l3;"
	"ln -s f1 s1; mkfifo pipe; head -c 300000 /dev/zero | tr '\\0' x > big;"
	"for i in $(seq 300); do echo $i > d2/name$i; done; truncate -s 1M hole;"
	"find . -exec touch -h -d '2026-05-04 08:00' {} +";

static WdrVolume *open_tree(void)
{
	WdrVolume *v = NULL;

	sup_ok(wdr_tree_volume_open(TREE, &v, &error));
	return v;
}

static void set_up(void)
{
	g_auto(WdrExtSpec) spec = sup_ext_spec(NULL, 4096, 256);

	sup_setup();
	sup_ok(wdr_make_folder(TREE, &error));
	in_tree(start);
	sup_make_image(IMAGE, VOLUME_BYTES);
	g_autoptr(WdrVolume) v = open_tree();
	sup_build_ext(v, IMAGE, 0, VOLUME_BYTES, &spec);
}

static GPtrArray *find(WdrVolume *v, int64_t *ret_begun)
{
	g_autoptr(WdrPacking) list = NULL;
	WdrDifference d = { .world = sup_world(), .source = v };
	GPtrArray *diffs = NULL;

	sup_ok(wdr_packing_open(LIST, &list, &error));
	sup_ok(wdr_difference_find(&d, list, &diffs, ret_begun, &error));
	return diffs;
}

/* What happens to the tree between being looked at and being copied, too; NULL: nothing. */
static GPtrArray *copy_while(const char *script)
{
	g_autoptr(WdrVolume) v = open_tree();
	g_autoptr(WdrBlockDev) dev = NULL;
	g_autoptr(WdrVolume) built = NULL;
	WdrDifference d = { .world = sup_world(), .source = v };
	uint64_t bytes = 0;
	int64_t begun = 0;
	GPtrArray *diffs = find(v, &begun);

	if (script)
		in_tree(script);
	sup_ok(wdr_blockdev_open(IMAGE, WDR_OPEN_WRITE, &dev, &error));
	WdrBuildTarget target = { dev, 0, VOLUME_BYTES, sup_folder(), NULL, NULL };
	sup_ok(wdr_apply_ext(&d, &target, diffs, &bytes, &error));
	sup_ok(wdr_apply_list(LIST, diffs, begun, &error));
	sup_ok(wdr_ext_volume_open(dev, 0, VOLUME_BYTES, &built, &error));
	sup_ok(wdr_apply_verify(built, diffs, &error));
	/* Of what has changed again the list tells what was looked at. */
	if (!script)
		sup_compare(built, LIST);
	return diffs;
}

static GPtrArray *copy(void)
{
	return copy_while(NULL);
}

static void judge(void)
{
	g_autofree char *request = g_strdup_printf("rdump / %s", sup_path("out"));
	g_autofree char *links = g_strdup_printf(
		"cd %s && find . -type f -links +1 -printf '%%n %%p\\n' | sort > %s", TREE,
		sup_path("links"));
	int64_t begun = 0;

	sup_judge_ext(IMAGE, 0);
	sup_ok(wdr_make_folder(sup_path("out"), &error));
	SUP_TOOL("debugfs", "-R", request, IMAGE);
	SUP_TOOL("diff", "-r", "--no-dereference", "-x", "lost+found", "-x", "pipe*", TREE,
		sup_path("out"));
	SUP_TOOL("sh", "-c", links);
	g_autofree char *counted = sup_read(sup_path("links"), NULL);
	g_auto(GStrv) lines = g_strsplit(counted, "\n", -1);
	for (size_t i = 0; lines[i] && *lines[i]; i++) {
		g_autofree char *stat = g_strdup_printf("stat /%s", strchr(lines[i], ' ') + 3);
		g_autofree char *want = g_strdup_printf("Links: %c ", lines[i][0]);
		ck_assert_ptr_nonnull(strstr(SUP_TOOL("debugfs", "-R", stat, IMAGE), want));
	}
	g_autoptr(WdrVolume) v = open_tree();
	g_autoptr(GPtrArray) rest = find(v, &begun);
	ck_assert_uint_eq(rest->len, 0);
}

static const struct {
	const char *name, *script;
} changes[] = {
	{ "nothing", ":" },
	{ "new file in new folders", "mkdir -p a/b/c && echo x > a/b/c/f && ln -s f a/b/c/l" },
	{ "removed tree", "rm -r d1 d3" },
	{ "file becomes folder", "rm f1 && mkdir f1 && echo y > f1/in" },
	{ "folder becomes file", "rm -r d2 && echo z > d2" },
	{ "folder becomes link", "rm -r d3 && ln -s d1 d3" },
	{ "renamed", "mv f2 g2; mv d3 d4; mv d1/f3 moved" },
	{ "names exchanged", "mv f1 x; mv f2 f1; mv x f2" },
	{ "larger", "head -c 3000000 /dev/urandom > big; echo more >> f5" },
	{ "smaller", ": > big; : > f3; truncate -s 100 hole" },
	{ "hard link added", "ln f3 f3b; ln f3 d1/f3c" },
	{ "first name of a link removed", "rm l1" },
	{ "all names but one removed", "rm l1 l2" },
	{ "link broken", "cp l2 x && mv x l2" },
	{ "first of a link replaced", "echo other > x && mv x l1" },
	{ "link to what is new", "echo n > n1; ln n1 d1/n2; ln n1 a0" },
	{ "symbolic link changed",
		"ln -sfn elsewhere s1; ln -s $(printf 'a%.0s' $(seq 200)) s2; rm pipe" },
	{ "kinds exchanged", "rm f5 pipe d2/in; mkfifo pipe5; ln -s f1 pipe; ln -s x d2/in" },
	{ "linked link remade", "ln s1 s2; ln s1 d1/s3; rm s1 s2; ln -s f2 s1; ln s1 s2" },
	{ "modes and times", "chmod 600 f3; chmod 700 d1; touch -d '2020-01-01' f4 d2" },
	{ "many names", "for i in $(seq 1500); do : > d1/another-name-$i; done; rm d2/name1*" },
	{ "same time, other content", "echo 9 > f1; touch -d '2026-05-04 08:00' f1" },
	{ "odd names", "echo 1 > $'tab\\there'; echo 2 > $'line\\nend'; echo 3 > 'back\\\\slash'" },
	{ "all gone", "rm -r *" },
};

START_TEST(changes_are_copied)
{
	in_tree(changes[_i].script);
	g_autoptr(GPtrArray) diffs = copy();

	ck_assert((diffs->len == 0) == (_i == 0));
	judge();
}
END_TEST

/* One after the other on the same volume: what is freed is used again. */
START_TEST(changes_add_up)
{
	for (size_t i = 0; i + 1 < G_N_ELEMENTS(changes); i++) {
		g_autofree char *script =
			g_strdup_printf("(%s) 2>/dev/null || true", changes[i].script);
		in_tree(script);
		g_ptr_array_unref(copy());
	}
	judge();
}
END_TEST

/* Names and kinds at random, always the same for the same number. */
START_TEST(random_changes)
{
	g_autofree char *script = g_strdup_printf(
		"RANDOM=%d; for n in $(seq 120); do a=d$((RANDOM %% 6)); b=n$((RANDOM %% 9));"
		"c=d$((RANDOM %% 6))/n$((RANDOM %% 9)); mkdir -p $a 2>/dev/null || continue;"
		"case $((RANDOM %% 8)) in"
		" 0) rm -rf $a/$b; echo $n > $a/$b;; 1) head -c $((RANDOM * 4)) /dev/urandom > $a/$b;;"
		" 2) mv $a/$b $c;; 3) ln $a/$b $c;; 4) rm -rf $a/$b;; 5) mkdir -p $a/$b/in;;"
		" 6) ln -sfn $c $a/$b;; 7) chmod $((RANDOM %% 7))00 $a/$b; rm -rf $a;;"
		" esac 2>/dev/null || true; done; chmod -R u+rwX .",
		_i + 1);

	for (int round = 0; round < 3; round++) {
		in_tree(script);
		g_ptr_array_unref(copy());
	}
	judge();
}
END_TEST

START_TEST(renames_keep_their_inode)
{
	g_autofree char *text = sup_read(LIST, NULL);
	g_autofree char *later = NULL;

	/* As if the list was made long after the files. */
	later = g_strconcat("wanderitas-packing-list/2\t2000000000", strchr(text, '\n'), NULL);
	sup_write(LIST, later);
	g_autofree char *before = g_strdup(SUP_TOOL("debugfs", "-R", "stat /big", IMAGE));
	in_tree("mv big d1/large; touch -r f1 .");
	g_autoptr(GPtrArray) diffs = copy();
	const char *after = SUP_TOOL("debugfs", "-R", "stat /d1/large", IMAGE);
	ck_assert_int_eq(strncmp(before, after, strcspn(before, " ") + 12), 0);
	bool is_renamed = false;
	for (guint i = 0; i < diffs->len; i++)
		is_renamed |= g_strcmp0(((WdrDiff *)diffs->pdata[i])->renamed_from, "big") == 0;
	ck_assert(is_renamed);
	sup_judge_ext(IMAGE, 0);
}
END_TEST

/* A file system gives a removed file's inode to the next one, and programs set times: the list says
 * here that `big` was the inode that `other` has. */
START_TEST(a_new_file_with_a_removed_ones_inode)
{
	g_autofree char *text = sup_read(LIST, NULL);
	g_autofree char *old = NULL;
	g_autofree char *new = NULL;

	old = g_strdup_printf(
		"\t%s\t", g_strstrip(SUP_TOOL("stat", "-c", "%i", sup_path("t/big"))));
	in_tree("rm big; head -c 300000 /dev/urandom > other; touch -d '2026-05-04 08:00' other .");
	new = g_strdup_printf(
		"\t%s\t", g_strstrip(SUP_TOOL("stat", "-c", "%i", sup_path("t/other"))));
	g_auto(GStrv) pieces = g_strsplit(strchr(text, '\n'), old, 2);
	ck_assert_uint_eq(g_strv_length(pieces), 2);
	g_autofree char *later = g_strconcat(
		"wanderitas-packing-list/2\t2000000000", pieces[0], new, pieces[1], NULL);
	sup_write(LIST, later);
	g_autoptr(GPtrArray) diffs = copy();
	for (guint i = 0; i < diffs->len; i++)
		ck_assert_ptr_null(((WdrDiff *)diffs->pdata[i])->renamed_from);
	judge();
}
END_TEST

static const struct {
	const char *before, *meanwhile;
} meanwhile[] = {
	{ "mv big d1/large", "echo more >> d1/large" },
	{ "mv big d1/large", ": > d1/large" },
	{ "mv big d1/large", "rm d1/large" },
	{ "mv big d1/large", "rm d1/large; mkdir d1/large; echo in > d1/large/in" },
	{ "mv big d1/large", "mv d1/large d2/larger" },
	{ "chmod 600 big", "echo more >> big" },
	{ "chmod 600 big", "rm big; ln -s f1 big" },
	{ "echo more >> f1", "rm f1; ln -s f2 f1" },
	{ "echo new > new", "rm new; mkdir new" },
	{ "echo new > new", "head -c 100000 /dev/urandom > new; chmod 400 new" },
	{ "mkdir new; echo in > new/in", "rm -r new; echo x > new" },
	{ "ln f1 f6", "rm f1; echo other > f1" },
};

START_TEST(what_changes_between_look_and_copy)
{
	in_tree(meanwhile[_i].before);
	g_ptr_array_unref(copy_while(meanwhile[_i].meanwhile));
	for (unsigned pass = 0; pass < 2; pass++)
		g_ptr_array_unref(copy());
	judge();
}
END_TEST

static void expect_refusal(WdrErrorCode code, const char *text)
{
	g_autoptr(WdrVolume) v = open_tree();
	g_autoptr(WdrBlockDev) dev = NULL;
	WdrDifference d = { .world = sup_world(), .source = v };
	uint64_t bytes = 0;
	int64_t begun = 0;
	g_autoptr(GPtrArray) diffs = find(v, &begun);

	sup_ok(wdr_blockdev_open(IMAGE, WDR_OPEN_WRITE, &dev, &error));
	WdrBuildTarget target = { dev, 0, VOLUME_BYTES, sup_folder(), NULL, NULL };
	sup_fails(code, text, wdr_apply_ext(&d, &target, diffs, &bytes, &error));
}

START_TEST(a_volume_that_was_mounted_is_refused)
{
	SUP_TOOL("debugfs", "-w", "-R", "ssv mnt_count 1", IMAGE);
	const char *hash = sup_hash(IMAGE);
	in_tree("echo new > new");
	expect_refusal(WDR_ERROR_REFUSED, "mounted since it was made");
	ck_assert_str_eq(hash, sup_hash(IMAGE));
}
END_TEST

START_TEST(a_full_volume_is_said)
{
	in_tree("head -c 40000000 /dev/zero | tr '\\0' y > huge");
	expect_refusal(WDR_ERROR_NO_SPACE, "full");
}
END_TEST

START_TEST(a_list_of_another_volume_is_said)
{
	SUP_TOOL("debugfs", "-w", "-R", "rm /f1", IMAGE);
	in_tree("rm f1");
	expect_refusal(WDR_ERROR_FORMAT, "the target has no /f1");
}
END_TEST

START_TEST(an_edited_file_is_told_and_left)
{
	g_autoptr(GHashTable) edited = g_hash_table_new(g_str_hash, g_str_equal);
	WdrHash was = wdr_hash("1\n", 2);
	g_autoptr(WdrVolume) v = open_tree();
	WdrDifference d = { .world = sup_world(), .source = v, .edited = edited };
	int64_t begun = 0;

	g_hash_table_insert(edited, (char *)"f1", &was);
	for (guint round = 0; round < 2; round++) {
		g_autoptr(WdrPacking) list = NULL;
		g_autoptr(GPtrArray) diffs = NULL;
		sup_ok(wdr_packing_open(LIST, &list, &error));
		sup_ok(wdr_difference_find(&d, list, &diffs, &begun, &error));
		ck_assert_uint_eq(diffs->len, round);
		if (round)
			ck_assert_int_eq(((WdrDiff *)diffs->pdata[0])->kind, WDR_DIFF_EDITED);
		in_tree("echo 2 > f1");
	}
}
END_TEST

Suite *suite_apply_changes(void)
{
	Suite *s = suite_create("copy/apply_changes");
	TCase *tc = tcase_create("apply_changes");

	tcase_add_checked_fixture(tc, set_up, sup_teardown);
	tcase_add_loop_test(tc, changes_are_copied, 0, G_N_ELEMENTS(changes));
	tcase_add_test(tc, changes_add_up);
	tcase_add_loop_test(tc, random_changes, 0, 12);
	tcase_add_test(tc, renames_keep_their_inode);
	tcase_add_test(tc, a_new_file_with_a_removed_ones_inode);
	tcase_add_loop_test(tc, what_changes_between_look_and_copy, 0, G_N_ELEMENTS(meanwhile));
	tcase_add_test(tc, a_volume_that_was_mounted_is_refused);
	tcase_add_test(tc, a_full_volume_is_said);
	tcase_add_test(tc, a_list_of_another_volume_is_said);
	tcase_add_test(tc, an_edited_file_is_told_and_left);
	suite_add_tcase(s, tc);
	return s;
}
