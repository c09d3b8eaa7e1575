/* What lies on heron-hide-3's card: every kind of entry that a move has to copy. */
#include "sample/bootfiles.h"

#include "sample/entries.h"
#include "sample/sample.h"

#include <string.h>

/* 2040-01-01, behind the end of 32-bit seconds. */
#define LATER INT64_C(2208988800)

/* ---- the boot volume ---- */

#define KERNEL "6.6.31-field"
#define KERNEL_2712 "6.6.31-field-2712"

enum { SMALL_SHARE = 8 };

static const struct {
	const char *name;
	uint64_t kib;
} firmware_files[] = { { "bootcode.bin", 52 }, { "fixup4.dat", 6 }, { "start4.elf", 2205 } };

static const char *const initramfs_modules[] = { "kernel/drivers/nvme/host/nvme-core.ko.xz",
	"kernel/drivers/nvme/host/nvme.ko.xz", "kernel/drivers/usb/storage/uas.ko.xz", NULL };

static const char *const overlays[] = { "disable-bt", "disable-wifi", "dwc2", "gpio-fan", "gpio-ir",
	"gpio-key", "gpio-led", "gpio-poweroff", "gpio-shutdown", "i2c-rtc", "i2c-sensor", "i2c0",
	"i2c1", "imx219", "imx477", "imx708", "miniuart-bt", "mmc", "nvme-hat", "pcie-32bit-dma",
	"pps-gpio", "sdio", "spi0-2cs", "spi1-1cs", "uart0", "uart1", "uart2", "vc4-kms-v3d",
	"w1-gpio", "watchdog" };

const char wdr_heron_config[] = "# heron-hide-3: camera and microphone controller\n"
				"[all]\n"
				"arm_64bit=1\n"
				"auto_initramfs=1\n"
				"dtparam=audio=on\n"
				"dtparam=i2c_arm=on\n"
				"camera_auto_detect=1\n"
				"\n"
				"[pi5]\n"
				"dtparam=pciex1\n"
				"\n"
				"[all]\n"
				"enable_uart=1\n";

const char wdr_heron_cmdline[] =
	"console=serial0,115200 console=tty1 root=PARTUUID=" WDR_HERON_DISK_ID
	"-02 rootfstype=ext4 fsck.repair=yes rootwait quiet\n";

/* share: one of so many parts of the usual bulk. */
static void add_kernels(WdrMemoryVolume *m, unsigned share)
{
	g_autoptr(GBytes) initramfs =
		wdr_sample_initramfs(KERNEL, initramfs_modules, NULL, 11610 * 1024 / share);
	g_autoptr(GBytes) initramfs_2712 =
		wdr_sample_initramfs(KERNEL_2712, initramfs_modules, NULL, 11640 * 1024 / share);

	wdr_sample_kernel(m, "kernel8.img", KERNEL, 9210 * 1024 / share);
	wdr_sample_kernel(m, "kernel_2712.img", KERNEL_2712, 9305 * 1024 / share);
	wdr_sample_put(m, "initramfs8", 0755, initramfs);
	wdr_sample_put(m, "initramfs_2712", 0755, initramfs_2712);
	wdr_sample_device_tree(m, "bcm2711-rpi-4-b.dtb", 54 * 1024);
	wdr_sample_device_tree(m, "bcm2712-rpi-5-b.dtb", 76 * 1024);
}

