/* A mounted tree as a volume, read through the kernel: rooted at a folder handle, it never leaves
 * that folder's file system and never follows a symbolic link. */
#pragma once

#include "volume/volume.h"

bool wdr_tree_volume_open(
	const char *folder, WdrVolume **ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* Puts a file with this content in the place of another, or adds one: written to a temporary name
 * in the same folder, flushed, renamed, and the folder flushed. Owner, mode and modification time
 * come from `like`, xattrs from the file that was there. `tree` is a volume opened by the above. */
bool wdr_tree_put_file(WdrVolume *tree, const char *path, const void *data, size_t len,
	const WdrEntry *like, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* A file that is not there is no error. */
bool wdr_tree_remove_file(
	WdrVolume *tree, const char *path, GError **error) G_GNUC_WARN_UNUSED_RESULT;
