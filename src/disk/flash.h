/* Memory of the board beside its disks, where many keep their boot loader: SPI NOR flash as the
 * kernel's MTD layer shows it, and the boot partitions of an eMMC. */
#pragma once

#include "base/error.h"
#include "world/world.h"

#include <stdint.h>

/* What lies behind is not read: loaders begin at the start, and such flash is slow. */
#define WDR_FLASH_BYTES_MAX (UINT64_C(4) * 1024 * 1024)

typedef struct {
	char *name;       /* "mtd0", "mmcblk0boot0" */
	const char *kind; /* "SPI flash" */
	uint64_t size;    /* bytes */
	uint64_t erased;  /* bytes that are erased at a time; 0: none are, it takes any write */
} WdrFlash;

/* Devices are named as the machine has them, "/dev/mtd0", "/dev/mmcblk1", and so are files; an
 * image file is not the machine's own: this, and its absolute path. */
#define WDR_DEVICE_IMAGE "image:"
/* Where that is. The caller's. */
char *wdr_device_path(const WdrWorld *world, const char *device);
/* As people call it: an image by its path. Borrowed from `device`. */
const char *wdr_device_name(const char *device);

/* WdrFlash, by name; empty where the kernel knows none. Partitions of a flash are flashes
 * of their own. */
GPtrArray *wdr_flash_list(const WdrWorld *world);
/* All of it, or its start as above. The caller's. */
bool wdr_flash_read(const WdrWorld *world, const WdrFlash *flash, uint8_t **ret, size_t *ret_len,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Bytes at a place of a device (flash, a disk) or of a file; offset below 0: from its end. The
 * caller's. */
bool wdr_flash_read_at(const WdrWorld *world, const char *device, int64_t offset, size_t len,
	uint8_t **ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;

typedef struct {
	const char *device;
	uint64_t offset; /* from the start */
	const uint8_t *bytes;
	size_t len;
	/* Called after each erase block with the bytes of the range that are done. */
	void (*progress)(void *data, uint64_t done, uint64_t total);
	void *data;
} WdrFlashWrite;

/* Puts bytes at a place of a device or a file, and reads them back from it. Of a flash, only the
 * erase blocks that differ are erased and written; what lies in them outside of the range stays. An
 * eMMC boot partition is made writable for that time. REFUSED: it reaches over the end, or somebody
 * has the disk mounted. IO: also when what is read back is something else. */
bool wdr_flash_write(
	const WdrWorld *world, const WdrFlashWrite *w, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* The whole erase blocks that a write to this range erases; where nothing is erased, the range. */
bool wdr_flash_erased(const WdrWorld *world, const char *device, uint64_t *offset, uint64_t *len,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Where an offset that counts from the end lies. */
bool wdr_flash_size(const WdrWorld *world, const char *device, uint64_t *ret,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
