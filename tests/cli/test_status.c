/* Where the move of a machine stands, and waiting for a disk. */
#include "boards.h"

#include <signal.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

Suite *suite_status(void);

#define MOVE "move", "--to", "nvme0n1", "--erase", "nvme0n1"

static void shell(const char *command)
{
	board_shell(&boards[0], "", command);
}

static void expect_stage(const char *stage, const char *says, const char *next)
{
	g_autofree char *member = g_strdup_printf("\"stage\": \"%s\"", stage);
	g_autofree char *last = g_strdup_printf("%s\n", next);
	SupRun json = BENCH_RUN("--json", "status");
	SupRun run = BENCH_RUN("status");
	SupRun alone = bench_run("", (const char *const[]){ NULL });

	bench_expect(&json, 0, member);
	bench_expect(&run, 0, says);
	ck_assert_str_eq(run.out, alone.out);
	ck_assert_msg(g_str_has_suffix(run.out, last), "does not end with %s:\n%s", next, run.out);
	ck_assert_ptr_nonnull(strstr(run.out, "\nnext: "));
}

START_TEST(no_move_yet)
{
	expect_stage("none", "no move was made on this machine yet", " survey");
	/* There is one other disk, so that is the one to move to. */
	SupRun run = BENCH_RUN("status");
	bench_expect(&run, 0, " move --to nvme0n1 ");
	shell("truncate -s 1G dev/sda; mkdir -p sys/block/sda; echo 8:0 > sys/block/sda/dev; echo 2097152 > sys/block/sda/size");
	run = BENCH_RUN("status");
	bench_expect(&run, 0, " move --to DISK ");
}
END_TEST

START_TEST(an_interrupted_move)
{
	ck_assert_int_eq(BENCH_INTERRUPT(SIGTERM, "copying partition 1", MOVE), 4);
	g_autofree char *resume = g_strdup_printf(
		" move --resume %s", bench_path("root/var/lib/wanderitas/to-nvme0n1"));
	expect_stage("interrupted", " was interrupted", resume);
	shell("mv dev/nvme0n1 away; mv sys/block/nvme0n1 away2");
	expect_stage("interrupted",
		"nvme0n1 (Reedbed SSD 2G, serial RB2G-000417) is not plugged in: plug it in first",
		resume);
	shell("mv away dev/nvme0n1; mv away2 sys/block/nvme0n1");
	SupRun run = BENCH_RUN("move", "--resume");
	bench_expect(&run, 0, "done");
	expect_stage("moved", "is complete; the system still runs from mmcblk0",
		"power off, take the old disk out, power on");
}
END_TEST

/* Another terminal, while the move runs. */
START_TEST(a_move_that_is_under_way)
{
	g_autofree char *script = g_strdup_printf(
		"flock '%s' sh -c \"'%s' --bench '%s' --json status; '%s' --bench '%s' status --short\"",
		bench_path("root/var/lib/wanderitas"), sup_program(), bench_path(""), sup_program(),
		bench_path(""));
	const char *argv[] = { "sh", "-c", script, NULL };

	ck_assert_int_eq(BENCH_INTERRUPT(SIGKILL, "copying partition 1", MOVE), 128 + SIGKILL);
	expect_stage("interrupted", " was interrupted", "to-nvme0n1");
	const char *said = sup_tool(argv);
	ck_assert_msg(strstr(said, "\"stage\": \"moving\"") != NULL, "%s", said);
	ck_assert_msg(strstr(said, "moving: wait for it to end") != NULL, "%s", said);
}
END_TEST

/* Asking for the state does not keep a move from beginning. */
START_TEST(asking_is_no_move)
{
	g_autofree char *script = g_strdup_printf(
		"mkdir -p '%s'; (flock -s '%s' sleep 0.1) & '%s' --bench '%s' -q move --to nvme0n1 --erase nvme0n1",
		bench_path("root/var/lib/wanderitas"), bench_path("root/var/lib/wanderitas"),
		sup_program(), bench_path(""));
	const char *argv[] = { "sh", "-c", script, NULL };

	ck_assert_ptr_nonnull(strstr(sup_tool(argv), "done: everything was read back"));
}
END_TEST

