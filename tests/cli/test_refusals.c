/* What is refused: exit code 3, a reason, and not a byte written to either disk. */
#include "bench.h"

#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

Suite *suite_refusals(void);

#define DRIVE bench_path("dev/nvme0n1")
#define CARD bench_path("dev/mmcblk0")

static void refused(const SupRun *run, const char *text, const char *card, const char *drive)
{
	bench_expect(run, 3, text);
	ck_assert_str_eq(card, sup_hash(CARD));
	ck_assert_str_eq(drive, sup_hash(DRIVE));
}

/* The move to the drive is refused for this reason. */
static void move_refused(const char *text)
{
	g_autofree char *card = g_strdup(sup_hash(CARD));
	g_autofree char *drive = g_strdup(sup_hash(DRIVE));
	SupRun run = BENCH_RUN("move", "--to", "nvme0n1", "--erase", "nvme0n1");

	refused(&run, text, card, drive);
	ck_assert_int_ne(access(bench_path("root/var/lib/wanderitas/to-nvme0n1"), F_OK), 0);
}

static const char *const answers[] = { "", "\n", "yes\n", "mmcblk0\n", "nvme0n1p2\n", "NVME0N1\n" };

START_TEST(other_answers)
{
	g_autofree char *card = g_strdup(sup_hash(CARD));
	g_autofree char *drive = g_strdup(sup_hash(DRIVE));
	SupRun run =
		bench_run(answers[_i], (const char *const[]){ "move", "--to", "nvme0n1", NULL });

	bool is_empty = strspn(answers[_i], "\n") == strlen(answers[_i]);
	refused(&run,
		is_empty ? "the name of the target was not typed" : "is not the name of the target",
		card, drive);
}
END_TEST

START_TEST(the_same_disk)
{
	g_autofree char *card = g_strdup(sup_hash(CARD));

	ck_assert_int_eq(link(CARD, sup_path("hard.img")), 0);
	ck_assert_int_eq(symlink(CARD, sup_path("soft.img")), 0);
	const char *names[] = { "hard.img", "soft.img" };
	for (size_t i = 0; i < 2; i++) {
		SupRun run = WANDERITAS(
			"move", "--from", CARD, "--to", sup_path(names[i]), "--erase", names[i]);
		bench_expect(&run, 3, "the same disk");
	}
	SupRun run = BENCH_RUN("move", "--to", "mmcblk0", "--erase", "mmcblk0");
	bench_expect(&run, 3, "the same disk");
	ck_assert_str_eq(card, sup_hash(CARD));
}
END_TEST

START_TEST(a_target_in_use)
{
	SUP_TOOL("mkdir", "-p", bench_path("sys/block/nvme0n1/nvme0n1p1"));
	sup_write(bench_path("sys/block/nvme0n1/nvme0n1p1/dev"), "259:1\n");
	sup_write(bench_path("proc/self/mountinfo"),
		"24 1 179:2 / / rw - ext4 /dev/mmcblk0p2 rw\n31 24 259:1 / /media/ssd rw - exfat /dev/x rw\n");
	move_refused("nvme0n1p1 is mounted at /media/ssd");
}
END_TEST

START_TEST(the_running_system_as_target)
{
	g_autofree char *card = g_strdup(sup_hash(CARD));
	SupRun run =
		BENCH_RUN("move", "--from", "nvme0n1", "--to", "mmcblk0", "--erase", "mmcblk0");

	bench_expect(&run, 3, "the target is in use: mmcblk0p");
	ck_assert_str_eq(card, sup_hash(CARD));
}
END_TEST

START_TEST(a_read_only_target)
{
	SUP_TOOL("sh", "-c", "echo 1 > \"$0\"", bench_path("sys/block/nvme0n1/ro"));
	move_refused("cannot be written to");
}
END_TEST

