/* Advice works when it is pasted: a command finds something, the command that it ends in is run
 * word for word, and the first command finds it no more. */
#include "boards.h"

#include <signal.h>
#include <string.h>

Suite *suite_advice(void);

/* A finding made by a command in bash (see board_shell), on one of the boards; the fourth is
 * dipper-brook-4. */
enum { HERON, BITTERN, KINGFISHER, DIPPER };
static const struct {
	int board;
	const char *prepare;
	const char *first[6];
	const char *finding;
} loops[] = {
	{ HERON, "printf 'root=/dev/mmcblk0p2 rootwait\n' > c; mcopy -o -i $I@@4M c ::cmdline.txt",
		{ "rehearse", "mmcblk0", "--medium", "nvme" },
		"attached as NVMe, no disk is called so" },
	{ HERON,
		"printf 'root=UUID=6d1c7a52-0b7e-4f5e-9a43-2f8f5d1b9c30 rootwait' > c;"
		"mcopy -o -i $I@@4M c ::cmdline.txt; echo arm_64bit=1 > c; mcopy -o -i $I@@4M c ::config.txt",
		{ "rehearse", "mmcblk0" }, "without an initramfs the kernel finds root by" },
	{ HERON,
		"printf 'root=PARTUUID=4c1fa2b1-02 rootwait' > c; mcopy -o -i $I@@4M c ::cmdline.txt",
		{ "rehearse", "mmcblk0" }, "matches no partition of this disk" },
	{ HERON,
		"printf 'PARTUUID=4c1fa2b1-01 /boot/firmware vfat defaults 0 2\nPARTUUID=4c1fa2b0-02 / "
		"ext4 defaults 0 1\n' > f; printf 'rm /etc/fstab\nwrite f /etc/fstab\n' | debugfs -w -f - $V2",
		{ "rehearse", "mmcblk0" },
		"matches no partition of this disk: the boot waits 90 s" },
	/* Each place of each boot flow that can name a disk which is not there. */
	{ HERON, "line root=UUID=6d1c7a52-0b7e-4f5e-9a43-2f8f5d1b9c31", { "rehearse", "mmcblk0" },
		"matches no partition of this disk" },
	{ HERON, "line root=PARTUUID=4C1FA2B0-02", { "rehearse", "mmcblk0" },
		"it is written in other capitals" },
	{ HERON, "line root=LABEL=heron-rotfs", { "rehearse", "mmcblk0" },
		"matches no partition of this disk" },
	{ HERON, "line root=/dev/mmcblk0p2", { "rehearse", "mmcblk0", "--medium", "usb" },
		"attached as USB disk, no disk is called so" },
	{ HERON, "line root=PARTUUID=4c1fa2b1-02", { "ready", "--to", "nvme0n1" },
		"matches no partition of this disk" },
	{ HERON, "mount_by PARTUUID=4c1fa2b0-01 /boot/firmware PARTUUID=4c1fa2b9-02 /",
		{ "rehearse", "mmcblk0" }, "/ stays as the kernel arguments say" },
	{ HERON, "mount_by UUID=F3A1-77C3 /boot/firmware PARTUUID=4c1fa2b0-02 /",
		{ "rehearse", "mmcblk0" },
		"matches no partition of this disk: the boot waits 90 s" },
	{ HERON, "mount_by LABEL=nest /boot/firmware PARTUUID=4c1fa2b0-02 /",
		{ "rehearse", "mmcblk0" },
		"matches no partition of this disk: the boot waits 90 s" },
	{ BITTERN, "mangle s/2f9a61c4/2f9a61c5/", { "rehearse", "mmcblk1" },
		"matches no partition of this disk" },
	{ BITTERN, "mangle s/2f9a61c4/2f9a61c5/", { "ready", "--to", "nvme0n1" },
		"matches no partition of this disk" },
	{ BITTERN, "mangle s/2f9a61c4/2F9A61C4/", { "rehearse", "mmcblk1" },
		"it is written in other capitals" },
	{ BITTERN, "mangle s,UUID=2f9a61c4[^[:space:]]*,/dev/mmcblk1p1,",
		{ "rehearse", "mmcblk1", "--medium", "nvme" },
		"attached as NVMe, no disk is called so" },
	{ KINGFISHER, "setting s/d5c9e3a7/d5c9e3a8/", { "rehearse", "mmcblk0" },
		"root=UUID=d5c9e3a8" },
	{ KINGFISHER, "setting s/d5c9e3a7/d5c9e3a8/", { "ready", "--to", "sda" },
		"root=UUID=d5c9e3a8" },
	{ KINGFISHER, "setting s,UUID=d5c9e3a7[^[:space:]]*,/dev/mmcblk0p2,",
		{ "rehearse", "mmcblk0", "--medium", "usb" },
		"attached as USB disk, no disk is called so" },
	{ DIPPER, "menu s/b8d2f6e4/b8d2f6e5/", { "rehearse", "mmcblk1", "--medium", "sd" },
		"matches no partition of this disk" },
	/* Two disks that are called the same. */
	{ HERON, "dd if=dev/mmcblk0 of=dev/nvme0n1 bs=1M conv=notrunc,sparse",
		{ "rehearse", "nvme0n1" }, "never boot with both plugged in" },
	{ KINGFISHER, "dd if=dev/mmcblk0 of=dev/sda bs=1M conv=notrunc,sparse",
		{ "rehearse", "sda" }, "never boot with both plugged in" },
	{ BITTERN, "dd if=dev/mmcblk1 of=dev/nvme0n1 bs=1M conv=notrunc,sparse",
		{ "rehearse", "nvme0n1" }, "never boot with both plugged in" },
	{ HERON,
		"cp --sparse=always dev/mmcblk0 dev/mmcblk9; cp -r sys/block/mmcblk0 sys/block/mmcblk9;"
		"rm -r sys/block/mmcblk9/mmcblk0p*",
		{ "ready", "--to", "nvme0n1" }, "duplicate PARTUUID=4c1fa2b0-02" },
	/* The order in which a board tries its media. */
	{ HERON, "order 0xf41", { "ready", "--to", "nvme0n1" }, "never tries NVMe" },
	{ HERON, "order 0xf14", { "ready", "--to", "nvme0n1" }, "never tries NVMe" },
	{ HERON, "order 0xf4; dd if=dev/mmcblk0 of=dev/nvme0n1 bs=1M conv=notrunc,sparse",
		{ "rehearse", "nvme0n1" }, "never tries NVMe" },
	{ HERON, "order 0xf6", { "rehearse", "mmcblk0" }, "never tries SD card" },
	{ HERON, "order 0xf64", { "rehearse", "mmcblk0" }, "never tries SD card" },
	{ DIPPER, "true", { "ready", "--to", "nvme0n1" },
		"driver is only on the root disk itself" },
	{ DIPPER, "true", { "rehearse", "mmcblk1", "--medium", "nvme" },
		"driver is only on the root disk itself" },
	{ DIPPER, "true", { "drivers", "--for", "nvme0n1" }, "preview only, nothing changed" },
	{ DIPPER, "true", { "move", "--to", "nvme0n1", "--erase", "nvme0n1" },
		"the check 'drivers' stops the move" },
	{ BITTERN, "environment 'boot_targets=mmc1 mmc0'", { "ready", "--to", "nvme0n1" },
		"have no nvme: mmc1 mmc0" },
	{ BITTERN, "environment 'boot_targets=mmc1'", { "rehearse", "mmcblk1", "--medium", "nvme" },
		"have no nvme: mmc1" },
	{ BITTERN, "environment 'boot_targets=nvme0 usb0'", { "rehearse", "mmcblk1" },
		"have no mmc: nvme0 usb0" },
	/* What survey marks: a preview, which ends in the command that applies it. */
	{ HERON, "line root=PARTUUID=4c1fa2b1-02", { "survey", "--mentions" },
		"the kernel would not find its root" },
	{ HERON, "line root=LABEL=heron-rotfs", { "survey", "mmcblk0", "--mentions" },
		"the kernel would not find its root" },
	{ HERON,
		"line root=UUID=6d1c7a52-0b7e-4f5e-9a43-2f8f5d1b9c30; echo arm_64bit=1 > c;"
		"mcopy -o -i $I@@4M c ::config.txt; mdel -i $I@@4M '::initr*'",
		{ "survey", "--mentions" }, "the kernel alone does not find its root by UUID" },
	{ HERON, "line root=PARTUUID=4C1FA2B0-02", { "survey", "--mentions" },
		"capital and small letters are not as in the real one" },
	{ HERON, "dd if=dev/mmcblk0 of=dev/nvme0n1 bs=1M conv=notrunc,sparse",
		{ "survey", "--mentions" }, "the kernel takes whichever of them it sees first" },
	{ HERON, "mount_by PARTUUID=4c1fa2b1-01 /boot/firmware PARTUUID=4c1fa2b0-02 /",
		{ "survey", "--mentions" }, "the system would wait for it at each boot" },
	{ BITTERN, "mangle s/2f9a61c4/2f9a61c5/", { "survey", "--mentions" },
		"the kernel would not find its root" },
	{ KINGFISHER, "setting s/d5c9e3a7/d5c9e3a8/", { "survey", "--mentions" },
		"the kernel would not find its root" },
	{ DIPPER, "menu s/b8d2f6e4/b8d2f6e5/", { "survey", "--mentions" },
		"the kernel would not find its root" },
	{ HERON,
		"dd if=dev/mmcblk0 of=dev/nvme0n1 bs=1M conv=notrunc,sparse;"
		"debugfs -w -R 'set_super_value state 2' \"dev/nvme0n1?offset=138412032\"",
		{ "survey", "nvme0n1" }, "the kernel noted errors in this volume" },
	/* A preview ends in the command that applies it. */
	{ HERON, "true", { "tune", "--set", "pcie-gen3" }, "preview only, nothing changed" },
	{ HERON, "true", { "tune", "--set", "usb-current" }, "preview only, nothing changed" },
	{ HERON, "true", { "order", "--first", "usb" }, "preview only, nothing changed" },
	{ HERON, "line root=PARTUUID=4c1fa2b1-02", { "readdress", "mmcblk0" },
		"preview only, nothing changed" },
	{ BITTERN, "true", { "loader", "/usr/lib/u-boot/field-recorder/u-boot-rockchip-spi.bin" },
		"preview only, nothing changed" },
	{ KINGFISHER, "setting s/d5c9e3a7/d5c9e3a8/", { "readdress", "mmcblk0" },
		"preview only, nothing changed" },
};

