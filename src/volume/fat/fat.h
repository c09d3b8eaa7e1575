/* FAT volumes (FAT12, FAT16, FAT32 with long names) at an offset of a disk, in our own code.
 * Format: Microsoft FAT32 File System Specification 1.03; long names: the same, "Long Directory
 * Entries". Times have no zone on FAT; they are taken as UTC both ways. Times before 1980 are kept
 * as "none". */
#pragma once

#include "disk/blockdev.h"
#include "volume/volume.h"
#include "world/world.h"

enum { WDR_FAT_LABEL_BYTES = 11 };

typedef struct {
	unsigned width; /* 12, 16 or 32 */
	uint32_t sector_bytes, cluster_bytes;
	uint64_t clusters, free_clusters;
	uint64_t size_bytes;
	uint32_t serial;
	char label[WDR_FAT_LABEL_BYTES +
		   1]; /* of the root folder's label entry, else the boot sector's */
	unsigned fats;
	uint32_t root_entries; /* 0 on FAT32 */
	bool is_dirty;         /* not unmounted cleanly */
} WdrFatInfo;

/* ---- reading ---- */

/* dev is borrowed and must live longer. Names come out as UTF-8. */
bool wdr_fat_volume_open(WdrBlockDev *dev, uint64_t offset, uint64_t size, WdrVolume **ret,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Counts free clusters by reading the FAT. */
bool wdr_fat_volume_info(WdrVolume *v, WdrFatInfo *ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;

typedef struct {
	uint64_t entries, folders;
	uint64_t file_bytes; /* sum of sizes */
} WdrFatMeasure;
/* Walks every folder and chain: FORMAT names the first file or folder whose chain is broken, runs
 * in a circle, is too short, or is shared, a name that cannot be, or FATs that differ. */
bool wdr_fat_volume_check(
	WdrVolume *v, WdrFatMeasure *ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Counts the entries, and the bytes that they take with another cluster size. Follows no chains of
 * files: for a volume that was checked. */
bool wdr_fat_volume_need(WdrVolume *v, uint32_t cluster_bytes, WdrFatMeasure *ret_measure,
	uint64_t *ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* A sparse file of the volume's size with all of its structure (boot sectors, FATs, folders) but no
 * file contents: what fsck.fat looks at. */
bool wdr_fat_volume_copy_structure(
	WdrVolume *v, const char *path, GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* ---- changing ---- */

/* Puts new content into an existing file: written into free clusters first, then the chain, then,
 * in one sector, the folder's entry, and the old clusters freed last; so a power cut leaves the old
 * or the new content. dev must be open for writing; `mtime` in seconds. */
bool wdr_fat_replace_file(const WdrVolumeSpan *on, const char *path, const void *data, size_t len,
	int64_t mtime, GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* "ABCD-1234" as a number. */
uint32_t wdr_fat_serial_of(const char *uuid);
/* Gives the volume another serial, in the boot sector and its backup. */
bool wdr_fat_set_serial(WdrBlockDev *dev, uint64_t offset, uint64_t size, uint32_t serial,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* The name fits 8.3 in one case: such files can be added. */
bool wdr_fat_is_short_name(const char *name);
/* A new file with a short name ("cmdline.old"), in a folder that is there.
 * Content first, then the FAT, then the entry. REFUSED: the name is taken. */
bool wdr_fat_add_file(const WdrVolumeSpan *on, const char *path, const void *data, size_t len,
	int64_t mtime, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* The entry first, then its clusters. A file that is not there is no error. */
bool wdr_fat_remove_file(
	const WdrVolumeSpan *on, const char *path, GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* ---- building ---- */

typedef struct {
	unsigned width;
	uint32_t sector_bytes, cluster_bytes;
	uint32_t serial;
	char label[WDR_FAT_LABEL_BYTES + 1]; /* "": none */
	unsigned fats;
	uint32_t root_entries;   /* FAT12/16; 0: mkfs's own choice */
	uint32_t hidden_sectors; /* sectors of the disk before the volume */
	int64_t made_at;         /* for the label entry */
} WdrFatSpec;

/* Like an existing volume as far as `size` allows: width, cluster size, label. */
void wdr_fat_spec_like(
	const WdrFatInfo *info, uint64_t size, uint32_t sector_bytes, WdrFatSpec *ret);
/* A volume of `size` bytes from nothing: FAT16 below 512 MiB, FAT32 from there unless width says
 * so. */
void wdr_fat_spec_default(uint64_t size, unsigned width, WdrFatSpec *ret);
/* Bytes that folders and files can take, found out by mkfs itself on a sparse file in `scratch`. */
bool wdr_fat_spec_capacity(const WdrWorld *world, const WdrFatSpec *spec, uint64_t size,
	const char *scratch, uint64_t *ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* Makes the empty volume at its place and returns its builder; as wdr_ext_builder_new(). */
bool wdr_fat_builder_new(const WdrWorld *world, const WdrBuildTarget *target,
	const WdrFatSpec *spec, WdrBuilder **ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Goes on from a checkpoint of such a builder, with the same target and spec; as
 * wdr_ext_builder_resume(). FORMAT: the checkpoint is of another volume. */
bool wdr_fat_builder_resume(const WdrBuildTarget *target, const WdrFatSpec *spec,
	GVariant *checkpoint, WdrBuilder **ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;
