/* Replacing a file's content on an ext volume that nobody has mounted. */
#include "volume/ext_priv.h"

#include <string.h>

typedef struct {
	WdrBlockDev *dev;
	ext2_filsys fs;
	ext2_ino_t ino;
	uint8_t *raw;       /* the inode, EXT2_INODE_SIZE bytes or more */
	GArray *old_blocks; /* blk64_t: what the content took so far, its extent tree included */
	blk64_t first;      /* of the new content */
	uint64_t blocks;
} Edit;

static void edit_clear(Edit *e)
{
	if (e->fs)
		ext2fs_free(e->fs);
	if (e->old_blocks)
		g_array_unref(e->old_blocks);
	g_free(e->raw);
}
G_DEFINE_AUTO_CLEANUP_CLEAR_FUNC(Edit, edit_clear)

static bool find_file(Edit *e, uint64_t offset, uint64_t size, const char *path, GError **error)
{
	g_autoptr(WdrVolume) v = NULL;
	g_auto(WdrEntry) entry = { 0 };
	uint64_t id = 0;
	bool found = false;

	if (!wdr_ext_volume_open(e->dev, offset, size, &v, error) ||
		!wdr_volume_lookup(v, path, &found, &id, &entry, error))
		return false;
	if (!found || entry.kind != WDR_KIND_FILE)
		return wdr_error_set(error, WDR_ERROR_USAGE, "%s: there is no file /%s",
			wdr_volume_name(v), path);
	e->ino = (ext2_ino_t)id;
	return true;
}

static bool check_volume(const Edit *e, GError **error)
{
	struct ext2_super_block *sb = e->fs->super;

	if (ext2fs_has_feature_journal_needs_recovery(sb)) {
		wdr_error_set(error, WDR_ERROR_REFUSED,
			"the ext volume was not unmounted cleanly: its journal would undo a change");
		wdr_error_hint(error, "mount and unmount it once, or run e2fsck on it, first");
		return false;
	}
	if (ext2fs_has_feature_bigalloc(sb))
		return wdr_error_set(error, WDR_ERROR_UNSUPPORTED,
			"the ext volume counts in clusters (bigalloc); its files cannot be replaced yet");
	if (!(sb->s_state & EXT2_VALID_FS) || (sb->s_state & EXT2_ERROR_FS))
		return wdr_error_set(error, WDR_ERROR_REFUSED,
			"the ext volume is marked as damaged: run e2fsck on it first");
	return true;
}

static bool load(Edit *e, uint64_t offset, uint64_t size, int flags, GError **error)
{
	if (!wdr_ext_open_fs(e->dev, offset, size, flags, &e->fs, error) || !check_volume(e, error))
		return false;
	size_t inode_size =
		MAX((size_t)EXT2_INODE_SIZE(e->fs->super), sizeof(struct ext2_inode_large));
	e->raw = g_malloc0(inode_size);
	errcode_t code = ext2fs_read_bitmaps(e->fs);
	if (!code)
		code = ext2fs_read_inode_full(
			e->fs, e->ino, (struct ext2_inode *)(void *)e->raw, (int)inode_size);
	if (code)
		return wdr_ext_error(error, code, "reading inode %u", e->ino);
	const struct ext2_inode *in = (const struct ext2_inode *)(const void *)e->raw;
	if (in->i_flags & EXT4_INLINE_DATA_FL)
		return wdr_error_set(error, WDR_ERROR_UNSUPPORTED,
			"its content lies within its inode (inline_data), which cannot be replaced yet");
	if (!(in->i_flags & EXT4_EXTENTS_FL))
		return wdr_error_set(error, WDR_ERROR_UNSUPPORTED,
			"it has a block map, not extents: ext2 and ext3 files cannot be replaced yet");
	if (in->i_flags & (EXT2_IMMUTABLE_FL | EXT2_APPEND_FL))
		return wdr_error_set(error, WDR_ERROR_REFUSED,
			"it is marked immutable or append-only (see lsattr)");
	return true;
}

static int note_block(
	ext2_filsys fs, blk64_t *block, e2_blkcnt_t logical, blk64_t ref, int offset, void *data)
{
	(void)fs;
	(void)logical;
	(void)ref;
	(void)offset;
	g_array_append_val(((Edit *)data)->old_blocks, *block);
	return 0;
}

static bool note_old_blocks(Edit *e, GError **error)
{
	e->old_blocks = g_array_new(FALSE, FALSE, sizeof(blk64_t));
	errcode_t code =
		ext2fs_block_iterate3(e->fs, e->ino, BLOCK_FLAG_READ_ONLY, NULL, note_block, e);
	return !code || wdr_ext_error(error, code, "reading the extents of inode %u", e->ino);
}

