/* Rehearsals of the sample boards as they are, and broken in one way each. That the verdicts are
 * those of real loaders and kernels is what tests/lab/corpus is for. */
#include "boards.h"

#include <string.h>

Suite *suite_rehearse(void);

enum { HERON, BITTERN, KINGFISHER };

static const char *const good[] = { "rehearsed: mmcblk0 boots\n", "rehearsed: mmcblk1 boots\n",
	"rehearsed: mmcblk0 boots with warnings\n" };

START_TEST(sample_boards_start)
{
	const Board *b = &boards[_i];
	g_autofree char *before = g_strdup(sup_hash(board_disk(b, false)));
	SupRun run = BOARD_RUN(b, "rehearse", b->card);

	bench_expect(&run, 0, good[_i]);
	ck_assert_str_eq(before, sup_hash(board_disk(b, false)));
}
END_TEST

/* And so do the drives that they are moved to; root alone does not, without its card. */
START_TEST(moved_boards_start)
{
	const Board *b = &boards[_i];
	SupRun move = BOARD_RUN(b, "move", "--to", b->drive, "--erase", b->drive);

	bench_expect(&move, 0, "boots");
	ck_assert_ptr_nonnull(strstr(move.out, "rehearsed: "));
	ck_assert_ptr_nonnull(strstr(move.out, "  1. power off, take the SD card out, power on\n"));
	SupRun run = BOARD_RUN(b, "rehearse", b->drive);
	bench_expect(&run, 0, "boots");
	SupRun alone =
		BOARD_RUN(b, "move", "--to", b->drive, "--erase", b->drive, "--what", "root");
	bench_expect(&alone, 0, "done");
	/* Neither starts without the other: the verdict is of both. */
	bench_expect(&alone, 0, "with root on");
	SupRun card = BOARD_RUN(b, "rehearse", b->card, "--without", b->drive);
	bench_expect(&card, 1, "names nothing on the disks that are plugged in");
}
END_TEST

/* A command of bash with the card as $I, its partition 1 as $V1 and 2 as $V2 (for debugfs), and
 * what comes of it. */
