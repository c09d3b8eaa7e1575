/* A board with UEFI firmware: what it moves, what a rehearsal says of it, and the firmware's
 * entries, which a stand-in for efibootmgr keeps. Real firmware starts such disks in tests/lab/efi.
 */
#include "boards.h"

#include "sample/bootfiles.h"
#include "sample/efi_file.h"

#include <string.h>

Suite *suite_uefi(void);

static const Board dune = { "curlew-dune-5", "boards/curlew-dune-5", "mmcblk1", "nvme0n1", 2, 1,
	false, false, "boot/grub/grub.cfg", "root=UUID=", "3c7e9a10-6b2d-4f85-8d41-92e0c5a7b316" };

#define RUN(...) board_run(&dune, (const char *const[]){ __VA_ARGS__, NULL })
#define VARIABLES "sys/firmware/efi/efivars/"
#define VENDOR "-8be4df61-93ca-11d2-aa0d-00e098032b8c"

/* A shell in the board's bench. */
static char *shell(const char *commands)
{
	/* Of the EFI system partition of a disk, as mtools want it. */
	static const char esp[] =
		"esp() { echo dev/$1@@$(($(sfdisk -d dev/$1 | sed -n \"s/.*$1p1 : start= *\\([0-9]*\\),.*/\\1/p\") * 512)); };"
		"export MTOOLS_SKIP_CHECK=1";
	g_autofree char *text =
		g_strdup_printf("cd '%s'; %s; %s", board_path(&dune, ""), esp, commands);

	return SUP_TOOL("bash", "-ec", text);
}

static void move(void)
{
	SupRun run = RUN("--quiet", "move", "--to", "nvme0n1", "--erase", "nvme0n1");

	bench_expect(&run, 0, NULL);
}

/* mtools and debugfs: every place that names the old root names the new one, and nothing else
 * changed. */
START_TEST(every_place_is_edited)
{
	move();
	g_autofree char *id = g_strstrip(g_strdup(shell(
		"at=$(sfdisk -d dev/nvme0n1 | sed -n 's/.*nvme0n1p2 : start= *\\([0-9]*\\),.*/\\1/p'); "
		"dumpe2fs -h \"dev/nvme0n1?offset=$((at * 512))\" 2>/dev/null | sed -n 's/.*UUID: *//p'")));
	ck_assert_uint_eq(strlen(id), 36);
	ck_assert_str_ne(id, "3c7e9a10-6b2d-4f85-8d41-92e0c5a7b316");
	static const char files[] =
		"old=3c7e9a10-6b2d-4f85-8d41-92e0c5a7b316; at() { sfdisk -d dev/$1 | sed -n \"s/.*$1p$2 : start= "
		"*\\([0-9]*\\),.*/\\1/p\"; };"
		"for f in boot/grub/grub.cfg boot/grub/grubenv etc/fstab; do for d in mmcblk1 nvme0n1; do "
		"debugfs -R \"cat /$f\" \"dev/$d?offset=$(($(at $d 2) * 512))\" 2>/dev/null >$d.text; done;"
		"[ -s nvme0n1.text ]; sed \"s/$old/$id/g; s/D00E-5E05/$efi/g\" mmcblk1.text | cmp - nvme0n1.text; done;"
		"for d in mmcblk1 nvme0n1; do mtype -i $(esp $d) ::EFI/debian/grub.cfg >$d.text; done;"
		"sed \"s/$old/$id/g\" mmcblk1.text | cmp - nvme0n1.text";
	g_autofree char *all = g_strdup_printf(
		"id=%s; efi=$(minfo -i $(esp nvme0n1) :: | sed -n 's/^serial number: //p'); efi=${efi:0:4}-${efi:4}; %s",
		id, files);
	shell(all);
}
END_TEST

/* Nothing leads to the new disk until the hint is followed. */
START_TEST(an_entry_is_made)
{
	move();
	SupRun before = RUN("rehearse", "nvme0n1");
	bench_expect(&before, 1, "the firmware has no entry for this disk");
	bench_expect(&before, 1, "order --first nvme0n1 --write");
	SupRun preview = RUN("order", "--first", "nvme0n1");
	bench_expect(
		&preview, 0, "+Boot0002 'debian (NVMe)': /EFI/debian/shimaa64.efi on nvme0n1p1");
	shell("[ ! -e " VARIABLES "Boot0002" VENDOR " ]");
	SupRun written = RUN("order", "--first", "nvme0n1", "--write");
	bench_expect(&written, 0, "order done");
	SupRun after = RUN("rehearse", "nvme0n1");
	bench_expect(&after, 0,
		"the firmware's entry Boot0002 'debian (NVMe)' starts /EFI/debian/shimaa64.efi");
	bench_expect(&after, 0, "rehearsed: nvme0n1 boots\n");
	SupRun again = RUN("order", "--first", "nvme", "--write");
	bench_expect(&again, 0, "already set; nothing to do");
	/* The card first again, by its own entry. */
	SupRun card = RUN("order", "--first", "sd", "--write");
	bench_expect(&card, 0, "order done");
	shell("[ \"$(od -An -tx1 " VARIABLES "BootOrder" VENDOR
	      " | tr -d ' ')\" = 07000000010002000000 ]");
}
END_TEST

