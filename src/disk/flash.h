/* SPI NOR flash of the board, where many keep their boot loader: as the kernel's MTD layer shows
 * it. Only reads. */
#pragma once

#include "base/error.h"
#include "world/world.h"

#include <stdint.h>

/* Larger ones are not read to their end. */
#define WDR_FLASH_BYTES_MAX (UINT64_C(64) * 1024 * 1024)

typedef struct {
	char *name;    /* "mtd0" */
	char *label;   /* what the device tree calls it; NULL: nothing */
	uint64_t size; /* bytes */
} WdrFlash;

/* WdrFlash, by name; empty where the kernel knows none. Partitions of a flash are flashes of their
 * own. */
GPtrArray *wdr_flash_list(const WdrWorld *world);
/* All of it. The caller's. */
bool wdr_flash_read(const WdrWorld *world, const WdrFlash *flash, uint8_t **ret, size_t *ret_len,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
