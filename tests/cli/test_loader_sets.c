/* Boot loaders of several files, as packages bring them, for the board that runs and for the images
 * of others. Device trees are made by dtc. What Debian's own packages have is held against the
 * program in tests/loaders. */
#include "boards.h"

#include <string.h>

Suite *suite_loader_sets(void);

enum { HERON, BITTERN };

/* In the bench's folder: tree NAMES makes t.dtb; pair FOLDER NAMES and sun FOLDER NAMES make what a
 * package has for a board; board NAMES makes the bench that board. Names are in quotes and between
 * commas and blanks: "owls,box", "rockchip,rk3399". */
static const char shorthands[] =
	"U=root/usr/lib/u-boot;"
	"tree() { printf '/dts-v1/; / { compatible = %s; model = \"Owl Box\"; };' \"$1\" | dtc -q -o t.dtb; };"
	"first() { { printf '%b' $1; printf 'U-Boot SPL 2025.01 (Jan 1)'; head -c 5000 /dev/urandom; }; };"
	"fit() { { printf 'U-Boot 2025.01 (Jan 1)'; cat t.dtb; head -c 70000 /dev/urandom; } > p;"
	" echo \"/dts-v1/; / { images { u-boot { data-size = <$(stat -c %s p)>; data-offset = <0>; }; }; };\" | dtc -q -o f.dtb;"
	" truncate -s %4 f.dtb; cat f.dtb p; };"
	"pair() { mkdir -p $U/$1; tree \"$2\"; first RKNS > $U/$1/idbloader.img; fit > $U/$1/u-boot.itb; };"
	"image() { { printf 'U-Boot 2025.01 (Jan 1)'; cat t.dtb; head -c 70000 /dev/urandom; } > p;"
	" mkimage -A arm -T firmware -C none -n U-Boot -d p $1 > /dev/null; };"
	"code() { { printf 'U-Boot SPL 2025.01 (Jan 1)'; head -c 5000 /dev/urandom; } > p; };"
	"sun() { mkdir -p $U/$1; tree \"$2\"; code; mkimage -T sunxi_egon -d p egon > /dev/null; image second;"
	" { cat egon; head -c $((32768 - $(stat -c %s egon))) /dev/zero; cat second; }"
	" > $U/$1/u-boot-sunxi-with-spl.bin; };"
	"stm() { mkdir -p $U/$1; tree \"$2\"; code; mkimage -T stm32image -a 0x2ffc2500 -e 0x2ffc2500 -d p"
	" $U/$1/u-boot-spl.stm32 > /dev/null; image $U/$1/u-boot.img; };"
	"ti() { mkdir -p $U/ti; tree '\"ti,owls\", \"ti,am33xx\"'; code; mkimage -T omapimage -a 0x402f0400 -d p $U/ti/MLO"
	" > /dev/null; image $U/ti/u-boot.img; board ti,owls ti,am33xx; };"
	"cut() { truncate -s $(($(stat -c %s $2) - $1)) $2; };"
	"odroid() { mkdir -p $U/odroid-xu3; tree '\"samsung,odroidxu3\", \"samsung,exynos5\"';"
	" { first code; cat t.dtb; } > $U/odroid-xu3/u-boot.bin; };"
	"board() { printf '%s\\0' \"$@\" > proc/device-tree/compatible; };"
	"emmc() { for n in 0 1; do mkdir -p sys/block/mmcblk0boot$n; echo 8192 > sys/block/mmcblk0boot$n/size;"
	" echo 1 > sys/block/mmcblk0boot$n/force_ro; truncate -s 4M dev/mmcblk0boot$n; done;"
	" mkdir -p sys/block/mmcblk0 sys/devices/mmc0:0001 sys/kernel/debug/mmc0/mmc0:0001;"
	" ln -s ../../devices/mmc0:0001 sys/block/mmcblk0/device;"
	" { head -c 358 /dev/zero | tr '\\0' 0; printf $1; head -c 664 /dev/zero | tr '\\0' 0; echo; }"
	" > sys/kernel/debug/mmc0/mmc0:0001/ext_csd; };"
	"rm -rf $U;";