/* What is next is no restart into a dark board. */
START_TEST(status_knows_of_it)
{
	move();
	SupRun before = RUN("status");
	bench_expect(&before, 0, "nvme0n1 does not boot: the firmware has no entry for this disk");
	bench_expect(&before, 0, "rehearse nvme0n1\n");
	SupRun written = RUN("order", "--first", "nvme0n1", "--write");
	bench_expect(&written, 0, NULL);
	SupRun rehearsed = RUN("rehearse", "nvme0n1");
	bench_expect(&rehearsed, 0, NULL);
	SupRun after = RUN("status");
	bench_expect(&after, 0, "next: power off, take the old disk out, power on");
}
END_TEST

START_TEST(rewind_takes_the_entry_away)
{
	move();
	SupRun written = RUN("order", "--first", "nvme0n1", "--write");
	bench_expect(&written, 0, NULL);
	SupRun back = RUN("rewind");
	bench_expect(&back, 0, "put back  the firmware's settings");
	shell("[ ! -e " VARIABLES "Boot0002" VENDOR " ]; "
	      "[ \"$(od -An -tx1 " VARIABLES "BootOrder" VENDOR
	      " | tr -d ' ')\" = 0700000001000000 ]");
}
END_TEST

/* An order that somebody set since stays, unless it is forced. */
START_TEST(rewind_leaves_what_others_did)
{
	move();
	SupRun written = RUN("order", "--first", "nvme0n1", "--write");
	bench_expect(&written, 0, NULL);
	shell("bin/efibootmgr --bootorder 0000,0001");
	SupRun left = RUN("rewind");
	bench_expect(&left, 1, "somebody changed them since");
	shell("[ -e " VARIABLES "Boot0002" VENDOR " ]");
	SupRun forced = RUN("rewind", "--force");
	bench_expect(&forced, 0, "put back  the firmware's settings");
	shell("[ ! -e " VARIABLES "Boot0002" VENDOR " ]; "
	      "[ \"$(od -An -tx1 " VARIABLES "BootOrder" VENDOR
	      " | tr -d ' ')\" = 0700000001000000 ]");
}
END_TEST

/* A restart, as the kernel and the firmware would tell of it. */
static void restart(const char *disk, unsigned entry)
{
	g_autofree char *commands = g_strdup_printf(
		"d=%s; at=$(sfdisk -d dev/$d | sed -n \"s/.*${d}p2 : start= *\\([0-9]*\\),.*/\\1/p\"); rm -rf new; mkdir new;"
		"debugfs -R 'rdump / new' \"dev/$d?offset=$((at * 512))\" >/dev/null 2>&1 || true;"
		"mkdir -p keep; cp -r root/var/lib/wanderitas keep/ 2>/dev/null || true; rm -rf root; mv new root;"
		"[ $d = nvme0n1 ] || { mkdir -p root/var/lib; cp -r keep/wanderitas root/var/lib/; };"
		"for n in 1 2; do mkdir -p sys/block/$d/${d}p$n; done; echo 9:1 >sys/block/$d/${d}p1/dev; echo 9:2 >sys/block/$d/${d}p2/dev;"
		"printf \"24 1 9:2 / / rw - ext4 /dev/${d}p2 rw\\n31 24 9:1 / /boot/efi rw - vfat /dev/${d}p1 rw\\n\" >proc/self/mountinfo;"
		"sed -n 's/.*\\(root=UUID=.* quiet\\).*/BOOT_IMAGE=x \\1/p' root/boot/grub/grub.cfg | head -n 1 >proc/cmdline;"
		"printf '\\7\\0\\0\\0\\%03o\\0' >" VARIABLES "BootCurrent" VENDOR
		"; echo 0 >proc/uptime",
		disk, entry);

	shell(commands);
}

