#include "support.h"

#include "base/io.h"
#include "base/text.h"
#include "disk/backing.h"
#include "disk/disks.h"
#include "disk/users.h"

#include <string.h>
#include <unistd.h>

Suite *suite_disks(void);

static void bench_file(const char *path, const char *text)
{
	g_autofree char *folder = g_path_get_dirname(sup_path(path));

	sup_ok(wdr_make_folder(folder, &error));
	sup_write(sup_path(path), text);
}

static WdrWorld *bench(void)
{
	WdrWorld *world = NULL;

	bench_file("root/etc/hostname", "teal-weir-1\n");
	bench_file("dev/sda", "");
	bench_file("sys/block/sda/size", "131072\n");
	bench_file("sys/block/sda/dev", "8:0\n");
	bench_file("sys/block/sda/sda1/dev", "8:1\n");
	bench_file("sys/block/sda/sda2/dev", "8:2\n");
	bench_file("sys/devices/usb1/1-1/speed", "480\n");
	bench_file("sys/devices/usb1/1-1/serial", "TEAL-77\n");
	bench_file("sys/devices/usb1/1-1/bMaxPacketSize0", "64\n");
	bench_file("sys/devices/usb1/1-1/1-1:1.0/host0/model", "Weir SSD        \n");
	bench_file("sys/devices/usb1/1-1/1-1:1.0/host0/vendor", "Teal    \n");
	ck_assert_int_eq(
		symlink("../../devices/usb1/1-1/1-1:1.0/host0", sup_path("sys/block/sda/device")),
		0);
	bench_file("sys/block/ram0/size", "8192\n");
	bench_file("sys/block/mmcblk1/size", "262144\n");
	bench_file("sys/block/mmcblk1/device/type", "MMC\n");
	bench_file("sys/block/mmcblk1boot0/size", "8192\n");
	bench_file("proc/self/mountinfo",
		"25 1 8:2 / / rw - ext4 /dev/sda2 rw\n"
		"26 25 8:1 / /mnt/with\\040blank rw - vfat /dev/sda1 rw\n");
	bench_file("proc/swaps", "Filename Type Size Used Priority\n");
	sup_ok(wdr_world_new(sup_folder(), &world, &error));
	return world;
}

START_TEST(lists_what_matters)
{
	g_autoptr(WdrWorld) world = bench();
	g_autoptr(GPtrArray) disks = NULL;

	sup_ok(wdr_disks_list(world, &disks, &error));
	ck_assert_uint_eq(disks->len, 2);
	const WdrDisk *emmc = disks->pdata[0];
	const WdrDisk *usb = disks->pdata[1];
	ck_assert_str_eq(emmc->name, "mmcblk1");
	ck_assert_str_eq(emmc->medium, "eMMC");
	ck_assert_uint_eq(emmc->size, 128 * WDR_MIB);
	ck_assert_str_eq(usb->medium, "USB disk");
	ck_assert_str_eq(usb->link, "USB 480 Mbit/s");
	ck_assert_str_eq(usb->model, "Teal Weir SSD");
	ck_assert_str_eq(usb->serial, "TEAL-77");
}
END_TEST

START_TEST(finds_by_any_name)
{
	g_autoptr(WdrWorld) world = bench();
	const char *names[] = { "sda", "/dev/sda", sup_path("dev/sda") };

	for (size_t i = 0; i < G_N_ELEMENTS(names); i++) {
		g_autoptr(WdrDisk) disk = NULL;
		sup_ok(wdr_disk_find(world, names[i], &disk, &error));
		ck_assert_str_eq(disk->name, "sda");
		ck_assert(!disk->is_image);
	}
}
END_TEST

START_TEST(refuses_what_is_none)
{
	g_autoptr(WdrWorld) world = bench();
	WdrDisk *disk = NULL;

	sup_fails(WDR_ERROR_USAGE, "no disk and no image",
		wdr_disk_find(world, "sdz", &disk, &error));
	sup_fails(WDR_ERROR_USAGE, "no disk and no image", wdr_disk_find(world, "", &disk, &error));
	sup_fails(WDR_ERROR_USAGE, "is a folder, not a disk",
		wdr_disk_find(world, sup_folder(), &disk, &error));
}
END_TEST