#define OWLS "'\"owls,box\", \"rockchip,rk3399\"'"
#define SUNNY "'\"owls,barn\", \"allwinner,sun50i-h5\"'"
#define SUN_BOARD "board owls,barn allwinner,sun50i-h5"

static const LoaderCase cases[] = {
	{ "pair owl " OWLS "; board owls,box rockchip,rk3399", { NULL }, 0,
		"installed    /usr/lib/u-boot/owl: Rockchip, U-Boot 2025.01, for a medium" },
	{ "pair owl " OWLS "; board owls,box rockchip,rk3399", { "--on", "mmcblk1" }, 0,
		"/dev/mmcblk1 at 8388608: 68" },
	/* No flash set in the package. */
	{ "pair owl " OWLS "; board owls,box rockchip,rk3399", { "--write" }, 3,
		"/usr/lib/u-boot/owl has no loader for SPI flash" },
	{ "pair owl " OWLS "; board owls,hole rockchip,rk3399", { "--on", "mmcblk1", "--write" }, 3,
		"/usr/lib/u-boot has no loader for this board (owls,hole)" },
	{ "pair owl " OWLS "; board owls,hole rockchip,rk3399",
		{ "--on", "mmcblk1", "--board", "owl" }, 3,
		"names no board like this one (owls,hole)" },
	{ "pair owl " OWLS "; board owls,hole rockchip,rk3399",
		{ "--on", "mmcblk1", "--board", "owl", "--despite=board" }, 0, "preview only" },
	/* What only the chip shares is another board. */
	{ "pair owl " OWLS "; board rockchip,rk3399", { "--on", "mmcblk1", "--write" }, 3,
		"no loader for this board" },
	/* Another revision of it. */
	{ "pair owl '\"owls,box-v2\", \"owls,box\", \"rockchip,rk3399\"'; board owls,box-v1 owls,box "
	  "rockchip,rk3399",
		{ "--on", "mmcblk1" }, 0, "preview only" },
	{ "pair owl " OWLS "; pair owls " OWLS "; board owls,box rockchip,rk3399",
		{ "--on", "mmcblk1", "--write" }, 3, "has 2 loaders for this board: owl, owls" },
	{ "pair box " OWLS "; pair owls " OWLS "; board owls,box rockchip,rk3399",
		{ "--on", "mmcblk1" }, 0, "/usr/lib/u-boot/box/idbloader.img" },
	{ "pair owl " OWLS "; board owls,box rockchip,rk3399", { "--board", "tit" }, 2,
		"/usr/lib/u-boot has no folder 'tit'" },
	{ "board owls,box rockchip,rk3399", { "--write" }, 3,
		"no package with boot loaders is installed" },
	{ "pair owl " OWLS "; board owls,box rockchip,rk3399; echo owls > $U/owl/idbloader.img",
		{ "--on", "mmcblk1", "--write" }, 3,
		"idbloader.img does not begin as a loader for Rockchip does" },
	{ "pair owl " OWLS "; board owls,box rockchip,rk3399; : > $U/owl/u-boot.itb",
		{ "--on", "mmcblk1", "--write" }, 3, "no loader for this board" },
	{ "pair owl " OWLS "; board owls,box rockchip,rk3399; rm $U/owl/idbloader.img",
		{ "--on", "mmcblk1", "--write" }, 3,
		"/usr/lib/u-boot/owl has no loader for a medium" },
	{ "pair owl " OWLS "; board owls,box rockchip,rk3399",
		{ "/usr/lib/u-boot/owl/u-boot.itb", "--on", "mmcblk1" }, 3,
		"is one of two files that are written together" },
	{ "pair owl " OWLS "; board owls,box rockchip,rk3399",
		{ "/usr/lib/u-boot/owl", "--on", "mmcblk1" }, 0, "preview only" },
	/* A copy that was cut short, and one with a wrong byte. */
	{ "pair owl " OWLS "; board owls,box rockchip,rk3399; cut 9 $U/owl/u-boot.itb",
		{ "--on", "mmcblk1", "--write" }, 3, "u-boot.itb is cut short: it has 7" },
	{ "sun barn " SUNNY "; " SUN_BOARD "; cut 1 $U/barn/u-boot-sunxi-with-spl.bin",
		{ "--on", "mmcblk1", "--write" }, 3, "with-spl.bin is cut short: it has 103," },
	{ "sun barn " SUNNY "; " SUN_BOARD
	  "; printf X | dd of=$U/barn/u-boot-sunxi-with-spl.bin bs=1 "
	  "seek=40000 conv=notrunc",
		{ "--on", "mmcblk1", "--write" }, 3,
		"the sum of what begins at byte 32768 is wrong" },
	{ "sun barn " SUNNY "; " SUN_BOARD
	  "; printf X | dd of=$U/barn/u-boot-sunxi-with-spl.bin bs=1 "
	  "seek=2000 conv=notrunc",
		{ "--on", "mmcblk1", "--write" }, 3, "the sum of what begins at byte 0 is wrong" },
	{ "stm box '\"owls,stm\", \"st,stm32mp157\"'; board owls,stm st,stm32mp157; cut 1 "
	  "$U/box/u-boot-spl.stm32",
		{ "--on", "mmcblk1", "--write" }, 3, "u-boot-spl.stm32 is cut short" },
	{ "ti", { "--on", "mmcblk1" }, 0, "preview only" },
	{ "ti; cut 1 $U/ti/MLO", { "--on", "mmcblk1", "--write" }, 3, "MLO is cut short" },
	{ "ti; cut 9 $U/ti/u-boot.img", { "--on", "mmcblk1", "--write" }, 3,
		"u-boot.img is cut short" },
	{ "mkdir -p $U/vim; tree '\"owls,vim\", \"amlogic,s905x\"'; cat t.dtb > $U/vim/u-boot.bin; board "
	  "owls,vim amlogic,s905x",
		{ "--on", "mmcblk1", "--write" }, 3,
		"has to be packed with the chip maker's signed stages first" },
	{ "mkdir -p $U/vim; tree '\"owls,vim\", \"amlogic,s905x\"'; cat t.dtb > $U/vim/u-boot.bin; board "
	  "owls,vim amlogic,s905x",
		{ NULL }, 0, "/usr/lib/u-boot/vim cannot be written as it is" },
	/* A GPT lies where these chips look first; some look at a second place. */
	{ "sun barn " SUNNY "; " SUN_BOARD, { "--on", "mmcblk1" }, 0, "/dev/mmcblk1 at 131072" },
	{ "sun barn '\"owls,barn\", \"allwinner,sun7i-a20\"'; board owls,barn allwinner,sun7i-a20",
		{ "--on", "mmcblk1", "--write" }, 3, "are its partition table's" },
	{ "sun barn " SUNNY "; " SUN_BOARD, { "--write" }, 0, "loader done" },
	{ "stm box '\"owls,stm\", \"st,stm32mp157\"'; board owls,stm st,stm32mp157",
		{ "--on", "mmcblk1", "--write" }, 3,
		"mmcblk1 has no partition with the name or type fsbl1" },
	{ "odroid; board hardkernel,odroid-xu4 samsung,exynos5800 samsung,exynos5",
		{ "--on", "mmcblk1", "--write" }, 3,
		"bytes 512 to 1024 of /dev/mmcblk1 are its partition table" },
	{ "odroid; board hardkernel,odroid-xu4 samsung,exynos5800 samsung,exynos5; emmc 48",
		{ "--on", "mmcblk0boot0" }, 3, "signed first stage" },
	{ "emmc 48; pair owl " OWLS "; board owls,box rockchip,rk3399", { NULL }, 0,
		"mmcblk0 boots from mmcblk0boot0; acknowledgement on" },
	{ "emmc 38", { NULL }, 0, "mmcblk0 boots from its main area; acknowledgement off" },
	{ "emmc 00", { NULL }, 0, "none of its boot partitions" },
	{ "emmc 48; pair owl " OWLS "; board owls,box rockchip,rk3399", { "--on", "mmcblk0boot0" },
		3, "it is not known that chips of Rockchip boot from one" },
	{ "emmc 50; sun barn " SUNNY "; " SUN_BOARD, { "--on", "mmcblk0boot0" }, 0,
		"mmcblk0 does not boot from mmcblk0boot0 yet; to have it do so: mmc bootpart enable 1 1 "
		"/dev/mmcblk0" },
};

