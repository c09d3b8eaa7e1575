/* What lies between the partition table and the first partition: on many boards the boot loader, at
 * places that the chip's ROM prescribes. */
#pragma once

#include "boot/system/system.h"

typedef struct {
	uint64_t start, size; /* bytes of the disk; size 0: nothing lies there */
	bool has_boot_code;   /* the first 440 bytes of the disk belong to it too */
	char *what;           /* "Rockchip, U-Boot 2023.01"; "unknown" */
} WdrLoaderArea;
void wdr_loader_area_clear(WdrLoaderArea *a);
G_DEFINE_AUTO_CLEANUP_CLEAR_FUNC(WdrLoaderArea, wdr_loader_area_clear)

enum { WDR_BOOT_CODE_BYTES = 440 }; /* the disk signature follows */

bool wdr_loader_area_find(WdrBlockDev *dev, const WdrPartTable *t, WdrLoaderArea *ret,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* What a copy of a loader medium, or of SPI flash, holds from its first byte on: as `what` above;
 * NULL: nothing but 0x00 or 0xff. The caller's. */
char *wdr_loader_in(const uint8_t *bytes, size_t len);
/* The loader of a disk, before its first partition or in partitions of its own, as `what` above;
 * NULL: nothing is known to be one. The caller's. */
char *wdr_loader_on(const WdrSystem *s);
/* The partition is a loader's own, by its name or type, and has no file system. */
bool wdr_loader_is_partition(const WdrPartition *p);
/* What lies in such partitions, as `what` above; NULL: there is none, or nothing in it. The
 * caller's. */
char *wdr_loader_in_partitions(WdrBlockDev *dev, const WdrPartTable *t);
/* Where a new table of this kind ends, and what is not partitioned begins. */
uint64_t wdr_table_end(WdrTableKind kind, uint32_t sector_size);
/* The same in two parts, NULL: none. The family is static; the version is the caller's. */
const char *wdr_loader_family_in(const uint8_t *bytes, size_t len);
char *wdr_loader_version_in(const uint8_t *bytes, size_t len);