START_TEST(one_image_by_two_names)
{
	g_autoptr(WdrDisk) a = NULL;
	g_autoptr(WdrDisk) b = NULL;
	g_autoptr(WdrDisk) c = NULL;

	sup_make_image(sup_path("card.img"), WDR_MIB);
	sup_make_image(sup_path("other.img"), WDR_MIB);
	ck_assert_int_eq(link(sup_path("card.img"), sup_path("hard.img")), 0);
	sup_ok(wdr_disk_find(sup_world(), sup_path("card.img"), &a, &error));
	sup_ok(wdr_disk_find(sup_world(), sup_path("hard.img"), &b, &error));
	sup_ok(wdr_disk_find(sup_world(), sup_path("other.img"), &c, &error));
	ck_assert(wdr_disk_is_same(sup_world(), a, b));
	ck_assert(!wdr_disk_is_same(sup_world(), a, c));
}
END_TEST

static const struct {
	const char *disk;
	unsigned number;
	const char *want;
} names[] = { { "sda", 2, "sda2" }, { "mmcblk0", 1, "mmcblk0p1" },
	{ "nvme0n1", 12, "nvme0n1p12" } };

START_TEST(partition_names)
{
	WdrDisk disk = { .name = (char *)names[_i].disk };
	g_autofree char *got = wdr_disk_partition_name(&disk, names[_i].number);

	ck_assert_str_eq(got, names[_i].want);
}
END_TEST

START_TEST(mounted_disks_are_in_use)
{
	g_autoptr(WdrWorld) world = bench();
	g_autoptr(WdrDisk) disk = NULL;

	sup_ok(wdr_disk_find(world, "sda", &disk, &error));
	g_autofree char *user = wdr_disk_user(world, disk);
	g_autofree char *root = wdr_disk_mount_point(world, disk, 2);
	g_autofree char *blank = wdr_disk_mount_point(world, disk, 1);
	ck_assert_ptr_nonnull(strstr(user, "is mounted at"));
	ck_assert_str_eq(root, "/");
	ck_assert_str_eq(blank, "/mnt/with blank");
}
END_TEST

START_TEST(swap_and_holders_are_in_use)
{
	g_autoptr(WdrWorld) world = bench();
	g_autoptr(WdrDisk) disk = NULL;

	sup_ok(wdr_disk_find(world, "sda", &disk, &error));
	bench_file("proc/self/mountinfo", "");
	g_autofree char *nobody = wdr_disk_user(world, disk);
	ck_assert_ptr_null(nobody);
	bench_file("proc/swaps", "Filename Type\n/dev/sda2 partition 100 0 -2\n");
	g_autofree char *swap = wdr_disk_user(world, disk);
	ck_assert_str_eq(swap, "sda2 is in use as swap");
	bench_file("proc/swaps", "");
	bench_file("sys/block/sda/sda1/holders/md0", "");
	g_autofree char *holder = wdr_disk_user(world, disk);
	ck_assert_ptr_nonnull(strstr(holder, "sda1 is part of"));
}
END_TEST

START_TEST(loop_devices_use_images)
{
	g_autoptr(WdrDisk) disk = NULL;

	if (!sup_is_root()) {
		sup_say_skipped("loop_devices_use_images");
		return;
	}
	sup_make_image(sup_path("disk.img"), WDR_MIB);
	sup_ok(wdr_disk_find(sup_world(), sup_path("disk.img"), &disk, &error));
	g_autofree char *loop =
		g_strdup(SUP_TOOL("losetup", "--find", "--show", sup_path("disk.img")));
	g_autofree char *user = wdr_disk_user(sup_world(), disk);
	SUP_TOOL("losetup", "-d", g_strstrip(loop));
	ck_assert_msg(
		user && strstr(user, "is attached to /dev/loop"), "%s", user ? user : "nobody");
}
END_TEST

Suite *suite_disks(void)
{
	Suite *s = suite_create("disk/disks");
	TCase *t = tcase_create("disks");

	tcase_add_checked_fixture(t, sup_setup, sup_teardown);
	tcase_add_test(t, lists_what_matters);
	tcase_add_test(t, finds_by_any_name);
	tcase_add_test(t, refuses_what_is_none);
	tcase_add_test(t, one_image_by_two_names);
	tcase_add_loop_test(t, partition_names, 0, (int)G_N_ELEMENTS(names));
	tcase_add_test(t, mounted_disks_are_in_use);
	tcase_add_test(t, swap_and_holders_are_in_use);
	tcase_add_test(t, loop_devices_use_images);
	suite_add_tcase(s, t);
	return s;
}
