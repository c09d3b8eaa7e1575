/* Benches: folders that stand in for the sample boards. */
#include "sample/sample.h"

#include "base/cursor.h"
#include "base/io.h"
#include "base/text.h"

#include <errno.h>
#include <libfdt.h>
#include <string.h>
#include <sys/stat.h>

#define BOOT_AT (4 * WDR_MIB)
#define GPT_EFI "c12a7328-f81f-11d2-ba4b-00a0c93ec93b"
#define GPT_LINUX "0fc63daf-8483-4772-8e79-3d69d8477de4"

/* Text files of a bench: what a kernel and a running system would show. */
typedef struct {
	const char *path, *text;
} File;

static const File heron_files[] = {
	{ "proc/device-tree/model", "Field Station Controller Board Rev 2" },
	{ "bin/vcgencmd", "#!/bin/sh\n"
			  "# Stands in for the command that asks the board's firmware.\n"
			  "case $1 in\n"
			  "bootloader_config)\n"
			  "\tcat \"$(dirname \"$0\")/eeprom.txt\" 2>/dev/null ||\n"
			  "\t\tprintf '[all]\\nBOOT_ORDER=0xf416\\nPCIE_PROBE=1\\n' ;;\n"
			  "bootloader_version)\n"
			  "\techo 2026/02/11 09:21:19\n"
			  "\techo 'version 417a0b2c (release)'\n"
			  "\techo timestamp 1770801679 ;;\n"
			  "get_throttled) echo throttled=0x0 ;;\n"
			  "*) exit 1 ;;\n"
			  "esac\n" },
	{ "bin/rpi-eeprom-config",
		"#!/bin/sh\n"
		"# Stands in for the command that changes the firmware's settings: what it is handed\n"
		"# waits for the next start.\n"
		"here=$(dirname \"$0\")\n"
		"case $1 in\n"
		"--apply) cp \"$2\" \"$here/../root/boot/firmware/pieeprom.upd\" ;;\n"
		"'') \"$here/vcgencmd\" bootloader_config ;;\n"
		"*) cat \"$1\" ;;\n"
		"esac\n" },
	{ "bin/systemctl",
		"#!/bin/sh\n"
		"# Stands in for systemctl: how long the boot took, from a card or from a drive, and\n"
		"# services that run and can be stopped and started.\n"
		"case \"$1 $*\" in\n"
		"*LoadState*) echo loaded; exit ;;\n"
		"*ActiveState*) echo active; exit ;;\n"
		"stop* | start* | *--value*) exit ;;\n"
		"esac\n"
		"[ \"$1\" = show ] || exit 1\n"
		"case $(cat \"$(dirname \"$0\")/../proc/self/mountinfo\") in\n"
		"*\" / / \"*/dev/nvme*) ends='4120000 16480000' ;;\n"
		"*) ends='5310000 43900000' ;;\n"
		"esac\n"
		"echo FirmwareTimestampMonotonic=0\n"
		"echo LoaderTimestampMonotonic=0\n"
		"echo InitRDTimestampMonotonic=2270000\n"
		"echo \"UserspaceTimestampMonotonic=${ends% *}\"\n"
		"echo \"FinishTimestampMonotonic=${ends#* }\"\n" },
	{ "bin/systemd-run",
		"#!/bin/sh\n"
		"# Stands in for systemd-run: nothing outlives a program on a bench.\n" },
	{ "root/etc/default/rpi-eeprom-update", "FIRMWARE_RELEASE_STATUS=\"default\"\n" },
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
	{ "sys/kernel/debug/mmc0/ios", "clock:\t\t200000000 Hz\n"
				       "actual clock:\t200000000 Hz\n"
				       "bus width:\t2 (4 bits)\n"
				       "timing spec:\t6 (sd uhs SDR104)\n" },
	{ "sys/block/nvme0n1/dev", "259:0\n" },
	{ "sys/block/nvme0n1/ro", "0\n" },
	{ "sys/block/nvme0n1/device/model", "Reedbed SSD 2G\n" },
	{ "sys/block/nvme0n1/device/serial", "RB2G-000417\n" },
	{ "sys/block/nvme0n1/device/device/current_link_speed", "5.0 GT/s PCIe\n" },
	{ "sys/block/nvme0n1/device/device/current_link_width", "1\n" },
	{ "root/etc/hostname", "heron-hide-3\n" },
	{ "root/etc/os-release", "PRETTY_NAME=\"Debian GNU/Linux 12 (bookworm)\"\nID=debian\n" },
	{ "root/etc/fstab", wdr_heron_fstab },
	{ "root/boot/firmware/config.txt", wdr_heron_config },
	{ "root/boot/firmware/cmdline.txt", wdr_heron_cmdline },
};