/* Each changes one file that names root: line (the firmware's arguments), mount_by (fstab), mangle
 * (the menu in root's boot folder), menu (that of a boot volume), setting (a script's settings). */
static const char shorthands[] =
	"line() { echo \"$1 rootwait\" > c; mcopy -o -i $I@@4M c ::cmdline.txt; };"
	"mount_by() { printf '%s %s auto defaults 0 0\\n' \"$@\" > f;"
	" printf 'rm /etc/fstab\\nwrite f /etc/fstab\\n' | debugfs -w -f - $V2; };"
	"order() { printf '[all]\\nBOOT_ORDER=%s\\n' $1 > bin/eeprom.txt; };"
	"change() { debugfs -R \"cat /$1\" $V1 > x 2>/dev/null; sed -i \"$2\" x;"
	" printf \"rm /$1\\nwrite x /$1\\n\" | debugfs -w -f - $V1; };"
	"menu() { change extlinux/extlinux.conf \"$1\"; };"
	"setting() { change weirEnv.txt \"$1\"; };"
	"mangle() { debugfs -R 'cat /boot/extlinux/extlinux.conf' $V1 > x 2>/dev/null; sed -i \"$1\" x; "
	"printf 'rm /boot/extlinux/extlinux.conf\nwrite x /boot/extlinux/extlinux.conf\n' | debugfs -w -f - $V1; }; ";

