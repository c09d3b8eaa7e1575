/* The order in which boards try their media: shown, changed, taken back. U-Boot's environments are
 * made and read by U-Boot's own tools. */
#include "boards.h"

#include <jansson.h>
#include <string.h>
#include <unistd.h>

Suite *suite_order(void);

enum { HERON, BITTERN };

static const Board *board_of(int which)
{
	return &boards[which];
}

/* ---- firmware ---- */

static const struct {
	int board;
	const char *command;
	const char *options[4];
	int code;
	const char *text;
} cases[] = {
	{ HERON, ":", { NULL }, 0,
		"order        0xf416: NVMe, then SD or eMMC, then USB, then repeat" },
	{ HERON, ":", { NULL }, 0, "firmware     of 2026-02-11, build: release" },
	{ HERON, ":", { NULL }, 0, "this boot    from SD card" },
	{ HERON, "sed -i s/default/latest/ root/etc/default/rpi-eeprom-update", { NULL }, 0,
		"it brings firmware that is still being tried" },
	{ HERON, ":", { "--first", "usb" }, 0, "+BOOT_ORDER=0xf164\n" },
	{ HERON, ":", { "--first", "nvme" }, 0,
		"then         0xf416: NVMe, then SD or eMMC, then USB" },
	{ HERON, "says 'bootloader_config:BOOT_ORDER=0xf41'", { "--first", "nvme" }, 0,
		"+BOOT_ORDER=0xf416\n" },
	{ HERON, "says 'bootloader_config:BOOT_ORDER=0xf41'", { "--first", "nvme" }, 0,
		"+PCIE_PROBE=1\n" },
	{ HERON, "says 'bootloader_config:BOOT_ORDER=0xf6'", { "--first", "usb" }, 0,
		"+BOOT_ORDER=0xf164\n" },
	{ HERON, "says 'bootloader_config:BOOT_UART=1'", { "--first", "sd" }, 0,
		"+BOOT_ORDER=0xf1\n" },
	{ HERON, "says 'bootloader_config:BOOT_UART=1'", { NULL }, 0,
		"the settings have no BOOT_ORDER" },
	{ HERON, "says 'bootloader_config:BOOT_ORDER=0xf9'", { "--first", "nvme" }, 3,
		"--set ORDER sets a whole new order" },
	{ HERON, "says 'bootloader_config:BOOT_ORDER=0xf9'", { "--set", "0xf16" }, 0,
		"+BOOT_ORDER=0xf16\n" },
	{ HERON, ":", { "--set", "F61" }, 0, "+BOOT_ORDER=0xf61\n" },
	{ HERON, ":", { "--set", "0xf416" }, 0, "\nalready set; nothing to do\n" },
	{ HERON, ":", { "--set", "0x4f61" }, 0,
		"digits to the left of the first f are never used" },
	{ HERON, ":", { "--set", "0xf46" }, 0, "a card cannot help when nothing else boots" },
	{ HERON, "is raspberrypi,4-model-b brcm,bcm2711", { "--set", "0xf16" }, 0,
		"NVMe has no effect: boards of the 4 series" },
	{ HERON, ":", { "--set", "0xf19" }, 3, "has an unknown digit: '9'" },
	{ HERON, ":", { "--set", "0xf12345678" }, 3,
		"is no number of one to 8 hexadecimal digits" },
	{ HERON, ":", { "--first", "tape" }, 2, "--first is nvme, usb, sd or emmc on this board" },
	{ HERON, ":", { "--first", "usb", "--set", "0xf1" }, 2, "give one of them" },
	{ HERON, ":", { "--targets", "nvme0" }, 2, "are for boards with U-Boot" },
	{ HERON, ":", { "--set-fuse" }, 2, "this board has no fuse that it needs" },
	{ HERON, "rm bin/vcgencmd bin/rpi-eeprom-config", { "--first", "usb" }, 3,
		"the firmware's settings cannot be read here" },
	{ HERON, "rm bin/rpi-eeprom-config", { "--first", "usb", "--write" }, 3,
		"the firmware's settings cannot be changed here" },
	{ HERON,
		"printf '#!/bin/sh\\n[ \"$1\" != --apply ] || { echo busy; exit 3; }\\n' > "
		"bin/rpi-eeprom-config",
		{ "--first", "usb", "--write" }, 4,
		"rpi-eeprom-config --apply ended with 3: busy" },
	{ HERON,
		"printf '#!/bin/sh\\n[ \"$1\" != --apply ] || { echo BOOT_ORDER=0x1 > "
		"\"$(dirname \"$0\")/../root/boot/firmware/pieeprom.upd\"; exit 0; }\\ncat \"$1\"\\n' > "
		"bin/rpi-eeprom-config",
		{ "--first", "usb", "--write" }, 4, "but they read back as others" },
	{ HERON, "printf '#!/bin/sh\\nexit 0\\n' > bin/rpi-eeprom-config",
		{ "--first", "usb", "--write" }, 0,
		"order done: it can be read back only after the next boot" },
	{ HERON, "is raspberrypi,4-model-b brcm,bcm2711", { "--first", "nvme" }, 3,
		"do not boot from NVMe" },
	{ HERON, "is raspberrypi,4-model-b brcm,bcm2711; built 5e 5e 10 00", { NULL }, 0,
		"not from     USB disk: firmware of 2020-03-03 does not boot from USB" },
	{ HERON, "is raspberrypi,3-model-b-plus brcm,bcm2837", { "--first", "usb" }, 3,
		"boards of the 3 series have no order that could be set" },
	{ HERON, "is raspberrypi,3-model-b brcm,bcm2837; says otp_dump:17:1020000a", { NULL }, 0,
		"fuse         not set (OTP row 17 is 1020000a)" },
	{ HERON, "is raspberrypi,3-model-b brcm,bcm2837; says otp_dump:17:1020000a",
		{ "--set-fuse" }, 0, "which nothing can undo" },
	{ HERON, "is raspberrypi,3-model-b brcm,bcm2837; says otp_dump:17:1020000a",
		{ "--set-fuse" }, 0, "+program_usb_boot_mode=1\n" },
	{ HERON, "rm -r proc/device-tree", { NULL }, 3,
		"this machine has neither a device tree nor UEFI firmware" },
	{ BITTERN, ":", { NULL }, 0, "no /etc/fw_env.config says where its environment is" },
	{ BITTERN, ":", { "--first", "nvme" }, 3, "no /etc/fw_env.config says" },
	{ BITTERN, "environment 'boot_targets=mmc1 mmc0'", { "--first", "nvme" }, 0,
		"then         NVMe (nvme0), then SD or eMMC (mmc1), then SD or eMMC (mmc0)" },
	{ BITTERN, "environment 'boot_targets=mmc1 mmc0'", { "--first", "sd" }, 3,
		"--first mmc1\n" },
	{ BITTERN, "environment 'boot_targets=mmc1 mmc0'", { "--first", "mmc0" }, 0,
		"+boot_targets=mmc0 mmc1\n" },
	{ BITTERN, "environment 'boot_targets=mmc1 mmc0'", { "--targets", "usb0;reset" }, 2,
		"is no list of U-Boot's targets" },
	{ BITTERN, "environment 'boot_targets=mmc1 mmc0'", { "--first", "nvem0" }, 2,
		"'nvem0' is none of U-Boot's targets that are known" },
	{ BITTERN, "environment 'boot_targets=mmc1 mmc0'", { "--targets", "mmc1 usb0x" }, 2,
		"'usb0x' is none of U-Boot's targets" },
	{ BITTERN, "environment 'boot_targets=mmc1 owl2'", { "--first", "nvme" }, 0,
		"+boot_targets=nvme0 mmc1 owl2\n" },
	{ BITTERN, "environment 'boot_targets=mmc1'", { "--targets", "sata mmc1 pxe dhcp" }, 0,
		"then         SATA (sata), then SD or eMMC (mmc1), then the network (pxe)" },
	{ BITTERN, "environment 'boot_targets=mmc1'", { "--first", "mmc1", "--write" }, 0,
		"\nalready set; nothing to do\n" },
	{ BITTERN, "environment 'boot_targets=mmc1 mmc0'", { "--set", "0xf1" }, 2,
		"for boards with firmware that has an order of its own" },
	{ BITTERN, "environment a=b", { "--first", "nvme" }, 3, "give the whole list, such as: " },
	{ BITTERN, "environment a=b", { "--targets", "nvme0 mmc1" }, 0,
		"+boot_targets=nvme0 mmc1\n" },
	{ BITTERN, "environment bootcmd=reset boot_targets=mmc1", { "--first", "nvme" }, 1,
		"bootcmd of U-Boot's environment is not the usual one" },
	{ BITTERN,
		"environment boot_targets=mmc1; printf X | dd of=dev/mtd0 bs=1 seek=3145800 "
		"conv=notrunc",
		{ "--first", "nvme" }, 3, "U-Boot has no environment with a right checksum" },
	{ BITTERN,
		"environment boot_targets=mmc1; printf X | dd of=dev/mtd0 bs=1 seek=3145800 "
		"conv=notrunc; echo boot_targets=mmc1 > i",
		{ "--first", "nvme", "--initial", "/etc/passwd" }, 3, "it has no bootcmd" },
	{ BITTERN,
		"environment boot_targets=mmc1; cp e root/boot/uboot.env; echo /boot/uboot.env 0 "
		"0x2000 > root/etc/fw_env.config",
		{ "--first", "nvme", "--write" }, 0,
		"environment  /boot/uboot.env at 0, 8192 bytes" },
	{ BITTERN,
		"environment boot_targets=mmc1; echo /dev/mtd0 -0x100000 0x2000 > "
		"root/etc/fw_env.config",
		{ "--first", "nvme", "--write" }, 0, "done: everything was read back" },
	{ BITTERN,
		"environment boot_targets=mmc1; echo /dev/mmcblk1 0 0x2000 > "
		"root/etc/fw_env.config; dd if=e of=dev/mmcblk1 conv=notrunc",
		{ "--first", "nvme" }, 3, "are its partition table's" },
	{ BITTERN,
		"environment boot_targets=mmc1; echo /dev/mmcblk1 0x1000000 0x2000 > "
		"root/etc/fw_env.config; dd if=e of=dev/mmcblk1 bs=1M seek=16 conv=notrunc",
		{ "--first", "nvme" }, 3, "lie in partition 1" },
	{ BITTERN,
		"environment boot_targets=mmc1; echo /dev/mmcblk1 0x400000 0x2000 > "
		"root/etc/fw_env.config; dd if=e of=dev/mmcblk1 bs=1M seek=4 conv=notrunc",
		{ "--first", "nvme", "--write" }, 0, "done: everything was read back" },
};

