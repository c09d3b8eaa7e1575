/* Loader images ("legacy" U-Boot images): a header with two checksums around a script, an initramfs
 * or a kernel. Format: U-Boot's include/image.h.
 *   0  4 magic 27051956      16 4 load address      28 1 os        32 32 name
 *   4  4 header CRC32, taken 20 4 entry point       29 1 architecture
 *        with this field 0   24 4 data CRC32        30 1 type (6: script, 3: ramdisk)
 *   8  4 time                                       31 1 compression
 *  12  4 data size           all numbers big-endian
 * A script's data starts with a list of 32-bit lengths that a 0 ends; then the text. */
#pragma once

#include "base/error.h"

#include <stddef.h>
#include <stdint.h>

enum { WDR_IMAGE_HEADER_BYTES = 64, WDR_IMAGE_RAMDISK = 3, WDR_IMAGE_SCRIPT = 6 };

typedef struct {
	uint8_t type;
	char name[33];
	size_t data_bytes;
	size_t text_at, text_bytes; /* of a script: its text */
} WdrLoaderImage;

/* FORMAT: no such image, cut short, or a checksum is wrong. */
bool wdr_loader_image_parse(const void *bytes, size_t len, WdrLoaderImage *ret,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Makes sizes and checksums anew after a script's text became `delta` bytes longer. `bytes` are the
 * new file, `before` what wdr_loader_image_parse() gave for the old one. */
void wdr_loader_image_seal(uint8_t *bytes, const WdrLoaderImage *before, ptrdiff_t delta);
/* Puts a header around a file's bytes (of a script: its text). The caller's. */
GBytes *wdr_loader_image_wrap(uint8_t type, const char *name, const void *data, size_t len);
/* Puts the header of an image, with sizes and checksums computed again, around other data. The
 * caller's. */
GBytes *wdr_loader_image_rewrap(const void *header, const void *data, size_t len);
