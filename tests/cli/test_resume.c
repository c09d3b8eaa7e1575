/* Moves that are taken up again: after kills at any step, a full disk under the target, a full
 * state folder, a target that was unplugged; and a catching up that was cut off. */
#include "bench.h"

#include <signal.h>
#include <stdio.h>
#include <string.h>
#include <unistd.h>

Suite *suite_resume(void);

#define DRIVE bench_path("dev/nvme0n1")
#define CARD bench_path("dev/mmcblk0")
#define STATE bench_path("root/var/lib/wanderitas/to-nvme0n1")

static int killed_move(const char *when)
{
	return BENCH_INTERRUPT(SIGKILL, when, "move", "--to", "nvme0n1", "--erase", "nvme0n1");
}

/* Names, owners, modes and times of an image's root volume, and what its files hold: a file. */
static const char *listing(const char *image, const char *name)
{
	g_autofree char *script = g_strdup_printf(
		"debugfs -R 'rdump / %s' '%s?offset=%u' >/dev/null 2>&1; cd '%s' && X='-path "
		"./lost+found -prune -o -path ./var/lib/wanderitas -prune -o'; find . $X -type l "
		"-printf '%%p %%l\\n' -o ! -name fstab -printf '%%p %%y %%m %%U:%%G %%T@\\n' | sort && "
		"find . $X -type f ! -name fstab -print0 | sort -z | xargs -0 cksum",
		sup_path("tree"), image, (unsigned)ROOT_AT, sup_path("tree"));
	const char *argv[] = { "bash", "-c", script, NULL };

	SUP_TOOL("rm", "-rf", sup_path("tree"));
	SUP_TOOL("mkdir", sup_path("tree"));
	sup_write(sup_path(name), sup_tool(argv));
	return sup_path(name);
}

static void expect_whole(void)
{
	SUP_TOOL("diff", listing(CARD, "want"), listing(DRIVE, "got"));
	sup_judge_ext(DRIVE, ROOT_AT);
	SUP_TOOL("sfdisk", "--verify", DRIVE);
	ck_assert_ptr_nonnull(strstr(SUP_TOOL("sfdisk", "-d", DRIVE), "bootable"));
	ck_assert_ptr_nonnull(strstr(bench_boot_file(DRIVE, "cmdline.txt"), "root=PARTUUID="));
	/* Nothing of ours that only a running move needs. */
	ck_assert_str_eq(SUP_TOOL("find", STATE, "-name", "checkpoint-*", "-o", "-name", ".*", "-o",
				 "-name", "held*"),
		"");
}

/* The second kill hits the run that goes on; what that run must not do again. */
static const struct {
	const char *when, *then, *not_again;
} kills[] = {
	{ "clearing", "reading partition 2", NULL },
	{ "copying partition 2", "copying partition 1", NULL },
	{ "reading partition 2", "reading partition 1", NULL },
	{ "copying partition 1", "making partition 1", "copying partition 2" },
	{ "leaving the records", "leaving the records", NULL },
	{ "making partition 1", "final partition table", "copying partition" },
	{ "final partition table", "looking for what changed", "copying partition" },
};

START_TEST(kills_at_any_step)
{
	g_autofree char *card = g_strdup(sup_hash(CARD));

	ck_assert_int_eq(killed_move(kills[_i].when), 128 + SIGKILL);
	ck_assert_int_eq(
		BENCH_INTERRUPT(SIGKILL, kills[_i].then, "move", "--resume", "--erase", "nvme0n1"),
		128 + SIGKILL);
	SupRun run = BENCH_RUN("move", "--resume", "--erase", "nvme0n1");
	bench_expect(&run, 0, "done: everything was read back");
	bench_expect(&run, 0, "power off, take the SD card out");
	if (kills[_i].not_again)
		ck_assert_msg(!strstr(run.err, kills[_i].not_again), "%s", run.err);
	expect_whole();
	ck_assert_str_eq(card, sup_hash(CARD));
	SupRun over = BENCH_RUN("move", "--resume");
	bench_expect(&over, 3, "was done to its end");
}
END_TEST

