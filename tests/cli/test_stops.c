/* Moves that are stopped: by signals, by a kill, by a full disk. The target is marked unfinished
 * and does not boot; the source is as it was; the same move started over goes through. */
#include "bench.h"

#include <signal.h>
#include <stdlib.h>
#include <string.h>

Suite *suite_stops(void);

#define DRIVE bench_path("dev/nvme0n1")
#define CARD bench_path("dev/mmcblk0")

static void never_boots(const char *image)
{
	char note[10];
	SupRun table = SUP_RUN("sfdisk", "-d", image);

	if (table.code != 0)
		return; /* killed before there was a table */
	SupRun survey = BENCH_RUN("survey");

	bench_expect(&survey, 1, "a move to this disk is unfinished, and it will not boot");
	ck_assert_ptr_null(strstr(SUP_TOOL("sfdisk", "-d", image), "bootable"));
	sup_peek(image, BOOT_AT, note, sizeof(note));
	ck_assert_mem_eq(note, "Wanderitas", 10);
	SupRun blkid = SUP_RUN("blkid", "-p", "-O", "4194304", "-S", "134217728", image);
	ck_assert_int_ne(blkid.code, 0); /* nothing recognised */
}

static const struct {
	int number;
	const char *when;
} signals[] = { { SIGINT, "clearing" }, { SIGTERM, "copying partition 2" },
	{ SIGHUP, "reading partition 2" }, { SIGKILL, "clearing" },
	{ SIGKILL, "copying partition 2" }, { SIGKILL, "reading partition 2" },
	{ SIGINT, "copying partition 1" }, { SIGKILL, "copying partition 1" },
	{ SIGKILL, "reading partition 1" } };

START_TEST(signals_leave_an_unfinished_target)
{
	g_autofree char *card = g_strdup(sup_hash(CARD));
	int code = BENCH_INTERRUPT(signals[_i].number, signals[_i].when, "move", "--to", "nvme0n1",
		"--erase", "nvme0n1");

	ck_assert_str_eq(card, sup_hash(CARD));
	if (signals[_i].number == SIGKILL) {
		ck_assert_int_eq(code, 128 + SIGKILL);
	} else {
		g_autofree char *out = sup_read(sup_path("out"), NULL);
		ck_assert_msg(code == 4, "%d: %s", code, out);
		ck_assert_ptr_nonnull(strstr(out, "stopped by "));
		ck_assert_ptr_nonnull(strstr(out, "will not boot; the source is unchanged"));
	}
	/* A kill may come before the note is written: then there is no table either. */
	char note[10];
	sup_peek(DRIVE, BOOT_AT, note, sizeof(note));
	if (signals[_i].number != SIGKILL || memcmp(note, "Wanderitas", 10) == 0)
		never_boots(DRIVE);
	SupRun again = BENCH_RUN("move", "--to", "nvme0n1", "--erase", "nvme0n1");
	bench_expect(&again, 0, "done:");
	sup_judge_ext(DRIVE, ROOT_AT);
	ck_assert_str_eq(card, sup_hash(CARD));
}
END_TEST

/* Its writes never come back: it is told what it waits for, and the next signal ends it. Until
 * then further ones, as of a key that is held down, do nothing. */
START_TEST(a_disk_that_does_not_answer)
{
	g_autofree char *script = g_strdup_printf(
		"said='%s'; WDR_FAULTS=nvme0n1:hang:200000000:50000000 LD_PRELOAD='%s' '%s' --bench '%s' "
		"move --to nvme0n1 --erase nvme0n1 >\"$said\" 2>&1 & "
		"until grep -q 'faults: hangs' \"$said\"; do kill -0 $! || exit 99; sleep 0.05; done; "
		"for i in 1 2 3; do kill -INT $!; sleep 0.05; done; "
		"until grep -q 'stopping; waiting' \"$said\"; do kill -0 $! || exit 98; sleep 0.05; done; "
		"kill -INT $!; wait $!; code=$?; cat \"$said\"; exit $code",
		sup_path("said"), bench_faults(), sup_program(), bench_path("."));
	SupRun run = SUP_RUN("bash", "-c", script);

	bench_expect(&run, 128 + SIGINT, "press Ctrl-C again to end at once");
	never_boots(DRIVE);
	SupRun again = BENCH_RUN("move", "--resume");
	bench_expect(&again, 0, "done:");
	sup_judge_ext(DRIVE, ROOT_AT);
}
END_TEST

START_TEST(a_full_disk_under_the_image)
{
	if (!sup_is_root()) {
		sup_say_skipped("a_full_disk_under_the_image");
		return;
	}
	g_autofree char *card = g_strdup(sup_hash(CARD));
	SUP_TOOL("mkdir", sup_path("full"));
	SUP_TOOL("mount", "-t", "tmpfs", "-o", "size=16m", "none", sup_path("full"));
	SUP_TOOL("truncate", "-s", "2G", sup_path("full/target.img"));
	SupRun run = WANDERITAS("move", "--from", CARD, "--to", sup_path("full/target.img"),
		"--erase", "target.img", "--state", sup_path("state"));
	SUP_TOOL("umount", sup_path("full"));
	bench_expect(&run, 4, "No space left on device");
	bench_expect(&run, 4, "is unfinished, is marked so, and will not boot");
	ck_assert_str_eq(card, sup_hash(CARD));
}
END_TEST