static WdrMemoryVolume *make_boot(unsigned share)
{
	static const char *const folders[] = { "overlays" };
	WdrMemoryVolume *m = wdr_memory_volume_new("heron-hide-3 boot");

	wdr_sample_folders(m, folders, G_N_ELEMENTS(folders));
	wdr_sample_text(m, "config.txt", wdr_heron_config);
	wdr_sample_text(m, "cmdline.txt", wdr_heron_cmdline);
	wdr_sample_text(m, "issue.txt", "Field station image 2026-05-04\n");
	for (size_t i = 0; i < G_N_ELEMENTS(firmware_files); i++)
		wdr_sample_bytes(
			m, firmware_files[i].name, 0755, firmware_files[i].kib * 1024 + 137);
	add_kernels(m, share);
	for (size_t i = 0; i < G_N_ELEMENTS(overlays); i++) {
		g_autofree char *path = g_strdup_printf("overlays/%s.dtbo", overlays[i]);
		wdr_sample_bytes(m, path, 0755, 900 + 37 * i);
	}
	wdr_sample_text(m, "overlays/README", "Overlays of the field station's boards.\n");
	return m;
}

WdrMemoryVolume *wdr_sample_heron_boot(void)
{
	return make_boot(1);
}

WdrMemoryVolume *wdr_sample_heron_small_boot(void)
{
	return make_boot(SMALL_SHARE);
}

/* ---- the root volume ---- */

const char wdr_heron_fstab[] =
	"# <file system>        <mount point>   <type>  <options>         <dump>  <pass>\n"
	"proc                    /proc           proc    defaults          0       0\n"
	"PARTUUID=" WDR_HERON_DISK_ID "-01    /boot/firmware  vfat    defaults          0       2\n"
	"PARTUUID=" WDR_HERON_DISK_ID "-02    /               ext4    defaults,noatime  0       1\n"
	"/var/swap               none            swap    sw                0       0\n";

#define MODULES_BUILT_IN                                                                           \
	"kernel/fs/ext4/ext4.ko\nkernel/drivers/mmc/core/mmc_block.ko\n"                           \
	"kernel/drivers/usb/storage/usb-storage.ko\nkernel/drivers/scsi/sd_mod.ko\n"
#define MODULES_NEEDS                                                                              \
	"kernel/drivers/nvme/host/nvme-core.ko.xz:\n"                                              \
	"kernel/drivers/nvme/host/nvme.ko.xz: kernel/drivers/nvme/host/nvme-core.ko.xz\n"          \
	"kernel/drivers/usb/storage/uas.ko.xz:\n"

static const struct {
	const char *path, *text;
} texts[] = {
	{ "etc/hostname", "heron-hide-3\n" },
	{ "etc/hosts", "127.0.0.1\tlocalhost\n127.0.1.1\theron-hide-3\n" },
	{ "etc/fstab", wdr_heron_fstab },
	{ "etc/passwd",
		"root:x:0:0:root:/root:/bin/bash\nwarden:x:1000:1000:warden:/home/warden:/bin/bash\n" },
	{ "usr/lib/os-release",
		"PRETTY_NAME=\"Debian GNU/Linux 12 (bookworm)\"\nNAME=\"Debian GNU/Linux\"\nID=debian\n" },
	{ "etc/cron.d/backup",
		"# every night at two\n0 2 * * * root dd if=/dev/disk/by-partuuid/" WDR_HERON_DISK_ID
		"-02 of=/mnt/store/heron-hide-3.img bs=4M\n" },
	{ "usr/lib/modules/" KERNEL "/modules.builtin", MODULES_BUILT_IN },
	{ "usr/lib/modules/" KERNEL "/modules.dep", MODULES_NEEDS },
	{ "usr/lib/modules/" KERNEL_2712 "/modules.builtin", MODULES_BUILT_IN },
	{ "usr/lib/modules/" KERNEL_2712 "/modules.dep", MODULES_NEEDS },
	{ "etc/station.conf", "[hide]\nname = heron-hide-3\ncamera = reed-bed\n" },
	{ "var/log/syslog", "May  4 06:30:00 heron-hide-3 counter: 14 grey herons, 2 bitterns\n" },
};

