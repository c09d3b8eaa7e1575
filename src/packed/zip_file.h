/* The disk image in a zip file. Format: PKWARE APPNOTE 6.3.10, sections 4.3 (records) and 4.5.3
 * (64-bit sizes). */
#pragma once

#include "base/error.h"

#include <stdint.h>

typedef struct {
	char *name;         /* as the zip file has it */
	const char *method; /* "deflate" or "stored" */
	uint64_t offset;    /* of its packed bytes in the zip file */
	uint64_t packed_size, size;
	uint32_t crc;
} WdrZipMember;

void wdr_zip_member_clear(WdrZipMember *m);
G_DEFINE_AUTO_CLEANUP_CLEAR_FUNC(WdrZipMember, wdr_zip_member_clear)

/* Finds the one image in it: the only file, or the only one that is called an image. Every offset
 * and size of *ret is within the zip file. */
bool wdr_zip_find_image(
	int fd, uint64_t zip_size, WdrZipMember *ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;