/* Source damage: each row changes the card, and names the reason. */
static const struct {
	const char *name;
	uint64_t offset;
	const char *bytes;
	size_t len;
	const char *text;
} damages[] = {
	{ "no table", 510, "\0\0", 2, "has no partition table" },
	{ "overlap", 446 + 16 + 8, "\x00\x30\x00\x00", 4, "overlap" },
	{ "past the end", 446 + 16 + 12, "\x00\x00\x00\x70", 4, "past the end" },
	{ "ext superblock", ROOT_AT + 1024 + 56, "\0\0", 2, "partition 2" },
	{ "ext group descriptors", ROOT_AT + 4096, "\xff\xff\xff\xff\xff\xff\xff\xff", 8,
		"partition 2" },
	{ "FAT cluster size", BOOT_AT + 13, "\x03", 1, "partition 1" },
	{ "FAT chains", BOOT_AT + 32 * 512 + 40, "\x05\x00\x00\x00\x05\x00\x00\x00", 8,
		"partition 1" },
	{ "another kind", 446 + 4, "\x05", 1, "has no boot files" },
};

START_TEST(damaged_sources)
{
	sup_poke(CARD, damages[_i].offset, damages[_i].bytes, damages[_i].len);
	move_refused(damages[_i].text);
}
END_TEST

START_TEST(a_damaged_gpt)
{
	sup_make_image(sup_path("gpt.img"), UINT64_C(700) << 20);
	SupRun run = WANDERITAS("move", "--from", CARD, "--to", sup_path("gpt.img"), "--table",
		"gpt", "--erase", "gpt.img");
	bench_expect(&run, 0, NULL);
	sup_poke(sup_path("gpt.img"), 512 + 60, "damage", 6);
	SupRun next = WANDERITAS("draft", "--from", sup_path("gpt.img"), "--to", DRIVE);
	bench_expect(&next, 3, "primary GPT is damaged");
}
END_TEST

static const struct {
	const char *line, *text;
} lines[] = {
	{ "", "the kernel command line is empty" },
	{ "\nroot=PARTUUID=4c1fa2b0-02\n", "the kernel command line is empty" },
	{ "quiet rootwait\n", "no root= that names a disk" },
	{ "root=PARTUUID=00000000-02 quiet\n", "matches no partition of this disk" },
	{ "root=PARTUUID=4c1fa2b0-01 root=PARTUUID=4c1fa2b0-02\n", "name different partitions" },
	{ "root=PARTUUID=4c1fa2b0-01\n",
		"root= names partition 1, but the system lies on another" },
	{ "root=/dev/nfs\n", "matches no partition of this disk" },
};

START_TEST(command_lines)
{
	bench_put_boot_file(CARD, "cmdline.txt", lines[_i].line);
	move_refused(lines[_i].text);
}
END_TEST

START_TEST(a_source_without_root)
{
	static const char *const requests[] = { "rm /etc/fstab", "rm /etc/os-release", NULL };

	bench_change_root(CARD, requests);
	move_refused("no ext4 volume with a system on it");
}
END_TEST

/* Whatever is in root's place is named. */
START_TEST(a_root_of_another_kind)
{
	g_autofree char *make = g_strdup_printf(
		"PATH=$PATH:/usr/sbin:/sbin; truncate -s 60M '%s'; mkfs.minix -3 '%s' >/dev/null; "
		"dd if='%s' of='%s' bs=1M seek=132 conv=notrunc status=none",
		sup_path("r"), sup_path("r"), sup_path("r"), CARD);
	const char *argv[] = { "sh", "-c", make, NULL };

	sup_tool(argv);
	move_refused(
		"no ext4 volume with a system on it (no /etc/fstab); partition 2 holds a minix volume, "
		"which cannot be read here");
}
END_TEST

/* What cannot be moved is named by its name, with what has to be done first. */
static const struct {
	uint64_t at;
	const char *bytes;
	size_t len;
	const char *name, *first;
} unmovable[] = {
	{ 0, "LUKS\xba\xbe\0\1", 8, "an encrypted volume (LUKS)", "copy its files to an ext4" },
	{ 4086, "S1SUSPEND", 10, "a hibernated system", "boot it, and shut it down" },
	{ 0, "hsqs\1\0\0\0\0\0\0\0\0\0\2\0\1\0\0\0\1\0\x11\0\xc0\0\1\0\4\0\0\0", 32,
		"a read-only system image (squashfs)", "write the whole image to the new disk" },
};