START_TEST(what_is_no_move_to_go_on_with)
{
	SupRun none = BENCH_RUN("move", "--resume");
	bench_expect(&none, 2, "there is no move to continue");
	/* A target that no move left records of is no itinerary. */
	sup_make_image(sup_path("drive.img"), UINT64_C(1) << 30);
	SupRun target = BENCH_RUN("move", "--resume", sup_path("drive.img"));
	bench_expect(&target, 2, "drive.img is known: there is no folder ");
	SupRun both = BENCH_RUN("move", "--resume", "--to", "nvme0n1");
	bench_expect(&both, 2, "give either an itinerary file or --from/--to options");
	SupRun empty = BENCH_RUN("move", "--resume", sup_folder());
	bench_expect(&empty, 3, "itinerary.json");
	ck_assert_int_eq(killed_move("copying partition 2"), 128 + SIGKILL);
	g_autofree char *before = g_strdup(sup_hash(DRIVE));
	sup_write(BENCH_LOGBOOK, "nonsense\n");
	SupRun damaged = BENCH_RUN("move", "--resume", "--erase", "nvme0n1");
	bench_expect(&damaged, 3, "logbook.jsonl:1: this is no line of a logbook");
	ck_assert_str_eq(before, sup_hash(DRIVE));
}
END_TEST

/* Somebody made another system of the disk since. */
START_TEST(a_target_that_is_not_ours_any_more)
{
	ck_assert_int_eq(killed_move("reading partition 2"), 128 + SIGKILL);
	const char *argv[] = { "sfdisk", "-q", DRIVE, NULL };
	SupRun other = sup_run("label: dos\n,,83\n", argv);
	ck_assert_int_eq(other.code, 0);
	g_autofree char *before = g_strdup(sup_hash(DRIVE));
	SupRun run = BENCH_RUN("move", "--resume");
	bench_expect(
		&run, 3, "is not the disk that the itinerary was drawn for: its disk identifier");
	ck_assert_str_eq(before, sup_hash(DRIVE));
}
END_TEST

/* Killed before it is said that the target is erased: the answer of before does not count for
 * another disk in its place, whatever is on that. */
static const struct {
	const char *name, *script;
} in_its_place[] = {
	{ "a file system without a table", "mkfs.ext4 -q -F -L sounds \"$0\"" },
	{ "a FAT without a table", "mkfs.vfat -F 32 -I -n SOUNDS \"$0\" >/dev/null" },
	{ "swap", "mkswap -L sounds \"$0\" >/dev/null" },
	{ "another table", "echo ',,83' | sfdisk -q \"$0\"" },
	{ "nothing that is known", "printf sounds | dd of=\"$0\" bs=1 conv=notrunc status=none" },
};

START_TEST(another_disk_in_its_place)
{
	ck_assert_int_eq(killed_move("clearing"), 128 + SIGKILL);
	SUP_TOOL("bash", "-ec", in_its_place[_i].script, DRIVE);
	g_autofree char *before = g_strdup(sup_hash(DRIVE));
	SupRun run = BENCH_RUN("move", "--resume", "--erase", "nvme0n1");
	bench_expect(&run, 3, "has changed since the itinerary was drawn");
	ck_assert_str_eq(before, sup_hash(DRIVE));
	SupRun asked = bench_run("no\n", (const char *const[]){ "move", "--resume", NULL });
	bench_expect(&asked, 3, "is not the name of the target");
	ck_assert_str_eq(before, sup_hash(DRIVE));
	SupRun agreed = bench_run("nvme0n1\n", (const char *const[]){ "move", "--resume", NULL });
	bench_expect(&agreed, 0, "done:");
}
END_TEST

/* Without its list nothing of a part could be compared: the run ends, and starting over goes
 * through. */
