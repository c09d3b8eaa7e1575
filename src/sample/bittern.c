/* What lies on bittern-tower-1's card: root with its boot folder, and the season's sound files. */
#include "sample/bootfiles.h"

#include "sample/entries.h"
#include "sample/sample.h"

#define KERNEL "6.1.0-field-arm64"

const char wdr_bittern_extlinux[] =
	"## /boot/extlinux/extlinux.conf\n"
	"## Made by u-boot-update from /etc/default/u-boot; edit that file instead.\n"
	"\n"
	"default l0\n"
	"menu title Bittern tower\n"
	"prompt 0\n"
	"timeout 20\n"
	"\n"
	"label l0\n"
	"\tmenu label Debian GNU/Linux 12 (bookworm) " KERNEL "\n"
	"\tlinux /boot/vmlinuz-" KERNEL "\n"
	"\tinitrd /boot/initrd.img-" KERNEL "\n"
	"\tfdtdir /boot/dtbs/" KERNEL "/\n"
	"\tappend root=UUID=" WDR_BITTERN_ROOT_UUID " ro quiet ${extra}\n"
	"\n"
	"label l0r\n"
	"\tmenu label Debian GNU/Linux 12 (bookworm) " KERNEL " (rescue)\n"
	"\tlinux /boot/vmlinuz-" KERNEL "\n"
	"\tinitrd /boot/initrd.img-" KERNEL "\n"
	"\tfdtdir /boot/dtbs/" KERNEL "/\n"
	"\tappend root=UUID=" WDR_BITTERN_ROOT_UUID " ro single\n";

const char wdr_bittern_fstab[] =
	"# <file system>  <mount point>  <type>  <options>  <dump>  <pass>\n"
	"UUID=" WDR_BITTERN_ROOT_UUID "  /  ext4  defaults,errors=remount-ro  0  1\n"
	"#/dev/mmcblk1p2  /srv/sound  ext4  defaults  0  2\n"
	"LABEL=sound  /srv/sound  ext4  defaults,nofail,noatime  0  2\n";

WdrMemoryVolume *wdr_sample_bittern_root(void)
{
	static const char *const folders[] = { "boot", "boot/dtbs", "boot/dtbs/" KERNEL,
		"boot/extlinux", "dev", "etc", "etc/default", "etc/initramfs-tools",
		"etc/initramfs-tools/conf.d", "etc/kernel", "etc/station", "home", "home/warden",
		"mnt", "proc", "root", "run", "sbin", "srv", "srv/sound", "sys", "tmp", "usr",
		"usr/bin", "usr/lib", "usr/lib/systemd", "usr/lib/modules",
		"usr/lib/modules/" KERNEL, "var", "var/lib", "var/log" };
	static const WdrSampleText texts[] = {
		{ "boot/extlinux/extlinux.conf", wdr_bittern_extlinux },
		{ "etc/default/u-boot",
			"U_BOOT_UPDATE=\"true\"\nU_BOOT_ROOT=\"root=UUID=" WDR_BITTERN_ROOT_UUID
			"\"\nU_BOOT_PARAMETERS=\"ro quiet\"\nU_BOOT_TIMEOUT=\"20\"\n" },
		{ "etc/fstab", wdr_bittern_fstab },
		{ "etc/hostname", "bittern-tower-1\n" },
		{ "etc/initramfs-tools/conf.d/resume", "RESUME=none\n" },
		{ "etc/kernel/cmdline", "root=UUID=" WDR_BITTERN_ROOT_UUID " ro quiet\n" },
		{ "etc/station/recorder.ini",
			"[archive]\n; where the night's calls are copied to\ndevice = /dev/disk/by-label/sound\n" },
		{ "usr/lib/os-release",
			"PRETTY_NAME=\"Debian GNU/Linux 12 (bookworm)\"\nNAME=\"Debian GNU/Linux\"\nID=debian\n" },
		{ "usr/lib/modules/" KERNEL "/modules.builtin",
			"kernel/drivers/mmc/core/mmc_core.ko\n" },
		{ "usr/lib/modules/" KERNEL "/modules.dep",
			"kernel/drivers/nvme/host/nvme-core.ko:\n"
			"kernel/drivers/nvme/host/nvme.ko: kernel/drivers/nvme/host/nvme-core.ko\n"
			"kernel/drivers/mmc/core/mmc_block.ko:\n"
			"kernel/drivers/usb/storage/usb-storage.ko:\n"
			"kernel/drivers/scsi/sd_mod.ko:\n"
			"kernel/fs/mbcache.ko:\nkernel/fs/jbd2/jbd2.ko:\n"
			"kernel/fs/ext4/ext4.ko: kernel/fs/mbcache.ko kernel/fs/jbd2/jbd2.ko\n" },
		{ "var/log/syslog", "May  4 06:30:00 bittern-tower-1 recorder: 3 booms\n" },
	};
	static const char *const modules[] = { "kernel/drivers/mmc/core/mmc_block.ko",
		"kernel/drivers/nvme/host/nvme-core.ko", "kernel/drivers/nvme/host/nvme.ko",
		"kernel/fs/ext4/ext4.ko", "kernel/fs/jbd2/jbd2.ko", "kernel/fs/mbcache.ko", NULL };
	g_autoptr(GBytes) initramfs = wdr_sample_initramfs(KERNEL, modules, NULL, 9100000);
	WdrMemoryVolume *m = wdr_memory_volume_new("bittern-tower-1 root");

	wdr_sample_folders(m, folders, G_N_ELEMENTS(folders));
	wdr_sample_texts(m, texts, G_N_ELEMENTS(texts));
	wdr_sample_kernel(m, "boot/vmlinuz-" KERNEL, KERNEL, 7300000);
	wdr_sample_put(m, "boot/initrd.img-" KERNEL, 0644, initramfs);
	wdr_sample_device_tree(m, "boot/dtbs/" KERNEL "/tower.dtb", 61000);
	wdr_sample_system(m, 250);
	return m;
}

WdrMemoryVolume *wdr_sample_bittern_data(void)
{
	WdrMemoryVolume *m = wdr_memory_volume_new("bittern-tower-1 sound");

	for (unsigned i = 0; i < 40; i++) {
		g_autofree char *path = g_strdup_printf("boom-%03u.flac", i);
		wdr_sample_bytes(m, path, 0644, 120000 + i * 7919 % 90000);
	}
	return m;
}