START_TEST(each_case)
{
	const Board *b = board_of(cases[_i].board);
	const char *argv[10] = { "order" };

	for (size_t i = 0; i < 4; i++)
		argv[1 + i] = cases[_i].options[i];
	board_shell(b, board_firmware, cases[_i].command);
	SupRun run = board_run(b, argv);
	bench_expect(&run, cases[_i].code, cases[_i].text);
}
END_TEST

START_TEST(firmware_settings_come_and_go)
{
	const Board *b = board_of(HERON);
	const char *waiting = board_path(b, "root/boot/firmware/pieeprom.upd");
	g_autofree char *card = g_strdup(sup_hash(board_disk(b, false)));
	SupRun written = BOARD_RUN(b, "order", "--first", "usb", "--write");
	size_t len = 0;

	bench_expect(&written, 0, "done: everything was read back");
	g_autofree char *text = sup_read(waiting, &len);
	ck_assert_str_eq(text, "[all]\nBOOT_ORDER=0xf164\nPCIE_PROBE=1\n");
	SupRun shown = BOARD_RUN(b, "order");
	bench_expect(&shown, 0, "next boot    0xf164: USB, then NVMe, then SD or eMMC");
	SupRun same = BOARD_RUN(b, "order", "--first", "usb");
	ck_assert_ptr_null(strstr(same.out, "to apply: "));
	SupRun back = BOARD_RUN(b, "rewind");
	bench_expect(&back, 0, "put back  the firmware's settings");
	SupRun after = BOARD_RUN(b, "order");
	ck_assert_ptr_null(strstr(after.out, "next boot"));
	ck_assert_str_eq(card, sup_hash(board_disk(b, false)));
}
END_TEST

