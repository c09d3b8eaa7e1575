/* Where results go: files, links, devices and pipes that the user named, and stdout. Nothing that
 * was there is destroyed, and what did not get out is told. */
#include "bench.h"

#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

Suite *suite_outputs(void);

#define DRIVE bench_path("dev/nvme0n1")

/* $B is the bench, $D an empty folder, and `draft` draws an itinerary with the options behind it.
 */
static const struct {
	const char *name;
	bool needs_root;
	int code;
	const char *script, *text; /* text NULL: whatever it says */
} rows[] = {
	{ "a new file", false, 0, "draft -o $D/x; grep -q wanderitas-itinerary $D/x", NULL },
	{ "a file keeps its mode", false, 0,
		"touch $D/x; chmod 640 $D/x; draft -o $D/x; [ $(stat -c %a $D/x) = 640 ]", NULL },
	{ "a link is followed", false, 0,
		"ln -s y $D/x; draft -o $D/x; [ -L $D/x ]; grep -q itinerary $D/y", NULL },
	{ "a link to nothing yet, in another folder", false, 0,
		"mkdir $D/e; ln -s e/y $D/x; draft -o $D/x; [ -L $D/x ]; [ -f $D/e/y ]", NULL },
	{ "nobody else's file", false, 0,
		"echo keep >$D/x.new; draft -o $D/x; [ $(cat $D/x.new) = keep ]", NULL },
	{ "a pipe", false, 0,
		"mkfifo $D/x; cat $D/x >$D/y & draft -o $D/x; wait; [ -p $D/x ]; grep -q itinerary $D/y",
		NULL },
	{ "stdout", false, 0, "draft -o - | jq -e .format >/dev/null", NULL },
	{ "a character device", true, 0, "mknod $D/x c 1 3; draft -o $D/x; [ -c $D/x ]", NULL },
	{ "a full device", false, 3, "draft -o /dev/full", "No space left" },
	{ "a disk", true, 2, "mknod $D/x b 7 250; draft -o $D/x", "is a disk" },
	{ "the target itself", false, 2, "draft -o $B/dev/nvme0n1", "one of the two disks" },
	{ "the source by a link", false, 2, "ln -s $B/dev/mmcblk0 $D/x; draft -o $D/x",
		"one of the two disks" },
	{ "a folder", false, 2, "draft -o $D", "is a folder" },
	{ "no folder", false, 3, "draft -o $D/no/x", "cannot be written" },
	{ "figures into no folder", false, 3, "$W pace --seconds 60 $D -o $D/no/x",
		"cannot be written" },
	{ "a chart into no folder", false, 3, "$W pace --seconds 60 $D --chart $D/no/x.png",
		"cannot be written" },
	{ "a report into no folder", false, 3, "$W --bench $B report -o $D/no/x",
		"cannot be written" },
	{ "survey to a full device", false, 4, "$W --bench $B survey >/dev/full",
		"writing the output: No space left" },
	{ "JSON to a full device", false, 4, "$W --bench $B --json draft --to nvme0n1 >/dev/full",
		"writing the output: No space left" },
	{ "rehearse to a full device", false, 4, "$W --bench $B rehearse mmcblk0 >/dev/full",
		"writing the output: No space left" },
	{ "version to a full device", false, 4, "$W --version >/dev/full", "No space left" },
	{ "a refusal stays one", false, 3,
		"$W --bench $B draft --from mmcblk0 --to mmcblk0 >/dev/full", "the same disk" },
	{ "a reader that has seen enough", false, 0,
		"set +o pipefail; $W --bench $B survey --mentions | head -n 1 >/dev/null; exit "
		"${PIPESTATUS[0]}",
		NULL },
};

START_TEST(each_kind_of_output)
{
	g_autofree char *script = g_strdup_printf(
		"W='%s'; B='%s'; D='%s'; draft() { $W --bench $B --quiet draft --to nvme0n1 \"$@\" || "
		"exit $?; }\n%s",
		sup_program(), bench_path("."), sup_path("d"), rows[_i].script);
	g_autofree char *before = g_strdup(sup_hash(DRIVE));

	if (rows[_i].needs_root && !sup_is_root()) {
		sup_say_skipped(rows[_i].name);
		return;
	}
	SUP_TOOL("mkdir", sup_path("d"));
	SupRun run = SUP_RUN("bash", "-ec", script);
	ck_assert_msg(run.code == rows[_i].code, "%s: %d\n%s%s", rows[_i].name, run.code, run.out,
		run.err);
	if (rows[_i].text)
		ck_assert_msg(strstr(run.err, rows[_i].text), "%s: %s", rows[_i].name, run.err);
	ck_assert_str_eq(before, sup_hash(DRIVE));
}
END_TEST

/* ---- the folder of a move's records ---- */

/* Names that somebody planted there are not written through. */
START_TEST(planted_links)
{
	static const char *const names[] = { "packing-1.list", "packing-2.list", "itinerary.json",
		"checkpoint-2", "held", "ready.json", "rehearsal.json" };

	SUP_TOOL("mkdir", "-m", "700", sup_path("state"));
	sup_write(sup_path("precious"), "precious\n");
	for (size_t i = 0; i < G_N_ELEMENTS(names); i++) {
		g_autofree char *name = g_strdup_printf("state/%s", names[i]);
		ck_assert_int_eq(symlink(sup_path("precious"), sup_path(name)), 0);
	}
	SupRun run = BENCH_RUN(
		"move", "--to", "nvme0n1", "--erase", "nvme0n1", "--state", sup_path("state"));
	bench_expect(&run, 0, "done:");
	g_autofree char *text = sup_read(sup_path("precious"), NULL);
	ck_assert_str_eq(text, "precious\n");
	ck_assert_str_eq(SUP_TOOL("find", sup_path("state"), "-type", "f", "-perm", "/077"), "");
}
END_TEST