START_TEST(each_case)
{
	loader_case(&boards[BITTERN], shorthands, &cases[_i]);
}
END_TEST

/* Both files, and nothing else of the disk; all of it comes back. */
START_TEST(a_pair_is_written_and_restored)
{
	const Board *b = &boards[BITTERN];
	board_shell(b, shorthands,
		"pair owl " OWLS "; board owls,box rockchip,rk3399; cp --sparse=always $I was");
	g_autofree char *before = g_strdup(sup_hash(board_disk(b, false)));
	SupRun run = BOARD_RUN(b, "loader", "--on", "mmcblk1", "--write");

	bench_expect(&run, 0, "loader done: everything was read back");
	board_shell(b, "U=root/usr/lib/u-boot;",
		"dd if=$U/owl/idbloader.img of=was bs=512 seek=64 conv=notrunc;"
		"dd if=$U/owl/u-boot.itb of=was bs=512 seek=16384 conv=notrunc; cmp was $I");
	board_judge(board_disk(b, false));
	SupRun again = BOARD_RUN(b, "loader", "--on", "mmcblk1", "--write");
	bench_expect(&again, 0, "already set; nothing to do");
	SupRun back = BOARD_RUN(b, "loader", "--restore");
	bench_expect(&back, 0, "put back");
	ck_assert_str_eq(before, sup_hash(board_disk(b, false)));
}
END_TEST

