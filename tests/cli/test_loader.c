/* Boot loaders in SPI flash and before a medium's first partition. Images are made by U-Boot's own
 * mkimage where it can. */
#include "boards.h"

#include <signal.h>
#include <string.h>

Suite *suite_loader(void);

enum { HERON, BITTERN };
#define INSTALLED "/usr/lib/u-boot/field-recorder/u-boot-rockchip-spi.bin"

/* In the bench's folder: rock NAME makes a medium's loader with the board's name in it; spi BYTES
 * one for SPI flash, of that size. */
static const char shorthands[] =
	"rock() { { head -c 3000 /dev/urandom; echo 'U-Boot 2024.01 field-station,recorder'; } > p;"
	" mkimage -n rk3399 -T rksd -d p $1 > /dev/null; };"
	"gaps() { { head -c 3000 /dev/urandom; echo 'U-Boot 2024.01 field-station,recorder'; } > p;"
	" mkimage -n $2 -T rkspi -d p $1 > /dev/null; };"
	"sun() { { head -c 3000 /dev/zero; echo 'U-Boot 2024.01 field-station,recorder'; } > p;"
	" mkimage -T sunxi_egon -d p $1 > /dev/null; };"
	"spi() { head -c $1 /dev/urandom > spi.bin; printf RKNS | dd of=spi.bin bs=1 seek=32768 conv=notrunc;"
	" printf 'U-Boot 2024.04 field-station,recorder' | dd of=spi.bin bs=1 seek=40000 conv=notrunc; };";