START_TEST(named_with_what_comes_first)
{
	static const uint8_t zeros[4096];

	sup_poke(CARD, ROOT_AT, zeros, sizeof(zeros));
	sup_poke(CARD, ROOT_AT + unmovable[_i].at, unmovable[_i].bytes, unmovable[_i].len);
	move_refused(unmovable[_i].name);
	SupRun ready = BENCH_RUN("ready", "--to", "nvme0n1");
	bench_expect(&ready, 1, unmovable[_i].first);
	SupRun survey = BENCH_RUN("survey");
	bench_expect(&survey, 0, unmovable[_i].name);
}
END_TEST

/* The root's tree on an older ext: refused by its name, and the command that is named makes it one
 * that moves. */
static const char *const older[] = { "ext2", "ext3" };

START_TEST(an_older_ext)
{
	g_autofree char *make = g_strdup_printf(
		"PATH=$PATH:/usr/sbin:/sbin; cd '%s'; mkdir t; debugfs -R 'rdump / t' '%s?offset=%" G_GUINT64_FORMAT
		"' 2>/dev/null; truncate -s 460M r; mke2fs -q -t %s -F -d t -L rootfs -U "
		"6d1c7a52-0b7e-4f5e-9a43-2f8f5d1b9c30 r; dd if=r of='%s' bs=1M seek=132 conv=notrunc status=none",
		sup_folder(), CARD, ROOT_AT, older[_i], CARD);
	g_autofree char *says = g_strdup_printf("it holds %s; only ext4 can be copied", older[_i]);
	const char *argv[] = { "sh", "-c", make, NULL };

	sup_tool(argv);
	move_refused(says);
	SupRun run = BENCH_RUN("move", "--to", "nvme0n1", "--erase", "nvme0n1");
	char *command = strstr(run.err, "tune2fs");
	ck_assert_ptr_nonnull(command);
	g_autofree char *paste = g_strdup_printf(
		"PATH=$PATH:/usr/sbin:/sbin; %.*s", (int)strcspn(command, "\n"), command);
	SUP_RUN("sh", "-c", paste);
	SupRun again = BENCH_RUN("move", "--to", "nvme0n1", "--erase", "nvme0n1");
	bench_expect(&again, 0, "done: everything was read back");
	sup_judge_ext(DRIVE, ROOT_AT);
}
END_TEST

START_TEST(uuid_without_an_initramfs)
{
	bench_put_boot_file(CARD, "config.txt", "arm_64bit=1\n");
	g_autofree char *drive = g_strdup(sup_hash(DRIVE));
	SupRun run =
		BENCH_RUN("move", "--to", "nvme0n1", "--erase", "nvme0n1", "--name-by", "uuid");

	bench_expect(&run, 3, "no initramfs is loaded");
	ck_assert_str_eq(drive, sup_hash(DRIVE));
}
END_TEST

START_TEST(an_itinerary_for_other_disks)
{
	SupRun draft = BENCH_RUN("draft", "--to", "nvme0n1", "-o", sup_path("it.json"));
	g_autofree char *drive = g_strdup(sup_hash(DRIVE));

	bench_expect(&draft, 0, NULL);
	sup_write(bench_path("sys/block/nvme0n1/device/serial"), "ANOTHER\n");
	SupRun run = BENCH_RUN("move", sup_path("it.json"), "--erase", "nvme0n1");
	bench_expect(&run, 3, "its serial was RB2G-000417 and is ANOTHER");
	sup_write(bench_path("sys/block/nvme0n1/device/serial"), "RB2G-000417\n");
	bench_put_boot_file(CARD, "cmdline.txt", "root=PARTUUID=4c1fa2b0-02 changed since\n");
	SupRun changed = BENCH_RUN("move", sup_path("it.json"), "--erase", "nvme0n1");
	bench_expect(&changed, 3, "/cmdline.txt on partition 1 has changed since");
	ck_assert_str_eq(drive, sup_hash(DRIVE));
}
END_TEST

static const char *const texts[] = { "", "{", "not json",
	"{\"format\": \"wanderitas-itinerary/9\"}", "[]" };