START_TEST(what_is_advised_mends_it)
{
	const Board *b = loops[_i].board == DIPPER ? &board_brook : &boards[loops[_i].board];

	g_autofree char *all = g_strconcat(shorthands, board_firmware, NULL);
	board_shell(b, all, loops[_i].prepare);
	SupRun run = board_run(b, loops[_i].first);
	board_follow(&run, loops[_i].finding);
	SupRun again = board_run(b, loops[_i].first);
	ck_assert_msg(!strstr(again.out, loops[_i].finding), "still there:\n%s", again.out);
}
END_TEST

/* Whatever looks at the target of an interrupted move says how to go on with it. */
static const struct {
	const char *first[4];
	const char *finding;
} unfinished[] = {
	{ { "survey" }, "is unfinished, and it will not boot" },
	{ { "rehearse", "nvme0n1" }, "the target of an unfinished move" },
	{ { "catchup" }, "the target of an unfinished move" },
};

START_TEST(an_interrupted_move_goes_on)
{
	int code = BENCH_INTERRUPT(
		SIGTERM, "copying partition 1", "move", "--to", "nvme0n1", "--erase", "nvme0n1");

	ck_assert_int_eq(code, 4);
	SupRun run = bench_run("", unfinished[_i].first);
	board_follow(&run, unfinished[_i].finding);
	SupRun again = bench_run("", unfinished[_i].first);
	ck_assert_ptr_null(strstr(again.out, unfinished[_i].finding));
	ck_assert_ptr_null(strstr(again.err, unfinished[_i].finding));
}
END_TEST