static const LoaderCase cases[] = {
	{ ":", { NULL }, 0, "SPI flash    mtd0, 4 MiB: Rockchip, U-Boot 2023.01" },
	{ ":", { NULL }, 0,
		"installed    /usr/lib/u-boot/field-recorder: Rockchip, U-Boot 2024.01, for a "
		"medium (idbloader.img + u-boot.itb)" },
	{ "truncate -s 0 dev/mtd0; truncate -s 4M dev/mtd0", { NULL }, 0,
		"SPI flash    mtd0, 4 MiB: empty" },
	{ "rm dev/mtd0", { NULL }, 0, "SPI flash    mtd0, 4 MiB: opening" },
	{ "rock r; dd if=r of=dev/mmcblk1 bs=32k seek=1 conv=notrunc", { NULL }, 0,
		"medium       mmcblk1, before its first partition: Rockchip, U-Boot 2024.01" },
	/* A text that lies across two of the pieces in which a medium is read. */
	{ "rock r; dd if=r of=dev/mmcblk1 bs=32k seek=1 conv=notrunc; printf 'bootcmd=bootflow scan -lb' | "
	  "dd of=dev/mmcblk1 bs=1 seek=82935 conv=notrunc",
		{ NULL }, 0, "Rockchip, U-Boot 2024.01 (standard boot)" },
	{ "rock r; printf 'distro_bootcmd=for target' >> r; dd if=r of=dev/mmcblk1 bs=32k seek=1 "
	  "conv=notrunc",
		{ NULL }, 0, "Rockchip, U-Boot 2024.01 (distro boot)" },
	{ "mkdir -p sys/block/mmcblk0boot0; echo 8192 > sys/block/mmcblk0boot0/size; head -c 4M "
	  "/dev/zero > dev/mmcblk0boot0",
		{ NULL }, 0, "eMMC boot partition" },
	{ ":", { INSTALLED }, 0, "goes to      /dev/mtd0 at 0: 1 MiB, of which 1 of 16 pieces" },
	{ ":", { INSTALLED, "--on", "mtd0" }, 0, "goes to      /dev/mtd0 at 0" },
	{ "cp dev/mtd0 dev/mtdblock0", { INSTALLED, "--on", "/dev/mtdblock0" }, 0,
		"goes to      /dev/mtdblock0 at 0" },
	{ ":", { INSTALLED, "--on", "mmcblk1" }, 3, "is made for SPI flash, not for a medium" },
	{ "rock r; cp r "
	  "root" INSTALLED,
		{ INSTALLED }, 3, "not for SPI flash" },
	{ "rock r; cp r root" INSTALLED, { INSTALLED, "--on", "mmcblk1" }, 0,
		"goes to      /dev/mmcblk1 at 32768" },
	{ "rock r; truncate -s 17M r; cp r root" INSTALLED, { INSTALLED, "--on", "mmcblk1" }, 3,
		"lie in partition 1, which begins at 16777216" },
	{ "gaps g rk3399; cp g root" INSTALLED, { INSTALLED }, 0,
		"Rockchip, U-Boot 2024.01, for SPI flash" },
	{ "gaps g rk3568; cp g root" INSTALLED, { INSTALLED }, 0, "goes to      /dev/mtd0 at 0" },
	{ "gaps g rk3568; cp g root" INSTALLED, { INSTALLED, "--on", "mmcblk1" }, 3,
		"is made for SPI flash" },
	{ "gaps g rk3399; dd if=g of=dev/mtd0 conv=notrunc; tr '\\0' '\\377' < /dev/zero | dd bs=64k count=1 "
	  "of=dev/mtd0 seek=32k oflag=seek_bytes conv=notrunc iflag=fullblock",
		{ NULL }, 0, "SPI flash    mtd0, 4 MiB: Rockchip" },
	{ "sun s; cp s root" INSTALLED, { INSTALLED, "--on", "mmcblk1" }, 3,
		"is a loader for Allwinner, and this board has a chip of Rockchip" },
	{ "sun s; cp s root" INSTALLED, { INSTALLED, "--on", "mmcblk1", "--despite", "kind" }, 3,
		"are its partition table's" },
	{ "printf 'x\\0' > proc/device-tree/compatible", { INSTALLED }, 3,
		"which chip this board has is not known" },
	{ "sed -i s/recorder/moth-trap/ proc/device-tree/compatible", { INSTALLED }, 3,
		"names no board like this one (field-station,moth-trap)" },
	{ "sed -i s/recorder/moth-trap/ proc/device-tree/compatible",
		{ INSTALLED, "--despite", "board" }, 0, "goes to      /dev/mtd0" },
	{ "spi 5M; cp spi.bin root" INSTALLED, { INSTALLED }, 3,
		"has 5 MiB, and mtd0 holds 4 MiB" },
	{ "echo owls > root" INSTALLED, { INSTALLED }, 3, "is no boot loader that is known" },
	{ "rm root" INSTALLED "; mkfifo root" INSTALLED, { INSTALLED }, 3, "is empty" },
	{ ": > root" INSTALLED, { INSTALLED }, 3, "is empty" },
	{ ":", { "/nowhere" }, 3, "/nowhere" },
	{ "rm -r sys/class/mtd", { INSTALLED }, 3, "the kernel knows no SPI flash on this board" },
	{ ":", { INSTALLED, "--on", "owl0" }, 2, "there is no disk and no image file 'owl0'" },
	{ "echo /dev/mtd0 0x80000 0x2000 > root/etc/fw_env.config", { INSTALLED }, 0,
		"U-Boot will boot with its built-in settings" },
	{ ":", { INSTALLED, "--board", "owl" }, 2, "give either an image or --board, not both" },
	{ ":", { INSTALLED, "--despite", "owls" }, 2, "--despite is kind or board" },
	{ ":", { INSTALLED, "--restore" }, 2, "it takes no image" },
	{ ":", { "a", "b" }, 2, "loader takes no 'b'; it writes one image" },
	{ ":", { "--restore" }, 0, "there is no change to undo" },
};

START_TEST(each_case)
{
	loader_case(&boards[BITTERN], shorthands, &cases[_i]);
}
END_TEST

START_TEST(flash_is_written_and_restored)
{
	const Board *b = &boards[BITTERN];
	board_shell(b, shorthands, "spi 1500000; cp spi.bin root" INSTALLED);
	const char *flash = board_path(b, "dev/mtd0");
	g_autofree char *before = g_strdup(sup_hash(flash));
	SupRun run = BOARD_RUN(b, "loader", INSTALLED, "--write");

	bench_expect(&run, 0, "loader done: everything was read back");
	board_shell(b, "",
		"cmp -n 1500000 spi.bin dev/mtd0; tail -c +1500001 dev/mtd0 | tr -d '\\377' | "
		"cmp - /dev/null");
	SupRun again = BOARD_RUN(b, "loader", INSTALLED, "--write");
	bench_expect(&again, 0, "0 of 23 pieces");
	SupRun shown = BOARD_RUN(b, "loader");
	bench_expect(&shown, 0, "SPI flash    mtd0, 4 MiB: Rockchip, U-Boot 2024.04");
	SupRun back = BOARD_RUN(b, "loader", "--restore");
	bench_expect(&back, 0, "put back  1500000 bytes of /dev/mtd0 at 0");
	ck_assert_str_eq(before, sup_hash(flash));
}
END_TEST