static const File bittern_files[] = {
	{ "proc/device-tree/model", "Field Station Recorder Board" },
	{ "proc/sys/kernel/osrelease", "6.1.0-field-arm64\n" },
	{ "proc/cmdline", "root=UUID=" WDR_BITTERN_ROOT_UUID " ro quiet\n" },
	{ "proc/swaps", "Filename\t\t\t\tType\t\tSize\t\tUsed\t\tPriority\n" },
	{ "proc/self/mountinfo", "24 1 179:97 / / rw - ext4 /dev/mmcblk1p1 rw\n"
				 "31 24 179:98 / /srv/sound rw - ext4 /dev/mmcblk1p2 rw\n" },
	{ "sys/block/mmcblk1/dev", "179:96\n" },
	{ "sys/block/mmcblk1/ro", "0\n" },
	{ "sys/block/mmcblk1/mmcblk1p1/dev", "179:97\n" },
	{ "sys/block/mmcblk1/mmcblk1p2/dev", "179:98\n" },
	{ "sys/block/mmcblk1/device/type", "SD\n" },
	{ "sys/block/mmcblk1/device/name", "BT256\n" },
	{ "sys/block/mmcblk1/device/serial", "0x51e09b3c\n" },
	{ "sys/block/nvme0n1/dev", "259:0\n" },
	{ "sys/block/nvme0n1/ro", "0\n" },
	{ "sys/block/nvme0n1/device/model", "Reedbed SSD 1G\n" },
	{ "sys/block/nvme0n1/device/serial", "RB1G-000023\n" },
	{ "sys/class/mtd/mtd0/name", "loader\n" },
	{ "sys/class/mtd/mtd0/type", "nor\n" },
	{ "sys/class/mtd/mtd0/size", "4194304\n" },
	{ "sys/class/mtd/mtd0/erasesize", "65536\n" },
	{ "root/etc/hostname", "bittern-tower-1\n" },
	{ "root/etc/os-release", "PRETTY_NAME=\"Debian GNU/Linux 12 (bookworm)\"\nID=debian\n" },
	{ "root/etc/fstab", wdr_bittern_fstab },
	{ "root/boot/extlinux/extlinux.conf", wdr_bittern_extlinux },
	{ "root/srv/sound/README", "The season's sound files are mounted here.\n" },
};