START_TEST(the_message_of_the_stop_goes_on)
{
	BENCH_INTERRUPT(
		SIGTERM, "copying partition 1", "move", "--to", "nvme0n1", "--erase", "nvme0n1");
	SupRun stopped = { 0, sup_read(sup_path("out"), NULL), (char *)(uintptr_t) "" };

	board_follow(&stopped, "stopped part-way");
	SupRun run = BENCH_RUN("rehearse", "nvme0n1");
	bench_expect(&run, 0, "boots");
	free(stopped.out);
}
END_TEST

/* A catchup that was cut off is continued by what it says, and so is a move with damage. */
START_TEST(a_catchup_that_was_cut_off_goes_on)
{
	SupRun run = BENCH_RUN("move", "--to", "nvme0n1", "--erase", "nvme0n1");
	bench_expect(&run, 0, "done");
	board_shell(&boards[0], shorthands,
		"head -c 9000000 /dev/urandom > n; printf 'write n /srv/night\n' | debugfs -w -f - $V2");
	ck_assert_int_eq(BENCH_INTERRUPT(SIGTERM, "changes to partition 2", "catchup"), 4);
	SupRun stopped = { 0, sup_read(sup_path("out"), NULL), (char *)(uintptr_t) "" };
	board_follow(&stopped, "stopped part-way");
	run = BENCH_RUN("status");
	bench_expect(&run, 0, "is complete");
	free(stopped.out);
}
END_TEST

START_TEST(a_move_with_damage_is_finished)
{
	g_autofree char *faults = g_strdup_printf("mmcblk0:read:%" G_GUINT64_FORMAT ":9",
		bench_root_block(bench_path("dev/mmcblk0"), "srv/model.bin", 200));
	SupRun run = BENCH_WITH_FAULTS(faults, "move", "--to", "nvme0n1", "--erase", "nvme0n1");

	bench_expect(&run, 4, "could not be read completely");
	bench_begin_faults(faults);
	board_follow(&run, "To finish with zeros where nothing could be read: ");
	bench_end_faults();
	run = BENCH_RUN("rehearse", "nvme0n1");
	bench_expect(&run, 0, "rehearsed: nvme0n1 boots");
}
END_TEST