static const struct {
	int board;
	const char *command;
	const char *medium; /* NULL: the card's own */
	int code;
	const char *text;
} changes[] = {
	{ HERON, "mdel -i $I@@4M ::kernel8.img ::kernel_2712.img", NULL, 1,
		"no kernel that boards of the 5 series look for: kernel_2712.img, kernel8.img" },
	{ HERON,
		"printf 'include config.txt\\ninclude config.txt\\n' > c; mcopy -o -i $I@@4M c "
		"::config.txt",
		NULL, 0, "boot files include each other in a circle" },
	{ HERON,
		"printf 'include d.txt\\ninclude d.txt\\n' > c; printf 'include config.txt\\ninclude "
		"config.txt\\n' > d; mcopy -o -i $I@@4M c ::config.txt; mcopy -o -i $I@@4M d ::d.txt",
		NULL, 0, "boot files include each other in a circle" },
	{ BITTERN, "mangle '1i INCLUDE extlinux.conf\\nINCLUDE extlinux.conf'", NULL, 0,
		"boot files include each other in a circle" },
	{ HERON,
		"yes '# a heron' | head -c 1100000 > f; debugfs -R 'cat /etc/fstab' $V2 >> f; printf 'rm "
		"/etc/fstab\\nwrite f /etc/fstab\\n' | debugfs -w -f - $V2",
		NULL, 1, "etc/fstab cannot be read (too large, or damaged)" },
	{ HERON, "printf 'root=/dev/mmcblk0p2 rootwait\\n' > c; mcopy -o -i $I@@4M c ::cmdline.txt",
		"nvme", 1, "attached as NVMe, no disk is called so" },
	{ HERON,
		"printf 'root=PARTUUID=4c1fa2b0-02 root=/dev/mmcblk0p2 rootwait\\n' > c; mcopy -o -i "
		"$I@@4M c ::cmdline.txt",
		"usb", 1, "attached as USB disk, no disk is called so" },
	{ HERON, "printf 'root=/dev/mmcblk0p2 rootwait\\n' > c; mcopy -o -i $I@@4M c ::cmdline.txt",
		"emmc", 0, "boots" },
	{ HERON,
		"mkdir i; cd i; printf '#!/bin/sh\\n' > init; chmod +x init; find . | cpio -o -H newc > "
		"../r; cd ..; mcopy -o -i $I@@4M r ::initramfs_2712",
		NULL, 0, "made by no generator that is known" },
	{ HERON, "mdel -i $I@@4M ::kernel_2712.img", NULL, 0,
		"kernel8.img, as on boards of the 5 series" },
	{ HERON, "mdel -i $I@@4M ::initramfs_2712", NULL, 0,
		"the initramfs /initramfs_2712 is not there (asked for in config.txt:4): the kernel boots without it" },
	{ HERON, "mdel -i $I@@4M ::initramfs_2712", "nvme", 1,
		"the nvme driver is only on the root disk itself" },
	{ HERON, "printf 'kernel=none.img\\n' > c; mcopy -o -i $I@@4M c ::config.txt", NULL, 1,
		"the kernel /none.img is not there (asked for in config.txt:1)" },
	{ HERON, "printf 'kernel=KERNEL8.IMG\\n' > c; mcopy -o -i $I@@4M c ::config.txt", NULL, 0,
		"kernel /KERNEL8.IMG: Image for arm64" },
	{ HERON,
		"printf 'root=UUID=6d1c7a52-0b7e-4f5e-9a43-2f8f5d1b9c30 rootwait' > c;"
		"mcopy -o -i $I@@4M c ::cmdline.txt; echo arm_64bit=1 > c; mcopy -o -i $I@@4M c ::config.txt",
		NULL, 1,
		"without an initramfs the kernel finds root by device path, PARTUUID and" },
	{ HERON,
		"printf 'root=PARTUUID=4C1FA2B0-02' > c; mcopy -o -i $I@@4M c ::cmdline.txt;"
		"echo arm_64bit=1 > c; mcopy -o -i $I@@4M c ::config.txt",
		NULL, 0, "no rootwait" },
	{ HERON, "printf 'root=PARTUUID=4C1FA2B0-02' > c; mcopy -o -i $I@@4M c ::cmdline.txt", NULL,
		1, "it is written in other capitals" },
	{ HERON,
		"printf 'quiet\\nroot=PARTUUID=4c1fa2b0-02' > c; mcopy -o -i $I@@4M c ::cmdline.txt",
		NULL, 1, "no root= among the kernel arguments" },
	{ HERON,
		"printf 'root=PARTUUID=4c1fa2b0-02 rootwait rootflags=commit=30,subvol=@' > c;"
		"mcopy -o -i $I@@4M c ::cmdline.txt",
		NULL, 1, "ext4 does not know the mount option subvol" },
	{ HERON,
		"printf 'root=PARTUUID=4c1fa2b0-02 rootwait rootflags=noatime' > c;"
		"mcopy -o -i $I@@4M c ::cmdline.txt",
		NULL, 0, "rehearsed: mmcblk0 boots" },
	{ HERON,
		"printf 'root=PARTUUID=4c1fa2b0-02 rootwait rootflags=noatime' > c;"
		"mcopy -o -i $I@@4M c ::cmdline.txt; echo arm_64bit=1 > c;"
		"mcopy -o -i $I@@4M c ::config.txt",
		NULL, 1, "without an initramfs the kernel does not know the mount option noatime" },
	{ HERON, "sfdisk -q --part-type $I 1 83", NULL, 1,
		"which the firmware does not take for a FAT partition" },
	{ HERON, "debugfs -w -R 'rm /usr/lib/systemd/systemd' $V2", NULL, 1,
		"/sbin/init: it is not there" },
	{ HERON, "debugfs -w -R 'sif /usr/lib/systemd/systemd mode 0100644' $V2", NULL, 1,
		"it is not executable" },
	{ HERON,
		"printf 'rm /usr/lib/systemd/systemd\\nwrite /bin/true /usr/lib/systemd/systemd\\n"
		"sif /usr/lib/systemd/systemd mode 0100755\\n' | debugfs -w -f - $V2",
		NULL, 1, "the kernel for arm64" },
	{ HERON,
		"printf '#!/bin/none\\n' > s; printf 'rm /usr/lib/systemd/systemd\\nwrite s "
		"/usr/lib/systemd/systemd\\nsif /usr/lib/systemd/systemd mode 0100755\\n' | debugfs -w -f - $V2",
		NULL, 1, "/bin/none: it is not there" },
	{ BITTERN, "mangle s/2f9a61c4/2f9a61c5/", NULL, 1, "it matches no partition of this disk" },
	{ BITTERN, "mangle s/UUID=2f9a61c4/UUID=2F9A61C4/", NULL, 1,
		"it is written in other capitals" },
	{ BITTERN, "mangle 's/\\tlinux.*/\\tlinux none/'", NULL, 1,
		"the kernel /boot/extlinux/none is not there (asked for in boot/extlinux/extlinux.conf:11)" },
	{ BITTERN, "mangle '0,/vmlinuz/s,vmlinuz,none,'", NULL, 0,
		"entry l0 cannot be loaded; U-Boot falls back to entry l0r" },
	{ BITTERN, "mangle '0,/vmlinuz/s,\\tlinux,\\tspeed 9\\n\\tlinux,'", NULL, 0,
		"entry l0 has no kernel" },
	{ BITTERN, "mangle 's/$/\\r/'", NULL, 1, "is not there" },
	{ BITTERN, "debugfs -w -R 'rm /boot/initrd.img-6.1.0-field-arm64' $V1", NULL, 1,
		"the initramfs /boot/initrd.img-6.1.0-field-arm64 is not there" },
	{ BITTERN,
		"printf '\\x04\\x22\\x4d\\x18 x' > i; printf 'rm /boot/initrd.img-6.1.0-field-arm64\\n"
		"write i /boot/initrd.img-6.1.0-field-arm64\\n' | debugfs -w -f - $V1",
		NULL, 1, "lz4's modern frame" },
	{ BITTERN, ":", "usb", 1, "the usb_storage driver is only on the root disk itself" },
	{ BITTERN,
		"printf 'kernel/usb-storage.ko\nkernel/sd_mod.ko\n' > b; index builtin b; echo "
		"kernel/uas.ko: > d; index dep d",
		"usb", 0, "usb_storage leaves bridges that speak UAS to it" },
	{ BITTERN,
		"echo 'softdep ext4 pre: crypto-crc32c' > s; index softdep s; echo 'alias "
		"crypto-crc32c crc32c_generic' > a; index alias a",
		"nvme", 1,
		"but nothing that provides the crypto-crc32c it asks for (crc32c_generic)" },
	{ BITTERN,
		"echo 'softdep ext4 pre: crypto-crc32c' > s; index softdep s; echo 'alias "
		"crypto-crc32c crc32c_generic' > a; index alias a; printf "
		"'crc32c_generic.alias=crypto-crc32c\\0' > i; index builtin.modinfo i",
		"nvme", 0, "root's file system: ext4 is in the initramfs" },
	{ BITTERN, ":", "nvme", 0, "NVMe: nvme is in the initramfs" },
	{ BITTERN, "sfdisk -q --part-attrs $I 1 ''; sfdisk -q --part-attrs $I 2 LegacyBIOSBootable",
		NULL, 1, "another partition is marked bootable" },
	{ BITTERN, "sfdisk -q --part-attrs $I 1 ''", NULL, 0, "no partition is marked bootable" },
	{ BITTERN,
		"echo 'UUID=0b0b0b0b-1111-4222-8333-444444444444 /srv/owls ext4 defaults 0 2' > f;"
		"printf 'rm /etc/fstab\\nwrite f /etc/fstab\\n' | debugfs -w -f - $V1",
		NULL, 1, "the boot waits 90 s for it and ends in emergency mode" },
	{ BITTERN,
		"echo 'UUID=0b0b0b0b-1111-4222-8333-444444444444 /srv/owls ext4 nofail 0 2' > f;"
		"printf 'rm /etc/fstab\\nwrite f /etc/fstab\\n' | debugfs -w -f - $V1",
		NULL, 0, "it is skipped (nofail)" },
	{ KINGFISHER, "debugfs -w -R 'rm /Image' $V1", NULL, 1,
		"the kernel /Image is not there (asked for in boot.scr:13)" },
	{ KINGFISHER,
		"debugfs -R 'dump /boot.scr s' $V1; printf X | dd of=s bs=1 seek=200 conv=notrunc;"
		"printf 'rm /boot.scr\\nwrite s /boot.scr\\n' | debugfs -w -f - $V1",
		NULL, 1, "boot.scr: " },
	{ KINGFISHER, ":", "nvme", 1, "the nvme driver is only on the root disk itself" },
	{ KINGFISHER,
		"printf 'if test ${board} = owl; then\\nbooti 1 2 3\\nfi\\n' > c;"
		"mkimage -A arm64 -T script -d c s; printf 'rm /boot.scr\\nwrite s /boot.scr\\n' |"
		" debugfs -w -f - $V1",
		NULL, 1, "what the script does here is known when it runs: boot.scr:1: if test" },
	/* One branch of several is taken, whatever the number. */
	{ KINGFISHER,
		"{ printf 'if test -e mmc 0 none; then\\nsetenv x a\\nelif test -e mmc 0 Image; "
		"then\\nsetenv x b\\nelif test -e mmc 0 uInitrd; then\\nsetenv x c\\nelse\\nsetenv x "
		"d\\nfi\\nif test \"${x}\" = \"b\"; then echo right; else load mmc 0 1 gone; booti 1 - -; "
		"fi\\n'; rest; } > c; scr c",
		NULL, 0, "boots" },
	{ KINGFISHER,
		"{ printf 'test -e mmc 0 none && setenv x a || setenv x b\\ntest -e mmc 0 Image && test "
		"\"${x}\" != \"b\" && booti 1 - -\\n'; rest; } > c; scr c",
		NULL, 0, "boots" },
	{ KINGFISHER,
		"{ printf 'if test -e mmc 0 none; then if true; then echo a; else echo b; fi; load mmc 0 1 "
		"gone; booti 1 - -; fi\\n'; rest; } > c; scr c",
		NULL, 0, "boots" },
	{ KINGFISHER, "{ printf 'test \"${slot}\" = \"b\" && setenv x b\\n'; rest; } > c; scr c",
		NULL, 1,
		"what the script does here is known when it runs: boot.scr:1: setenv x b" },
	{ KINGFISHER,
		"{ printf 'if test -e mmc 0 none; then echo a\\nelif test \"${slot}\" = b; then echo "
		"c\\nfi\\n'; rest; } > c; scr c",
		NULL, 1, "boot.scr:2: if test" },
	{ KINGFISHER, "{ printf 'part uuid mmc 0:2 partuuid\\n'; rest; } > c; scr c", NULL, 1,
		"boot.scr:1: part uuid mmc 0:2 partuuid" },
};

