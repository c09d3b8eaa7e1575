/* Packed data as the kernel unpacks it: gzip, bzip2, xz, lzma, lz4 (the legacy frame alone) and
 * zstd. Formats by their libraries; what of each the kernel takes: Linux's lib/decompress*.c and
 * lib/xz. */
#pragma once

#include "base/error.h"

#include <stddef.h>
#include <stdint.h>

typedef bool (*WdrUnpacked)(void *data, const uint8_t *bytes, size_t len, GError **error);

/* By the first bytes: "gzip", …; NULL: nothing that the kernel knows. */
const char *wdr_unpack_kind(const uint8_t *bytes, size_t len);
/* Unpacks what begins at `bytes` and gives it to `take` piece by piece. *ret_used is how many bytes
 * it took up. FORMAT: damaged, cut short, or in a form that the kernel does not unpack. */
bool wdr_unpack(const uint8_t *bytes, size_t len, WdrUnpacked take, void *data, size_t *ret_used,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
