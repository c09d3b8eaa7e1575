/* What lies on dipper-brook-4's card: a menu on a boot volume of its own, and an initramfs that was
 * made for the card alone: it has no driver for NVMe. */
#include "sample/bootfiles.h"

#include "sample/entries.h"
#include "sample/sample.h"

#define KERNEL WDR_DIPPER_KERNEL
#define DRIVERS "usr/lib/modules/" KERNEL "/kernel/drivers"
#define KERNEL_FOLDERS                                                                             \
	("usr/lib/modules/" KERNEL "/kernel"), DRIVERS, (DRIVERS "/mmc"), (DRIVERS "/mmc/core"),   \
		(DRIVERS "/nvme"), (DRIVERS "/nvme/host")
#define MMC_MODULE "kernel/drivers/mmc/core/mmc_block.ko"
#define NVME_MODULES "kernel/drivers/nvme/host/nvme-core.ko", "kernel/drivers/nvme/host/nvme.ko"

static const char needs[] =
	MMC_MODULE ":\n"
		   "kernel/drivers/nvme/host/nvme-core.ko:\n"
		   "kernel/drivers/nvme/host/nvme.ko: kernel/drivers/nvme/host/nvme-core.ko\n";
static const char *const for_card[] = { MMC_MODULE, NULL };
static const char *const for_both[] = { MMC_MODULE, NVME_MODULES, NULL };

const char wdr_dipper_extlinux[] = "default brook\n"
				   "timeout 20\n"
				   "\n"
				   "label brook\n"
				   "\tmenu label Brook\n"
				   "\tlinux /vmlinuz-" KERNEL "\n"
				   "\tinitrd /initrd.img-" KERNEL "\n"
				   "\tfdtdir /dtbs/" KERNEL "\n"
				   "\tappend root=UUID=" WDR_DIPPER_ROOT_UUID " ro quiet\n";

const char wdr_dipper_fstab[] = "UUID=" WDR_DIPPER_ROOT_UUID " / ext4 defaults,noatime 0 1\n"
				"UUID=" WDR_DIPPER_BOOT_UUID " /boot ext4 defaults 0 2\n";

GBytes *wdr_sample_dipper_initramfs(bool has_nvme)
{
	return wdr_sample_initramfs(KERNEL, has_nvme ? for_both : for_card, needs, 3100000);
}

WdrMemoryVolume *wdr_sample_dipper_boot(void)
{
	static const char *const folders[] = { "dtbs", ("dtbs/" KERNEL), "extlinux" };
	g_autoptr(GBytes) initramfs = wdr_sample_dipper_initramfs(false);
	WdrMemoryVolume *m = wdr_memory_volume_new("dipper-brook-4 boot");

	wdr_sample_folders(m, folders, G_N_ELEMENTS(folders));
	wdr_sample_text(m, "extlinux/extlinux.conf", wdr_dipper_extlinux);
	wdr_sample_kernel(m, "vmlinuz-" KERNEL, KERNEL, 7100000);
	wdr_sample_put(m, "initrd.img-" KERNEL, 0644, initramfs);
	wdr_sample_device_tree(m, "dtbs/" KERNEL "/brook.dtb", 52000);
	return m;
}

WdrMemoryVolume *wdr_sample_dipper_root(void)
{
	static const char *const folders[] = { "boot", "dev", "etc", "etc/initramfs-tools",
		"etc/ssh", "home", "home/warden", "mnt", "proc", "root", "run", "sbin", "sys",
		"tmp", "usr", "usr/bin", "usr/lib", "usr/lib/modules", "usr/lib/systemd",
		("usr/lib/modules/" KERNEL), KERNEL_FOLDERS, "var", "var/lib", "var/log" };
	static const WdrSampleText texts[] = {
		{ "etc/fstab", wdr_dipper_fstab },
		{ "etc/hostname", "dipper-brook-4\n" },
		{ "etc/hosts",
			"127.0.0.1 localhost\n127.0.1.1 dipper-brook-4.field dipper-brook-4\n" },
		{ "etc/machine-id", "5d1bbe4a7c0f4e52a9c6d1e07f3b8a24\n" },
		{ "etc/ssh/ssh_host_ed25519_key", "made up\n" },
		{ "etc/ssh/ssh_host_ed25519_key.pub", "made up, for everybody\n" },
		{ "etc/initramfs-tools/initramfs.conf", "MODULES=dep\nCOMPRESS=gzip\n" },
		{ "etc/initramfs-tools/modules", "# One module a line.\n" },
		{ "usr/lib/os-release",
			"PRETTY_NAME=\"Debian GNU/Linux 12 (bookworm)\"\nNAME=\"Debian GNU/Linux\"\nID=debian\n" },
		{ "usr/lib/modules/" KERNEL "/modules.builtin", "kernel/fs/ext4/ext4.ko\n" },
		{ "usr/lib/modules/" KERNEL "/modules.dep", needs },
		{ "var/log/syslog", "May  4 06:30:00 dipper-brook-4 gauge: 31 cm, one dipper\n" },
	};
	WdrMemoryVolume *m = wdr_memory_volume_new("dipper-brook-4 root");

	wdr_sample_folders(m, folders, G_N_ELEMENTS(folders));
	wdr_sample_texts(m, texts, G_N_ELEMENTS(texts));
	for (size_t i = 0; for_both[i]; i++) {
		g_autofree char *path =
			g_strconcat("usr/lib/modules/" KERNEL "/", for_both[i], NULL);
		g_autoptr(GBytes) bytes = wdr_sample_module(for_both[i], KERNEL);
		wdr_sample_put(m, path, 0644, bytes);
	}
	wdr_sample_system(m, 100);
	return m;
}