/* An order that never tries a card must be typed again, or named. */
START_TEST(the_last_way_back)
{
	const Board *b = board_of(HERON);
	const char *waiting = board_path(b, "root/boot/firmware/pieeprom.upd");
	g_autofree char *bench = g_strdup(board_path(b, "."));
	const char *argv[] = { sup_program(), "--bench", bench, "order", "--set", "0xf6", "--write",
		NULL };
	SupRun preview = BOARD_RUN(b, "order", "--set", "0xf6");
	SupRun silent = sup_run("", argv);
	SupRun wrong = sup_run("yes\n", argv);

	bench_expect(&preview, 0, "a card cannot help when nothing else boots");
	bench_expect(&silent, 3, "takes the way back by card away");
	bench_expect(&wrong, 3, "--despite way-back");
	ck_assert_int_ne(access(waiting, F_OK), 0);
	SupRun typed = sup_run("0xf6\n", argv);
	bench_expect(&typed, 0, "done");
	ck_assert_int_eq(access(waiting, F_OK), 0);
	SupRun back = BOARD_RUN(b, "rewind");
	bench_expect(&back, 0, "put back");
	SupRun named = BOARD_RUN(b, "order", "--set", "0xf6", "--write", "--despite", "way-back");
	bench_expect(&named, 0, "done");
}
END_TEST