static const File dipper_files[] = {
	{ "proc/device-tree/model", "Field Station Gauge Board" },
	{ "proc/sys/kernel/osrelease", WDR_DIPPER_KERNEL "\n" },
	{ "proc/cmdline", "root=UUID=" WDR_DIPPER_ROOT_UUID " ro quiet\n" },
	{ "proc/swaps", "Filename\t\t\t\tType\t\tSize\t\tUsed\t\tPriority\n" },
	{ "proc/self/mountinfo", "24 1 179:98 / / rw - ext4 /dev/mmcblk1p2 rw\n"
				 "31 24 179:97 / /boot rw - ext4 /dev/mmcblk1p1 rw\n" },
	{ "sys/block/mmcblk1/dev", "179:96\n" },
	{ "sys/block/mmcblk1/ro", "0\n" },
	{ "sys/block/mmcblk1/mmcblk1p1/dev", "179:97\n" },
	{ "sys/block/mmcblk1/mmcblk1p2/dev", "179:98\n" },
	{ "sys/block/mmcblk1/device/type", "SD\n" },
	{ "sys/block/mmcblk1/device/name", "DB192\n" },
	{ "sys/block/mmcblk1/device/serial", "0x77aa10c5\n" },
	{ "sys/block/nvme0n1/dev", "259:0\n" },
	{ "sys/block/nvme0n1/ro", "0\n" },
	{ "sys/block/nvme0n1/device/model", "Reedbed SSD 1G\n" },
	{ "sys/block/nvme0n1/device/serial", "RB1G-000031\n" },
	{ "sys/block/nvme0n1/device/device/current_link_speed", "5.0 GT/s PCIe\n" },
	{ "sys/block/nvme0n1/device/device/current_link_width", "1\n" },
	{ "sys/block/nvme0n1/device/device/max_link_speed", "8.0 GT/s PCIe\n" },
	{ "sys/block/nvme0n1/device/device/max_link_width", "4\n" },
	{ "sys/class/mtd/mtd0/name", "loader\n" },
	{ "sys/class/mtd/mtd0/type", "nor\n" },
	{ "sys/class/mtd/mtd0/size", "4194304\n" },
	{ "root/etc/hostname", "dipper-brook-4\n" },
	{ "root/etc/os-release", "PRETTY_NAME=\"Debian GNU/Linux 12 (bookworm)\"\nID=debian\n" },
	{ "root/etc/fstab", wdr_dipper_fstab },
	{ "bin/update-initramfs",
		"#!/bin/sh\n"
		"# Stands in for the system's generator: puts the initramfs onto the card that it\n"
		"# would make once nvme is in /etc/initramfs-tools/modules.\n"
		"cd \"$(dirname \"$0\")\" || exit 1\n"
		"PATH=$PATH:/usr/sbin:/sbin\n"
		"debugfs -R 'cat /etc/initramfs-tools/modules' '../dev/mmcblk1?offset=58720256' "
		"2>/dev/null |\n\tgrep -q '^nvme$' || exit 0\n"
		"name=initrd.img-" WDR_DIPPER_KERNEL "\n"
		"printf 'rm /%s\\nwrite %s /%s\\n' $name $name $name |\n"
		"\tdebugfs -w -f - '../dev/mmcblk1?offset=16777216' >/dev/null 2>&1\n"
		"echo \"update-initramfs: Generating /boot/$name\"\n" },
};

static const File kingfisher_files[] = {
	{ "proc/device-tree/model", "Field Station Camera Board" },
	{ "proc/sys/kernel/osrelease", "6.6.31-weir\n" },
	{ "proc/cmdline", "root=UUID=" WDR_KINGFISHER_ROOT_UUID " rootwait rootfstype=ext4\n" },
	{ "proc/swaps",
		"Filename\t\t\t\tType\t\tSize\t\tUsed\t\tPriority\n/var/swap file 8192 0 -2\n" },
	{ "proc/self/mountinfo", "24 1 179:2 / / rw - ext4 /dev/mmcblk0p2 rw\n"
				 "30 24 179:1 / /boot rw - ext4 /dev/mmcblk0p1 rw\n"
				 "31 24 179:3 / /srv/keys ro - vfat /dev/mmcblk0p3 ro\n" },
	{ "sys/block/mmcblk0/dev", "179:0\n" },
	{ "sys/block/mmcblk0/ro", "0\n" },
	{ "sys/block/mmcblk0/mmcblk0p1/dev", "179:1\n" },
	{ "sys/block/mmcblk0/mmcblk0p2/dev", "179:2\n" },
	{ "sys/block/mmcblk0/mmcblk0p3/dev", "179:3\n" },
	{ "sys/block/mmcblk0/device/type", "SD\n" },
	{ "sys/block/mmcblk0/device/name", "KW256\n" },
	{ "sys/block/mmcblk0/device/serial", "0x0c88d1f4\n" },
	{ "sys/block/sda/dev", "8:0\n" },
	{ "sys/block/sda/ro", "0\n" },
	{ "sys/block/sda/device/model", "Millrace SSD\n" },
	{ "sys/block/sda/device/vendor", "WEIR\n" },
	{ "sys/block/sda/device/bMaxPacketSize0", "64\n" },
	{ "sys/block/sda/device/speed", "480\n" },
	{ "sys/block/sda/device/serial", "WEIR0000117\n" },
	{ "root/etc/hostname", "kingfisher-weir-2\n" },
	{ "root/etc/os-release", "PRETTY_NAME=\"Debian GNU/Linux 12 (bookworm)\"\nID=debian\n" },
	{ "root/etc/fstab", wdr_kingfisher_fstab },
	{ "root/boot/weirEnv.txt", wdr_kingfisher_settings },
	{ "root/srv/keys/README", "The weir's keys are mounted here.\n" },
};

