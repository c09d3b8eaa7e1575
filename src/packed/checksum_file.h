/* The checksum file that comes with a download: heron.img.xz.sha256, SHA256SUMS, and the like, as
 * sha256sum, md5sum and their kin write them (with --tag, too). */
#pragma once

#include "base/error.h"

#include <stdbool.h>

typedef struct {
	char *file;         /* its path */
	const char *name;   /* "SHA-256" */
	GChecksumType type; /* GLib's */
	char *hex;          /* lower case */
	bool is_of_content; /* of the unpacked image, not of the packed file */
} WdrChecksumFile;

void wdr_checksum_file_clear(WdrChecksumFile *c);
G_DEFINE_AUTO_CLEANUP_CLEAR_FUNC(WdrChecksumFile, wdr_checksum_file_clear)

/* Looks beside `path` for a checksum of it, or else of what is in it; `content` is that one's name,
 * NULL: it has none. The strongest counts. ret->file NULL: there is none. Fails for one that is
 * there and cannot be read. */
bool wdr_checksum_file_find(const char *path, const char *content, WdrChecksumFile *ret,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
