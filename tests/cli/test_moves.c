/* Whole moves by the built program, judged by programs that are not ours. */
#include "bench.h"

#include <string.h>
#include <unistd.h>

Suite *suite_moves(void);

#define DRIVE bench_path("dev/nvme0n1")
#define CARD bench_path("dev/mmcblk0")

/* The table, both file systems, and that the source was only read. */
static void judge(const char *image, const char *card_before)
{
	g_autofree char *boot =
		g_strdup_printf("dd if='%s' of='%s' bs=1M skip=4 count=128 status=none", image,
			sup_path("boot.fat"));
	const char *argv[] = { "sh", "-c", boot, NULL };

	SUP_TOOL("sfdisk", "--verify", image);
	sup_judge_ext(image, ROOT_AT);
	sup_tool(argv);
	sup_judge_fat(sup_path("boot.fat"));
	ck_assert_str_eq(card_before, sup_hash(CARD));
}

static char *word_after(const char *text, const char *before)
{
	const char *at = strstr(text, before);

	ck_assert_msg(at != NULL, "no %s in %s", before, text);
	at += strlen(before);
	return g_strndup(at, strcspn(at, " \n\t\""));
}

static const struct {
	const char *name;
	const char *options[5];
	const char *root;  /* how root= begins on the target */
	const char *label; /* of sfdisk's dump */
} moves[] = {
	{ "plain", { NULL }, "PARTUUID=", "label: dos" },
	{ "gpt", { "--table", "gpt" }, "PARTUUID=", "label: gpt" },
	{ "by uuid", { "--name-by", "uuid" }, "UUID=", "label: dos" },
	{ "by label", { "--name-by", "label" }, "LABEL=rootfs-", "label: dos" },
	{ "by path", { "--name-by", "path" }, "/dev/nvme0n1p2", "label: dos" },
	{ "by partlabel", { "--name-by", "partlabel", "--table", "gpt" }, "PARTLABEL=root-",
		"label: gpt" },
	{ "kept identifiers", { "--keep-identifiers" }, "PARTUUID=4c1fa2b0-02",
		"label-id: 0x4c1fa2b0" },
	{ "room left", { "--leave-free", "50%" }, "PARTUUID=", "size=     1826816" },
};

START_TEST(moves_to_a_drive)
{
	const char *arguments[12] = { "move", "--to", "nvme0n1", "--erase", "nvme0n1" };
	g_autofree char *card = g_strdup(sup_hash(CARD));

	for (size_t i = 0; i < 5 && moves[_i].options[i]; i++)
		arguments[5 + i] = moves[_i].options[i];
	SupRun run = bench_run("", arguments);
	bench_expect(&run, 0, "done: everything was read back");
	judge(DRIVE, card);
	const char *table = SUP_TOOL("sfdisk", "-d", DRIVE);
	ck_assert_msg(strstr(table, moves[_i].label) != NULL, "%s", table);
	ck_assert_ptr_nonnull(
		strstr(table, strstr(table, "gpt") ? "LegacyBIOSBootable" : "bootable"));
	/* Every mention on the target names the target, in the form that was asked for. */
	g_autofree char *root = word_after(bench_boot_file(DRIVE, "cmdline.txt"), " root=");
	ck_assert_msg(g_str_has_prefix(root, moves[_i].root), "%s", root);
	ck_assert_ptr_nonnull(strstr(bench_root_file(DRIVE, "etc/fstab"), root));
	SupRun survey = BENCH_RUN("survey", "--mentions");
	bool is_kept = _i == 6;
	bench_expect(
		&survey, is_kept ? 1 : 0, is_kept ? "mmcblk0p2 and nvme0n1p2" : "nvme0n1p2 (root)");
}
END_TEST

START_TEST(new_identifiers_are_new)
{
	SupRun run = BENCH_RUN("move", "--to", "nvme0n1", "--erase", "nvme0n1");

	bench_expect(&run, 0, NULL);
	const char *target = SUP_TOOL("blkid", "-p", "-O", "138412032", DRIVE);
	g_autofree char *uuid = word_after(target, " UUID=\"");
	ck_assert_str_ne(uuid, "6d1c7a52-0b7e-4f5e-9a43-2f8f5d1b9c30");
	ck_assert_ptr_nonnull(strstr(target, "LABEL=\"rootfs\""));
	ck_assert_ptr_nonnull(strstr(
		SUP_TOOL("blkid", "-p", "-O", "4194304", DRIVE), "LABEL_FATBOOT=\"BOOTFS\""));
	ck_assert_ptr_null(strstr(SUP_TOOL("sfdisk", "-d", DRIVE), "4c1fa2b0"));
}
END_TEST

