/* The drivers that a kernel needs before root is there: shown, and put where they are needed. That
 * a kernel really loads them is what the lab is for. */
#include "boards.h"

#include <string.h>

Suite *suite_drivers(void);

#define INITRAMFS "initrd.img-6.1.0-brook"

/* A file of the card's boot volume as debugfs copies it out. */
static char *dumped(const char *name)
{
	g_autofree char *request = g_strdup_printf("dump /" INITRAMFS " %s", sup_path(name));

	board_debugfs(board_disk(&board_brook, false), 1, false, request);
	return g_strdup(sup_path(name));
}

START_TEST(shown_put_there_and_taken_back)
{
	const Board *b = &board_brook;
	g_autofree char *card = g_strdup(sup_hash(board_disk(b, false)));
	g_autofree char *before = dumped("before");
	SupRun shown = BOARD_RUN(b, "drivers", "--for", "nvme0n1");

	bench_expect(
		&shown, 1, "nvme_core  nvme needs it       on the root disk only: kernel/drivers");
	bench_expect(&shown, 1, "+nvme\n");
	bench_expect(&shown, 1, "preview only, nothing changed; to apply: ");
	ck_assert_str_eq(card, sup_hash(board_disk(b, false)));

	SupRun written = BOARD_RUN(b, "drivers", "--for", "nvme0n1", "--write");
	bench_expect(&written, 0, "done: everything was read back");
	board_judge(board_disk(b, false));
	g_autofree char *after = dumped("after");
	size_t len = 0;
	g_autofree char *was = sup_read(before, &len);
	size_t now_len = 0;
	g_autofree char *is = sup_read(after, &now_len);
	ck_assert_uint_gt(now_len, len);
	ck_assert_mem_eq(was, is, len);
	ck_assert_str_eq(board_file(board_disk(b, false), 2, false, "etc/initramfs-tools/modules"),
		"# One module a line.\nnvme\n");
	SupRun again = BOARD_RUN(b, "drivers", "--for", "nvme0n1");
	bench_expect(&again, 0, "all drivers needed to mount root are in");
	SupRun ready = BOARD_RUN(b, "ready", "--to", "nvme0n1");
	bench_expect(&ready, 0, "ready: the move to nvme0n1");

	SupRun rewound = BOARD_RUN(b, "rewind");
	bench_expect(&rewound, 0, "put back  /" INITRAMFS " on mmcblk1, partition 1");
	g_autofree char *back = dumped("back");
	ck_assert_str_eq(sup_hash(before), sup_hash(back));
	ck_assert_str_eq(board_file(board_disk(b, false), 2, false, "etc/initramfs-tools/modules"),
		"# One module a line.\n");
	board_judge(board_disk(b, false));
}
END_TEST

START_TEST(as_a_step_of_a_move)
{
	const Board *b = &board_brook;
	SupRun draft = BOARD_RUN(b, "draft", "--to", "nvme0n1", "--with", "drivers");
	SupRun move =
		BOARD_RUN(b, "move", "--to", "nvme0n1", "--erase", "nvme0n1", "--with", "drivers");
	SupRun again =
		BOARD_RUN(b, "move", "--to", "nvme0n1", "--erase", "nvme0n1", "--with", "drivers");

	bench_expect(&draft, 2, "--with drivers is a step of move, and changes the source");
	bench_expect(&move, 0, "rehearsed: nvme0n1 boots\n");
	ck_assert_ptr_nonnull(strstr(move.out, "drivers-mmcblk1-"));
	bench_expect(&again, 0, "rehearsed: nvme0n1 boots\n");
	ck_assert_ptr_null(strstr(again.out, "drivers-mmcblk1-"));
	board_judge(board_disk(b, true));
}
END_TEST

/* A step that cannot be done ends the move before its target is touched. */
START_TEST(a_step_that_fails)
{
	const Board *b = &board_brook;
	board_shell(b, "", "debugfs -w -R 'sif /" INITRAMFS " flags 0x80010' $V1");
	g_autofree char *drive = g_strdup(sup_hash(board_disk(b, true)));
	SupRun run =
		BOARD_RUN(b, "move", "--to", "nvme0n1", "--erase", "nvme0n1", "--with", "drivers");

	bench_expect(&run, 4, "it is marked immutable or append-only");
	bench_expect(&run, 4, " rewind ");
	ck_assert_str_eq(drive, sup_hash(board_disk(b, true)));
}
END_TEST