/* NOR flash, as the kernel shows it. */
static const char nor[] = "mtd0:nor:65536:4194304";

/* As the kernel shows a NOR flash: what is not erased before it is written is spoiled, and only
 * whole blocks can be erased. What lies beside the image in its last block stays. */
START_TEST(cells_are_erased_before_they_are_written)
{
	const Board *b = &boards[BITTERN];
	board_shell(b, shorthands,
		"spi 1500000; cp spi.bin root" INSTALLED
		"; printf heron | dd of=dev/mtd0 bs=1 seek=1500100 conv=notrunc");
	g_autofree char *before = g_strdup(sup_hash(board_path(b, "dev/mtd0")));
	SupRun run = BOARD_WITH_FAULTS(b, nor, "loader", INSTALLED, "--write");

	bench_expect(&run, 0, "loader done: everything was read back");
	board_shell(b, "",
		"cmp -n 1500000 spi.bin dev/mtd0; [ $(dd if=dev/mtd0 bs=1 skip=1500100 "
		"count=5) = heron ]");
	SupRun back = BOARD_WITH_FAULTS(b, nor, "loader", "--restore");
	bench_expect(&back, 0, "put back");
	ck_assert_str_eq(before, sup_hash(board_path(b, "dev/mtd0")));
	/* And one that stops in the middle. */
	SupRun stopped = BOARD_WITH_FAULTS(
		b, "mtd0:nor:65536:4194304 mtd0:deny:655360:65536", "loader", INSTALLED, "--write");
	bench_expect(&stopped, 4, "Input/output error");
	ck_assert_str_ne(before, sup_hash(board_path(b, "dev/mtd0")));
	SupRun restored = BOARD_WITH_FAULTS(b, nor, "loader", "--restore");
	bench_expect(&restored, 0, "put back");
	ck_assert_str_eq(before, sup_hash(board_path(b, "dev/mtd0")));
}
END_TEST

/* Power cuts at the first block, in the middle, within the last, and again while the original is
 * put back: what was written ahead is enough. */
START_TEST(power_is_cut_while_flash_is_written)
{
	static const char *const cuts[] = { "mtd0:nor:65536:4194304 mtd0:kill:0:1",
		"mtd0:nor:65536:4194304 mtd0:kill:655360:1",
		"mtd0:nor:65536:4194304 mtd0:kill:1499999:1" };
	const Board *b = &boards[BITTERN];
	board_shell(b, shorthands, "spi 1500000; cp spi.bin root" INSTALLED);
	g_autofree char *before = g_strdup(sup_hash(board_path(b, "dev/mtd0")));
	SupRun cut = BOARD_WITH_FAULTS(b, cuts[_i], "loader", INSTALLED, "--write");

	ck_assert_int_eq(cut.code, 128 + SIGKILL);
	ck_assert_str_ne(before, sup_hash(board_path(b, "dev/mtd0")));
	SupRun again = BOARD_WITH_FAULTS(b, cuts[_i], "loader", "--restore");
	ck_assert_int_eq(again.code, 128 + SIGKILL);
	SupRun restored = BOARD_WITH_FAULTS(b, nor, "loader", "--restore");
	/* Where the flash was empty the second cut may have come after all was back. */
	bench_expect(&restored, 0, _i == 0 ? "put back  " : "1507328 bytes of /dev/mtd0 at 0");
	ck_assert_str_eq(before, sup_hash(board_path(b, "dev/mtd0")));
	SupRun whole = BOARD_WITH_FAULTS(b, nor, "loader", INSTALLED, "--write");
	bench_expect(&whole, 0, "loader done: everything was read back");
	board_shell(b, "", "cmp -n 1500000 spi.bin dev/mtd0");
}
END_TEST