START_TEST(a_packing_list_that_is_cut_short)
{
	g_autofree char *list = g_build_filename(STATE, "packing-2.list", NULL);

	ck_assert_int_eq(killed_move("copying partition 1"), 128 + SIGKILL);
	if (_i == 0)
		SUP_TOOL("truncate", "-s", "-4000", list);
	else
		ck_assert_int_eq(unlink(list), 0);
	SupRun run = BENCH_RUN("move", "--resume");
	bench_expect(&run, 4, _i == 0 ? "the packing list of partition 2 has" : "packing-2.list");
	SupRun survey = BENCH_RUN("survey");
	bench_expect(&survey, 1, "a move to this disk is unfinished, and it will not boot");
	SupRun over = BENCH_RUN("move", "--to", "nvme0n1", "--erase", "nvme0n1");
	bench_expect(&over, 0, "done:");
	expect_whole();
}
END_TEST

/* Somebody changed a volume that was copied, before the move went on. */
START_TEST(a_copied_volume_that_changed)
{
	ck_assert_int_eq(killed_move("copying partition 1"), 128 + SIGKILL);
	bench_put_root_file(DRIVE, "etc/motd", "somebody was here\n");
	SupRun run = BENCH_RUN("move", "--resume");
	bench_expect(&run, 0, "partition 2 of the target was changed since it was copied");
	bench_expect(&run, 0, "done:");
	expect_whole();
}
END_TEST

START_TEST(an_unplugged_target)
{
	g_autofree char *away = g_strdup_printf("%s-away", sup_path("drive"));

	ck_assert_int_eq(killed_move("reading partition 2"), 128 + SIGKILL);
	ck_assert_int_eq(rename(DRIVE, away), 0);
	SupRun gone = BENCH_RUN("move", "--resume");
	bench_expect(&gone, 3, "nvme0n1");
	ck_assert_int_eq(rename(away, DRIVE), 0);
	SupRun run = BENCH_RUN("move", "--resume", STATE);
	bench_expect(&run, 0, "done:");
	expect_whole();
}
END_TEST

/* What the source got between the interruption and the going on comes along. */
START_TEST(a_source_that_changed_meanwhile)
{
	ck_assert_int_eq(killed_move("copying partition 1"), 128 + SIGKILL);
	bench_put_root_file(CARD, "etc/motd", "terns on the weir\n");
	SupRun run = BENCH_RUN("move", "--resume");
	bench_expect(&run, 0, "copied in 1 further pass");
	ck_assert_str_eq(bench_root_file(DRIVE, "etc/motd"), "terns on the weir\n");
	sup_judge_ext(DRIVE, ROOT_AT);
}
END_TEST

START_TEST(a_catchup_that_was_cut_off)
{
	static const char *const moments[] = { "copying", "changing", "making partition 1" };

	SupRun move = BENCH_RUN("move", "--to", "nvme0n1", "--erase", "nvme0n1");

	bench_expect(&move, 0, "done:");
	bench_put_root_file(CARD, "etc/motd", "terns on the weir\n");
	bench_put_boot_file(CARD, "terns.txt", "two pairs\n");
	ck_assert_int_eq(BENCH_INTERRUPT(SIGKILL, moments[_i], "catchup"), 128 + SIGKILL);
	SupRun again = BENCH_RUN("catchup");
	bench_expect(&again, 3, "is the target of an unfinished move");
	SupRun run = BENCH_RUN("move", "--resume");
	bench_expect(&run, 0, "done");
	ck_assert_str_eq(bench_root_file(DRIVE, "etc/motd"), "terns on the weir\n");
	ck_assert_str_eq(bench_boot_file(DRIVE, "terns.txt"), "two pairs\n");
	sup_judge_ext(DRIVE, ROOT_AT);
	ck_assert_ptr_nonnull(strstr(SUP_TOOL("sfdisk", "-d", DRIVE), "bootable"));
}
END_TEST

/* The drive of the bench gets another name, as a USB disk does that is plugged in once more. */
static void plug_in_again(const char *as)
{
	const char *const folders[] = { "dev", "sys/block" };

	for (size_t i = 0; i < G_N_ELEMENTS(folders); i++) {
		g_autofree char *from = g_build_filename(folders[i], "nvme0n1", NULL);
		g_autofree char *to = g_build_filename(folders[i], as, NULL);
		g_autofree char *was = g_strdup(bench_path(from));
		SUP_TOOL("mv", was, bench_path(to));
	}
}