/* By which entry it was booted, and why it was not. */
START_TEST(after_the_restart)
{
	move();
	SupRun written = RUN("order", "--first", "nvme0n1", "--write");
	bench_expect(&written, 0, NULL);
	restart("nvme0n1", 2);
	SupRun arrived = RUN("arrive");
	bench_expect(&arrived, arrived.code,
		"the firmware booted it by its entry Boot0002 'debian (NVMe)'");
	bench_expect(&arrived, arrived.code,
		"it was booted by menu entry 'Debian GNU/Linux', the default");
	restart("nvme0n1", 1);
	SupRun mixed = RUN("arrive");
	bench_expect(&mixed, 1,
		"but the firmware booted by Boot0001 'debian', which leads to another disk");
	bench_expect(&mixed, 1, "order --first nvme0n1 --write");
}
END_TEST

START_TEST(when_the_old_disk_booted)
{
	move();
	if (_i) {
		SupRun written = RUN("order", "--first", "nvme0n1", "--write");
		bench_expect(&written, 0, NULL);
	}
	restart("mmcblk1", 1);
	SupRun run = RUN("arrive");
	bench_expect(&run, 1,
		_i ? "the firmware's entry for nvme0n1 comes first, but that did not answer in time"
		   : "nvme0n1 does not boot: the firmware has no entry for this disk");
	if (!_i)
		bench_expect(&run, 1, "order --first nvme0n1 --write");
}
END_TEST

/* What goes wrong with the firmware's entries. */
static const struct {
	const char *before;
	const char *arguments[5]; /* NULL-ended */
	int code;
	const char *text;
} troubles[] = {
	{ "rm bin/efibootmgr", { "order", "--first", "nvme0n1", "--write" }, 4,
		"the program efibootmgr is not installed\n  to install it on Debian: apt install efibootmgr" },
	{ "printf '#!/bin/sh\\necho no room >&2; exit 5\\n' >bin/efibootmgr",
		{ "order", "--first", "nvme0n1", "--write" }, 4,
		"efibootmgr ended with 5: no room" },
	{ "printf '#!/bin/sh\\nexit 0\\n' >bin/efibootmgr",
		{ "order", "--first", "nvme0n1", "--write" }, 4,
		"the firmware's entries read back as others: the order is 0001,0000, and was to be 0002,0001,0000" },
	{ "rm -r " VARIABLES, { "order" }, 0, "nothing is mounted at /sys/firmware/efi/efivars" },
	{ "rm -r " VARIABLES, { "order", "--first", "nvme0n1" }, 3,
		"nothing is mounted at /sys/firmware/efi/efivars" },
	{ "printf x >" VARIABLES "Boot0001" VENDOR, { "order" }, 0,
		"Boot0001: the variable is damaged" },
	{ "rm " VARIABLES "Boot0001" VENDOR, { "order" }, 0,
		"Boot0001 is in the order, and is no entry" },
	{ "rm " VARIABLES "BootOrder" VENDOR, { "order" }, 0,
		"no entry: the firmware starts EFI/BOOT/BOOT*.EFI" },
	{ "sfdisk -q --part-uuid dev/mmcblk1 1 11111111-5b3e-4d07-9a21-60a7e5c20011", { "order" },
		0,
		"on a disk that is not plugged in (PARTUUID c012ed05-5b3e-4d07-9a21-60a7e5c20011)" },
	{ ":", { "order", "--first", "usb" }, 3, "no USB disk has programs for UEFI firmware" },
	{ ":", { "order", "--first", "owls" }, 2, "there is no disk and no image file 'owls'" },
	{ "cp --sparse=always dev/nvme0n1 copy.img", { "order", "--first", "IMAGE", "--write" }, 3,
		"copy.img is an image: the firmware boots disks" },
	{ ":", { "order", "--targets", "nvme0" }, 2, "--first DISK is the option for it" },
	{ ":", { "order", "--set", "0xf41" }, 2, "--first DISK is the option for it" },
};

START_TEST(troubles_with_entries)
{
	move();
	shell(troubles[_i].before);
	const char *arguments[5] = { NULL };
	for (size_t i = 0; troubles[_i].arguments[i]; i++) {
		bool is_image = strcmp(troubles[_i].arguments[i], "IMAGE") == 0;
		arguments[i] = is_image ? board_path(&dune, "copy.img") : troubles[_i].arguments[i];
	}
	SupRun run = board_run(&dune, arguments);
	bench_expect(&run, troubles[_i].code, troubles[_i].text);
}
END_TEST