START_TEST(a_folder_that_others_may_write_to)
{
	g_autofree char *before = g_strdup(sup_hash(DRIVE));

	SUP_TOOL("mkdir", "-m", "777", sup_path("state"));
	SupRun run = BENCH_RUN(
		"move", "--to", "nvme0n1", "--erase", "nvme0n1", "--state", sup_path("state"));
	bench_expect(&run, 3, "others may write to the folder");
	ck_assert_str_eq(before, sup_hash(DRIVE));
}
END_TEST

START_TEST(a_new_folder_is_private)
{
	SupRun run = BENCH_RUN(
		"move", "--to", "nvme0n1", "--erase", "nvme0n1", "--state", sup_path("a/state"));
	struct stat st;

	bench_expect(&run, 0, "done:");
	ck_assert_int_eq(stat(sup_path("a/state"), &st), 0);
	ck_assert_uint_eq(st.st_mode & 0777, 0700);
}
END_TEST

/* What cannot be read is not called absent: as another user, by way of a folder without rights. */
static const struct {
	const char *arguments[4];
} unreadable[] = { { { "rewind" } }, { { "move", "--resume" } }, { { "catchup" } },
	{ { "loader", "--restore" } } };

START_TEST(records_that_cannot_be_read)
{
	const char *const *a = unreadable[_i].arguments;
	g_autofree char *state = g_strdup(bench_path("root/var/lib/wanderitas"));
	g_autofree char *before = g_strdup(sup_hash(DRIVE));

	SUP_TOOL("mkdir", "-p", state);
	SUP_TOOL("chmod", "0", state);
	SUP_TOOL("chmod", "755", sup_folder());
	SUP_TOOL("chmod", "-R", "a+rX", bench_path("dev"));
	const char *as_nobody[] = { "setpriv", "--reuid=65534", "--clear-groups", "env",
		"ASAN_OPTIONS=detect_leaks=0:quarantine_size_mb=16", bench_program_for_others(),
		"--bench", bench_path("."), a[0], a[1], NULL };
	SupRun run = sup_run("", as_nobody + (sup_is_root() ? 0 : 3));
	SUP_TOOL("chmod", "700", state);
	bench_expect(&run, 3, "Permission denied");
	bench_expect(&run, 3, "to run it as root: sudo ");
	ck_assert_str_eq(before, sup_hash(DRIVE));
}
END_TEST

/* Whatever cannot be opened, how to get the rights is said. */
static const char *const on_an_image[][3] = { { "rehearse", NULL }, { "readdress", NULL },
	{ "tune", "--on" }, { "drivers", "--on" }, { "firmware", "--on" } };

START_TEST(a_disk_that_cannot_be_read)
{
	const char *const *a = on_an_image[_i];
	const char *argv[] = { "setpriv", "--reuid=65534", "--clear-groups", "env",
		"ASAN_OPTIONS=detect_leaks=0:quarantine_size_mb=16", bench_program_for_others(),
		a[0], a[1] ? a[1] : DRIVE, a[1] ? DRIVE : NULL, NULL };

	if (!sup_is_root()) {
		sup_say_skipped("a_disk_that_cannot_be_read");
		return;
	}
	SUP_TOOL("chmod", "755", sup_folder());
	SUP_TOOL("chmod", "600", DRIVE);
	SupRun run = sup_run("", argv);
	ck_assert_msg(run.code == 3 || run.code == 1, "%d", run.code);
	bench_expect(&run, run.code, "Permission denied");
	bench_expect(&run, run.code, "to run it as root: sudo ");
}
END_TEST

/* Readdressing keeps an itinerary, too: it is none to go on with. */
START_TEST(records_of_another_kind)
{
	SupRun move = BENCH_RUN("move", "--to", "nvme0n1", "--erase", "nvme0n1");
	bench_expect(&move, 0, "done:");
	bench_put_root_file(DRIVE, "etc/fstab", "PARTUUID=4c1fa2b0-02 / ext4 defaults 0 1\n");
	SUP_TOOL("touch", "-d", "2 seconds ago",
		bench_path("root/var/lib/wanderitas/to-nvme0n1/itinerary.json"));
	SupRun readdress = BENCH_RUN("readdress", "nvme0n1", "--write");
	bench_expect(&readdress, 0, NULL);
	ck_assert_ptr_nonnull(
		strstr(SUP_TOOL("ls", bench_path("root/var/lib/wanderitas")), "readdress-nvme0n1"));
	SupRun catchup = BENCH_RUN("catchup");
	ck_assert_ptr_null(strstr(catchup.err, "damaged"));
	SupRun resume = BENCH_RUN("move", "--resume");
	bench_expect(&resume, 3, "was done to its end");
}
END_TEST

Suite *suite_outputs(void)
{
	Suite *s = suite_create("cli/outputs");
	TCase *t = tcase_create("outputs");

	tcase_add_unchecked_fixture(t, bench_make, bench_remove);
	tcase_add_checked_fixture(t, sup_setup, sup_teardown);
	tcase_add_loop_test(t, each_kind_of_output, 0, G_N_ELEMENTS(rows));
	tcase_add_test(t, planted_links);
	tcase_add_test(t, a_folder_that_others_may_write_to);
	tcase_add_test(t, a_new_folder_is_private);
	tcase_add_loop_test(t, records_that_cannot_be_read, 0, G_N_ELEMENTS(unreadable));
	tcase_add_loop_test(t, a_disk_that_cannot_be_read, 0, G_N_ELEMENTS(on_an_image));
	tcase_add_test(t, records_of_another_kind);
	suite_add_tcase(s, t);
	return s;
}