static const File curlew_files[] = {
	{ "proc/device-tree/model", "Field Station Logger Board" },
	{ "proc/sys/kernel/osrelease", "6.1.0-dune-arm64\n" },
	{ "proc/cmdline", "root=UUID=" WDR_CURLEW_ROOT_UUID " ro quiet\n" },
	{ "proc/swaps", "Filename\t\t\t\tType\t\tSize\t\tUsed\t\tPriority\n" },
	{ "proc/self/mountinfo", "24 1 179:98 / / rw - ext4 /dev/mmcblk1p2 rw\n"
				 "31 24 179:97 / /boot/efi rw - vfat /dev/mmcblk1p1 rw\n" },
	{ "sys/block/mmcblk1/dev", "179:96\n" },
	{ "sys/block/mmcblk1/ro", "0\n" },
	{ "sys/block/mmcblk1/mmcblk1p1/dev", "179:97\n" },
	{ "sys/block/mmcblk1/mmcblk1p2/dev", "179:98\n" },
	{ "sys/block/mmcblk1/device/type", "SD\n" },
	{ "sys/block/mmcblk1/device/name", "CD256\n" },
	{ "sys/block/mmcblk1/device/serial", "0x1d05c0ee\n" },
	{ "sys/block/nvme0n1/dev", "259:0\n" },
	{ "sys/block/nvme0n1/ro", "0\n" },
	{ "sys/block/nvme0n1/device/model", "Reedbed SSD 1G\n" },
	{ "sys/block/nvme0n1/device/serial", "RB1G-000058\n" },
	{ "root/etc/hostname", "curlew-dune-5\n" },
	{ "root/etc/os-release", "PRETTY_NAME=\"Debian GNU/Linux 12 (bookworm)\"\nID=debian\n" },
	{ "root/etc/fstab", wdr_curlew_fstab },
	{ "bin/efibootmgr", wdr_curlew_efibootmgr },
};

static const WdrSamplePart heron_parts[] = {
	{ .start = BOOT_AT,
		.size = 128 * WDR_MIB,
		.type = "0c",
		.is_fat = true,
		.is_active = true,
		.uuid = WDR_HERON_BOOT_UUID,
		.label = "BOOTFS" },
	{ .start = BOOT_AT + 128 * WDR_MIB,
		.size = 468 * WDR_MIB,
		.type = "83",
		.uuid = WDR_HERON_ROOT_UUID,
		.label = "rootfs",
		.inodes = 32768 },
};

static const WdrSamplePart bittern_parts[] = {
	{ .start = 16 * WDR_MIB,
		.size = 176 * WDR_MIB,
		.type = GPT_LINUX,
		.is_active = true,
		.partuuid = WDR_BITTERN_ROOT_PARTUUID,
		.name = "tower-root",
		.uuid = WDR_BITTERN_ROOT_UUID,
		.label = "tower",
		.inodes = 4096 },
	{ .start = 192 * WDR_MIB,
		.size = 48 * WDR_MIB,
		.type = GPT_LINUX,
		.partuuid = WDR_BITTERN_DATA_PARTUUID,
		.name = "sound",
		.uuid = WDR_BITTERN_DATA_UUID,
		.label = "sound",
		.inodes = 512 },
};

static const WdrSamplePart dipper_parts[] = {
	{ .start = 16 * WDR_MIB,
		.size = 40 * WDR_MIB,
		.type = "83",
		.is_active = true,
		.uuid = WDR_DIPPER_BOOT_UUID,
		.label = "brook_boot",
		.inodes = 512 },
	{ .start = 56 * WDR_MIB,
		.size = 120 * WDR_MIB,
		.type = "83",
		.uuid = WDR_DIPPER_ROOT_UUID,
		.label = "brook_root",
		.inodes = 4096 },
};

static const WdrSamplePart curlew_parts[] = {
	{ .start = 1 * WDR_MIB,
		.size = 64 * WDR_MIB,
		.type = GPT_EFI,
		.is_fat = true,
		.partuuid = WDR_CURLEW_ESP_PARTUUID,
		.name = "EFI",
		.uuid = WDR_CURLEW_ESP_UUID,
		.label = "DUNE-EFI" },
	{ .start = 65 * WDR_MIB,
		.size = 176 * WDR_MIB,
		.type = GPT_LINUX,
		.partuuid = WDR_CURLEW_ROOT_PARTUUID,
		.name = "dune-root",
		.uuid = WDR_CURLEW_ROOT_UUID,
		.label = "dune",
		.inodes = 4096 },
};