START_TEST(files_that_are_no_itineraries)
{
	sup_write(sup_path("it.json"), texts[_i]);
	SupRun run = BENCH_RUN("move", sup_path("it.json"), "--erase", "nvme0n1");

	bench_expect(&run, 3, "it.json");
	SupRun missing = BENCH_RUN("move", sup_path("none.json"), "--erase", "nvme0n1");
	bench_expect(&missing, 2, "there is no itinerary");
}
END_TEST

START_TEST(no_target_file)
{
	SupRun run = WANDERITAS(
		"move", "--from", CARD, "--to", sup_path("none.img"), "--erase", "none.img");

	bench_expect(&run, 2, "there is no disk and no image file");
	ck_assert_int_ne(access(sup_path("none.img"), F_OK), 0);
}
END_TEST

START_TEST(an_unfinished_source)
{
	sup_poke(CARD, BOOT_AT, "Wanderitas: this disk is the target of an unfinished move.\n", 60);
	move_refused("itself the target of an unfinished move");
}
END_TEST

/* What came to the target after the itinerary was drawn: each row is a command with the drive as
 * $0. */
static const struct {
	const char *command, *text;
} arrivals[] = {
	{ "mkfs.ext4 -q -F -L films -E offset=$((301 << 20)) \"$0\" 300M",
		"partition 2 (nothing, 900 MiB) was created again: ext4, label films" },
	{ "debugfs -w -R 'write /etc/hostname a' \"$0?offset=1048576\"",
		"partition 1 (ext4, label music, 300 MiB) was written to" },
	{ "tune2fs -L terns \"$0?offset=1048576\"",
		"partition 1 (ext4, label music, 300 MiB) was created again: ext4, label terns" },
	{ "echo ',,' | sfdisk -q --append \"$0\"", "partition 3 (nothing, 846 MiB) was not there" },
	{ "sfdisk -q --delete \"$0\" 2", "partition 2 (nothing, 900 MiB) is gone" },
	{ "echo ,800M | sfdisk -q -N 2 \"$0\"",
		"partition 2 (nothing, 900 MiB) lies elsewhere, or has another size" },
};

/* The answer that was given beforehand does not cover it; the one at the question does. */
START_TEST(contents_that_came_since)
{
	const char *argv[] = { "bash", "-c", arrivals[_i].command, DRIVE, NULL };
	const char *by_hand[] = { "move", sup_path("it.json"), NULL };

	SUP_TOOL("bash", "-ec",
		"printf 'label: gpt\nstart=2048, size=300M\nsize=900M\n' | sfdisk -q \"$0\";"
		"mkfs.ext4 -q -F -L music -E offset=1048576 \"$0\" 300M",
		DRIVE);
	SupRun draft = BENCH_RUN("draft", "--to", "nvme0n1", "-o", sup_path("it.json"));
	bench_expect(&draft, 0, "nvme0n1p1  ext4");
	sup_tool(argv);
	g_autofree char *drive = g_strdup(sup_hash(DRIVE));
	SupRun run = BENCH_RUN("move", sup_path("it.json"), "--erase", "nvme0n1");
	bench_expect(&run, 3, arrivals[_i].text);
	ck_assert_str_eq(drive, sup_hash(DRIVE));
	SupRun no = bench_run("no\n", by_hand);
	bench_expect(&no, 3, arrivals[_i].text);
	ck_assert_str_eq(drive, sup_hash(DRIVE));
	SupRun yes = bench_run("nvme0n1\n", by_hand);
	bench_expect(&yes, 0, "done:");
}
END_TEST

/* Between the question and the answer: what is typed is said of what was shown. The writing waits
 * for the question, however long that takes. */
START_TEST(contents_that_came_while_asked)
{
	g_autofree char *script = g_strdup_printf(
		"said='%s'; mkfifo \"$said.answer\";"
		"'%s' --bench '%s' move --to nvme0n1 <\"$said.answer\" >\"$said\" 2>&1 & exec 3>\"$said.answer\";"
		"until grep -q 'Type its name' \"$said\"; do kill -0 $! || exit 99; sleep 0.05; done;"
		"printf owl | dd of='%s' seek=4096 bs=1 conv=notrunc status=none; echo nvme0n1 >&3;"
		"wait $!; code=$?; cat \"$said\"; exit $code",
		sup_path("said"), sup_program(), bench_path("."), DRIVE);
	SupRun run = SUP_RUN("bash", "-c", script);

	bench_expect(
		&run, 3, "the target nvme0n1 is not as it was shown: the disk (nothing, 2 GiB)");
	ck_assert_int_ne(access(bench_path("root/var/lib/wanderitas/to-nvme0n1"), F_OK), 0);
}
END_TEST

