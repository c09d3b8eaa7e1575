/* What of a rehearsal depends on the board: its series, the date and boot order of its firmware,
 * the loader in its SPI flash. */
#include "boards.h"

#include <string.h>

Suite *suite_medium(void);

enum { HERON, BITTERN };

static const struct {
	int board;
	const char *command;
	const char *medium;
	int code;
	const char *text;
} boards_and_media[] = {
	{ HERON, ":", "nvme", 0, "firmware of 2026-02-11, boot order 0xf416: NVMe, then SD or" },
	{ HERON, "says bootloader_config:BOOT_ORDER=0xf41", "nvme", 1,
		"the boot order 0xf41 never tries NVMe: it is SD or eMMC, then USB, then repeat" },
	{ HERON, "says bootloader_config:BOOT_ORDER=0xf41", "nvme", 1,
		"to store BOOT_ORDER=0xf416" },
	{ HERON, "says bootloader_config:BOOT_ORDER=0x4f6", "usb", 1, "never tries USB disk" },
	{ HERON, "says bootloader_config:BOOT_ORDER=0xf9", "sd", 0,
		"the boot order 0xf9 is unknown to the firmware" },
	{ HERON, "rm bin/vcgencmd", "nvme", 0, "the firmware's boot order is not known" },
	{ HERON, "says bootloader_config:BOOT_ORDER=0xf6", "nvme", 0, "only with PCIE_PROBE=1" },
	{ HERON,
		"rm $T/chosen/bootloader/build-timestamp; says 'bootloader_version:timestamp 1700000000' "
		"bootloader_config:BOOT_ORDER=0xf6",
		"nvme", 0, "firmware of 2023-11-14" },
	{ HERON, "is raspberrypi,4-model-b brcm,bcm2711", "nvme", 1,
		"boards of the 4 series but its compute modules do not boot from NVMe" },
	{ HERON, "is raspberrypi,4-model-b brcm,bcm2711; built 5e 5e 10 00", "usb", 1,
		"firmware of 2020-03-03 does not boot from USB" },
	{ HERON, "is raspberrypi,4-model-b brcm,bcm2711; built 5f 00 00 00", "usb", 0,
		"booting from USB was a test then" },
	{ HERON, "is raspberrypi,4-model-b brcm,bcm2711", "usb", 0,
		"kernel8.img, as on boards of the 4 series" },
	{ HERON, "is raspberrypi,4-compute-module brcm,bcm2711; built 5f c6 00 00", "nvme", 1,
		"firmware of 2020-12-01 does not boot from NVMe" },
	{ HERON, "is raspberrypi,4-compute-module brcm,bcm2711", "nvme", 0,
		"rehearsed: mmcblk0 boots" },
	{ HERON, "is raspberrypi,4-model-b brcm,bcm2711; mdel -i dev/mmcblk0@@4M ::start4.elf",
		"sd", 1, "boards of the 4 series need the firmware file start4.elf" },
	{ HERON,
		"is raspberrypi,4-model-b brcm,bcm2711; printf '[all]\\nauto_initramfs=1\\nstart_x=1\\n' > c;"
		"mcopy -o -i dev/mmcblk0@@4M c ::config.txt",
		"sd", 1, "need the firmware file start4x.elf" },
	{ HERON,
		"is raspberrypi,4-model-b brcm,bcm2711;"
		"printf 'auto_initramfs=1\\n[pi5]\\nkernel=none.img\\n' > c;"
		"mcopy -o -i dev/mmcblk0@@4M c ::config.txt",
		"sd", 0, "kernel8.img, as on boards of the 4 series" },
	{ HERON,
		"printf 'auto_initramfs=1\\n[pi5]\\nkernel=none.img\\n' > c;"
		"mcopy -o -i dev/mmcblk0@@4M c ::config.txt",
		"sd", 1, "the kernel /none.img is not there (asked for in config.txt:3)" },
	{ HERON, "is raspberrypi,3-model-b brcm,bcm2837", "nvme", 1, "do not boot from NVMe" },
	{ HERON, "is raspberrypi,3-model-b brcm,bcm2837", "sd", 1,
		"need the firmware file start.elf" },
	{ HERON, "is raspberrypi,3-model-b brcm,bcm2837; says otp_dump:17:1020000a", "usb", 1,
		"only after a fuse was set, which is not (OTP row 17 is 1020000a)" },
	{ HERON, "is raspberrypi,3-model-b brcm,bcm2837; rm bin/vcgencmd", "usb", 1,
		"whether it is, is not known" },
	{ HERON, "is brcm,bcm2836", "usb", 1, "boards of the 2 series do not boot from USB" },
	{ BITTERN, ":", "nvme", 0, "in SPI flash mtd0 boots it: Rockchip, U-Boot 2023.01" },
	{ BITTERN, "head -c 4194304 /dev/zero | tr '\\0' '\\377' > dev/mtd0", "nvme", 1,
		"SPI flash mtd0 is empty: nothing on the board can read NVMe" },
	{ BITTERN, "head -c 4194304 /dev/zero > dev/mtd0", "sd", 1,
		"there is no boot loader on it, and SPI flash mtd0 is empty" },
	{ BITTERN, "rm -r sys/class", "sd", 0, "no boot loader is seen on it, nor in SPI flash" },
	{ BITTERN, "yes | head -c 4194304 > dev/mtd0", "nvme", 0,
		"SPI flash mtd0 holds something that is not known as a loader" },
	{ BITTERN, "environment 'boot_targets=mmc1 nvme0 usb0'", "nvme", 0,
		"U-Boot's boot_targets (/dev/mtd0 at 3145728): mmc1 nvme0 usb0" },
	{ BITTERN, "environment 'boot_targets=mmc1 mmc0'", "nvme", 1,
		"U-Boot's boot_targets (/dev/mtd0 at 3145728) have no nvme: mmc1 mmc0" },
	{ BITTERN, "environment 'boot_targets=mmc1 mmc0'", "nvme", 1,
		"order --targets 'nvme0 mmc1 mmc0' --write" },
	{ BITTERN, "environment 'boot_targets=mmc1 mmc0'", "sd", 0, "rehearsed: mmcblk1 boots\n" },
	{ BITTERN, "environment 'boot_targets=mmc1' 'bootcmd=run owls'", "nvme", 0,
		"has its own bootcmd" },
	{ BITTERN, "environment a=b; printf X | dd of=dev/mtd0 bs=1 seek=3145740 conv=notrunc",
		"nvme", 0, "it takes what it has built in: /dev/mtd0: its checksum is wrong" },
	/* Two copies: the flag, the byte behind the checksum, tells which was written last. */
	{ BITTERN, "copies 1 2", "nvme", 0, "(/dev/mtd0 at 3153920): nvme0" },
	{ BITTERN, "copies 2 1", "nvme", 1, "(/dev/mtd0 at 3145728) have no nvme: mmc1" },
	{ BITTERN, "copies 377 0", "nvme", 0, "(/dev/mtd0 at 3153920): nvme0" },
	{ BITTERN, "copies 0 377", "nvme", 1, "(/dev/mtd0 at 3145728) have no nvme: mmc1" },
	{ BITTERN, "copies 1 2; printf X | dd of=dev/mtd0 bs=1 seek=3153940 conv=notrunc", "nvme",
		1, "(/dev/mtd0 at 3145728) have no nvme: mmc1" },
	{ BITTERN, "echo /dev/mtd9 0 0x2000 > root/etc/fw_env.config", "nvme", 0,
		"U-Boot's environment cannot be used" },
	{ BITTERN, "rm dev/mtd0", "nvme", 0, "it is unknown which boot loader boots it: opening" },
	{ BITTERN,
		"rm -r sys/class; mkdir sys/block/mmcblk0boot0; echo 2048 > sys/block/mmcblk0boot0/size;"
		"head -c 1M /dev/zero > dev/mmcblk0boot0; printf eGON.BT0 | dd of=dev/mmcblk0boot0 bs=1 "
		"seek=8196 conv=notrunc",
		"nvme", 1,
		"the boot loader in eMMC boot partition mmcblk0boot0 is Allwinner, and this board "
		"has a chip of Rockchip" },
	{ BITTERN,
		"rm -r sys/class; mkdir sys/block/mmcblk0boot0; echo 2048 > sys/block/mmcblk0boot0/size;"
		"head -c 1M /dev/zero > dev/mmcblk0boot0; printf eGON.BT0 | dd of=dev/mmcblk0boot0 bs=1 "
		"seek=8196 conv=notrunc; is field-station,recorder allwinner,sun50i-h6",
		"nvme", 0,
		"the boot loader in eMMC boot partition mmcblk0boot0 boots it: Allwinner" },
	{ BITTERN,
		"rm -r sys/class; printf eGON.BT0 | dd of=dev/mmcblk1 bs=1 seek=131076 conv=notrunc",
		"sd", 1,
		"the boot loader on it is Allwinner, and this board has a chip of Rockchip" },
	{ BITTERN,
		"rm -r sys/class; mkdir sys/block/mmcblk0boot0; echo 2048 > sys/block/mmcblk0boot0/size;"
		"head -c 1M /dev/zero > dev/mmcblk0boot0",
		"nvme", 0, "it is unknown which boot loader boots it" },
	{ BITTERN, "rm -r sys/class", "nvme", 0, "the kernel knows no SPI flash" },
	{ BITTERN,
		"rm -r sys/class; printf 'RKNS' | dd of=dev/mmcblk1 bs=1 seek=32768 conv=notrunc",
		"sd", 0, "the boot loader on it: Rockchip" },
};