START_TEST(a_full_state_folder)
{
	if (!sup_is_root()) {
		sup_say_skipped("a_full_state_folder");
		return;
	}
	SUP_TOOL("mkdir", sup_path("full"));
	SUP_TOOL("mount", "-t", "tmpfs", "-o", "size=200k", "none", sup_path("full"));
	SupRun run = BENCH_RUN(
		"move", "--to", "nvme0n1", "--erase", "nvme0n1", "--state", sup_path("full"));
	SUP_TOOL("umount", sup_path("full"));
	ck_assert_msg(run.code == 3 || run.code == 4, "%d %s", run.code, run.err);
	ck_assert_ptr_nonnull(strstr(run.err, "No space left"));
	SupRun again = BENCH_RUN("move", "--to", "nvme0n1", "--erase", "nvme0n1");
	bench_expect(&again, 0, "done:");
}
END_TEST

START_TEST(a_read_only_state_folder)
{
	if (!sup_is_root()) {
		sup_say_skipped("a_read_only_state_folder");
		return;
	}
	g_autofree char *drive = g_strdup(sup_hash(DRIVE));
	SUP_TOOL("mkdir", sup_path("full"));
	SUP_TOOL("mount", "-t", "tmpfs", "-o", "ro", "none", sup_path("full"));
	SupRun run = BENCH_RUN(
		"move", "--to", "nvme0n1", "--erase", "nvme0n1", "--state", sup_path("full/state"));
	SUP_TOOL("umount", sup_path("full"));
	bench_expect(&run, 3, "Read-only file system");
	bench_expect(&run, 3, "name one that has room with --state DIR");
	ck_assert_str_eq(drive, sup_hash(DRIVE));
}
END_TEST

START_TEST(a_loop_mounted_target_is_refused)
{
	if (!sup_is_root()) {
		sup_say_skipped("a_loop_mounted_target_is_refused");
		return;
	}
	sup_make_image(sup_path("used.img"), UINT64_C(1) << 30);
	g_autofree char *loop =
		g_strdup(SUP_TOOL("losetup", "--find", "--show", sup_path("used.img")));
	g_autofree char *before = g_strdup(sup_hash(sup_path("used.img")));
	SupRun run = WANDERITAS(
		"move", "--from", CARD, "--to", sup_path("used.img"), "--erase", "used.img");
	SUP_TOOL("losetup", "-d", g_strstrip(loop));
	bench_expect(&run, 3, "is attached to /dev/loop");
	ck_assert_str_eq(before, sup_hash(sup_path("used.img")));
}
END_TEST

static const char *const sector_sizes[] = { "512", "4096" };

START_TEST(a_loop_device_as_target)
{
	if (!sup_is_root()) {
		sup_say_skipped("a_loop_device_as_target");
		return;
	}
	sup_make_image(sup_path("drive.img"), UINT64_C(1) << 30);
	g_autofree char *loop = g_strdup(SUP_TOOL("losetup", "--find", "--show", "-P",
		"--sector-size", sector_sizes[_i], sup_path("drive.img")));
	g_strstrip(loop);
	g_autofree char *name = g_path_get_basename(loop);
	SupRun run = WANDERITAS("move", "--from", CARD, "--to", loop, "--erase", name, "--state",
		sup_path("state"));
	SupRun table = SUP_RUN("sfdisk", "--verify", loop);
	SUP_TOOL("losetup", "-d", loop);
	bench_expect(&run, 0, "done:");
	bench_expect(&table, 0, "No errors detected");
	sup_judge_ext(sup_path("drive.img"), ROOT_AT);
}
END_TEST

/* A source without a free block. */
START_TEST(a_full_root)
{
	if (!sup_is_root()) {
		sup_say_skipped("a_full_root");
		return;
	}
	g_autofree char *script = g_strdup_printf(
		"mkdir '%s' && mount -o loop,offset=%u '%s' '%s' && { dd if=/dev/zero of='%s/full' bs=1M "
		"2>/dev/null || true; }; sync; df --output=avail '%s' | tail -1; umount '%s'",
		sup_path("mnt"), (unsigned)ROOT_AT, CARD, sup_path("mnt"), sup_path("mnt"),
		sup_path("mnt"), sup_path("mnt"));
	const char *argv[] = { "bash", "-ec", script, NULL };
	ck_assert_int_eq(atoi(sup_tool(argv)), 0);
	SupRun run = BENCH_RUN("move", "--to", "nvme0n1", "--erase", "nvme0n1");
	bench_expect(&run, 0, "done:");
	sup_judge_ext(DRIVE, ROOT_AT);
}
END_TEST

Suite *suite_stops(void)
{
	Suite *s = suite_create("cli/stops");
	TCase *t = tcase_create("stops");

	tcase_add_unchecked_fixture(t, bench_make, bench_remove);
	tcase_add_checked_fixture(t, sup_setup, sup_teardown);
	tcase_add_loop_test(t, signals_leave_an_unfinished_target, 0, (int)G_N_ELEMENTS(signals));
	tcase_add_test(t, a_disk_that_does_not_answer);
	tcase_add_test(t, a_full_disk_under_the_image);
	tcase_add_test(t, a_full_state_folder);
	tcase_add_test(t, a_read_only_state_folder);
	tcase_add_test(t, a_loop_mounted_target_is_refused);
	tcase_add_loop_test(t, a_loop_device_as_target, 0, (int)G_N_ELEMENTS(sector_sizes));
	tcase_add_test(t, a_full_root);
	suite_add_tcase(s, t);
	return s;
}