/* Into blocks that are free now, in one run. */
static bool write_content(Edit *e, const void *data, size_t len, GError **error)
{
	uint32_t block_size = e->fs->blocksize;

	e->blocks = (len + block_size - 1) / block_size;
	if (e->blocks == 0)
		return true;
	if (e->blocks > WDR_EXT_RUN_BLOCKS ||
		ext2fs_get_free_blocks2(e->fs, e->fs->super->s_first_data_block,
			ext2fs_blocks_count(e->fs->super) - 1, (int)e->blocks, NULL,
			&e->first) != 0)
		return wdr_error_set(error, WDR_ERROR_NO_SPACE,
			"the ext volume has no room for the new content beside the old");
	g_autofree uint8_t *padded = g_malloc0((size_t)e->blocks * block_size);
	memcpy(padded, data, len);
	errcode_t code = io_channel_write_blk64(e->fs->io, e->first, (int)e->blocks, padded);
	if (code)
		return wdr_ext_error(error, code, "writing the new content");
	return wdr_blockdev_flush(e->dev, error);
}

/* Bitmaps, counters and superblock as they are in memory. */
static bool flush(Edit *e, GError **error)
{
	errcode_t code = ext2fs_flush2(e->fs, 0);

	return code ? wdr_ext_error(error, code, "writing the bitmaps")
		    : wdr_blockdev_flush(e->dev, error);
}

/* One write of one sector switches from the old content to the new. */
static bool switch_inode(Edit *e, size_t len, const WdrTime *mtime, GError **error)
{
	struct ext2_inode_large *in = (struct ext2_inode_large *)(void *)e->raw;
	struct ext3_extent_header *header = (struct ext3_extent_header *)(void *)in->i_block;
	struct ext3_extent *extent = (struct ext3_extent *)(void *)(header + 1);
	size_t extra_at =
		offsetof(struct ext2_inode_large, i_mtime_extra) + 4 - EXT2_GOOD_OLD_INODE_SIZE;
	blk64_t attribute_block = ext2fs_file_acl_block(e->fs, (struct ext2_inode *)(void *)in);

	memset(in->i_block, 0, sizeof(in->i_block));
	header->eh_magic = ext2fs_cpu_to_le16(EXT3_EXT_MAGIC);
	header->eh_entries = ext2fs_cpu_to_le16(e->blocks ? 1 : 0);
	header->eh_max = ext2fs_cpu_to_le16(4);
	if (e->blocks) {
		extent->ee_len = ext2fs_cpu_to_le16((uint16_t)e->blocks);
		extent->ee_start = ext2fs_cpu_to_le32((uint32_t)e->first);
		extent->ee_start_hi = ext2fs_cpu_to_le16((uint16_t)(e->first >> 32));
	}
	in->i_size = (uint32_t)len;
	in->i_size_high = 0;
	in->i_mtime = in->i_ctime = (uint32_t)mtime->sec;
	if (EXT2_INODE_SIZE(e->fs->super) > EXT2_GOOD_OLD_INODE_SIZE &&
		in->i_extra_isize >= extra_at)
		in->i_mtime_extra = in->i_ctime_extra =
			mtime->nsec << 2 | (uint32_t)((uint64_t)mtime->sec >> 32 & 3);
	errcode_t code = ext2fs_iblk_set(
		e->fs, (struct ext2_inode *)(void *)in, e->blocks + (attribute_block ? 1 : 0));
	if (!code)
		code = ext2fs_write_inode_full(e->fs, e->ino, (struct ext2_inode *)(void *)in,
			(int)EXT2_INODE_SIZE(e->fs->super));
	if (code)
		return wdr_ext_error(error, code, "writing inode %u", e->ino);
	return wdr_blockdev_flush(e->dev, error);
}

static bool free_old_blocks(Edit *e, GError **error)
{
	for (guint i = 0; i < e->old_blocks->len; i++)
		ext2fs_block_alloc_stats2(e->fs, g_array_index(e->old_blocks, blk64_t, i), -1);
	return flush(e, error);
}

bool wdr_ext_replace_file(WdrBlockDev *dev, uint64_t offset, uint64_t size, const char *path,
	const void *data, size_t len, const WdrTime *mtime, GError **error)
{
	g_auto(Edit) e = { .dev = dev };

	if (!find_file(&e, offset, size, path, error) ||
		!load(&e, offset, size, EXT2_FLAG_RW, error) || !note_old_blocks(&e, error) ||
		!write_content(&e, data, len, error))
		return false;
	if (e.blocks)
		ext2fs_block_alloc_stats_range(e.fs, e.first, (blk_t)e.blocks, +1);
	return (e.blocks == 0 || flush(&e, error)) && switch_inode(&e, len, mtime, error) &&
	       free_old_blocks(&e, error);
}

bool wdr_ext_check_replace(
	WdrBlockDev *dev, uint64_t offset, uint64_t size, const char *path, GError **error)
{
	g_auto(Edit) e = { .dev = dev };

	if (find_file(&e, offset, size, path, error) && load(&e, offset, size, 0, error))
		return true;
	g_prefix_error(error, "/%s cannot be changed in place: ", path);
	return false;
}