/* The power is cut between the two: the stage that the chip reads is still the old one, and both
 * come back. */
START_TEST(a_cut_between_the_two)
{
	const Board *b = &boards[BITTERN];
	board_shell(b, shorthands, "pair owl " OWLS "; board owls,box rockchip,rk3399");
	g_autofree char *before = g_strdup(sup_hash(board_disk(b, false)));
	SupRun cut = BOARD_WITH_FAULTS(
		b, "mmcblk1:kill:32768:1", "loader", "--on", "mmcblk1", "--write");

	ck_assert_int_ne(cut.code, 0);
	board_shell(b, "", "cmp -n 70000 -i 0:8388608 root/usr/lib/u-boot/owl/u-boot.itb $I");
	SupRun back = BOARD_RUN(b, "loader", "--restore");
	bench_expect(&back, 0, "put back");
	ck_assert_str_eq(before, sup_hash(board_disk(b, false)));
}
END_TEST

START_TEST(partitions_of_their_own)
{
	const Board *b = &boards[BITTERN];
	board_shell(b, shorthands,
		"stm box '\"owls,stm\", \"st,stm32mp157\"'; board owls,stm st,stm32mp157;"
		"truncate -s 32M stm.img; printf 'label: gpt\\nstart=2048, size=512, name=fsbl1\\nstart=4096, "
		"size=512, name=fsbl2\\nstart=8192, size=4096, name=ssbl\\nstart=16384\\n' | sfdisk -q stm.img;"
		"cp stm.img dev/mmcblk1; cp stm.img was");
	SupRun run = BOARD_RUN(b, "loader", "--on", "mmcblk1", "--write");

	bench_expect(&run, 0, "loader done: everything was read back");
	board_shell(b, "U=root/usr/lib/u-boot/box;",
		"dd if=$U/u-boot-spl.stm32 of=was bs=512 seek=2048 conv=notrunc;"
		"dd if=$U/u-boot-spl.stm32 of=was bs=512 seek=4096 conv=notrunc;"
		"dd if=$U/u-boot.img of=was bs=512 seek=8192 conv=notrunc; cmp was dev/mmcblk1");
	SupRun shown = BOARD_RUN(b, "loader");
	bench_expect(&shown, 0, "mmcblk1, in partitions of its own: U-Boot 2025.01");
	SupRun back = BOARD_RUN(b, "loader", "--restore");
	bench_expect(&back, 0, "put back");
	board_shell(b, "", "cmp stm.img dev/mmcblk1");
}
END_TEST