START_TEST(before_the_move_there_is_nothing_to_lead_to)
{
	SupRun ready = RUN("ready", "--to", "nvme0n1");
	bench_expect(&ready, 0, "after the move: ");
	SupRun order = RUN("order", "--first", "nvme0n1", "--write");
	bench_expect(&order, 3, "nvme0n1 has no EFI system partition with a program");
}
END_TEST

/* A disk that got another UUID by other means: every place is found by what it is called elsewhere.
 */
START_TEST(a_renamed_root_is_found_again)
{
	SupRun moved =
		RUN("--quiet", "move", "--to", "nvme0n1", "--erase", "nvme0n1", "--with", "order");
	bench_expect(&moved, 0, "rehearsed: nvme0n1 boots\n");
	shell("at=$(sfdisk -d dev/nvme0n1 | sed -n 's/.*nvme0n1p2 : start= *\\([0-9]*\\),.*/\\1/p');"
	      "dd if=dev/nvme0n1 of=r bs=512 skip=$at status=none; tune2fs -f -U 11111111-2222-3333-4444-555555555555 r >/dev/null;"
	      "dd if=r of=dev/nvme0n1 bs=512 seek=$at conv=notrunc status=none");
	SupRun lost = RUN("rehearse", "nvme0n1");
	bench_expect(&lost, 1, "EFI/debian/grub.cfg:1 searches for the UUID ");
	bench_expect(&lost, 1, "readdress nvme0n1 --write");
	SupRun mended = RUN("readdress", "nvme0n1", "--write");
	bench_expect(&mended, 0, NULL);
	SupRun found = RUN("rehearse", "nvme0n1");
	bench_expect(&found, 0, "rehearsed: nvme0n1 boots\n");
	shell("at=$(sfdisk -d dev/nvme0n1 | sed -n 's/.*nvme0n1p2 : start= *\\([0-9]*\\),.*/\\1/p');"
	      "debugfs -R 'cat /boot/grub/grub.cfg' \"dev/nvme0n1?offset=$((at * 512))\" 2>/dev/null >menu;"
	      "[ $(grep -c 11111111-2222-3333-4444-555555555555 menu) = 7 ]");
}
END_TEST

/* ---- other loaders on the same board ---- */

/* Of a program's file in the bench; `name` is below the EFI system partition's root. */
static void put_program(const char *name, GBytes *bytes)
{
	size_t len = 0;
	const char *data = g_bytes_get_data(bytes, &len);
	g_autofree char *path = g_build_filename(board_path(&dune, ""), "program", NULL);
	g_autofree char *folder = g_path_get_dirname(name);
	g_autofree char *commands = g_strdup_printf(
		"mmd -D s -i $(esp mmcblk1) ::%s 2>/dev/null || true; mcopy -o -i $(esp mmcblk1) program ::%s",
		folder, name);

	ck_assert(g_file_set_contents(path, data, (gssize)len, NULL));
	shell(commands);
	g_bytes_unref(bytes);
}

static void use_systemd_boot(void)
{
	shell("mdeltree -i $(esp mmcblk1) ::EFI/debian; mmd -i $(esp mmcblk1) ::loader ::loader/entries; "
	      "debugfs -w -R 'rm /boot/grub/grub.cfg' 'dev/mmcblk1?offset=68157440' 2>/dev/null");
	put_program("EFI/BOOT/BOOTAA64.EFI", wdr_sample_systemd_boot(WDR_SAMPLE_AA64));
}

#define KERNEL "6.1.0-dune-arm64"
#define OLD_ROOT "3c7e9a10-6b2d-4f85-8d41-92e0c5a7b316"

static const char take_kernel[] =
	"for f in vmlinuz initrd.img; do debugfs -R \"dump /boot/$f-" KERNEL
	" $f\" 'dev/mmcblk1?offset=68157440' "
	"2>/dev/null; mcopy -o -i $(esp mmcblk1) $f ::$f; done;";

START_TEST(systemd_boot)
{
	use_systemd_boot();
	g_autofree char *text = g_strconcat(take_kernel,
		"printf 'title Dune\\nlinux /vmlinuz\\ninitrd /initrd.img\\noptions root=UUID=" OLD_ROOT
		" ro\\n' >entry; mcopy -i $(esp mmcblk1) entry ::loader/entries/dune+3.conf",
		NULL);
	shell(text);
	move();
	SupRun run = RUN("rehearse", "nvme0n1");
	bench_expect(&run, 0,
		"the firmware has no entry for this disk, and starts /EFI/BOOT/BOOTAA64.EFI");
	bench_expect(&run, 0, "is systemd-boot 252.39");
	bench_expect(&run, 0, "entry dune+3.conf has 3 tries left");
	bench_expect(&run, 0, "rehearsed: nvme0n1 boots\n");
	shell("! mtype -i $(esp nvme0n1) ::loader/entries/dune+3.conf | grep " OLD_ROOT "; "
	      "mtype -i $(esp nvme0n1) ::loader/entries/dune+3.conf | grep -q 'root=UUID=[0-9a-f-]* ro'");
}
END_TEST