/* Where a wrong call points to can be pasted. */
static const struct {
	const char *words[6];
	const char *says;
} pointers[] = {
	{ { "move" }, "to list the disks: " },
	{ { "pace" }, "to list the disks: " },
	{ { "readdress" }, "to list the disks: " },
	{ { "survey", "heron" }, "to list the disks: " },
	{ { "fly" }, "to list the commands: " },
	{ { "survey", "--wings" }, "for its options: " },
	{ { "draft", "--to", "nvme0n1" }, "for all checks: " },
};

START_TEST(what_a_wrong_call_points_to)
{
	SupRun run = bench_run("", pointers[_i].words);

	board_follow(&run, pointers[_i].says);
}
END_TEST

/* What a change in place says last is how to undo it. */
static const char *const changes[][8] = {
	{ "tune", "--set", "pcie-gen3", "--write" },
	{ "tune", "--set", "usb-current", "--write" },
	{ "readdress", "mmcblk0", "--renew", "--write" },
	{ "readdress", "mmcblk0", "--as-second-machine", "heron-hide-4", "--write" },
	{ "move", "--to", "nvme0n1", "--what", "root", "--erase", "nvme0n1" },
};

START_TEST(a_change_is_undone)
{
	const char *before = bench_boot_file(bench_path("dev/mmcblk0"), "config.txt");
	const char *line = bench_boot_file(bench_path("dev/mmcblk0"), "cmdline.txt");
	SupRun run = bench_run("", changes[_i]);

	bench_expect(&run, 0, "done");
	board_follow(&run, "to restore");
	ck_assert_str_eq(before, bench_boot_file(bench_path("dev/mmcblk0"), "config.txt"));
	ck_assert_str_eq(line, bench_boot_file(bench_path("dev/mmcblk0"), "cmdline.txt"));
}
END_TEST

/* After the restart: from the new disk, with something of the old one left, or from the old disk.
 */
static const struct {
	const char *prepare, *finding;
} arrivals[] = {
	{ "sed -i 's/PARTUUID=[0-9a-f]*-01/PARTUUID=4c1fa2b0-01/' root/etc/fstab",
		"still names it: PARTUUID=4c1fa2b0-01" },
	{ "mkdir -p root/etc/default; echo 'ROOT=PARTUUID=4c1fa2b0-02' > root/etc/default/station",
		"/etc/default/station:1 still names it" },
};

START_TEST(what_arrive_advises_mends_it)
{
	bench_take_moved();
	bench_restart(bench_path(""));
	board_shell(&boards[0], "", arrivals[_i].prepare);
	SupRun run = BENCH_RUN("arrive");
	board_follow(&run, arrivals[_i].finding);
	SupRun again = BENCH_RUN("arrive");
	ck_assert_msg(!strstr(again.out, arrivals[_i].finding), "still there:\n%s", again.out);
}
END_TEST

START_TEST(the_old_disk_booted)
{
	bench_take_moved();
	/* It asks for the card first, and was restarted since. */
	board_shell(&boards[0], shorthands, "order 0xf61; echo 0.0 0.0 > proc/uptime");
	SupRun run = BENCH_RUN("arrive");
	bench_expect(&run, 1, "the old disk booted, not nvme0n1");
	board_follow(&run, "tries the old disk first");
	SupRun again = BENCH_RUN("arrive");
	ck_assert_ptr_null(strstr(again.out, "tries the old disk first"));
}
END_TEST