/* A folder cannot be made below a file, whoever asks. */
START_TEST(a_state_folder_that_cannot_be)
{
	g_autofree char *before = g_strdup(sup_hash(DRIVE));
	SupRun run = BENCH_RUN("move", "--to", "nvme0n1", "--erase", "nvme0n1", "--state",
		bench_path("root/etc/fstab/state"));

	bench_expect(&run, 3, "Not a directory");
	ck_assert_str_eq(before, sup_hash(DRIVE));
}
END_TEST

/* A board without a clock of its own starts in 1970. */
START_TEST(a_clock_that_was_never_set)
{
	setenv("SOURCE_DATE_EPOCH", "17", 1);
	SupRun run = BENCH_RUN("move", "--to", "nvme0n1", "--erase", "nvme0n1");
	SupRun survey = BENCH_RUN("survey");
	unsetenv("SOURCE_DATE_EPOCH");
	bench_expect(&run, 0, "done:");
	bench_expect(&survey, 0, "nvme0n1p2");
	sup_judge_ext(DRIVE, ROOT_AT);
}
END_TEST

/* Not refused, but said. */
START_TEST(two_disks_with_one_serial)
{
	g_autofree char *script =
		g_strdup_printf("cd '%s' && cp -r sys/block/nvme0n1 sys/block/nvme1n1 "
				"&& truncate -s 2G dev/nvme1n1",
			bench_path("."));
	const char *argv[] = { "bash", "-ec", script, NULL };

	sup_tool(argv);
	SupRun run = BENCH_RUN("draft", "--to", "nvme0n1");
	bench_expect(&run, 0, "nvme1n1 has the same model and serial as the target nvme0n1");
}
END_TEST

/* ---- the same on devices, as root ---- */

#define SMALL_DRIVE sup_path("drive.img")

/* The caller's. */
static char *attach(const char *image, const char *option)
{
	return g_strstrip(g_strdup(SUP_TOOL("losetup", "--find", "--show", "-P", option, image)));
}

typedef struct {
	char *card, *drive; /* devices */
	char *name;         /* of the drive */
	char *state;
} Devices;

static Devices attach_both(const char *drive_option)
{
	sup_make_image(SMALL_DRIVE, UINT64_C(1) << 30);
	Devices d = { attach(CARD, "-r"), attach(SMALL_DRIVE, drive_option), NULL,
		g_strdup(sup_path("state")) };

	d.name = g_path_get_basename(d.drive);
	return d;
}

static void detach_both(Devices *d)
{
	SUP_TOOL("losetup", "-d", d->card, d->drive);
	g_free(d->card);
	g_free(d->drive);
	g_free(d->name);
	g_free(d->state);
}

static SupRun move_devices(const Devices *d)
{
	return WANDERITAS("move", "--from", d->card, "--to", d->drive, "--erase", d->name,
		"--state", d->state);
}

START_TEST(damaged_cards_in_a_reader)
{
	if (!sup_is_root()) {
		sup_say_skipped("damaged_cards_in_a_reader");
		return;
	}
	sup_poke(CARD, damages[_i].offset, damages[_i].bytes, damages[_i].len);
	Devices d = attach_both("--sector-size=512");
	g_autofree char *drive = g_strdup(sup_hash(SMALL_DRIVE));
	SupRun run = move_devices(&d);
	detach_both(&d);
	bench_expect(&run, 3, damages[_i].text);
	ck_assert_str_eq(drive, sup_hash(SMALL_DRIVE));
}
END_TEST

/* What the machine does with the drive ($0), with a folder to mount it at ($1), and how that ends.
 * Not every kernel shows partitions of loop devices: a drive without a table serves. */