/* A moved disk, and an image of it, are put right the same way. */
START_TEST(on_another_disk)
{
	const Board *b = &board_brook;
	SupRun move = BOARD_RUN(
		b, "move", "--to", "nvme0n1", "--erase", "nvme0n1", "--despite", "drivers");
	bench_expect(&move, 0, "rehearsed: nvme0n1 does not boot");
	g_autofree char *image = g_strdup(sup_path("drive.img"));
	SUP_TOOL("cp", "--sparse=always", board_disk(b, true), image);

	SupRun written = BOARD_RUN(b, "drivers", "--on", "nvme0n1", "--write");
	bench_expect(&written, 0, "drivers that the system on nvme0n1 needs, as NVMe");
	SupRun rehearsed = BOARD_RUN(b, "rehearse", "nvme0n1");
	bench_expect(&rehearsed, 0, "rehearsed: nvme0n1 boots\n");
	SupRun unknown = WANDERITAS("drivers", "--on", image);
	bench_expect(&unknown, 0, "give it with --medium");
	SupRun known = WANDERITAS("drivers", "--on", image, "--medium", "nvme", "--write");
	bench_expect(&known, 0, "done: everything was read back");
	SupRun alone = WANDERITAS("rehearse", image, "--medium", "nvme");
	bench_expect(&alone, 0, "boots");
	board_judge(image);
}
END_TEST

#define MODULES "/usr/lib/modules/6.1.0-brook"

/* A command of bash in the bench's folder, with the card's partitions as $V1 and $V2; what is asked
 * for; the result, and what is said. */
static const char shorthands[] =
	"W() { debugfs -w -R \"$1\" \"$2\"; };"
	"put() { debugfs -w -R \"rm $2\" \"$3\"; debugfs -w -R \"write $1 $2\" \"$3\"; };";
static const struct {
	const char *command;
	const char *options[3];
	int code;
	const char *text;
} cases[] = {
	{ "debugfs -R 'dump /" INITRAMFS " i' $V1; truncate -s 3100900 i; put i " INITRAMFS " $V1",
		{ "--write" }, 1,
		"to do by hand: entry brook: the kernel cannot unpack the initramfs" },
	{ "printf '\\x7fELFvermagic=6.1.0-marsh ' > m;"
	  "put m " MODULES "/kernel/drivers/nvme/host/nvme.ko $V2",
		{ NULL }, 1,
		"nvme.ko: it is for Linux 6.1.0-marsh, and the kernel is 6.1.0-brook" },
	{ "W 'rm " MODULES "/kernel/drivers/nvme/host/nvme-core.ko' $V2", { NULL }, 1,
		"modules.dep names it, and it cannot be read on root" },
	{ "echo > m; put m " MODULES "/modules.dep $V2", { NULL }, 1,
		"this kernel has no nvme: install one that has" },
	{ "W 'rm " MODULES "/modules.builtin' $V2", { NULL }, 0,
		"nvme    NVMe                unknown: no list of what this kernel has" },
	{ ":", { "--medium", "usb" }, 1, "this kernel has no usb_storage" },
	{ "printf 'kernel/usb-storage.ko:\nkernel/sd_mod.ko:\nkernel/uas.ko: kernel/usb-storage.ko\n' "
	  "> m; put m " MODULES "/modules.dep $V2",
		{ "--medium", "usb" }, 1,
		"uas          USB bridges that speak UAS  on the root disk only: kernel/uas.ko\n" },
	{ "printf 'kernel/ext4.ko:\nkernel/crc32c_generic.ko:\n' > m; put m " MODULES
	  "/modules.dep $V2; echo 'softdep ext4 pre: crypto-crc32c' > m; put m " MODULES
	  "/modules.softdep $V2; echo 'alias crypto-crc32c crc32c_generic' > m; put m " MODULES
	  "/modules.alias $V2; echo > m; put m " MODULES "/modules.builtin $V2",
		{ "--medium", "sd" }, 1,
		"crc32c_generic  ext4 asks for it    on the root disk only: kernel/crc32c_generic.ko\n" },
	{ ":", { "--medium", "sd" }, 0, "mmc_block  SD card             in the initramfs" },
	{ "W 'rm /etc/initramfs-tools/modules' $V2", { "--write" }, 0,
		"/etc/initramfs-tools/modules (partition 2, new)" },
	{ "printf '# x\\n nvme  poll=1 # y' > m; put m /etc/initramfs-tools/modules $V2",
		{ "--write" }, 0, "done: everything was read back" },
	{ "W 'sif /" INITRAMFS " flags 0x80010' $V1", { "--write" }, 4,
		"it is marked immutable or append-only" },
	{ "head -c 24M /dev/urandom > z; put z /z $V1", { "--write" }, 4,
		"has no room for the new content beside the old" },
	{ "W 'rm /etc/initramfs-tools/modules' $V2; W 'rm /etc/initramfs-tools/initramfs.conf' $V2; W "
	  "'rmdir "
	  "/etc/initramfs-tools' $V2",
		{ "--write" }, 1, "root has neither /etc/initramfs-tools nor /etc/dracut.conf.d" },
	{ ":", { "--generate", "--write" }, 0, "then runs: update-initramfs -u -k 6.1.0-brook" },
	{ "printf '#!/bin/sh\\necho no room; exit 7\\n' > bin/update-initramfs",
		{ "--generate", "--write" }, 4, "update-initramfs ended with 7: no room" },
	{ "debugfs -R 'dump /extlinux/extlinux.conf e' $V1; sed -i /initrd/d e;"
	  "put e /extlinux/extlinux.conf $V1; W 'rm /" INITRAMFS "' $V1",
		{ NULL }, 1, "it boots without an initramfs, and none is created here" },
};