/* What ready found last, before a move. */
START_TEST(ready_or_stopped)
{
	SupRun ready = BENCH_RUN("ready", "--to", "nvme0n1");

	bench_expect(&ready, 0, NULL);
	expect_stage("ready", "the last check found nothing that stops a move to nvme0n1",
		" move --to nvme0n1");
	/* A file among the folders of moves is none of them. */
	SupRun undo = BENCH_RUN("rewind");
	bench_expect(&undo, 0, "there is no change to undo");
	shell("truncate -s 100M dev/nvme0n1");
	SupRun stopped = BENCH_RUN("ready", "--to", "nvme0n1");
	bench_expect(&stopped, 1, NULL);
	expect_stage("stopped", "the last check stops a move to nvme0n1: ", " ready --to nvme0n1");
	SupRun line = BENCH_RUN("status", "--short");
	ck_assert_msg(g_str_has_prefix(line.out, "stopped: "), "%s", line.out);
	/* Those of images say nothing of the machine. */
	shell("rm root/var/lib/wanderitas/last-ready.json; truncate -s 1G x.img");
	SupRun image = BENCH_RUN("ready", "--to", bench_path("x.img"));
	ck_assert_int_ne(image.code, 2);
	expect_stage("none", "no move was made on this machine yet", " survey");
	shell("mkdir -p root/var/lib/wanderitas; echo '{' > root/var/lib/wanderitas/last-ready.json");
	expect_stage("none", "no move was made on this machine yet", " survey");
}
END_TEST

/* The move was done an hour ago, and the board was switched on since. */
START_TEST(came_up_from_the_old_disk)
{
	bench_take_moved();
	expect_stage("moved", "is complete; the system still runs from mmcblk0",
		"power off, take the old disk out, power on");
	shell("touch -d '1 hour ago' root/var/lib/wanderitas/to-nvme0n1/*; echo '600.00 100.00' > proc/uptime");
	expect_stage("old-disk", "the board was booted since from mmcblk0", " arrive");
	shell("echo '7200.00 100.00' > proc/uptime");
	expect_stage("moved", "is complete; the system still runs from mmcblk0",
		"power off, take the old disk out, power on");
}
END_TEST

START_TEST(after_the_restart)
{
	bench_take_moved();
	bench_restart(bench_path(""));
	expect_stage("booted", "the system runs from the new disk now", " arrive");
	/* Where /var is a volume of its own, a move leaves its records in root's home. */
	shell("mkdir -p root/root/.local/state; mv root/var/lib/wanderitas root/root/.local/state");
	expect_stage("booted", "the system runs from the new disk now", " arrive");
	SupRun run = BENCH_RUN("arrive");
	bench_expect(&run, 0, "arrived");
	expect_stage("arrived", "is finished and checked", " report -o move.html");
}
END_TEST

/* What cannot be looked at is not "no move". */
START_TEST(records_that_nobody_may_read)
{
	shell("mkdir -p root/var/lib/wanderitas/to-nvme0n1; cd root/var/lib/wanderitas/to-nvme0n1;"
	      "echo '{' > itinerary.json");
	SupRun run = BENCH_RUN("status");
	bench_expect(&run, 1, "it is unknown whether a move is under way");
	bench_expect(&run, 1, "itinerary.json");
	if (geteuid() == 0)
		return;
	ck_assert_int_eq(chmod(bench_path("root/var/lib/wanderitas"), 0), 0);
	run = BENCH_RUN("status");
	ck_assert_int_eq(chmod(bench_path("root/var/lib/wanderitas"), 0755), 0);
	bench_expect(&run, 1, "ermission denied");
}
END_TEST

