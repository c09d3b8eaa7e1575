/* A mounted tree as a volume, read through the kernel: rooted at a folder handle, it never leaves
 * that folder's file system and never follows a symbolic link. */
#pragma once

#include "disk/mounts.h"
#include "volume/volume.h"

bool wdr_tree_volume_open(
	const char *folder, WdrVolume **ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* What is mounted at `point`, by itself: what lies under the points of other mounts is seen, what
 * is mounted on them is not. Reads a detached copy of the mount (volume/detached.h), so nothing
 * that is mounted or unmounted later changes what is seen. Needs root. */
bool wdr_tree_volume_open_mount(
	const char *point, WdrVolume **ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* The same file system by a private mount of the device it is mounted from, read-only, for where
 * its mounts do not show all of it. `point` is one of these; it keeps the file system in use
 * meanwhile, so that the new mount is one more of the same and reads and writes nothing by itself.
 * Needs root. */
bool wdr_tree_volume_open_again(const WdrMount *mount, const char *point, WdrVolume **ret,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* The root folder of an ext file system, as the kernel numbers it: another one is not its root. */
enum { WDR_EXT_ROOT_INO = 2 };
/* What was written to it so far is on its disk. */
bool wdr_tree_flush(WdrVolume *tree, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* From now on this folder of the tree is seen as an empty one: on a bench, where mounts are only
 * told of, it replaces another mount's point. */
void wdr_tree_hide(WdrVolume *tree, const char *path);

/* Contents may be read from the disk itself, in the order of their places, where they are certain
 * to be what the kernel would give: `dev` is the disk, read past the page cache, and is taken over;
 * the mounted ext4 lies at [offset, offset + size) of it. Flushes the file system. False: it cannot
 * be. */
bool wdr_tree_use_disk(WdrVolume *tree, WdrBlockDev *dev, uint64_t offset, uint64_t size);
/* Has the metadata of a mounted ext4 read in the order in which it lies, since the tree will be
 * walked: waits for the inode tables, the folders follow in a thread. Once for each volume; where
 * it cannot be, nothing happens. */
void wdr_tree_read_ahead(WdrVolume *tree);
/* Bytes of contents that were read by either way. */
void wdr_tree_bytes(WdrVolume *tree, uint64_t *ret_from_disk, uint64_t *ret_through_kernel);

/* Puts a file with this content in the place of another, or adds one: written to a temporary name
 * in the same folder, flushed, renamed, and the folder flushed. Owner, mode and modification time
 * come from `like`, xattrs from the file that was there. `tree` is a volume opened by the above. */
bool wdr_tree_put_file(WdrVolume *tree, const char *path, const void *data, size_t len,
	const WdrEntry *like, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* A file that is not there is no error. */
bool wdr_tree_remove_file(
	WdrVolume *tree, const char *path, GError **error) G_GNUC_WARN_UNUSED_RESULT;
