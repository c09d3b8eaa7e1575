#include "sample/sample.h"

#include "base/cleanup.h"
#include "base/io.h"
#include "base/text.h"
#include "disk/parttable.h"
#include "move/carry.h"
#include "volume/ext.h"
#include "volume/fat.h"

#include <fcntl.h>
#include <string.h>
#include <sys/stat.h>

#define CARD_BYTES (600 * WDR_MIB)
#define DRIVE_BYTES (2 * WDR_GIB)
#define BOOT_AT (4 * WDR_MIB)
#define BOOT_BYTES (128 * WDR_MIB)
#define ROOT_AT (BOOT_AT + BOOT_BYTES)
enum { HERON_INODES = 32768 };

/* Text files of the bench: what a kernel and a running system would show. */
static const struct {
	const char *path, *text;
} files[] = {
	{ "proc/device-tree/model", "Field Station Controller Board Rev 2" },
	{ "proc/sys/kernel/osrelease", "6.6.31-field\n" },
	{ "proc/cmdline",
		"root=PARTUUID=" WDR_HERON_DISK_ID "-02 rootfstype=ext4 rootwait quiet\n" },
	{ "proc/swaps",
		"Filename\t\t\t\tType\t\tSize\t\tUsed\t\tPriority\n/var/swap file 16384 0 -2\n" },
	{ "proc/self/mountinfo", "24 1 179:2 / / rw,noatime - ext4 /dev/mmcblk0p2 rw\n"
				 "31 24 179:1 / /boot/firmware rw - vfat /dev/mmcblk0p1 rw\n" },
	{ "sys/block/mmcblk0/dev", "179:0\n" },
	{ "sys/block/mmcblk0/ro", "0\n" },
	{ "sys/block/mmcblk0/mmcblk0p1/dev", "179:1\n" },
	{ "sys/block/mmcblk0/mmcblk0p2/dev", "179:2\n" },
	{ "sys/block/mmcblk0/device/type", "SD\n" },
	{ "sys/block/mmcblk0/device/name", "RB600\n" },
	{ "sys/block/mmcblk0/device/serial", "0x2f41c7aa\n" },
	{ "sys/block/nvme0n1/dev", "259:0\n" },
	{ "sys/block/nvme0n1/ro", "0\n" },
	{ "sys/block/nvme0n1/device/model", "Reedbed SSD 2G\n" },
	{ "sys/block/nvme0n1/device/serial", "RB2G-000417\n" },
	{ "sys/block/nvme0n1/device/device/current_link_speed", "5.0 GT/s PCIe\n" },
	{ "sys/block/nvme0n1/device/device/current_link_width", "1\n" },
	{ "root/etc/hostname", "heron-hide-3\n" },
	{ "root/etc/os-release", "PRETTY_NAME=\"Debian GNU/Linux 12 (bookworm)\"\nID=debian\n" },
	{ "bin/README", "Stand-ins for board commands go here.\n" },
};

static bool write_text(const char *folder, const char *path, const char *text, GError **error)
{
	g_autofree char *full = g_build_filename(folder, path, NULL);
	g_autofree char *parent = g_path_get_dirname(full);

	return wdr_make_folder(parent, error) && wdr_write_file(full, text, strlen(text), error);
}

static bool make_image(const char *path, uint64_t size, GError **error)
{
	g_auto(WdrFd) fd = open(path, O_RDWR | O_CREAT | O_EXCL | O_CLOEXEC, 0644);

	if (fd < 0 || ftruncate(fd, (off_t)size) != 0)
		return wdr_error_set_errno(error, errno, "making the image %s", path);
	return true;
}

static WdrPartTable *card_table(uint64_t size)
{
	WdrPartTable *t = wdr_parttable_new(WDR_TABLE_MBR);
	WdrPartition *boot = wdr_parttable_add(t);
	WdrPartition *root = wdr_parttable_add(t);

	t->id = g_strdup(WDR_HERON_DISK_ID);
	boot->number = 1;
	boot->start = BOOT_AT;
	boot->size = BOOT_BYTES;
	boot->type = g_strdup("0c");
	boot->is_active = true;
	boot->partuuid = wdr_partuuid_mbr(t->id, 1);
	root->number = 2;
	root->start = ROOT_AT;
	root->size = wdr_round_down(size - ROOT_AT, WDR_MIB);
	root->type = g_strdup("83");
	root->partuuid = wdr_partuuid_mbr(t->id, 2);
	return t;
}