START_TEST(each_case)
{
	const char *argv[10] = { "drivers", "--for", "nvme0n1" };

	for (size_t i = 0; i < 3; i++)
		argv[3 + i] = cases[_i].options[i];
	board_shell(&board_brook, shorthands, cases[_i].command);
	SupRun run = board_run(&board_brook, argv);
	bench_expect(&run, cases[_i].code, cases[_i].text);
}
END_TEST

START_TEST(generated_ones_have_them)
{
	SupRun run =
		BOARD_RUN(&board_brook, "drivers", "--for", "nvme0n1", "--generate", "--write");
	SupRun after = BOARD_RUN(&board_brook, "drivers", "--for", "nvme0n1");

	bench_expect(&run, 0, "done: everything was read back");
	bench_expect(&after, 0, "all drivers needed to mount root are in");
}
END_TEST

/* dracut reads a folder: the file is new, and goes again. */
START_TEST(settings_of_dracut)
{
	const Board *b = &board_brook;
	board_shell(b, shorthands, "W 'mkdir /etc/dracut.conf.d' $V2");
	SupRun run = BOARD_RUN(b, "drivers", "--for", "nvme0n1", "--write");
	const char *file = "etc/dracut.conf.d/80-root-drivers.conf";

	bench_expect(&run, 0, "+add_drivers+=\" nvme \"\n");
	g_autofree char *text = g_strdup(board_file(board_disk(b, false), 2, false, file));
	ck_assert_str_eq(text, "# Drivers that root's disk needs.\nadd_drivers+=\" nvme \"\n");
	board_judge(board_disk(b, false));
	SupRun back = BOARD_RUN(b, "rewind");
	bench_expect(&back, 0, "put back  /etc/dracut.conf.d/80-root-drivers.conf on mmcblk1");
	ck_assert_ptr_null(strstr(
		board_debugfs(board_disk(b, false), 2, false, "ls /etc/dracut.conf.d"), "80-root"));
	board_judge(board_disk(b, false));
}
END_TEST

/* An initramfs that lies there, and that the loader is not told of, gets its line. */
START_TEST(a_menu_is_told)
{
	const Board *b = &board_brook;
	board_shell(b, shorthands,
		"debugfs -R 'dump /extlinux/extlinux.conf e' $V1; sed -i /initrd/d e;"
		"put e /extlinux/extlinux.conf $V1");
	SupRun run = BOARD_RUN(b, "drivers", "--for", "nvme0n1", "--write");

	bench_expect(&run, 0, "which the loader does not load");
	bench_expect(&run, 0, "+\tinitrd /" INITRAMFS "\n");
	SupRun ready = BOARD_RUN(b, "ready", "--to", "nvme0n1");
	bench_expect(&ready, 0, "ready: the move to nvme0n1");
}
END_TEST

START_TEST(the_firmware_is_told)
{
	const Board *b = &boards[0];
	g_autofree char *config = g_strdup(board_file(board_disk(b, false), 1, true, "config.txt"));
	g_autofree char *line = g_strdup(strstr(config, "auto_initramfs=1"));
	ck_assert_ptr_nonnull(line);
	char *at = strstr(config, "auto_initramfs=1");
	memmove(at, at + strlen("auto_initramfs=1\n"),
		strlen(at + strlen("auto_initramfs=1\n")) + 1);
	g_autofree char *sections = g_strconcat(config, "[pi4]\ngpu_mem=16", NULL);
	board_put(board_disk(b, false), 1, true, "config.txt", sections);
	SupRun run = BOARD_RUN(b, "drivers", "--for", "nvme0n1", "--write");

	bench_expect(&run, 0, "+[all]\n+auto_initramfs=1\n");
	SupRun again = BOARD_RUN(b, "drivers", "--for", "nvme0n1");
	bench_expect(&again, 0, "all drivers needed to mount root are in");
	board_judge(board_disk(b, false));
}
END_TEST