START_TEST(a_target_that_comes_back_under_another_name)
{
	ck_assert_int_eq(killed_move("copying partition 1"), 128 + SIGKILL);
	plug_in_again("nvme1n1");
	/* Another disk got its old name. */
	SUP_TOOL("cp", "-r", bench_path("sys/block/nvme1n1"), bench_path("sys/block/nvme0n1"));
	sup_write(bench_path("sys/block/nvme0n1/device/serial"), "RB2G-000418\n");
	sup_make_image(bench_path("dev/nvme0n1"), UINT64_C(2) << 30);
	g_autofree char *other = g_strdup(sup_hash(bench_path("dev/nvme0n1")));
	SupRun run = BENCH_RUN("move", "--resume");
	bench_expect(&run, 0, "done: everything was read back");
	ck_assert_ptr_nonnull(strstr(run.err, "nvme0n1 is called nvme1n1 now"));
	ck_assert_str_eq(other, sup_hash(bench_path("dev/nvme0n1")));
	sup_judge_ext(bench_path("dev/nvme1n1"), ROOT_AT);
	bench_put_root_file(CARD, "etc/motd", "terns on the weir\n");
	SupRun caught = BENCH_RUN("catchup");
	bench_expect(&caught, 0, "done");
	ck_assert_str_eq(
		bench_root_file(bench_path("dev/nvme1n1"), "etc/motd"), "terns on the weir\n");
	ck_assert_str_eq(other, sup_hash(bench_path("dev/nvme0n1")));
}
END_TEST

/* With two that could be it, nobody guesses. */
START_TEST(two_that_could_be_the_target)
{
	ck_assert_int_eq(killed_move("copying partition 1"), 128 + SIGKILL);
	plug_in_again("nvme1n1");
	SUP_TOOL("cp", "-r", bench_path("sys/block/nvme1n1"), bench_path("sys/block/nvme2n1"));
	sup_make_image(bench_path("dev/nvme2n1"), UINT64_C(2) << 30);
	SupRun run = BENCH_RUN("move", "--resume");
	bench_expect(&run, 2, "there is no disk and no image file 'nvme0n1'");
}
END_TEST

/* A partition without a file system that is copied in three stretches. */
enum { BLOCKS_AT = 600 * 1024 * 1024 };
#define STRETCH (UINT64_C(256) * 1024 * 1024)

static void add_blocks(void)
{
	g_autofree char *script = g_strdup_printf(
		"truncate -s 1300M '%s'; echo start=1228800,size=1228800,type=da |"
		" sfdisk -q --append '%s'; for at in 600 601 855 856 1112 1199; do"
		" dd if=/dev/urandom of='%s' bs=1M seek=$at count=1 conv=notrunc status=none; done",
		CARD, CARD, CARD);
	const char *argv[] = { "bash", "-ec", script, NULL };

	sup_tool(argv);
}

static unsigned stretches_logged(void)
{
	g_autofree char *text = sup_read(BENCH_LOGBOOK, NULL);
	unsigned count = 0;

	for (const char *at = text; (at = strstr(at, "\"range\"")); at++)
		count++;
	return count;
}

static void expect_blocks_alike(void)
{
	const char *dump = strstr(SUP_TOOL("sfdisk", "-d", DRIVE), "nvme0n1p3");

	ck_assert_ptr_nonnull(dump);
	g_autofree char *skip = g_strdup_printf("%u:%" G_GUINT64_FORMAT, (unsigned)BLOCKS_AT,
		g_ascii_strtoull(strstr(dump, "start=") + 6, NULL, 10) * 512);
	SUP_TOOL("cmp", "-i", skip, "-n", "629145600", CARD, DRIVE);
}

/* Killed within it; with a stretch that changed before it goes on, which is copied again. */
START_TEST(blocks_in_stretches)
{
	bool changes = _i == 1;

	add_blocks();
	ck_assert_int_eq(killed_move("\"range\""), 128 + SIGKILL);
	unsigned before = stretches_logged();
	ck_assert_uint_ge(before, 1);
	ck_assert_uint_lt(before, 3);
	if (changes)
		sup_poke(CARD, BLOCKS_AT + 1024, "changed", 7);
	SupRun run = BENCH_RUN("move", "--resume", "--erase", "nvme0n1");
	bench_expect(&run, 0, "done: everything was read back");
	ck_assert_uint_eq(stretches_logged(), changes ? 4 : 3);
	expect_blocks_alike();
}
END_TEST