/* What status calls next does what it says, stage by stage. */
START_TEST(status_leads_to_the_end)
{
	BENCH_INTERRUPT(
		SIGTERM, "copying partition 1", "move", "--to", "nvme0n1", "--erase", "nvme0n1");
	SupRun run = BENCH_RUN("status");
	board_follow(&run, "next: ");
	run = BENCH_RUN("status");
	bench_expect(&run, 0, "next: power off");
	bench_restart(bench_path(""));
	run = BENCH_RUN("status");
	board_follow(&run, "next: ");
	run = BENCH_RUN("status");
	bench_expect(&run, 0, "is finished and checked");
	g_autofree char *in =
		g_strdup_printf("cd '%s'; %s", sup_folder(), strstr(run.out, "next: ") + 6);
	SupRun report = SUP_RUN("bash", "-c", in);
	bench_expect(&report, 0, "move.html");
}
END_TEST

/* Advice is quoted for a shell, and never broken into lines. */
START_TEST(names_with_blanks_are_quoted)
{
	g_autofree char *image = g_strdup(sup_path("my card.img"));

	SUP_TOOL("cp", bench_path("dev/mmcblk0"), image);
	SUP_TOOL("bash", "-c",
		"cd \"$1\"; printf 'root=PARTUUID=4c1fa2b1-02 rootwait' > c; mcopy -o -i \"$2\"@@4M c "
		"::cmdline.txt",
		"bash", sup_folder(), image);
	SupRun run = WANDERITAS("rehearse", image);
	g_autofree char *quoted = g_strdup_printf("readdress '%s' --write\n", image);
	bench_expect(&run, 1, quoted);
}
END_TEST

static const struct {
	const char *words[4];
	const char *says;
} mistyped[] = {
	{ { "suvrey" }, "there is no command 'suvrey'; did you mean 'survey'?" },
	{ { "help", "mvoe" }, "did you mean 'move'?" },
	{ { "survey", "--mention" }, "did you mean '--mentions'?" },
	{ { "--jsn", "survey" }, "did you mean '--json'?" },
	{ { "survey", "nvme0n2" }, "did you mean 'nvme0n1'?" },
	{ { "pace", "--seconds", "abc" }, "--seconds needs a number, not 'abc'" },
	{ { "draft", "--to" }, "--to needs a value" },
	{ { "fly" }, "there is no command 'fly'\n  to list the commands: " },
};

START_TEST(a_mistyped_word)
{
	SupRun run = bench_run("", mistyped[_i].words);

	bench_expect(&run, 2, mistyped[_i].says);
	ck_assert_ptr_null(strstr(run.err, "“"));
}
END_TEST

Suite *suite_advice(void)
{
	Suite *s = suite_create("cli/advice");
	TCase *t = tcase_create("advice");
	TCase *moved = tcase_create("moved");

	tcase_add_unchecked_fixture(t, bench_make, bench_remove);
	tcase_add_checked_fixture(t, sup_setup, sup_teardown);
	tcase_add_loop_test(t, what_is_advised_mends_it, 0, (int)G_N_ELEMENTS(loops));
	tcase_add_loop_test(t, an_interrupted_move_goes_on, 0, (int)G_N_ELEMENTS(unfinished));
	tcase_add_test(t, the_message_of_the_stop_goes_on);
	tcase_add_test(t, a_catchup_that_was_cut_off_goes_on);
	tcase_add_test(t, a_move_with_damage_is_finished);
	tcase_add_loop_test(t, what_a_wrong_call_points_to, 0, (int)G_N_ELEMENTS(pointers));
	tcase_add_loop_test(t, a_change_is_undone, 0, (int)G_N_ELEMENTS(changes));
	tcase_add_test(t, names_with_blanks_are_quoted);
	tcase_add_loop_test(t, a_mistyped_word, 0, (int)G_N_ELEMENTS(mistyped));
	tcase_add_test(t, status_leads_to_the_end);
	suite_add_tcase(s, t);
	tcase_add_unchecked_fixture(moved, bench_make_moved, bench_remove);
	tcase_add_checked_fixture(moved, sup_setup, sup_teardown);
	tcase_add_loop_test(moved, what_arrive_advises_mends_it, 0, (int)G_N_ELEMENTS(arrivals));
	tcase_add_test(moved, the_old_disk_booted);
	suite_add_tcase(s, moved);
	return s;
}