static void add_many(WdrMemoryVolume *m, unsigned share)
{
	for (unsigned i = 0; i < 3000 / share; i++) {
		g_autofree char *path = g_strdup_printf("srv/observations/frame-%06u.csv", i);
		wdr_sample_bytes(m, path, 0644, 120 + i * 7 % 4000);
	}
	for (unsigned i = 0; i < 700 / share; i++) {
		g_autofree char *path =
			g_strdup_printf("usr/lib/modules/" KERNEL "/kernel/m%03u.ko", i);
		wdr_sample_bytes(m, path, 0644, 6000 + i * 911 % 90000);
	}
	for (unsigned i = 0; i < 400 / share; i++) {
		g_autofree char *path = g_strdup_printf("usr/bin/tool-%03u", i);
		wdr_sample_bytes(m, path, 0755, 14000 + i * 1291 % 160000);
	}
}

static void add_specials(WdrMemoryVolume *m)
{
	static const struct {
		const char *path;
		WdrKind kind;
		uint32_t mode, major, minor;
	} nodes[] = { { "dev/null", WDR_KIND_CHAR, 0666, 1, 3 },
		{ "dev/console", WDR_KIND_CHAR, 0600, 5, 1 },
		{ "dev/mmcblk0p2", WDR_KIND_BLOCK, 0660, 179, 2 },
		{ "dev/nvme-fabric", WDR_KIND_CHAR, 0600, 511, 70000 },
		{ "var/spool/count.fifo", WDR_KIND_FIFO, 0620, 0, 0 },
		{ "run/counter.sock", WDR_KIND_SOCKET, 0755, 0, 0 } };

	for (size_t i = 0; i < G_N_ELEMENTS(nodes); i++) {
		WdrEntry e = wdr_sample_entry(nodes[i].kind, nodes[i].mode, 0);
		e.rdev_major = nodes[i].major;
		e.rdev_minor = nodes[i].minor;
		wdr_memory_volume_add(m, nodes[i].path, &e);
	}
	wdr_sample_link(m, "bin", "usr/bin");
	wdr_sample_link(m, "lib", "usr/lib");
	wdr_sample_link(m, "sbin/init", "../usr/lib/systemd/systemd");
	wdr_sample_link(m, "etc/os-release", "../usr/lib/os-release");
	wdr_sample_link(m, "etc/nowhere", "/there/is/no/such/place");
	wdr_sample_link(m, "srv/latest",
		"/srv/observations/by-year/2026/by-month/05/by-day/04/by-hour/06/by-camera/reed-bed/latest");
}

static void add_attributes(WdrMemoryVolume *m)
{
	/* cap_net_raw=ep, as the kernel keeps it (version 2). */
	static const uint8_t capability[] = { 1, 0, 0, 2, 0, 0x20, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0,
		0, 0, 0 };
	/* user::rw- user:1001:rw- group::r-- mask::rw- other::r-- */
	static const uint8_t acl[] = { 2, 0, 0, 0, 1, 0, 6, 0, 255, 255, 255, 255, 2, 0, 6, 0, 0xe9,
		3, 0, 0, 4, 0, 4, 0, 255, 255, 255, 255, 16, 0, 6, 0, 255, 255, 255, 255, 32, 0, 4,
		0, 255, 255, 255, 255 };
	WdrEntry ping = wdr_sample_entry(WDR_KIND_FILE, 0755, 0);
	WdrEntry shared = wdr_sample_entry(WDR_KIND_FILE, 0664, WDR_SAMPLE_WARDEN);
	WdrEntry sealed = wdr_sample_entry(WDR_KIND_FILE, 0644, 0);
	WdrEntry journal = wdr_sample_entry(WDR_KIND_FILE, 0640, 0);

	wdr_entry_add_xattr(&ping, "security.capability", capability, sizeof(capability));
	wdr_memory_volume_generate(m, wdr_memory_volume_add(m, "usr/bin/ping", &ping), 0, 90568, 5);
	wdr_entry_add_xattr(&shared, "system.posix_acl_access", acl, sizeof(acl));
	wdr_entry_add_xattr(&shared, "user.species", "Ardea cinerea", 13);
	wdr_memory_volume_put(
		m, wdr_memory_volume_add(m, "home/warden/list.txt", &shared), 0, "14\n", 3);
	sealed.flags = 0x10; /* immutable */
	sealed.mtime.sec = LATER;
	wdr_memory_volume_put(m, wdr_memory_volume_add(m, "etc/station.id", &sealed), 0, "H3\n", 3);
	journal.flags = 0x20 | 0x40; /* append-only, no-dump */
	wdr_memory_volume_generate(
		m, wdr_memory_volume_add(m, "var/log/counts.log", &journal), 0, 70000, 6);
	wdr_entry_clear(&ping);
	wdr_entry_clear(&shared);
}