/* One that a loader script loads lies in an image, whose header U-Boot's own tool judges. */
START_TEST(an_initramfs_in_a_loader_image)
{
	const Board *b = &boards[2];
	board_shell(b, shorthands,
		"printf '\\x7fELFvermagic=6.6.31-weir SMP' > m; echo kernel/nvme.ko: > d;"
		"W 'mkdir /usr/lib/modules/6.6.31-weir/kernel' $V2;"
		"put m /usr/lib/modules/6.6.31-weir/kernel/nvme.ko $V2;"
		"put d /usr/lib/modules/6.6.31-weir/modules.dep $V2");
	SupRun run = BOARD_RUN(b, "drivers", "--on", "mmcblk0", "--medium", "nvme", "--write");

	bench_expect(&run, 1, "drivers done: everything was read back");
	bench_expect(&run, 1, "root has neither /etc/initramfs-tools nor /etc/dracut.conf.d");
	board_shell(b, "",
		"debugfs -R 'dump /uInitrd u' $V1; mkimage -l u | grep -q RAMDisk;"
		"dumpimage -T ramdisk -p 0 -o i u; [ $(grep -ac kernel/nvme.ko i) -gt 0 ]");
	SupRun again = BOARD_RUN(b, "drivers", "--on", "mmcblk0", "--medium", "nvme");
	bench_expect(&again, 0, "in the initramfs: lib/modules/6.6.31-weir/kernel/nvme.ko");
	board_judge(board_disk(b, false));
}
END_TEST

START_TEST(as_json)
{
	SupRun shown = BOARD_RUN(&board_brook, "--json", "drivers", "--for", "nvme0n1");
	SupRun written =
		BOARD_RUN(&board_brook, "--json", "drivers", "--for", "nvme0n1", "--write");

	bench_expect(&shown, 1, "\"format\": \"wanderitas-drivers/2\"");
	bench_expect(&shown, 1, "\"where\": \"root\"");
	bench_expect(&shown, 1, "\"records\": null");
	bench_expect(&written, 0, "\"records\": \"");
}
END_TEST

static const struct {
	const char *arguments[6];
	int code;
	const char *text;
} wrong[] = {
	{ { "drivers", "nvme0n1" }, 2, "drivers takes no 'nvme0n1'" },
	{ { "drivers", "--for", "owl0" }, 2, "there is no disk and no image file 'owl0'" },
	{ { "drivers", "--on", "nvme0n1" }, 3, "nvme0n1 has no partition table" },
	{ { "drivers", "--medium", "tape" }, 2, "--medium is nvme, usb, sd or emmc" },
	{ { "move", "--to", "nvme0n1", "--with", "owls" }, 2,
		"--with knows loader, drivers, order and firmware" },
};

START_TEST(wrong_words)
{
	SupRun run = bench_run("", wrong[_i].arguments);

	bench_expect(&run, wrong[_i].code, wrong[_i].text);
}
END_TEST

Suite *suite_drivers(void)
{
	Suite *s = suite_create("cli/drivers");
	TCase *t = tcase_create("drivers");

	tcase_add_unchecked_fixture(t, bench_make, bench_remove);
	tcase_add_checked_fixture(t, sup_setup, sup_teardown);
	tcase_add_test(t, shown_put_there_and_taken_back);
	tcase_add_test(t, as_a_step_of_a_move);
	tcase_add_test(t, a_step_that_fails);
	tcase_add_test(t, on_another_disk);
	tcase_add_loop_test(t, each_case, 0, (int)G_N_ELEMENTS(cases));
	tcase_add_test(t, generated_ones_have_them);
	tcase_add_test(t, settings_of_dracut);
	tcase_add_test(t, a_menu_is_told);
	tcase_add_test(t, the_firmware_is_told);
	tcase_add_test(t, an_initramfs_in_a_loader_image);
	tcase_add_test(t, as_json);
	tcase_add_loop_test(t, wrong_words, 0, (int)G_N_ELEMENTS(wrong));
	suite_add_tcase(s, t);
	return s;
}