/* The same where U-Boot has the order. */
START_TEST(the_last_way_back_of_a_loader)
{
	const Board *b = board_of(BITTERN);
	const char *targets[] = { "nvme0", "nvme0 sata0", "nvme0 usb0" };
	const int codes[] = { 3, 3, 0 };

	board_shell(b, board_firmware, "environment 'boot_targets=mmc1 mmc0'");
	g_autofree char *flash = g_strdup(sup_hash(board_path(b, "dev/mtd0")));
	for (size_t i = 0; i < G_N_ELEMENTS(targets); i++) {
		SupRun run = BOARD_RUN(b, "order", "--targets", targets[i], "--write");
		bench_expect(&run, codes[i], codes[i] ? "--despite way-back" : "done");
		ck_assert(codes[i] == 0 || !strcmp(flash, sup_hash(board_path(b, "dev/mtd0"))));
	}
	SupRun named =
		BOARD_RUN(b, "order", "--targets", "nvme0", "--write", "--despite", "way-back");
	bench_expect(&named, 0, "done");
}
END_TEST

/* What somebody set since is theirs. */
START_TEST(settings_that_somebody_changed_since)
{
	const Board *b = board_of(HERON);
	SupRun written = BOARD_RUN(b, "order", "--first", "usb", "--write");
	bench_expect(&written, 0, NULL);
	sup_write(board_path(b, "root/boot/firmware/pieeprom.upd"), "BOOT_ORDER=0xf1\n");
	SupRun left = BOARD_RUN(b, "rewind");
	SupRun forced = BOARD_RUN(b, "rewind", "--force");

	bench_expect(&left, 1, "left      the firmware's settings: somebody changed them since");
	bench_expect(&forced, 0, "put back  the firmware's settings");
}
END_TEST

