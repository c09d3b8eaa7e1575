/* Sample boards: made-up systems of a bird observatory's field station, and the benches around
 * them.
 */
#pragma once

#include "disk/parttable.h"
#include "volume/memory.h"
#include "world/world.h"

/* heron-hide-3: a board with the firmware boot flow, run from an SD card. The same bytes every
 * time. */
#define WDR_HERON_DISK_ID "4c1fa2b0"
#define WDR_HERON_BOOT_UUID "F3A1-77C2"
#define WDR_HERON_ROOT_UUID "6d1c7a52-0b7e-4f5e-9a43-2f8f5d1b9c30"
extern const char wdr_heron_config[], wdr_heron_cmdline[], wdr_heron_fstab[];
WdrMemoryVolume *wdr_sample_heron_boot(void);
WdrMemoryVolume *wdr_sample_heron_root(void);
/* The same system with an eighth of its many files, and the largest ones an eighth as large. */
WdrMemoryVolume *wdr_sample_heron_small_boot(void);
WdrMemoryVolume *wdr_sample_heron_small_root(void);

/* bittern-tower-1: an extlinux menu in the boot folder of its root, a GPT. */
#define WDR_BITTERN_DISK_ID "b1773e20-4a5c-4f0e-9d11-60a7e5c20001"
#define WDR_BITTERN_ROOT_UUID "2f9a61c4-7d3e-4b88-a1c5-0e6d5b4f7a21"
#define WDR_BITTERN_DATA_UUID "81c0e2b7-5f4a-4d19-8e63-9b2d7c1f0a54"
#define WDR_BITTERN_ROOT_PARTUUID "b1773e20-4a5c-4f0e-9d11-60a7e5c20011"
#define WDR_BITTERN_DATA_PARTUUID "b1773e20-4a5c-4f0e-9d11-60a7e5c20012"
extern const char wdr_bittern_extlinux[], wdr_bittern_fstab[];
WdrMemoryVolume *wdr_sample_bittern_root(void);
WdrMemoryVolume *wdr_sample_bittern_data(void);

/* kingfisher-weir-2: a loader script with a settings file on an ext4 boot volume, an MBR. */
#define WDR_KINGFISHER_DISK_ID "7e3b90d1"
#define WDR_KINGFISHER_BOOT_UUID "c4b8d2f6-1a3e-4c57-b9d0-5e7f6a8b9c01"
#define WDR_KINGFISHER_ROOT_UUID "d5c9e3a7-2b4f-4d68-8ae1-6f8a7b9c0d12"
#define WDR_KINGFISHER_KEYS_UUID "5EED-0B1D"
extern const char wdr_kingfisher_settings[], wdr_kingfisher_fstab[];
WdrMemoryVolume *wdr_sample_kingfisher_boot(void);
WdrMemoryVolume *wdr_sample_kingfisher_root(void);
WdrMemoryVolume *wdr_sample_kingfisher_keys(void);

/* dipper-brook-4: an extlinux menu on an ext4 boot volume, an MBR, and an initramfs that has no
 * driver for the drive that it is to move to. */
#define WDR_DIPPER_DISK_ID "d1995e04"
#define WDR_DIPPER_BOOT_UUID "a7c1e5d3-4b2f-4e68-9d0c-1f3a5b7c9e01"
#define WDR_DIPPER_ROOT_UUID "b8d2f6e4-5c3a-4f79-8e1d-2a4b6c8d0f12"
#define WDR_DIPPER_KERNEL "6.1.0-brook"
extern const char wdr_dipper_extlinux[], wdr_dipper_fstab[];
WdrMemoryVolume *wdr_sample_dipper_boot(void);
WdrMemoryVolume *wdr_sample_dipper_root(void);
/* As the system's generator would make it, with the driver in its settings or without. */
GBytes *wdr_sample_dipper_initramfs(bool has_nvme);

/* curlew-dune-5: UEFI firmware, shim and GRUB on an EFI system partition, a GPT. The firmware
 * starts it by an entry that it has stored. */
#define WDR_CURLEW_DISK_ID "c012ed05-5b3e-4d07-9a21-60a7e5c20001"
#define WDR_CURLEW_ESP_UUID "D00E-5E05"
#define WDR_CURLEW_ROOT_UUID "3c7e9a10-6b2d-4f85-8d41-92e0c5a7b316"
#define WDR_CURLEW_ESP_PARTUUID "c012ed05-5b3e-4d07-9a21-60a7e5c20011"
#define WDR_CURLEW_ROOT_PARTUUID "c012ed05-5b3e-4d07-9a21-60a7e5c20012"
extern const char wdr_curlew_menu[], wdr_curlew_fstab[];
/* What stands in for the command that changes the firmware's entries. */
extern const char wdr_curlew_efibootmgr[];
WdrMemoryVolume *wdr_sample_curlew_esp(void);
WdrMemoryVolume *wdr_sample_curlew_root(void);
/* The firmware's variables, on a bench. */
bool wdr_sample_curlew_firmware(const char *folder, GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* Makes a bench in `folder`, which must not exist or be empty (REFUSED otherwise): heron-hide-3's,
 * and under boards/ one for each of the others. Small: heron-hide-3 has fewer
 * and smaller files. */
bool wdr_sample_make_bench(const WdrWorld *world, const char *folder, bool is_small,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* ---- media ---- */

typedef struct {
	uint64_t start, size;
	const char *type, *partuuid, *name; /* partuuid NULL: MBR's own */
	bool is_fat, is_active;
	const char *uuid, *label;
	uint64_t inodes; /* ext */
} WdrSamplePart;

typedef struct {
	WdrTableKind table;
	const char *id;
	uint64_t size;
	const WdrSamplePart *parts;
	size_t n;
} WdrSampleDisk;

/* Makes the image and fills its partitions with these volumes, one for each. */
bool wdr_sample_make_disk(const WdrWorld *world, const char *path, const WdrSampleDisk *disk,
	WdrVolume *const *volumes, const char *scratch, GError **error) G_GNUC_WARN_UNUSED_RESULT;