START_TEST(by_an_itinerary_on_another_day)
{
	g_autofree char *card = g_strdup(sup_hash(CARD));
	SupRun draft = BENCH_RUN("draft", "--to", "nvme0n1", "-o", sup_path("it.json"));
	g_autofree char *json = sup_read(sup_path("it.json"), NULL);
	g_autofree char *id = word_after(strstr(json, "\"none\""), "\"table_id\": \"");

	bench_expect(&draft, 0, NULL);
	SupRun move =
		bench_run("nvme0n1\n", (const char *const[]){ "move", sup_path("it.json"), NULL });
	bench_expect(&move, 0, "Type its name (nvme0n1)");
	judge(DRIVE, card);
	ck_assert_ptr_nonnull(strstr(bench_boot_file(DRIVE, "cmdline.txt"), id));
	g_autofree char *logbook =
		sup_read(bench_path("root/var/lib/wanderitas/to-nvme0n1/logbook.jsonl"), NULL);
	ck_assert_ptr_nonnull(strstr(logbook, "\"event\": \"done\""));
	/* The disk is not the empty one any more: the same itinerary is refused. */
	SupRun again = BENCH_RUN("move", sup_path("it.json"), "--erase", "nvme0n1");
	bench_expect(&again, 3, "not the disk that the itinerary was drawn for");
}
END_TEST

START_TEST(image_to_image_anywhere)
{
	g_autofree char *card = g_strdup(sup_hash(CARD));

	sup_make_image(sup_path("what? #1.img"), UINT64_C(700) << 20);
	SupRun run = WANDERITAS("move", "--from", CARD, "--to", sup_path("what? #1.img"), "--erase",
		"what? #1.img", "--json", "-q");
	bench_expect(&run, 0, "\"wanderitas-move/2\"");
	ck_assert_str_eq(run.err, "");
	SUP_TOOL("cp", sup_path("what? #1.img"), sup_path("plain.img"));
	judge(sup_path("plain.img"), card);
	ck_assert_int_eq(access(sup_path("what? #1.img.wanderitas/packing-2.list"), F_OK), 0);
	/* And on: the moved system is itself a source. */
	sup_make_image(sup_path("third.img"), UINT64_C(450) << 20);
	SupRun next = WANDERITAS("move", "--from", sup_path("plain.img"), "--to",
		sup_path("third.img"), "--erase", "third.img");
	bench_expect(&next, 0, "done:");
	judge(sup_path("third.img"), card);
}
END_TEST

/* The state folder, too: what is on the disk comes from both. */
START_TEST(the_same_bytes_again)
{
	const char *state[] = { sup_path("first"), sup_path("second") };
	g_autofree char *image = NULL;

	setenv("SOURCE_DATE_EPOCH", "1790000000", 1);
	sup_make_image(sup_path("new.img"), UINT64_C(700) << 20);
	SupRun draft = WANDERITAS(
		"draft", "--from", CARD, "--to", sup_path("new.img"), "-o", sup_path("it.json"));
	bench_expect(&draft, 0, NULL);
	for (size_t i = 0; i < 2; i++) {
		sup_make_image(sup_path("new.img"), UINT64_C(700) << 20);
		SupRun move = WANDERITAS("move", sup_path("it.json"), "--erase",
			sup_path("new.img"), "--state", state[i]);
		bench_expect(&move, 0, "done:");
		if (i == 0)
			image = g_strdup(sup_hash(sup_path("new.img")));
	}
	unsetenv("SOURCE_DATE_EPOCH");
	ck_assert_str_eq(image, sup_hash(sup_path("new.img")));
	SUP_TOOL("diff", "-r", state[0], state[1]);
	sup_judge_ext(sup_path("new.img"), ROOT_AT);
}
END_TEST

START_TEST(large_sectors)
{
	sup_make_image(sup_path("large.img"), UINT64_C(1) << 30);
	SupRun run = WANDERITAS("move", "--from", CARD, "--to", sup_path("large.img"), "--erase",
		"large.img", "--sector-size", "4096", "--table", "gpt");

	bench_expect(&run, 0, "done:");
	ck_assert_ptr_nonnull(
		strstr(SUP_TOOL("fdisk", "-b", "4096", "-l", sup_path("large.img")), "gpt"));
	sup_judge_ext(sup_path("large.img"), ROOT_AT);
	uint8_t sector_size[2];
	sup_peek(sup_path("large.img"), BOOT_AT + 11, sector_size, 2);
	ck_assert_uint_eq((unsigned)(sector_size[0] | sector_size[1] << 8), 4096);
}
END_TEST