static const char shorthands[] =
	/* scr FILE: the loader's script is made of this text */
	"scr() { mkimage -A arm64 -T script -C none -d $1 s >/dev/null; printf 'rm /boot.scr\\nwrite s "
	"/boot.scr\\n' | debugfs -w -f - $V1; };"
	"rest() { printf 'setenv load_addr 0x45000000\\nload mmc 0 ${load_addr} weirEnv.txt\\nenv import -t ${load_addr} 9\\nsetenv "
	"bootargs \"root=${rootdev} rootwait\"\\nload mmc 0 ${ramdisk_addr_r} uInitrd\\nload mmc 0 "
	"${kernel_addr_r} Image\\nbooti ${kernel_addr_r} ${ramdisk_addr_r} -\\n'; };"
	"M=/boot/extlinux/extlinux.conf; mangle() { debugfs -R \"dump $M m\" $V1; sed -i \"$1\" m;"
	" printf \"rm $M\\nwrite m $M\\n\" | debugfs -w -f - $V1; };"
	/* index NAME FILE: one of its kernel's indexes of modules */
	"index() { N=/usr/lib/modules/6.1.0-field-arm64/modules.$1;"
	" printf \"rm $N\\nwrite $2 $N\\n\" | debugfs -w -f - $V1; };";