static const WdrSamplePart kingfisher_parts[] = {
	{ .start = 16 * WDR_MIB,
		.size = 48 * WDR_MIB,
		.type = "83",
		.is_active = true,
		.uuid = WDR_KINGFISHER_BOOT_UUID,
		.label = "weir_boot",
		.inodes = 512 },
	{ .start = 64 * WDR_MIB,
		.size = 144 * WDR_MIB,
		.type = "83",
		.uuid = WDR_KINGFISHER_ROOT_UUID,
		.label = "weir_root",
		.inodes = 4096 },
	{ .start = 208 * WDR_MIB,
		.size = 40 * WDR_MIB,
		.type = "0c",
		.is_fat = true,
		.uuid = WDR_KINGFISHER_KEYS_UUID,
		.label = "KEYS" },
};

enum { VOLUMES_MAX = 4 };

/* One board and its bench. */
typedef struct {
	const char *name, *folder; /* folder: of its bench, below the one that was asked for */
	const File *files;
	size_t n_files;
	const char *card_name, *drive_name;
	WdrSampleDisk card;
	uint64_t drive_size;
	WdrMemoryVolume *(*volumes[VOLUMES_MAX])(void);
	WdrMemoryVolume *(*small[VOLUMES_MAX])(void);         /* NULL: the same */
	bool (*add_more)(const char *folder, GError **error); /* NULL: nothing */
} Board;

static bool write_bytes(
	const char *folder, const char *path, const void *bytes, size_t len, GError **error)
{
	g_autofree char *full = g_build_filename(folder, path, NULL);
	g_autofree char *parent = g_path_get_dirname(full);

	return wdr_make_folder(parent, error) && wdr_write_output(full, bytes, len, error);
}

/* A script can be run. */
static bool write_text(const char *folder, const char *path, const char *text, GError **error)
{
	g_autofree char *full = g_build_filename(folder, path, NULL);

	if (!write_bytes(folder, path, text, strlen(text), error))
		return false;
	return !g_str_has_prefix(text, "#!") || chmod(full, 0755) == 0 ||
	       wdr_error_set_errno(error, errno, "changing the mode of %s", full);
}

/* A drive that has been used a little: what its controller answers (see disk/health/nvme_health.h).
 */
static bool add_controller(const char *folder, GError **error)
{
	enum { LOG = 512, POWER_STATES = LOG + 2048, POWER_LOSSES = 144 };
	static uint8_t answers[LOG + 4096];

	wdr_put_le16(answers + 1, 273 + 36); /* degrees */
	answers[3] = 100;                    /* spare blocks, percent */
	answers[4] = 10;                     /* their limit */
	answers[5] = 2;                      /* of its life, percent */
	answers[POWER_LOSSES] = 3;
	wdr_put_le16(answers + POWER_STATES, 350); /* hundredths of a watt */
	return write_bytes(folder, "dev/nvme0", answers, sizeof(answers), error);
}

/* What its device tree says of the board and its firmware of 2026-02-11. */
static bool add_heron(const char *folder, GError **error)
{
	static const char compatible[] = "raspberrypi,5-model-b\0brcm,bcm2712";
	static const char built[] = "\x69\x8c\x49\xdf";
	static const char mode[] = "\0\0\0\1";

	return add_controller(folder, error) &&
	       write_bytes(folder, "proc/device-tree/compatible", compatible, sizeof(compatible),
		       error) &&
	       write_bytes(folder, "proc/device-tree/chosen/bootloader/build-timestamp", built, 4,
		       error) &&
	       write_bytes(folder, "proc/device-tree/chosen/bootloader/boot-mode", mode, 4, error);
}

enum {
	FLASH_BYTES = 4194304,
	IMAGE_BYTES = 1048576,
	MAGIC_AT = 32768,
	VERSION_AT = 65536,
	TREE_BYTES = 1024,
	STAGE_BYTES = 65536
};

static const char recorder[] = "field-station,recorder\0rockchip,rk3399";

/* There is room for it: none of these fails, here and below. */
static void put_images(char *at)
{
	(void)fdt_create_empty_tree(at, TREE_BYTES);
	(void)fdt_add_subnode(at, 0, "images");
}