START_TEST(over_an_older_system)
{
	g_autofree char *card = g_strdup(sup_hash(CARD));

	/* An old GPT, a file system at the start of the disk and one inside of the new root. */
	SUP_TOOL("mkfs.ext4", "-q", "-F", DRIVE);
	const char *argv[] = { "sh", "-c", "printf 'label: gpt\\n,,L\\n' | sfdisk -q \"$0\"", DRIVE,
		NULL };
	sup_tool(argv);
	SupRun draft = BENCH_RUN("draft", "--to", "nvme0n1");
	bench_expect(&draft, 0, "the target is not empty");
	SupRun run = BENCH_RUN("move", "--to", "nvme0n1", "--erase", "nvme0n1", "--table", "mbr");
	bench_expect(&run, 0, "done:");
	judge(DRIVE, card);
	ck_assert_ptr_nonnull(strstr(SUP_TOOL("wipefs", DRIVE), "dos"));
	ck_assert_ptr_null(strstr(SUP_TOOL("wipefs", DRIVE), "gpt"));
}
END_TEST

START_TEST(unclean_journal_is_recovered_in_a_copy)
{
	g_autofree char *journal = g_strdup_printf(
		"dd if='%s' of='%s' bs=1M skip=132 status=none && printf 'jo\\njw -b 40000 /dev/zero\\njc\\n' | "
		"debugfs -w -f /dev/stdin '%s' >/dev/null 2>&1 && dd if='%s' of='%s' bs=1M seek=132 conv=notrunc "
		"status=none",
		CARD, sup_path("r"), sup_path("r"), sup_path("r"), CARD);
	const char *argv[] = { "sh", "-c", journal, NULL };

	sup_tool(argv);
	g_autofree char *card = g_strdup(sup_hash(CARD));
	SupRun survey = WANDERITAS("survey", CARD);
	bench_expect(&survey, 0, "its journal is not empty");
	SupRun run = BENCH_RUN("-v", "move", "--to", "nvme0n1", "--erase", "nvme0n1");
	bench_expect(&run, 0, "its journal is replayed in a copy");
	judge(DRIVE, card);
	const char *once = strstr(run.err, "recovering the journal");
	ck_assert_ptr_nonnull(once);
	ck_assert_msg(!strstr(once + 1, "recovering the journal"), "%s", run.err);
}
END_TEST

/* What the move's own e2fsck is to be: a file of the bench. */
static void put_program(const char *name, const char *commands)
{
	g_autofree char *program = g_build_filename(bench_path("bin"), name, NULL);
	g_autofree char *real = g_strchomp(g_strdup(
		SUP_TOOL("sh", "-c", "PATH=$PATH:/usr/sbin:/sbin; command -v \"$0\"", name)));
	g_autofree char *script =
		g_strdup_printf("#!/bin/sh\n%s\nexec '%s' \"$@\"\n", commands, real);

	sup_write(program, script);
	SUP_TOOL("chmod", "+x", program);
}

static unsigned lines_of(const char *file)
{
	g_autofree char *text = sup_read(file, NULL);
	unsigned lines = 0;

	for (const char *at = text; at && (at = strchr(at, '\n')); at++)
		lines++;
	return lines;
}

/* Counts how often e2fsck is asked; what `then` does happens after the source was looked at. */
static SupRun counted_move(const char *then)
{
	g_autofree char *count = g_strdup_printf("echo \"$*\" >>'%s'", sup_path("calls"));

	put_program("e2fsck", count);
	put_program("mkfs.ext4", then);
	return BENCH_RUN("move", "--to", "nvme0n1", "--erase", "nvme0n1");
}

START_TEST(each_volume_is_checked_once)
{
	g_autofree char *card = g_strdup(sup_hash(CARD));
	SupRun run = counted_move("");

	bench_expect(&run, 0, "done: everything was read back");
	judge(DRIVE, card);
	ck_assert_uint_eq(lines_of(sup_path("calls")), 2); /* the source's root, the target's */
}
END_TEST

/* While the user read the itinerary. */
START_TEST(a_source_that_changed_is_checked_again)
{
	g_autofree char *change = g_strdup_printf(
		"PATH=$PATH:/usr/sbin:/sbin debugfs -w -R 'ssv mnt_count 7' '%s?offset=%" G_GUINT64_FORMAT
		"' >/dev/null 2>&1",
		CARD, ROOT_AT);
	SupRun run = counted_move(change);

	bench_expect(&run, 0, "done: everything was read back");
	ck_assert_uint_eq(lines_of(sup_path("calls")), 3);
}
END_TEST

