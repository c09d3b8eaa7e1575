/* What lies on kingfisher-weir-2's card: boot, root, and a small volume with keys. */
#include "boot/formats/image.h"

#include "sample/bootfiles.h"
#include "sample/entries.h"
#include "sample/sample.h"

#include <string.h>

#define KERNEL "6.6.31-weir"

const char wdr_kingfisher_settings[] = "verbosity=1\n"
				       "bootlogo=false\n"
				       "console=serial\n"
				       "rootdev=UUID=" WDR_KINGFISHER_ROOT_UUID "\n"
				       "rootfstype=ext4\n"
				       "fdtfile=weir/kingfisher.dtb\n"
				       "extraargs=net.ifnames=0 rootflags=noatime\n";

static const char boot_cmd[] =
	"# Boots the weir's cameras. After a change: mkimage -C none -A arm64 -T script -d boot.cmd boot.scr\n"
	"setenv load_addr \"0x45000000\"\n"
	"setenv rootdev \"/dev/mmcblk0p2\"\n"
	"setenv rootfstype \"ext4\"\n"
	"if test -e ${devtype} ${devnum} weirEnv.txt; then\n"
	"\tload ${devtype} ${devnum} ${load_addr} weirEnv.txt\n"
	"\tenv import -t ${load_addr} ${filesize}\n"
	"fi\n"
	"setenv bootargs \"root=${rootdev} rootwait rootfstype=${rootfstype} ${extraargs}\"\n"
	"load ${devtype} ${devnum} ${ramdisk_addr_r} uInitrd\n"
	"load ${devtype} ${devnum} ${kernel_addr_r} Image\n"
	"load ${devtype} ${devnum} ${fdt_addr_r} dtb/${fdtfile}\n"
	"booti ${kernel_addr_r} ${ramdisk_addr_r} ${fdt_addr_r}\n";

const char wdr_kingfisher_fstab[] =
	"UUID=" WDR_KINGFISHER_ROOT_UUID
	" / ext4 defaults,noatime,commit=600,errors=remount-ro 0 1\n"
	"UUID=" WDR_KINGFISHER_BOOT_UUID " /boot ext4 defaults,commit=600,errors=remount-ro 0 2\n"
	"tmpfs /tmp tmpfs defaults,nosuid 0 0\n"
	"/var/swap none swap sw,x-systemd.requires=/dev/disk/by-uuid/" WDR_KINGFISHER_ROOT_UUID
	" 0 0\n";

WdrMemoryVolume *wdr_sample_kingfisher_boot(void)
{
	static const char *const folders[] = { "dtb", "dtb/weir" };
	WdrMemoryVolume *m = wdr_memory_volume_new("kingfisher-weir-2 boot");
	static const char *const modules[] = { "kernel/drivers/usb/storage/uas.ko", NULL };
	g_autoptr(GBytes) initramfs = wdr_sample_initramfs(KERNEL, modules, NULL, 2000000);

	wdr_sample_folders(m, folders, G_N_ELEMENTS(folders));
	wdr_sample_text(m, "boot.cmd", boot_cmd);
	wdr_sample_image(m, "boot.scr", WDR_IMAGE_SCRIPT, boot_cmd, strlen(boot_cmd));
	wdr_sample_text(m, "weirEnv.txt", wdr_kingfisher_settings);
	wdr_sample_image(m, "uInitrd", WDR_IMAGE_RAMDISK, g_bytes_get_data(initramfs, NULL),
		g_bytes_get_size(initramfs));
	wdr_sample_kernel(m, "Image", KERNEL, 8200000);
	wdr_sample_device_tree(m, "dtb/weir/kingfisher.dtb", 58000);
	return m;
}

WdrMemoryVolume *wdr_sample_kingfisher_root(void)
{
	static const char *const folders[] = { "boot", "dev", "etc", "etc/systemd",
		"etc/systemd/system", "home", "home/warden", "mnt", "proc", "root", "run", "srv",
		"srv/keys", "sbin", "sys", "tmp", "usr", "usr/bin", "usr/lib", "usr/lib/modules",
		"usr/lib/systemd", ("usr/lib/modules/" KERNEL), "var", "var/lib", "var/log" };
	static const WdrSampleText texts[] = {
		{ "etc/crypttab",
			"# <target name>  <source device>  <key file>  <options>\n"
			"archive UUID=9e2d4c6b-0f1a-4b3c-8d5e-7f6a5b4c3d2e /weir.key:UUID=" WDR_KINGFISHER_KEYS_UUID
			" luks,nofail\n" },
		{ "etc/fstab", wdr_kingfisher_fstab },
		{ "etc/hostname", "kingfisher-weir-2\n" },
		{ "etc/systemd/system/srv-keys.mount",
			"[Unit]\nDescription=Keys of the weir's archive\nRequires=dev-mmcblk0p3.device\n"
			"After=dev-mmcblk0p3.device\n\n[Mount]\nWhat=/dev/mmcblk0p3\nWhere=/srv/keys\n"
			"Type=vfat\nOptions=ro,umask=0077\n" },
		{ "usr/lib/os-release",
			"PRETTY_NAME=\"Debian GNU/Linux 12 (bookworm)\"\nNAME=\"Debian GNU/Linux\"\nID=debian\n" },
		{ "usr/lib/modules/" KERNEL "/modules.builtin",
			"kernel/fs/ext4/ext4.ko\nkernel/drivers/mmc/core/mmc_block.ko\n"
			"kernel/drivers/usb/storage/usb-storage.ko\nkernel/drivers/scsi/sd_mod.ko\n" },
		{ "usr/lib/modules/" KERNEL "/modules.dep",
			"kernel/drivers/usb/storage/uas.ko:\n"
			"kernel/drivers/nvme/host/nvme-core.ko:\n"
			"kernel/drivers/nvme/host/nvme.ko: kernel/drivers/nvme/host/nvme-core.ko\n" },
	};
	WdrMemoryVolume *m = wdr_memory_volume_new("kingfisher-weir-2 root");

	wdr_sample_folders(m, folders, G_N_ELEMENTS(folders));
	wdr_sample_texts(m, texts, G_N_ELEMENTS(texts));
	wdr_memory_volume_preallocate(m, wdr_sample_file(m, "var/swap", 0600, 0), 0, 8 << 20);
	wdr_sample_system(m, 250);
	return m;
}

WdrMemoryVolume *wdr_sample_kingfisher_keys(void)
{
	WdrMemoryVolume *m = wdr_memory_volume_new("kingfisher-weir-2 keys");

	wdr_sample_bytes(m, "weir.key", 0600, 4096);
	return m;
}