START_TEST(one_thing_broken)
{
	const Board *b = &boards[changes[_i].board];

	board_shell(b, shorthands, changes[_i].command);
	SupRun run = changes[_i].medium
			     ? BOARD_RUN(b, "rehearse", b->card, "--medium", changes[_i].medium)
			     : BOARD_RUN(b, "rehearse", b->card);
	bench_expect(&run, changes[_i].code, changes[_i].text);
}
END_TEST

/* A move of what does not boot ends well, and does not say that the card may come out. */
START_TEST(a_move_of_what_does_not_boot)
{
	static const char *const requests[] = { "sif /usr/lib/systemd/systemd mode 0100644", NULL };

	bench_change_root(bench_path("dev/mmcblk0"), requests);
	SupRun refused = BENCH_RUN("move", "--to", "nvme0n1", "--erase", "nvme0n1");
	bench_expect(&refused, 3, "the check 'init' stops the move");
	SupRun move =
		BENCH_RUN("move", "--to", "nvme0n1", "--erase", "nvme0n1", "--despite", "init");
	bench_expect(&move, 0, "rehearsed: nvme0n1 does not boot");
	bench_expect(&move, 0, "/sbin/init: it is not executable");
	ck_assert_ptr_null(strstr(move.out, "power off"));
	SupRun json = BENCH_RUN(
		"--json", "move", "--to", "nvme0n1", "--erase", "nvme0n1", "--despite", "init");
	bench_expect(&json, 0, "\"rehearsed\": \"does not boot\"");
}
END_TEST