START_TEST(a_board_and_a_medium)
{
	const Board *b = &boards[boards_and_media[_i].board];

	board_shell(b, board_firmware, boards_and_media[_i].command);
	SupRun run = BOARD_RUN(b, "rehearse", b->card, "--medium", boards_and_media[_i].medium);
	bench_expect(&run, boards_and_media[_i].code, boards_and_media[_i].text);
}
END_TEST

/* A disk that stays in: the firmware comes to it first, or a loader on it starts the other. */
START_TEST(disks_that_stay_in)
{
	const Board *b = &boards[_i];

	board_shell(b, board_firmware,
		_i == HERON
			? "says bootloader_config:BOOT_ORDER=0xf61; cp --sparse=always dev/mmcblk0 "
			  "dev/nvme0n1; cp -r sys/block/mmcblk0 sys/block/mmcblk9; truncate -s 600M "
			  "dev/mmcblk9"
			: "head -c 4194304 /dev/zero > dev/mtd0; cp --sparse=always dev/mmcblk1 "
			  "dev/nvme0n1; printf RKNS | dd of=dev/mmcblk1 bs=1 seek=32768 conv=notrunc; "
			  "cp -r sys/block/mmcblk1 sys/block/mmcblk9; truncate -s 600M dev/mmcblk9");
	SupRun run = BOARD_RUN(b, "rehearse", "nvme0n1", "--without", "mmcblk9");
	bench_expect(&run, 1,
		_i == HERON ? "mmcblk0 (SD card) comes first, and has boot files too"
			    : "the boot loader on mmcblk1 (Rockchip) boots it");
	bench_expect(&run, 1, "it names two partitions");
}
END_TEST