/* The line comes, the fuse is set by a start, and the line goes. */
START_TEST(a_fuse_is_set_once)
{
	const Board *b = board_of(HERON);
	board_shell(b, board_firmware,
		"is raspberrypi,3-model-b brcm,bcm2837; says otp_dump:17:1020000a");
	SupRun added = BOARD_RUN(b, "order", "--set-fuse", "--write");
	bench_expect(&added, 0, "done: everything was read back");
	ck_assert_ptr_nonnull(strstr(board_file(board_disk(b, false), 1, true, "config.txt"),
		"\nprogram_usb_boot_mode=1\n"));
	SupRun waiting = BOARD_RUN(b, "order");
	bench_expect(&waiting, 0, "restart once, then look here again");
	board_shell(b, board_firmware, "says otp_dump:17:3020000a");
	SupRun taken = BOARD_RUN(b, "order", "--write");
	bench_expect(&taken, 0, "in another board this card would set its fuse too");
	ck_assert_ptr_null(strstr(
		board_file(board_disk(b, false), 1, true, "config.txt"), "program_usb_boot_mode"));
	board_judge(board_disk(b, false));
}
END_TEST

/* ---- U-Boot ---- */

/* As U-Boot's own tool reads it, of a copy of the flash at a path of this machine. */
static char *printed(const Board *b, bool is_double)
{
	g_autofree char *config = g_strdup_printf("%s 0x300000 0x2000\n%s%s",
		board_path(b, "dev/mtd0"), is_double ? board_path(b, "dev/mtd0") : "",
		is_double ? " 0x302000 0x2000\n" : "");

	sup_write(sup_path("fw_env.config"), config);
	return g_strdup(SUP_TOOL("fw_printenv", "-c", sup_path("fw_env.config"), "boot_targets"));
}

START_TEST(one_copy_of_an_environment)
{
	const Board *b = board_of(BITTERN);
	board_shell(b, board_firmware,
		"environment 'bootcmd=run distro_bootcmd' 'boot_targets=mmc1 mmc0' 'serial#=0017'");
	g_autofree char *flash = g_strdup(sup_hash(board_path(b, "dev/mtd0")));
	SupRun run = BOARD_RUN(b, "order", "--first", "nvme", "--write");

	bench_expect(&run, 0, "done: everything was read back");
	g_autofree char *said = printed(b, false);
	ck_assert_str_eq(said, "boot_targets=nvme0 mmc1 mmc0\n");
	SupRun rehearsed = BOARD_RUN(b, "rehearse", "mmcblk1", "--medium", "nvme");
	ck_assert_msg(strstr(rehearsed.out, "nvme0 mmc1 mmc0") != NULL, "%s", rehearsed.out);
	SupRun back = BOARD_RUN(b, "rewind");
	bench_expect(&back, 0, "put back  8192 bytes of /dev/mtd0 at 3145728");
	ck_assert_str_eq(flash, sup_hash(board_path(b, "dev/mtd0")));
}
END_TEST

/* Which of the two copies counts is U-Boot's tool to say. On flash the other one is marked
 * obsolete. */
START_TEST(two_copies_of_an_environment)
{
	static const char *const flags[] = { "copies 001 000", "copies 000 001" };
	const Board *b = board_of(BITTERN);
	board_shell(b, board_firmware, flags[_i]);
	g_autofree char *flash = g_strdup(sup_hash(board_path(b, "dev/mtd0")));
	uint8_t now[2] = { 0 };
	SupRun run = BOARD_RUN(b, "order", "--targets", "usb0 mmc1", "--write");

	bench_expect(&run, 0, "done: everything was read back");
	g_autofree char *said = printed(b, true);
	ck_assert_str_eq(said, "boot_targets=usb0 mmc1\n");
	sup_peek(board_path(b, "dev/mtd0"), 0x300004, now, 1);
	sup_peek(board_path(b, "dev/mtd0"), 0x302004, now + 1, 1);
	ck_assert_uint_eq(now[_i == 0 ? 1 : 0], 1);
	ck_assert_uint_eq(now[_i == 0 ? 0 : 1], 0);
	SupRun back = BOARD_RUN(b, "rewind");
	bench_expect(&back, 0, "put back");
	ck_assert_str_eq(flash, sup_hash(board_path(b, "dev/mtd0")));
}
END_TEST