static void put_tree(char *at)
{
	(void)fdt_create_empty_tree(at, TREE_BYTES);
	(void)fdt_setprop(at, 0, "compatible", recorder, sizeof(recorder));
	(void)fdt_setprop_string(at, 0, "model", "Field Station Recorder Board");
}

/* A loader as its chip and its people would recognise it: its magic number where the chip looks in
 * SPI flash, its version, the device tree of the board that it is for, and a second stage. */
static void put_loader(char *bytes, const char *version)
{
	memcpy(bytes + MAGIC_AT, "RKNS", 4);
	g_snprintf(bytes + VERSION_AT, 256, "U-Boot %s (Jan 09 2023 - 08:00:00 +0000)", version);
	put_tree(bytes + 2 * VERSION_AT);
	put_images(bytes + 3 * VERSION_AT);
}

/* The same for a medium: two files, of which the chip reads the first, and that the second. */
static bool add_pair(const char *folder, GError **error)
{
	g_autofree char *first = g_malloc0(STAGE_BYTES);
	g_autofree char *second = g_malloc0(STAGE_BYTES);

	memcpy(first, "RKNS", 4);
	g_snprintf(first + TREE_BYTES, 256, "U-Boot SPL 2024.01 (Jan 08 2024 - 08:00:00 +0000)");
	put_images(second);
	g_snprintf(second + TREE_BYTES, 256, "U-Boot 2024.01 (Jan 08 2024 - 08:00:00 +0000)");
	put_tree(second + STAGE_BYTES / 2);
	return write_bytes(folder, "root/usr/lib/u-boot/field-recorder/idbloader.img", first,
		       STAGE_BYTES, error) &&
	       write_bytes(folder, "root/usr/lib/u-boot/field-recorder/u-boot.itb", second,
		       STAGE_BYTES, error);
}

static bool add_flash(const char *folder, GError **error)
{
	g_autofree char *bytes = g_malloc(FLASH_BYTES);

	memset(bytes, 0xff, FLASH_BYTES);
	put_loader(bytes, "2023.01");
	return write_bytes(folder, "dev/mtd0", bytes, FLASH_BYTES, error);
}

/* And a newer one that a package of the system brings. */
static bool add_bittern(const char *folder, GError **error)
{
	g_autofree char *bytes = g_malloc(IMAGE_BYTES);

	memset(bytes, 0xff, IMAGE_BYTES);
	put_loader(bytes, "2024.01");
	return write_bytes(
		       folder, "proc/device-tree/compatible", recorder, sizeof(recorder), error) &&
	       write_bytes(folder, "root/usr/lib/u-boot/field-recorder/u-boot-rockchip-spi.bin",
		       bytes, IMAGE_BYTES, error) &&
	       add_pair(folder, error) && add_flash(folder, error);
}

/* And the initramfs that its generator would make. */
static bool add_dipper(const char *folder, GError **error)
{
	g_autoptr(GBytes) bytes = wdr_sample_dipper_initramfs(true);

	return write_bytes(folder, "bin/initrd.img-" WDR_DIPPER_KERNEL,
		       g_bytes_get_data(bytes, NULL), g_bytes_get_size(bytes), error) &&
	       add_flash(folder, error);
}