/* What lies behind the loader in its last erase block is erased with it, and comes back with it. */
START_TEST(neighbours_in_an_erase_block)
{
	static const char cut[] = "mtd0:nor:65536:4194304 mtd0:kill:1499999:1";
	const Board *b = &boards[BITTERN];

	board_shell(b, shorthands,
		"spi 1500000; cp spi.bin root" INSTALLED
		"; printf 'the settings of the station' | dd "
		"of=dev/mtd0 bs=1 seek=1505000 conv=notrunc status=none");
	g_autofree char *before = g_strdup(sup_hash(board_path(b, "dev/mtd0")));
	SupRun run = BOARD_WITH_FAULTS(b, cut, "loader", INSTALLED, "--write");
	ck_assert_int_eq(run.code, 128 + SIGKILL);
	ck_assert_str_ne(before, sup_hash(board_path(b, "dev/mtd0")));
	SupRun restored = BOARD_WITH_FAULTS(b, nor, "loader", "--restore");
	bench_expect(&restored, 0, "put back");
	ck_assert_str_eq(before, sup_hash(board_path(b, "dev/mtd0")));
}
END_TEST

/* A flash that refuses a write, and one that loses one: the original comes back from what was saved
 * before. */
static const struct {
	const char *faults, *text;
	int restored;
} failures[] = {
	{ "mtd0:deny:655360:65536", "Input/output error", 0 },
	{ "mtd0:lose:655360:65536", "read back is", 0 },
	{ "mtd0:deny:0:1500000", "Input/output error", 0 },
};

START_TEST(a_flash_that_fails_is_restored)
{
	const Board *b = &boards[BITTERN];
	board_shell(b, shorthands, "spi 1500000; cp spi.bin root" INSTALLED);
	g_autofree char *before = g_strdup(sup_hash(board_path(b, "dev/mtd0")));
	SupRun run = BOARD_WITH_FAULTS(b, failures[_i].faults, "loader", INSTALLED, "--write");

	bench_expect(&run, 4, failures[_i].text);
	bench_expect(&run, 4, "rewind");
	SupRun back = BOARD_RUN(b, "loader", "--restore");
	bench_expect(&back, failures[_i].restored, NULL);
	ck_assert_str_eq(before, sup_hash(board_path(b, "dev/mtd0")));
	SupRun none = BOARD_RUN(b, "loader", "--restore");
	bench_expect(&none, 0, "there is no change to undo");
}
END_TEST

START_TEST(what_cannot_be_saved_is_not_written)
{
	const Board *b = &boards[BITTERN];
	board_shell(b, shorthands, "spi 1500000; cp spi.bin root" INSTALLED);
	g_autofree char *before = g_strdup(sup_hash(board_path(b, "dev/mtd0")));
	SupRun run = BOARD_WITH_FAULTS(b, "mtd0:read:655360:65536", "loader", INSTALLED, "--write");

	bench_expect(&run, 3, "Input/output error");
	ck_assert_str_eq(before, sup_hash(board_path(b, "dev/mtd0")));
}
END_TEST

/* Somebody wrote another loader since: that is theirs. */
START_TEST(another_loader_since)
{
	const Board *b = &boards[BITTERN];
	SupRun run = BOARD_RUN(b, "loader", INSTALLED, "--write");
	bench_expect(&run, 0, NULL);
	board_shell(b, "", "printf owls | dd of=dev/mtd0 bs=1 seek=70000 conv=notrunc");
	SupRun left = BOARD_RUN(b, "loader", "--restore");
	bench_expect(&left, 1, "somebody wrote there since");
}
END_TEST

/* Before the first partition, and nothing else of the disk. */
START_TEST(a_medium_gets_its_loader)
{
	const Board *b = &boards[BITTERN];
	board_shell(b, shorthands, "rock r; cp r root" INSTALLED "; cp --sparse=always $I was");
	SupRun run = BOARD_RUN(b, "loader", INSTALLED, "--on", "mmcblk1", "--write");

	bench_expect(&run, 0, "loader done: everything was read back");
	board_shell(b, "", "dd if=r of=was bs=32k seek=1 conv=notrunc; cmp was $I");
	board_judge(board_disk(b, false));
	SupRun shown = BOARD_RUN(b, "loader");
	bench_expect(&shown, 0, "medium       mmcblk1, before its first partition: Rockchip");
	SupRun back = BOARD_RUN(b, "rewind");
	bench_expect(&back, 0, "of /dev/mmcblk1 at 32768");
}
END_TEST