/* It is overwritten only when its name is given, and is locked again afterwards. */
START_TEST(an_emmc_boot_partition)
{
	const Board *b = &boards[BITTERN];
	board_shell(b, shorthands, "emmc 48; sun barn " SUNNY "; " SUN_BOARD);
	g_autofree char *before = g_strdup(sup_hash(board_path(b, "dev/mmcblk0boot0")));
	SupRun silent = BOARD_RUN(b, "loader", "--on", "mmcblk0boot0", "--write");
	SupRun other = BOARD_RUN(
		b, "loader", "--on", "mmcblk0boot0", "--write", "--erase", "mmcblk0boot1");

	bench_expect(&silent, 3, "the name of the eMMC boot partition was not typed");
	bench_expect(&other, 3, "'mmcblk0boot1' is not the name of the eMMC boot partition");
	ck_assert_str_eq(before, sup_hash(board_path(b, "dev/mmcblk0boot0")));
	SupRun run = BOARD_RUN(
		b, "loader", "--on", "mmcblk0boot0", "--write", "--erase", "mmcblk0boot0");
	bench_expect(&run, 0, "loader done: everything was read back");
	ck_assert_ptr_null(strstr(run.out, "bootpart"));
	board_shell(b, "",
		"f=root/usr/lib/u-boot/barn/u-boot-sunxi-with-spl.bin; cmp -n $(stat -c %s $f) $f "
		"dev/mmcblk0boot0; [ $(cat sys/block/mmcblk0boot0/force_ro) = 1 ]");
	SupRun back = BOARD_RUN(b, "loader", "--restore");
	bench_expect(&back, 0, "put back");
	ck_assert_str_eq(before, sup_hash(board_path(b, "dev/mmcblk0boot0")));
}
END_TEST

/* What an image is for is told by the loader on it, and by what its system keeps; its own packages
 * come before this machine's. */
START_TEST(images_of_other_boards)
{
	const Board *b = &boards[BITTERN];
	board_shell(b, shorthands,
		"pair owl " OWLS
		"; cp --sparse=always $I card; board tits,nest allwinner,sun50i-h5");
	g_autofree char *card = g_strdup(board_path(b, "card"));
	SupRun unknown = BOARD_RUN(b, "loader", "--on", card, "--write");
	bench_expect(&unknown, 3, "is for is not known");
	SupRun named = board_follow(&unknown, "is for is not known");
	bench_expect(&named, 0, "loader done");
	SupRun known = BOARD_RUN(b, "loader", "--on", card);
	bench_expect(&known, 0, "board        Owl Box, as its boot loader says");
	bench_expect(&known, 0, "already set");
	SupRun back = BOARD_RUN(b, "loader", "--restore", "--on", card);
	bench_expect(&back, 0, "put back");
	board_debugfs(card, 1, true, "mkdir etc/flash-kernel");
	board_put(card, 1, false, "etc/flash-kernel/machine", "Owl Box\n");
	SupRun kept = BOARD_RUN(b, "loader", "--on", card, "--write");
	bench_expect(&kept, 0, "board        Owl Box, as its /etc/flash-kernel/machine says");
	bench_expect(&kept, 0, "loader done");
	board_judge(card);
}
END_TEST

Suite *suite_loader_sets(void)
{
	Suite *s = suite_create("cli/loader_sets");
	TCase *t = tcase_create("loader_sets");

	tcase_add_unchecked_fixture(t, bench_make, bench_remove);
	tcase_add_checked_fixture(t, sup_setup, sup_teardown);
	tcase_add_loop_test(t, each_case, 0, (int)G_N_ELEMENTS(cases));
	tcase_add_test(t, a_pair_is_written_and_restored);
	tcase_add_test(t, a_cut_between_the_two);
	tcase_add_test(t, partitions_of_their_own);
	tcase_add_test(t, an_emmc_boot_partition);
	tcase_add_test(t, images_of_other_boards);
	suite_add_tcase(s, t);
	return s;
}