/* The last look finds the new root damaged: nothing boots from it, and going on makes it anew. */
START_TEST(a_damaged_new_root_is_made_again)
{
	g_autofree char *card = g_strdup(sup_hash(CARD));
	g_autofree char *second = g_strdup_printf(
		"echo >>'%s'; [ $(wc -l <'%s') -ne 2 ] || { echo 'Inode 12 is wrong'; exit 4; }",
		sup_path("calls"), sup_path("calls"));

	put_program("e2fsck", second);
	SupRun run = BENCH_RUN("move", "--to", "nvme0n1", "--erase", "nvme0n1");
	bench_expect(&run, 4, "the ext volume is damaged; e2fsck says: Inode 12 is wrong");
	ck_assert_ptr_null(strstr(SUP_TOOL("sfdisk", "-d", DRIVE), "bootable"));
	SupRun survey = BENCH_RUN("survey");
	bench_expect(&survey, 1, "a move to this disk is unfinished, and it will not boot");
	SupRun resumed = BENCH_RUN("move", "--resume", "--erase", "nvme0n1");
	bench_expect(&resumed, 0, "done: everything was read back");
	ck_assert_msg(strstr(resumed.err, "copying partition 2") != NULL, "%s", resumed.err);
	judge(DRIVE, card);
}
END_TEST

START_TEST(two_roots_that_mean_the_same)
{
	bench_put_boot_file(CARD, "cmdline.txt",
		"root=/dev/mmcblk0p2 quiet root=PARTUUID=4C1FA2B0-02 rootwait");
	SupRun run = BENCH_RUN("move", "--to", "nvme0n1", "--erase", "nvme0n1");

	bench_expect(&run, 0, "2 root= words; the kernel takes the last");
	const char *line = bench_boot_file(DRIVE, "cmdline.txt");
	g_autofree char *first = word_after(line, "root=");
	g_autofree char *second = word_after(strstr(line, "quiet"), "root=");
	ck_assert_str_eq(first, second);
	ck_assert_ptr_null(strchr(line, '\n'));
}
END_TEST

/* More nanoseconds than a second has, as only a damaged inode says. */
START_TEST(a_time_that_cannot_be)
{
	g_autofree char *root = g_strdup_printf("%s?offset=%" G_GUINT64_FORMAT, CARD, ROOT_AT);

	SUP_TOOL("debugfs", "-w", "-R", "set_inode_field /etc/hostname mtime_extra 0xffffffff",
		root);
	SupRun run = BENCH_RUN("move", "--to", "nvme0n1", "--erase", "nvme0n1");
	bench_expect(&run, 0, "done:");
	sup_judge_ext(DRIVE, ROOT_AT);
}
END_TEST

START_TEST(broken_fstab_lines_stay)
{
	static const char fstab[] =
		"PARTUUID=4c1fa2b0-02 / ext4 defaults 0 1\r\nnonsense\n\tLABEL=elsewhere /x ext4 d\n"
		"# PARTUUID=4c1fa2b0-01 /boot/firmware vfat d";

	bench_put_root_file(CARD, "etc/fstab", fstab);
	SupRun run =
		BENCH_RUN("move", "--to", "nvme0n1", "--erase", "nvme0n1", "--despite", "mounts");
	bench_expect(&run, 0, "etc/fstab:2:1: the line has too few fields");
	bench_expect(&run, 0,
		"LABEL=elsewhere (/x) matches no partition of this disk; it is left as it is");
	const char *got = bench_root_file(DRIVE, "etc/fstab");
	g_autofree char *partuuid = word_after(got, "PARTUUID=");
	g_autofree char *want =
		g_strdup_printf("PARTUUID=%s%s", partuuid, fstab + strlen("PARTUUID=4c1fa2b0-02"));
	ck_assert_str_eq(got, want);
	ck_assert_str_ne(partuuid, "4c1fa2b0-02");
}
END_TEST

Suite *suite_moves(void)
{
	Suite *s = suite_create("cli/moves");
	TCase *t = tcase_create("moves");

	tcase_add_unchecked_fixture(t, bench_make, bench_remove);
	tcase_add_checked_fixture(t, sup_setup, sup_teardown);
	tcase_add_loop_test(t, moves_to_a_drive, 0, (int)G_N_ELEMENTS(moves));
	tcase_add_test(t, new_identifiers_are_new);
	tcase_add_test(t, by_an_itinerary_on_another_day);
	tcase_add_test(t, image_to_image_anywhere);
	tcase_add_test(t, the_same_bytes_again);
	tcase_add_test(t, large_sectors);
	tcase_add_test(t, over_an_older_system);
	tcase_add_test(t, unclean_journal_is_recovered_in_a_copy);
	tcase_add_test(t, each_volume_is_checked_once);
	tcase_add_test(t, a_source_that_changed_is_checked_again);
	tcase_add_test(t, a_damaged_new_root_is_made_again);
	tcase_add_test(t, two_roots_that_mean_the_same);
	tcase_add_test(t, a_time_that_cannot_be);
	tcase_add_test(t, broken_fstab_lines_stay);
	suite_add_tcase(s, t);
	return s;
}