/* What this machine is says nothing of an image that is prepared on it. */
START_TEST(an_image_gets_its_loader)
{
	const Board *b = &boards[BITTERN];
	board_shell(b, shorthands,
		"rock r; sun s; cp --sparse=always $I was; cp --sparse=always $I card");
	g_autofree char *rock = g_strdup(board_path(b, "r"));
	g_autofree char *sun = g_strdup(board_path(b, "s"));
	g_autofree char *on = g_strdup(board_path(b, "card"));
	g_autofree char *before = g_strdup(sup_hash(on));
	SupRun empty = BOARD_RUN(b, "loader", "--on", on);
	SupRun kind = BOARD_RUN(b, "loader", rock, "--on", on, "--despite", "board");
	SupRun board = BOARD_RUN(b, "loader", rock, "--on", on, "--despite", "kind");

	bench_expect(&empty, 0, "has nothing before its first partition");
	ck_assert_ptr_null(strstr(empty.out, "mtd0"));
	bench_expect(&kind, 3, "is for is not known");
	bench_expect(&board, 3, "is for is not known");
	SupRun run = BOARD_RUN(b, "loader", rock, "--on", on, "--despite", "board", "--despite",
		"kind", "--write");
	bench_expect(&run, 0, "loader done: everything was read back");
	board_shell(b, "", "dd if=r of=was bs=32k seek=1 conv=notrunc; cmp was card");
	board_judge(on);
	SupRun again = BOARD_RUN(b, "loader", rock, "--on", on, "--despite", "board");
	bench_expect(&again, 0, "\nalready set; nothing to do\n");
	SupRun other = BOARD_RUN(b, "loader", sun, "--on", on, "--despite", "board");
	bench_expect(&other, 3, "lies one for Rockchip");
	SupRun back = BOARD_RUN(b, "loader", "--restore", "--on", on);
	bench_expect(&back, 0, "put back  6144 bytes of ");
	ck_assert_str_eq(before, sup_hash(on));
	/* Nothing of it is among the machine's own records. */
	SupRun none = BOARD_RUN(b, "loader", "--restore");
	bench_expect(&none, 0, "there is no change to undo");
	g_autofree char *folder = g_strconcat(on, ".wanderitas", NULL);
	SupRun rewound = BOARD_RUN(b, "rewind", folder);
	bench_expect(&rewound, 0, "there is no change to undo");
	SupRun missing = BOARD_RUN(b, "rewind", "/nowhere");
	bench_expect(&missing, 2, "there is no logbook /nowhere");
}
END_TEST

START_TEST(boards_with_firmware)
{
	SupRun run = BENCH_RUN("loader");
	SupRun json = BENCH_RUN("--json", "loader");

	bench_expect(&run, 0, "is in an EEPROM; the command order shows it");
	bench_expect(&json, 0, "\"format\": \"wanderitas-loader/2\"");
}
END_TEST

Suite *suite_loader(void)
{
	Suite *s = suite_create("cli/loader");
	TCase *t = tcase_create("loader");

	tcase_add_unchecked_fixture(t, bench_make, bench_remove);
	tcase_add_checked_fixture(t, sup_setup, sup_teardown);
	tcase_add_loop_test(t, each_case, 0, (int)G_N_ELEMENTS(cases));
	tcase_add_test(t, flash_is_written_and_restored);
	tcase_add_test(t, cells_are_erased_before_they_are_written);
	tcase_add_test(t, neighbours_in_an_erase_block);
	tcase_add_loop_test(t, power_is_cut_while_flash_is_written, 0, 3);
	tcase_add_loop_test(t, a_flash_that_fails_is_restored, 0, (int)G_N_ELEMENTS(failures));
	tcase_add_test(t, what_cannot_be_saved_is_not_written);
	tcase_add_test(t, another_loader_since);
	tcase_add_test(t, a_medium_gets_its_loader);
	tcase_add_test(t, an_image_gets_its_loader);
	tcase_add_test(t, boards_with_firmware);
	suite_add_tcase(s, t);
	return s;
}