static void add_shapes(WdrMemoryVolume *m, unsigned share)
{
	uint64_t sparse = wdr_sample_file(m, "srv/sightings.db", 0640, WDR_SAMPLE_WARDEN);
	uint64_t swap = wdr_sample_file(m, "var/swap", 0600, 0);
	uint64_t linked = wdr_sample_file(m, "usr/bin/counter", 04755, 0);

	for (uint64_t i = 0; i < 9; i++)
		wdr_memory_volume_generate(m, sparse, i * (3 << 20), 20000, i + 1);
	wdr_memory_volume_set_size(m, sparse, 64 << 20);
	wdr_memory_volume_preallocate(m, swap, 0, 16 << 20);
	wdr_memory_volume_generate(m, linked, 0, 33333, 9);
	wdr_memory_volume_link(m, "usr/bin/recount", linked);
	wdr_memory_volume_link(m, "home/warden/counter", linked);
	wdr_sample_file(m, "var/empty", 0644, 0);
	wdr_sample_bytes(m, "srv/model.bin", 0644, (24 << 20) / share);
	wdr_sample_text(m,
		"home/warden/r\xc3\xa9"
		"edbed notes.txt",
		"bittern heard at 4:10\n");
	wdr_sample_text(m, "home/warden/tab\there", "tab\n");
	wdr_sample_text(m, "home/warden/line\nbreak", "break\n");
	wdr_sample_text(m, "home/warden/latin-\xe9", "not UTF-8\n");
}

static WdrMemoryVolume *make_root(unsigned share)
{
	static const char *const folders[] = { "boot", "boot/firmware", "dev", "etc", "etc/cron.d",
		"home", "home/warden", "mnt", "proc", "root", "run", "sbin", "srv",
		"srv/observations", "sys", "tmp", "usr", "usr/bin", "usr/lib", "usr/lib/modules",
		"usr/lib/modules/" KERNEL, "usr/lib/modules/" KERNEL "/kernel",
		"usr/lib/modules/" KERNEL_2712, "usr/lib/systemd", "usr/share", "var", "var/lib",
		"var/log", "var/spool" };
	WdrMemoryVolume *m = wdr_memory_volume_new("heron-hide-3 root");
	WdrEntry root = wdr_sample_entry(WDR_KIND_FOLDER, 0755, 0);
	WdrEntry shared = wdr_sample_entry(WDR_KIND_FOLDER, 01777, 0);

	wdr_memory_volume_add(m, "", &root);
	wdr_sample_folders(m, folders, G_N_ELEMENTS(folders));
	wdr_memory_volume_add(m, "var/tmp", &shared);
	for (size_t i = 0; i < G_N_ELEMENTS(texts); i++)
		wdr_sample_text(m, texts[i].path, texts[i].text);
	wdr_sample_program(m, "usr/lib/systemd/systemd", 100000);
	add_many(m, share);
	add_specials(m);
	add_attributes(m);
	add_shapes(m, share);
	return m;
}

WdrMemoryVolume *wdr_sample_heron_root(void)
{
	return make_root(1);
}

WdrMemoryVolume *wdr_sample_heron_small_root(void)
{
	return make_root(SMALL_SHARE);
}