static const Board boards[] = {
	{ "heron-hide-3", "", heron_files, G_N_ELEMENTS(heron_files), "mmcblk0", "nvme0n1",
		{ WDR_TABLE_MBR, WDR_HERON_DISK_ID, 600 * WDR_MIB, heron_parts,
			G_N_ELEMENTS(heron_parts) },
		2 * WDR_GIB, { wdr_sample_heron_boot, wdr_sample_heron_root },
		{ wdr_sample_heron_small_boot, wdr_sample_heron_small_root }, add_heron },
	{ "bittern-tower-1", "boards/bittern-tower-1", bittern_files, G_N_ELEMENTS(bittern_files),
		"mmcblk1", "nvme0n1",
		{ WDR_TABLE_GPT, WDR_BITTERN_DISK_ID, 256 * WDR_MIB, bittern_parts,
			G_N_ELEMENTS(bittern_parts) },
		1 * WDR_GIB, { wdr_sample_bittern_root, wdr_sample_bittern_data }, { NULL },
		add_bittern },
	{ "curlew-dune-5", "boards/curlew-dune-5", curlew_files, G_N_ELEMENTS(curlew_files),
		"mmcblk1", "nvme0n1",
		{ WDR_TABLE_GPT, WDR_CURLEW_DISK_ID, 256 * WDR_MIB, curlew_parts,
			G_N_ELEMENTS(curlew_parts) },
		1 * WDR_GIB, { wdr_sample_curlew_esp, wdr_sample_curlew_root }, { NULL },
		wdr_sample_curlew_firmware },
	{ "dipper-brook-4", "boards/dipper-brook-4", dipper_files, G_N_ELEMENTS(dipper_files),
		"mmcblk1", "nvme0n1",
		{ WDR_TABLE_MBR, WDR_DIPPER_DISK_ID, 192 * WDR_MIB, dipper_parts,
			G_N_ELEMENTS(dipper_parts) },
		1 * WDR_GIB, { wdr_sample_dipper_boot, wdr_sample_dipper_root }, { NULL },
		add_dipper },
	{ "kingfisher-weir-2", "boards/kingfisher-weir-2", kingfisher_files,
		G_N_ELEMENTS(kingfisher_files), "mmcblk0", "sda",
		{ WDR_TABLE_MBR, WDR_KINGFISHER_DISK_ID, 256 * WDR_MIB, kingfisher_parts,
			G_N_ELEMENTS(kingfisher_parts) },
		1 * WDR_GIB,
		{ wdr_sample_kingfisher_boot, wdr_sample_kingfisher_root,
			wdr_sample_kingfisher_keys },
		{ NULL }, NULL },
};

static bool make_disk(const WdrWorld *world, const char *folder, const char *name,
	const WdrSampleDisk *disk, WdrVolume *const *volumes, GError **error)
{
	g_autofree char *in_sys = g_strdup_printf("sys/block/%s/size", name);
	g_autofree char *sectors = g_strdup_printf("%" G_GUINT64_FORMAT "\n", disk->size / 512);
	g_autofree char *path = g_build_filename(folder, "dev", name, NULL);

	return write_text(folder, in_sys, sectors, error) &&
	       wdr_sample_make_disk(world, path, disk, volumes, folder, error);
}

static bool make_board(
	const WdrWorld *world, const char *under, const Board *b, bool is_small, GError **error)
{
	static const char *const folders[] = { "dev", "root/etc", "bin" };
	g_autofree char *folder = g_build_filename(under, b->folder, NULL);
	const WdrSampleDisk drive = { .size = b->drive_size };
	WdrVolume *volumes[VOLUMES_MAX] = { NULL };

	for (size_t i = 0; i < G_N_ELEMENTS(folders); i++) {
		g_autofree char *path = g_build_filename(folder, folders[i], NULL);
		if (!wdr_make_folder(path, error))
			return false;
	}
	for (size_t i = 0; i < b->n_files; i++) {
		if (!write_text(folder, b->files[i].path, b->files[i].text, error))
			return false;
	}
	wdr_world_step(world, "filling the card of %s", b->name);
	for (size_t i = 0; i < b->card.n; i++)
		volumes[i] = wdr_memory_volume_as_volume(
			is_small && b->small[i] ? b->small[i]() : b->volumes[i]());
	bool is_fine = write_text(folder, "bin/README", "Stand-ins for board commands go here.\n",
			       error) &&
		       write_text(folder, "dev/kmsg", "6,1,0,-;Booting Linux\n", error) &&
		       make_disk(world, folder, b->card_name, &b->card, volumes, error) &&
		       make_disk(world, folder, b->drive_name, &drive, NULL, error) &&
		       (!b->add_more || b->add_more(folder, error));
	for (size_t i = 0; i < b->card.n; i++)
		wdr_volume_free(volumes[i]);
	return is_fine;
}

bool wdr_sample_make_bench(const WdrWorld *world, const char *folder, bool is_small, GError **error)
{
	g_autoptr(GDir) dir = g_dir_open(folder, 0, NULL);

	if (dir && g_dir_read_name(dir)) {
		wdr_error_set(error, WDR_ERROR_REFUSED, "the folder %s is not empty", folder);
		wdr_error_hint(error, "name a new folder; nothing was changed");
		return false;
	}
	for (size_t i = 0; i < G_N_ELEMENTS(boards); i++) {
		if (!make_board(world, folder, &boards[i], is_small, error))
			return false;
	}
	return true;
}