/* The kernel arguments inside are edited, by UUID and by what is longer; the rest stays. */
START_TEST(a_unified_image)
{
	use_systemd_boot();
	g_autofree char *text = g_strconcat(take_kernel, "true", NULL);
	shell(text);
	char *kernel = NULL;
	char *initramfs = NULL;
	gsize kernel_len = 0;
	gsize initramfs_len = 0;
	ck_assert(g_file_get_contents(board_path(&dune, "vmlinuz"), &kernel, &kernel_len, NULL));
	ck_assert(g_file_get_contents(
		board_path(&dune, "initrd.img"), &initramfs, &initramfs_len, NULL));
	g_autoptr(GBytes) k = g_bytes_new_take(kernel, kernel_len);
	g_autoptr(GBytes) i = g_bytes_new_take(initramfs, initramfs_len);
	shell("mmd -i $(esp mmcblk1) ::EFI/Linux");
	put_program("EFI/Linux/dune.efi",
		wdr_sample_unified(WDR_SAMPLE_AA64, "root=UUID=" OLD_ROOT " ro quiet\n", k, i));
	SupRun moved = RUN("--quiet", "move", "--to", "nvme0n1", "--erase", "nvme0n1", "--name-by",
		_i ? "partuuid" : "uuid");
	bench_expect(&moved, 0, NULL);
	SupRun run = RUN("rehearse", "nvme0n1");
	bench_expect(&run, 0, "kernel /EFI/Linux/dune.efi: Image for arm64");
	bench_expect(&run, 0, _i ? "root=PARTUUID=" : "root=UUID=");
	bench_expect(&run, 0, "rehearsed: nvme0n1 boots\n");
	shell("mcopy -i $(esp mmcblk1) ::EFI/Linux/dune.efi old.efi; mcopy -i $(esp nvme0n1) ::EFI/Linux/dune.efi new.efi;"
	      "[ $(stat -c %s old.efi) = $(stat -c %s new.efi) ]; n=$(cmp -l old.efi new.efi | wc -l); [ $n -gt 20 ] && [ $n -lt 90 ]");
	SupRun drivers = RUN("drivers", "--on", "nvme0n1", "--medium", "usb");
	bench_expect(&drivers, 1, "inside the unified kernel image");
}
END_TEST

/* Root alone: the first configuration, which stays on the card, leads to the new root. */
START_TEST(root_alone)
{
	SupRun run =
		RUN("--quiet", "move", "--to", "nvme0n1", "--erase", "nvme0n1", "--what", "root");
	bench_expect(&run, 0, NULL);
	SupRun both = RUN("rehearse", "mmcblk1");
	bench_expect(&both, 0, "of nvme0n1");
	shell("! mtype -i $(esp mmcblk1) ::EFI/debian/grub.cfg | grep " OLD_ROOT);
	SupRun back = RUN("rewind");
	bench_expect(&back, 0, NULL);
	shell("mtype -i $(esp mmcblk1) ::EFI/debian/grub.cfg | grep -q " OLD_ROOT);
}
END_TEST

Suite *suite_uefi(void)
{
	Suite *s = suite_create("cli/uefi");
	TCase *t = tcase_create("uefi");

	tcase_add_unchecked_fixture(t, bench_make, bench_remove);
	tcase_add_checked_fixture(t, sup_setup, sup_teardown);
	tcase_add_test(t, every_place_is_edited);
	tcase_add_test(t, an_entry_is_made);
	tcase_add_test(t, status_knows_of_it);
	tcase_add_test(t, rewind_takes_the_entry_away);
	tcase_add_test(t, rewind_leaves_what_others_did);
	tcase_add_test(t, after_the_restart);
	tcase_add_loop_test(t, when_the_old_disk_booted, 0, 2);
	tcase_add_loop_test(t, troubles_with_entries, 0, (int)G_N_ELEMENTS(troubles));
	tcase_add_test(t, before_the_move_there_is_nothing_to_lead_to);
	tcase_add_test(t, a_renamed_root_is_found_again);
	tcase_add_test(t, systemd_boot);
	tcase_add_loop_test(t, a_unified_image, 0, 2);
	tcase_add_test(t, root_alone);
	suite_add_tcase(s, t);
	return s;
}