/* A new table of a kind that the board's firmware cannot read. */
START_TEST(a_gpt_for_an_old_board)
{
	const Board *b = &boards[HERON];
	SupRun move = BENCH_RUN("move", "--to", "nvme0n1", "--erase", "nvme0n1", "--table", "gpt");

	bench_expect(&move, 0, "rehearsed: nvme0n1 boots\n");
	board_shell(b, board_firmware, "is raspberrypi,3-model-b-plus brcm,bcm2837");
	SupRun run = BENCH_RUN("rehearse", "nvme0n1", "--medium", "usb");
	bench_expect(
		&run, 1, "a GPT is read by boards with firmware in an EEPROM only; this is one");
}
END_TEST

Suite *suite_medium(void)
{
	Suite *s = suite_create("cli/medium");
	TCase *t = tcase_create("medium");

	tcase_add_unchecked_fixture(t, bench_make, bench_remove);
	tcase_add_checked_fixture(t, sup_setup, sup_teardown);
	tcase_add_loop_test(t, a_board_and_a_medium, 0, (int)G_N_ELEMENTS(boards_and_media));
	tcase_add_loop_test(t, disks_that_stay_in, 0, 2);
	tcase_add_test(t, a_gpt_for_an_old_board);
	suite_add_tcase(s, t);
	return s;
}
