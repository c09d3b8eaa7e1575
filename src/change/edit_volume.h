/* Where files are changed in place: a volume of a disk that nobody has mounted, or a mounted tree.
 * Each call opens the volume anew: what the one before wrote is seen. */
#pragma once

#include "volume/volume.h"

typedef struct {
	WdrVolume *tree;  /* the mounted tree; NULL: a volume on a disk */
	WdrVolumeSpan on; /* the disk is open for writing */
	const char *fs;   /* "vfat", or an ext's */
} WdrEditVolume;

/* *ret NULL: there is no such file (not an error). ret_entry: owner, mode and times. */
bool wdr_edit_volume_read(const WdrEditVolume *p, const char *file, char **ret, size_t *ret_len,
	WdrEntry *ret_entry, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Puts content into a file, whole or not at all, and reads it back from the medium. Owner, mode and
 * modification time are those of `like`. A new file's folder must be there; on FAT its name must
 * fit 8.3. */
bool wdr_edit_volume_put(const WdrEditVolume *p, const char *file, const void *data, size_t len,
	const WdrEntry *like, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* A file that is not there is no error. `now` in seconds. */
bool wdr_edit_volume_remove(const WdrEditVolume *p, const char *file, int64_t now,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