/* The program waits in the background; the shell does the plugging. */
static SupRun wait_while(const char *options, const char *plugging)
{
	g_autofree char *script = g_strdup_printf(
		"cd '%s'; timeout 60 '%s' --bench . %s survey --wait >out 2>err & p=$!\n"
		"said() { for i in $(seq 600); do grep -q \"$1\" err && return; kill -0 $p || return 1; sleep 0.05; done; return 1; }\n"
		"said waiting || exit 9\n%s\nwait $p; code=$?; cat out; cat err >&2; exit $code",
		bench_path(""), sup_program(), options, plugging);
	const char *argv[] = { "bash", "-c", script, NULL };

	return sup_run("", argv);
}

#define PLUG_IN                                                                                                                    \
	"mkdir -p sys/block/sda/device; echo 8:0 > sys/block/sda/dev; echo 1228800 > sys/block/sda/size; echo 'Reedbed SSD 1G' > " \
	"sys/block/sda/device/model; cp --sparse=always dev/mmcblk0 new; mv new dev/sda"

START_TEST(a_disk_is_plugged_in)
{
	SupRun run = wait_while("", PLUG_IN);

	bench_expect(&run, 0, "present     mmcblk0  ");
	bench_expect(&run, 0, "plugged in  sda  ");
	bench_expect(&run, 0, "Reedbed SSD 1G");
	/* What is on it, and that another disk has the same identifiers. */
	bench_expect(&run, 0, "vfat (FAT32)");
	ck_assert_str_eq(run.out, "sda\n");
	SupRun names = BENCH_RUN("survey", "--names");
	bench_expect(&names, 0, NULL);
	ck_assert_str_eq(names.out, "mmcblk0\nnvme0n1\nsda\n");
}
END_TEST

START_TEST(a_disk_is_taken_out_and_another_comes)
{
	SupRun run = wait_while("--json",
		"mv sys/block/nvme0n1 away; said 'taken out   nvme0n1' || exit 9; echo RB2G-000999 > "
		"away/device/serial; mv away sys/block/nvme0n1");

	bench_expect(&run, 0, "taken out   nvme0n1  ");
	bench_expect(&run, 0, "plugged in  nvme0n1  ");
	bench_expect(&run, 0, "RB2G-000999");
	bench_expect(&run, 0, "\"format\": \"wanderitas-survey/");
}
END_TEST

START_TEST(waiting_is_stopped)
{
	SupRun run = wait_while("", "kill -TERM $p");

	ck_assert_int_ne(run.code, 0);
	ck_assert_str_eq(run.out, "");
	ck_assert_ptr_nonnull(strstr(run.err, "no disk was plugged in"));
}
END_TEST

Suite *suite_status(void)
{
	Suite *s = suite_create("cli/status");
	TCase *t = tcase_create("status");
	TCase *moved = tcase_create("moved");

	tcase_add_unchecked_fixture(t, bench_make, bench_remove);
	tcase_add_checked_fixture(t, sup_setup, sup_teardown);
	tcase_add_test(t, no_move_yet);
	tcase_add_test(t, an_interrupted_move);
	tcase_add_test(t, a_move_that_is_under_way);
	tcase_add_test(t, asking_is_no_move);
	tcase_add_test(t, ready_or_stopped);
	tcase_add_test(t, records_that_nobody_may_read);
	tcase_add_test(t, a_disk_is_plugged_in);
	tcase_add_test(t, a_disk_is_taken_out_and_another_comes);
	tcase_add_test(t, waiting_is_stopped);
	suite_add_tcase(s, t);
	tcase_add_unchecked_fixture(moved, bench_make_moved, bench_remove);
	tcase_add_checked_fixture(moved, sup_setup, sup_teardown);
	tcase_add_test(moved, after_the_restart);
	tcase_add_test(moved, came_up_from_the_old_disk);
	suite_add_tcase(s, moved);
	return s;
}