static const struct {
	const char *begin, *end, *text;
} uses[] = {
	{ "mkfs.ext4 -q -F $0; mkdir $1; mount -o noatime,noinit_itable $0 $1; sync", "umount $1",
		"is mounted at" },
	{ "mkfs.ext4 -q -F $0; mkdir $1 $1-a; mount -o noatime,noinit_itable $0 $1; mkdir $1/a; mount --bind $1/a "
	  "$1-a; umount $1; sync",
		"umount $1-a", "is mounted at" },
	{ "mkswap -q $0 64; swapon $0", "swapoff $0", "swap" },
	{ "blockdev --setro $0", "blockdev --setrw $0", "cannot be written to" },
};

/* The kernel may put pages into a swap area that is in use, behind its header: of 64 KiB here.
 * These bytes alone are not looked at. */
static char *hash_of_drive_in_use(const char *use)
{
	static const uint8_t unseen[65536 - 4096];
	const char *copy = sup_path("copy");

	if (strcmp(use, "swap") != 0)
		return g_strdup(sup_hash(SMALL_DRIVE));
	SUP_TOOL("cp", "--sparse=always", SMALL_DRIVE, copy);
	sup_poke(copy, 4096, unseen, sizeof(unseen));
	return g_strdup(sup_hash(copy));
}

START_TEST(a_drive_in_use)
{
	if (!sup_is_root()) {
		sup_say_skipped("a_drive_in_use");
		return;
	}
	Devices d = attach_both("--sector-size=512");
	SUP_TOOL("bash", "-ec", uses[_i].begin, d.drive, sup_path("mnt"));
	g_autofree char *drive = hash_of_drive_in_use(uses[_i].text);
	SupRun run = move_devices(&d);
	g_autofree char *after = hash_of_drive_in_use(uses[_i].text);
	SUP_TOOL("bash", "-c", uses[_i].end, d.drive, sup_path("mnt"));
	detach_both(&d);
	bench_expect(&run, 3, uses[_i].text);
	ck_assert_str_eq(drive, after);
}
END_TEST

Suite *suite_refusals(void)
{
	Suite *s = suite_create("cli/refusals");
	TCase *t = tcase_create("refusals");

	tcase_add_unchecked_fixture(t, bench_make, bench_remove);
	tcase_add_checked_fixture(t, sup_setup, sup_teardown);
	tcase_add_loop_test(t, other_answers, 0, (int)G_N_ELEMENTS(answers));
	tcase_add_test(t, the_same_disk);
	tcase_add_test(t, a_target_in_use);
	tcase_add_test(t, the_running_system_as_target);
	tcase_add_test(t, a_read_only_target);
	tcase_add_loop_test(t, damaged_sources, 0, (int)G_N_ELEMENTS(damages));
	tcase_add_test(t, a_damaged_gpt);
	tcase_add_loop_test(t, command_lines, 0, (int)G_N_ELEMENTS(lines));
	tcase_add_test(t, a_source_without_root);
	tcase_add_test(t, a_root_of_another_kind);
	tcase_add_loop_test(t, named_with_what_comes_first, 0, (int)G_N_ELEMENTS(unmovable));
	tcase_add_loop_test(t, an_older_ext, 0, (int)G_N_ELEMENTS(older));
	tcase_add_test(t, uuid_without_an_initramfs);
	tcase_add_test(t, an_itinerary_for_other_disks);
	tcase_add_loop_test(t, files_that_are_no_itineraries, 0, (int)G_N_ELEMENTS(texts));
	tcase_add_test(t, no_target_file);
	tcase_add_test(t, an_unfinished_source);
	tcase_add_test(t, two_disks_with_one_serial);
	tcase_add_loop_test(t, damaged_cards_in_a_reader, 0, (int)G_N_ELEMENTS(damages));
	tcase_add_loop_test(t, a_drive_in_use, 0, (int)G_N_ELEMENTS(uses));
	tcase_add_loop_test(t, contents_that_came_since, 0, (int)G_N_ELEMENTS(arrivals));
	tcase_add_test(t, contents_that_came_while_asked);
	tcase_add_test(t, a_state_folder_that_cannot_be);
	tcase_add_test(t, a_clock_that_was_never_set);
	suite_add_tcase(s, t);
	return s;
}
