/* ext volumes (the ext4 family) at an offset of a disk, read and built in user space on libext2fs.
 * Nothing is mounted. Format: the Linux kernel's Documentation/filesystems/ext4. */
#pragma once

#include "disk/blockdev.h"
#include "volume/volume.h"
#include "world/world.h"

#include <stdatomic.h>

/* ---- reading ---- */

typedef struct {
	char uuid[37];
	char label[17];
	uint32_t block_size, inode_size;
	uint64_t size_bytes, free_bytes;
	uint64_t inodes;
	bool needs_recovery; /* the journal holds changes that are not in their places */
	bool has_errors;     /* the kernel noted errors in it */
	char *features;      /* names as mkfs.ext4 takes them, with commas */
} WdrExtInfo;
void wdr_ext_info_clear(WdrExtInfo *info);
G_DEFINE_AUTO_CLEANUP_CLEAR_FUNC(WdrExtInfo, wdr_ext_info_clear)

/* dev is borrowed and must live longer. Opens volumes that need recovery too: what is read then is
 * the state before the journal. */
bool wdr_ext_volume_open(WdrBlockDev *dev, uint64_t offset, uint64_t size, WdrVolume **ret,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* From now on small contents that lie close together are read with one request: for a disk that
 * nobody writes to. */
void wdr_ext_volume_sweep(WdrVolume *v);
void wdr_ext_volume_info(WdrVolume *v, WdrExtInfo *ret);
/* Reading inode tables, and then folders, from a device that is the volume, in the order in which
 * they lie. Nothing is kept: for a mounted one, whose walk finds them in the kernel's memory then.
 * Ends after `most` bytes, when *stop is set, or where something does not fit. Both are borrowed.
 * NULL: there is no such volume. */
typedef struct WdrExtAhead WdrExtAhead;
WdrExtAhead *wdr_ext_ahead_tables(
	WdrBlockDev *dev, uint64_t size, uint64_t most, const atomic_bool *stop);
/* Takes it over. */
void wdr_ext_ahead_folders(WdrExtAhead *a);

/* ---- changing ---- */

/* Puts new content into an existing file of a volume that is not mounted: written into free blocks
 * first, then the bitmaps, then the inode in one write, and the old blocks freed last; so a power
 * cut leaves the old or the new content, and at worst blocks that e2fsck finds unused. Owner, mode,
 * xattrs and inode number stay. dev must be open for writing. REFUSED: a journal with changes. */
bool wdr_ext_replace_file(const WdrVolumeSpan *on, const char *path, const void *data, size_t len,
	const WdrTime *mtime, GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* Whether that can be done with this file, as far as it can be told without doing it. */
bool wdr_ext_check_replace(
	const WdrVolumeSpan *on, const char *path, GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* A new file in a folder that is there, with owner, mode and modification time of `like`. After a
 * power cut the file is there or it is not, as soon as e2fsck -p ran, which the volume asks for.
 * REFUSED: the name is taken, or there is no such folder. */
bool wdr_ext_add_file(const WdrVolumeSpan *on, const char *path, const void *data, size_t len,
	const WdrEntry *like, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* The same for taking one away; what has other names stays under these. A file that is not there is
 * no error. `now` in seconds. */
bool wdr_ext_remove_file(const WdrVolumeSpan *on, const char *path, int64_t now,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* ---- changing many entries of a volume that was built and not mounted since ---- */

typedef struct WdrExtChange WdrExtChange;
/* Whether it can be: REFUSED as below. */
bool wdr_ext_change_check(
	WdrBlockDev *dev, uint64_t offset, uint64_t size, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* REFUSED: it was mounted since it was made, or is damaged. Until the builder's finish the volume
 * is not whole: a power cut leaves it damaged. */
bool wdr_ext_change_open(
	const WdrBuildTarget *target, WdrExtChange **ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;
void wdr_ext_change_free(WdrExtChange *c);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(WdrExtChange, wdr_ext_change_free)

/* Adds entries, folders' names and links as for a new volume, but serials are inode numbers: see
 * wdr_ext_change_serial(). An entry that is added must be reserved, or released, before; a folder
 * that is filled must be new, or emptied. Borrowed. */
WdrBuilder *wdr_ext_change_builder(WdrExtChange *c);
uint64_t wdr_ext_change_serial(uint64_t id);
/* The volume as it was when it was opened, for looking names up until the first change. Borrowed.
 */
WdrVolume *wdr_ext_change_before(WdrExtChange *c);
/* An inode number that nobody else gets. */
bool wdr_ext_change_reserve(
	WdrExtChange *c, bool is_folder, uint64_t *ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Frees an inode and all its blocks. What was added in this change must not be released. */
bool wdr_ext_change_release(WdrExtChange *c, uint64_t id, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Owner, mode, times, flags and xattrs anew; content and links stay. */
bool wdr_ext_change_metadata(WdrExtChange *c, uint64_t id, const WdrEntry *entry,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Lets a folder's list of names go, so that it can be filled anew. */
bool wdr_ext_change_empty_folder(
	WdrExtChange *c, uint64_t id, GError **error) G_GNUC_WARN_UNUSED_RESULT;
bool wdr_ext_change_links(
	WdrExtChange *c, uint64_t id, uint64_t *ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* ---- building ---- */

/* What a new volume shall be like. */
typedef struct {
	char uuid[37];
	char label[17];
	uint32_t block_size, inode_size;
	uint64_t inodes;
	double reserved_share; /* of the blocks, for root: 0 to 0.5 */
	char *features;        /* names with commas, the complete list */
	uint32_t flex_groups;  /* 0: mkfs's own choice */
	/* The rest is put into the superblock as it is. */
	uint32_t default_mount_flags;
	char mount_options[64];
	uint16_t errors_behaviour; /* 0: mkfs's own */
	uint8_t hash_version;
	bool hash_is_unsigned;
	uint16_t reserved_uid, reserved_gid;
	uint16_t max_mount_count;
	uint32_t check_interval_s;
	uint16_t raid_stride;
	uint32_t raid_stripe_width;
} WdrExtSpec;
void wdr_ext_spec_clear(WdrExtSpec *spec);
G_DEFINE_AUTO_CLEANUP_CLEAR_FUNC(WdrExtSpec, wdr_ext_spec_clear)

/* A plain ext4 as an image builder would make it today. */
void wdr_ext_spec_default(WdrExtSpec *ret);
/* Like an existing volume, all but UUID and number of inodes. UNSUPPORTED names a feature that we
 * cannot build, *ret_note (may stay NULL, the caller's) one that is left out on purpose. */
bool wdr_ext_spec_like(
	WdrVolume *v, WdrExtSpec *ret, char **ret_note, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Inodes for a volume of `size` bytes: the ratio of `like`, and room for `entries` with a reserve.
 */
uint64_t wdr_ext_spec_inodes(const WdrExtInfo *like, uint64_t size, uint64_t entries);

/* Bytes that files and folders can take in a new volume of `size` bytes, found out by mkfs itself
 * on a sparse file in the folder `scratch`. */
bool wdr_ext_spec_capacity(const WdrWorld *world, const WdrExtSpec *spec, uint64_t size,
	const char *scratch, uint64_t *ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* Makes the empty volume at [offset, offset + size) of dev and returns its builder. `done` is
 * called from another thread with bytes that reached the medium. dev is borrowed. */
bool wdr_ext_builder_new(const WdrWorld *world, const WdrBuildTarget *target,
	const WdrExtSpec *spec, WdrBuilder **ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Goes on from a builder's last checkpoint; what came after it on the medium does not count. The
 * target and the spec are what that builder had. FORMAT: the checkpoint does not fit the volume. */
bool wdr_ext_builder_resume(const WdrWorld *world, const WdrBuildTarget *target,
	const WdrExtSpec *spec, GVariant *checkpoint, WdrBuilder **ret,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
