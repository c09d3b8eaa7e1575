/* Writes an archive in the form that kernels unpack as an initramfs: cpio, "newc". The format is
 * described in the kernel's Documentation/driver-api/early-userspace/buffer-format.rst. */
#pragma once

#include "base/error.h"

#include <stddef.h>
#include <stdint.h>

typedef struct {
	GByteArray *bytes; /* what was there before stays, and counts for no alignment */
	guint begun;       /* bytes that were there before */
	uint32_t next_inode;
	uint32_t mtime; /* seconds, of all entries */
} WdrNewc;

/* Goes on behind what the array has. The array is borrowed. A kernel counts time in this format in
 * 32 bits: what lies beyond is cut to the last second that there is. */
void wdr_newc_begin(WdrNewc *n, GByteArray *bytes, int64_t mtime);
/* A file or a folder (type and permissions are in mode), owned by root. Its folders must have been
 * added, or be in an archive before this one: the kernel makes none. UNSUPPORTED: too large for the
 * format. */
bool wdr_newc_add(WdrNewc *n, const char *path, uint32_t mode, const void *data, size_t len,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
void wdr_newc_end(WdrNewc *n);