START_TEST(an_unfinished_move)
{
	SupRun move = BENCH_RUN("move", "--to", "nvme0n1", "--erase", "nvme0n1");

	bench_expect(&move, 0, "done");
	sup_poke(bench_path("dev/nvme0n1"), BOOT_AT,
		"Wanderitas: this disk is the target of an unfinished move.\n", 60);
	SupRun run = BENCH_RUN("rehearse", "nvme0n1");
	bench_expect(&run, 1, "does not boot");
}
END_TEST

/* With the other disks of the machine left in, a root alone starts from its card. */
START_TEST(without_one_disk)
{
	const Board *b = &boards[_i];
	SupRun move = BOARD_RUN(b, "move", "--to", b->drive, "--erase", b->drive, "--what", "root");

	bench_expect(&move, 0, "done");
	g_autofree char *both =
		g_strdup_printf("rehearsed: %s with root on %s boots", b->card, b->drive);
	bench_expect(&move, 0, both);
	/* What is going to be restarted is both, whichever is named. */
	SupRun card = BOARD_RUN(b, "rehearse", b->card);
	bench_expect(&card, 0, both);
	SupRun drive = BOARD_RUN(b, "rehearse", b->drive);
	bench_expect(&drive, 0, both);
	ck_assert_ptr_null(strstr(drive.out, "readdress"));
	SupRun with = BOARD_RUN(b, "rehearse", b->card, "--with-disk", b->drive);
	bench_expect(&with, 0, "boots");
	bench_expect(&with, 0, b->drive);
	SupRun nothing = BOARD_RUN(b, "rehearse", b->card, "--without", b->drive);
	bench_expect(&nothing, 1, "names nothing on the disks that are plugged in");
	SupRun itself = BOARD_RUN(b, "rehearse", b->card, "--without", b->card);
	bench_expect(&itself, 2, "that is the disk that is rehearsed");
	SupRun back = BOARD_RUN(b, "rewind");
	bench_expect(&back, 0, "put back");
	SupRun alone = BOARD_RUN(b, "rehearse", b->card);
	bench_expect(&alone, 0, "boots");
}
END_TEST

START_TEST(as_json)
{
	SupRun run = BENCH_RUN("--json", "rehearse", "mmcblk0");

	bench_expect(&run, 0, "\"format\": \"wanderitas-rehearsal/2\"");
	bench_expect(&run, 0, "\"verdict\": \"boots\"");
	bench_expect(&run, 0, "\"name\": \"drivers\"");
}
END_TEST

static const struct {
	const char *arguments[5];
	const char *text;
} wrong[] = {
	{ { "rehearse" }, "rehearse takes one disk" },
	{ { "rehearse", "mmcblk0", "nvme0n1" }, "rehearse takes one disk" },
	{ { "rehearse", "owl0" }, "there is no disk and no image file 'owl0'" },
	{ { "rehearse", "mmcblk0", "--medium", "tape" }, "--medium is nvme, usb, sd or emmc" },
};

START_TEST(wrong_words)
{
	SupRun run = bench_run("", wrong[_i].arguments);

	bench_expect(&run, 2, wrong[_i].text);
}
END_TEST

Suite *suite_rehearse(void)
{
	Suite *s = suite_create("cli/rehearse");
	TCase *t = tcase_create("rehearse");

	tcase_add_unchecked_fixture(t, bench_make, bench_remove);
	tcase_add_checked_fixture(t, sup_setup, sup_teardown);
	tcase_add_loop_test(t, sample_boards_start, 0, BOARDS);
	tcase_add_loop_test(t, moved_boards_start, 0, BOARDS);
	tcase_add_loop_test(t, one_thing_broken, 0, (int)G_N_ELEMENTS(changes));
	tcase_add_test(t, a_move_of_what_does_not_boot);
	tcase_add_test(t, an_unfinished_move);
	tcase_add_loop_test(t, without_one_disk, 0, BOARDS);
	tcase_add_test(t, as_json);
	tcase_add_loop_test(t, wrong_words, 0, (int)G_N_ELEMENTS(wrong));
	suite_add_tcase(s, t);
	return s;
}