/* One that was copied whole is looked at again as well. */
START_TEST(blocks_that_changed_when_all_were_copied)
{
	add_blocks();
	ck_assert_int_eq(killed_move("copying partition 1"), 128 + SIGKILL);
	ck_assert_uint_eq(stretches_logged(), 3);
	sup_poke(CARD, BLOCKS_AT + STRETCH + 5, "changed", 7);
	SupRun run = BENCH_RUN("move", "--resume", "--erase", "nvme0n1");
	bench_expect(&run, 0, "done: everything was read back");
	ck_assert_uint_eq(stretches_logged(), 4);
	expect_blocks_alike();
}
END_TEST

/* As root: file systems that fill up, and get room again. */
static void full_at_first(const char *size, const char *image, const char *state)
{
	g_autofree char *options = g_strdup_printf("size=%s", size);

	SUP_TOOL("mkdir", sup_path("full"));
	SUP_TOOL("mount", "-t", "tmpfs", "-o", options, "none", sup_path("full"));
	sup_make_image(image, UINT64_C(2) << 30);
	SupRun run = WANDERITAS(
		"move", "--from", CARD, "--to", image, "--erase", "target.img", "--state", state);
	SUP_TOOL("mount", "-o", "remount,size=600m", sup_path("full"));
	SupRun on = WANDERITAS("move", "--resume", state, "--erase", "target.img");
	bool is_whole = on.code == 0;
	if (is_whole)
		sup_judge_ext(image, ROOT_AT);
	SUP_TOOL("umount", sup_path("full"));
	ck_assert_msg(run.code == 3 || run.code == 4, "%d %s", run.code, run.err);
	ck_assert_ptr_nonnull(strstr(run.err, "No space left"));
	bench_expect(&on, 0, "done:");
}

START_TEST(a_full_disk_under_the_target)
{
	if (sup_is_root())
		full_at_first("16m", sup_path("full/target.img"), sup_path("state"));
	else
		sup_say_skipped("a_full_disk_under_the_target");
}
END_TEST

START_TEST(a_full_state_folder)
{
	if (sup_is_root())
		full_at_first("600k", sup_path("target.img"), sup_path("full/state"));
	else
		sup_say_skipped("a_full_state_folder");
}
END_TEST

Suite *suite_resume(void)
{
	Suite *s = suite_create("cli/resume");
	TCase *t = tcase_create("resume");

	tcase_add_unchecked_fixture(t, bench_make, bench_remove);
	tcase_add_checked_fixture(t, sup_setup, sup_teardown);
	tcase_add_loop_test(t, kills_at_any_step, 0, (int)G_N_ELEMENTS(kills));
	tcase_add_test(t, what_is_no_move_to_go_on_with);
	tcase_add_test(t, a_target_that_is_not_ours_any_more);
	tcase_add_loop_test(t, another_disk_in_its_place, 0, G_N_ELEMENTS(in_its_place));
	tcase_add_loop_test(t, a_packing_list_that_is_cut_short, 0, 2);
	tcase_add_test(t, a_copied_volume_that_changed);
	tcase_add_test(t, an_unplugged_target);
	tcase_add_test(t, a_source_that_changed_meanwhile);
	tcase_add_loop_test(t, a_catchup_that_was_cut_off, 0, 3);
	tcase_add_test(t, a_target_that_comes_back_under_another_name);
	tcase_add_test(t, two_that_could_be_the_target);
	tcase_add_loop_test(t, blocks_in_stretches, 0, 2);
	tcase_add_test(t, blocks_that_changed_when_all_were_copied);
	tcase_add_test(t, a_full_disk_under_the_target);
	tcase_add_test(t, a_full_state_folder);
	suite_add_tcase(s, t);
	return s;
}