static bool fill(const WdrWorld *world, WdrVolume *from, WdrBuilder *builder, GError **error)
{
	WdrCarry carry = { .source = from, .builder = builder };

	return wdr_carry(world, &carry, NULL, error) && builder->ops->finish(builder, error);
}

static bool fill_boot(const WdrWorld *world, WdrBlockDev *dev, WdrVolume *boot, const char *scratch,
	GError **error)
{
	WdrBuildTarget target = { dev, BOOT_AT, BOOT_BYTES, scratch, NULL, NULL };
	g_autoptr(WdrBuilder) builder = NULL;
	WdrFatSpec spec;

	wdr_fat_spec_default(BOOT_BYTES, 32, &spec);
	spec.serial = 0xf3a177c2;
	spec.hidden_sectors = BOOT_AT / 512;
	spec.made_at = wdr_world_now(world);
	g_strlcpy(spec.label, "BOOTFS", sizeof(spec.label));
	return wdr_fat_builder_new(world, &target, &spec, &builder, error) &&
	       fill(world, boot, builder, error);
}

static bool fill_root(const WdrWorld *world, WdrBlockDev *dev, uint64_t size, WdrVolume *root,
	const char *scratch, GError **error)
{
	WdrBuildTarget target = { dev, ROOT_AT, size, scratch, NULL, NULL };
	g_autoptr(WdrBuilder) builder = NULL;
	g_auto(WdrExtSpec) spec = { 0 };

	wdr_ext_spec_default(&spec);
	g_strlcpy(spec.uuid, WDR_HERON_ROOT_UUID, sizeof(spec.uuid));
	g_strlcpy(spec.label, "rootfs", sizeof(spec.label));
	spec.inodes = HERON_INODES;
	return wdr_ext_builder_new(world, &target, &spec, &builder, error) &&
	       fill(world, root, builder, error);
}

bool wdr_sample_make_card(const WdrWorld *world, const char *path, uint64_t size, WdrVolume *boot,
	WdrVolume *root, const char *scratch, GError **error)
{
	g_autoptr(WdrPartTable) table = card_table(size);
	const WdrPartition *second = table->partitions->pdata[1];
	g_autoptr(WdrBlockDev) dev = NULL;

	return make_image(path, size, error) &&
	       wdr_blockdev_open(path, WDR_OPEN_WRITE, &dev, error) &&
	       wdr_parttable_write(dev, table, true, error) &&
	       fill_boot(world, dev, boot, scratch, error) &&
	       fill_root(world, dev, second->size, root, scratch, error);
}

static bool make_folders(const char *folder, GError **error)
{
	static const char *const folders[] = { "dev", "root/etc", "bin" };
	g_autoptr(GDir) dir = g_dir_open(folder, 0, NULL);

	if (dir && g_dir_read_name(dir)) {
		wdr_error_set(error, WDR_ERROR_REFUSED, "the folder %s is not empty", folder);
		wdr_error_hint(error, "name a new folder; nothing was changed");
		return false;
	}
	for (size_t i = 0; i < G_N_ELEMENTS(folders); i++) {
		g_autofree char *path = g_build_filename(folder, folders[i], NULL);
		if (!wdr_make_folder(path, error))
			return false;
	}
	return true;
}

static bool make_disk(
	const char *folder, const char *name, uint64_t size, char **ret_path, GError **error)
{
	g_autofree char *in_sys = g_strdup_printf("sys/block/%s/size", name);
	g_autofree char *sectors = g_strdup_printf("%" G_GUINT64_FORMAT "\n", size / 512);

	*ret_path = g_build_filename(folder, "dev", name, NULL);
	return write_text(folder, in_sys, sectors, error);
}

bool wdr_sample_make_bench(const WdrWorld *world, const char *folder, GError **error)
{
	g_autoptr(WdrVolume) boot = wdr_memory_volume_as_volume(wdr_sample_heron_boot());
	g_autoptr(WdrVolume) root = wdr_memory_volume_as_volume(wdr_sample_heron_root());
	g_autofree char *card = NULL;
	g_autofree char *drive = NULL;

	if (!make_folders(folder, error))
		return false;
	for (size_t i = 0; i < G_N_ELEMENTS(files); i++) {
		if (!write_text(folder, files[i].path, files[i].text, error))
			return false;
	}
	wdr_world_step(world, "filling the card of heron-hide-3");
	return make_disk(folder, "mmcblk0", CARD_BYTES, &card, error) &&
	       make_disk(folder, "nvme0n1", DRIVE_BYTES, &drive, error) &&
	       wdr_sample_make_card(world, card, CARD_BYTES, boot, root, folder, error) &&
	       make_image(drive, DRIVE_BYTES, error);
}