/* The copy in force stays until the other is whole: a flash that refuses or loses writes leaves an
 * environment that U-Boot takes. */
START_TEST(a_flash_that_fails)
{
	static const char *const faults[] = { "mtd0:deny:3153920:8192", "mtd0:lose:3153920:8192",
		"mtd0:deny:3145728:8192" };
	const Board *b = board_of(BITTERN);
	board_shell(b, board_firmware, "copies 001 000");
	SupRun failing = BOARD_WITH_FAULTS(b, faults[_i], "order", "--first", "nvme", "--write");
	bench_expect(&failing, 4, _i == 1 ? "was written" : "/dev/mtd0");
	g_autofree char *said = printed(b, true);
	ck_assert_msg(strcmp(said, "boot_targets=mmc1\n") == 0 ||
			      strcmp(said, "boot_targets=nvme0 mmc1\n") == 0,
		"%s", said);
	SupRun back = BOARD_RUN(b, "rewind");
	bench_expect(&back, 0, NULL);
	g_autofree char *again = printed(b, true);
	ck_assert_str_eq(again, "boot_targets=mmc1\n");
}
END_TEST

/* The board tries the drive first from its next start on, and that is what counts for the checks.
 */
START_TEST(as_a_step_of_a_move)
{
	const Board *b = board_of(HERON);
	board_shell(b, board_firmware, "sed -i s/0xf416/0xf41/ bin/vcgencmd");
	SupRun stopped = BOARD_RUN(b, "move", "--to", "nvme0n1", "--erase", "nvme0n1");
	SupRun moved = BOARD_RUN(
		b, "move", "--to", "nvme0n1", "--erase", "nvme0n1", "--with", "order,drivers");
	sup_make_image(sup_path("drive.img"), 1 << 30);
	SupRun image = WANDERITAS("move", "--from", board_disk(b, false), "--to",
		sup_path("drive.img"), "--with", "order");

	bench_expect(&stopped, 3, "the check 'medium' stops the move");
	bench_expect(&moved, 0, "order done: everything was read back");
	bench_expect(&moved, 0, "rehearsed: nvme0n1 boots\n");
	ck_assert_int_ne(image.code, 0);
	bench_expect(&image, image.code, "no order is known that");
}
END_TEST

START_TEST(as_json)
{
	SupRun run = BENCH_RUN("--json", "order", "--first", "usb");

	bench_expect(&run, 0, "\"format\": \"wanderitas-order/2\"");
	json_t *root = json_loads(run.out, 0, NULL);
	json_t *then = json_array_get(json_object_get(root, "orders"), 1);

	ck_assert_str_eq(json_string_value(json_object_get(then, "name")), "then");
	ck_assert_str_eq(json_string_value(json_object_get(then, "value")), "0xf164");
	ck_assert_str_eq(
		json_string_value(json_array_get(json_object_get(then, "tries"), 0)), "USB");
	ck_assert(json_is_true(json_object_get(then, "starts_over")));
	json_decref(root);
}
END_TEST

Suite *suite_order(void)
{
	Suite *s = suite_create("cli/order");
	TCase *t = tcase_create("order");

	tcase_add_unchecked_fixture(t, bench_make, bench_remove);
	tcase_add_checked_fixture(t, sup_setup, sup_teardown);
	tcase_add_loop_test(t, each_case, 0, (int)G_N_ELEMENTS(cases));
	tcase_add_test(t, firmware_settings_come_and_go);
	tcase_add_test(t, the_last_way_back);
	tcase_add_test(t, the_last_way_back_of_a_loader);
	tcase_add_test(t, settings_that_somebody_changed_since);
	tcase_add_test(t, a_fuse_is_set_once);
	tcase_add_test(t, one_copy_of_an_environment);
	tcase_add_loop_test(t, two_copies_of_an_environment, 0, 2);
	tcase_add_loop_test(t, a_flash_that_fails, 0, 3);
	tcase_add_test(t, as_a_step_of_a_move);
	tcase_add_test(t, as_json);
	suite_add_tcase(s, t);
	return s;
}
