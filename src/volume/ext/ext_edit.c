/* Replacing a file's content on an ext volume that nobody has mounted, and what adding and removing
 * one shares with that.
 *
 * Order of writes: the new blocks; the bitmaps that say they are taken; the inode, in one write,
 * which switches from the old to the new content; then the old blocks are freed. Cut off anywhere,
 * the file has one of the two contents, and at most some blocks are lost until the next e2fsck. */
#include "volume/ext/ext_priv.h"

#include <string.h>

void wdr_ext_edit_clear(WdrExtEdit *e)
{
	wdr_stream_free(e->blocks.stream);
	if (e->blocks.fs)
		ext2fs_free(e->blocks.fs);
	if (e->old_blocks)
		g_array_unref(e->old_blocks);
	g_free(e->raw);
}

static bool find_file(
	WdrExtEdit *e, uint64_t offset, uint64_t size, const char *path, GError **error)
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

static bool check_volume(const WdrExtEdit *e, GError **error)
{
	struct ext2_super_block *sb = e->blocks.fs->super;

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

bool wdr_ext_edit_open(WdrExtEdit *e, uint64_t offset, uint64_t size, int flags, GError **error)
{
	if (!wdr_ext_open_fs(e->dev, offset, size, flags, &e->blocks.fs, error) ||
		!check_volume(e, error))
		return false;
	e->raw = wdr_ext_inode_new(e->blocks.fs);
	e->blocks.offset = offset;
	e->blocks.alloc.fs = e->blocks.fs;
	e->blocks.stream = wdr_stream_new(e->dev, NULL, NULL);
	errcode_t code = ext2fs_read_bitmaps(e->blocks.fs);
	return !code || wdr_ext_error(error, code, "reading the bitmaps");
}

static bool load(WdrExtEdit *e, uint64_t offset, uint64_t size, int flags, GError **error)
{
	if (!wdr_ext_edit_open(e, offset, size, flags, error) || !wdr_ext_edit_read_inode(e, error))
		return false;
	const struct ext2_inode *in = (const struct ext2_inode *)(const void *)e->raw;
	if (in->i_flags & EXT4_INLINE_DATA_FL)
		return wdr_error_set(error, WDR_ERROR_UNSUPPORTED,
			"its content lies within its inode (inline_data), which cannot be replaced yet");
	if (!(in->i_flags & EXT4_EXTENTS_FL))
		return wdr_error_set(error, WDR_ERROR_UNSUPPORTED,
			"it has a block map, not extents: ext2 and ext3 files cannot be replaced yet");
	return true;
}

bool wdr_ext_edit_read_inode(WdrExtEdit *e, GError **error)
{
	errcode_t code =
		ext2fs_read_inode_full(e->blocks.fs, e->ino, (struct ext2_inode *)(void *)e->raw,
			(int)MAX((size_t)EXT2_INODE_SIZE(e->blocks.fs->super),
				sizeof(struct ext2_inode_large)));
	if (code)
		return wdr_ext_error(error, code, "reading inode %u", e->ino);
	const struct ext2_inode *in = (const struct ext2_inode *)(const void *)e->raw;
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
	g_array_append_val(((WdrExtEdit *)data)->old_blocks, *block);
	return 0;
}

bool wdr_ext_edit_note_blocks(WdrExtEdit *e, GError **error)
{
	const struct ext2_inode *in = (const struct ext2_inode *)(const void *)e->raw;

	e->old_blocks = g_array_new(FALSE, FALSE, sizeof(blk64_t));
	if (in->i_flags & EXT4_INLINE_DATA_FL)
		return true;
	errcode_t code = ext2fs_block_iterate3(
		e->blocks.fs, e->ino, BLOCK_FLAG_READ_ONLY, NULL, note_block, e);
	return !code || wdr_ext_error(error, code, "reading the extents of inode %u", e->ino);
}

static bool is_full(GError **error)
{
	return wdr_error_set(error, WDR_ERROR_NO_SPACE,
		"the ext volume has no room for the new content beside the old");
}

/* One run where there is one that is long enough; otherwise from the first free block on. */
static void look_for_one_run(WdrExtEdit *e, uint64_t blocks)
{
	ext2_filsys fs = e->blocks.fs;
	WdrExtAlloc *a = &e->blocks.alloc;
	blk64_t first = 0;

	if (blocks > 0 && blocks <= WDR_EXT_RUN_BLOCKS &&
		ext2fs_get_free_blocks2(fs, fs->super->s_first_data_block,
			ext2fs_blocks_count(fs->super) - 1, (int)blocks, NULL, &first) == 0) {
		a->next = a->taken_from = first;
		a->end = first + blocks;
	}
}

typedef struct {
	const uint8_t *data;
	size_t len;
	uint64_t done; /* blocks */
	GArray *runs;  /* WdrExtRun */
} Writing;

/* The next run of blocks. */
static bool write_run(WdrExtEdit *e, Writing *w, GError **error)
{
	uint32_t block_size = e->blocks.fs->blocksize;
	uint64_t want = (w->len - w->done * block_size + block_size - 1) / block_size;
	WdrExtRun r = { .logical = w->done };
	uint64_t count = 0;

	if (!wdr_ext_alloc(
		    &e->blocks.alloc, MIN(want, WDR_EXT_RUN_BLOCKS), &r.physical, &count, NULL))
		return is_full(error);
	r.count = (uint32_t)count;
	wdr_ext_add_run(w->runs, &r);
	size_t part = MIN((size_t)r.count * block_size, w->len - (size_t)w->done * block_size);
	g_autofree uint8_t *padded = g_malloc0((size_t)r.count * block_size);
	memcpy(padded, w->data + w->done * block_size, part);
	w->done += count;
	return wdr_stream_write(e->blocks.stream, padded, (size_t)r.count * block_size,
		e->blocks.offset + r.physical * block_size, error);
}

bool wdr_ext_edit_write_content(WdrExtEdit *e, const void *data, size_t len, GError **error)
{
	struct ext2_inode_large *in = (struct ext2_inode_large *)(void *)e->raw;
	g_autoptr(GArray) runs = g_array_new(FALSE, FALSE, sizeof(WdrExtRun));
	uint32_t block_size = e->blocks.fs->blocksize;
	uint64_t blocks = (len + block_size - 1) / block_size;
	Writing w = { data, len, 0, runs };

	if (blocks > ext2fs_free_blocks_count(e->blocks.fs->super))
		return is_full(error);
	look_for_one_run(e, blocks);
	while (w.done < blocks) {
		if (!write_run(e, &w, error))
			return false;
	}
	memset(in->i_block, 0, sizeof(in->i_block));
	if (!wdr_ext_put_tree(&e->blocks, e->ino, in, runs, &blocks, error))
		return false;
	in->i_size = (uint32_t)len;
	in->i_size_high = (uint32_t)((uint64_t)len >> 32);
	if (ext2fs_file_acl_block(e->blocks.fs, (struct ext2_inode *)(void *)in))
		blocks++;
	errcode_t code =
		ext2fs_iblk_set(e->blocks.fs, (struct ext2_inode *)(void *)in, (blk64_t)blocks);
	wdr_ext_alloc_settle(&e->blocks.alloc);
	if (code)
		return wdr_ext_error(error, code, "counting the blocks of inode %u", e->ino);
	return wdr_stream_drain(e->blocks.stream, error) && wdr_blockdev_flush(e->dev, error);
}

bool wdr_ext_edit_flush(WdrExtEdit *e, GError **error)
{
	errcode_t code = ext2fs_flush2(e->blocks.fs, 0);

	return code ? wdr_ext_error(error, code, "writing the bitmaps")
		    : wdr_blockdev_flush(e->dev, error);
}

bool wdr_ext_edit_write_inode(WdrExtEdit *e, GError **error)
{
	errcode_t code = ext2fs_write_inode_full(e->blocks.fs, e->ino,
		(struct ext2_inode *)(void *)e->raw, (int)EXT2_INODE_SIZE(e->blocks.fs->super));

	return code ? wdr_ext_error(error, code, "writing inode %u", e->ino)
		    : wdr_blockdev_flush(e->dev, error);
}

static void set_times(WdrExtEdit *e, const WdrTime *mtime)
{
	struct ext2_inode_large *in = (struct ext2_inode_large *)(void *)e->raw;
	size_t extra_at =
		offsetof(struct ext2_inode_large, i_mtime_extra) + 4 - EXT2_GOOD_OLD_INODE_SIZE;

	in->i_mtime = in->i_ctime = (uint32_t)mtime->sec;
	if (EXT2_INODE_SIZE(e->blocks.fs->super) > EXT2_GOOD_OLD_INODE_SIZE &&
		in->i_extra_isize >= extra_at)
		in->i_mtime_extra = in->i_ctime_extra =
			mtime->nsec << 2 | (uint32_t)((uint64_t)mtime->sec >> 32 & 3);
}

bool wdr_ext_edit_free_old(WdrExtEdit *e, GError **error)
{
	for (guint i = 0; i < e->old_blocks->len; i++)
		ext2fs_block_alloc_stats2(
			e->blocks.fs, g_array_index(e->old_blocks, blk64_t, i), -1);
	return wdr_ext_edit_flush(e, error);
}

bool wdr_ext_replace_file(const WdrVolumeSpan *on, const char *path, const void *data, size_t len,
	const WdrTime *mtime, GError **error)
{
	g_auto(WdrExtEdit) e = { .dev = on->dev };

	if (!find_file(&e, on->offset, on->size, path, error) ||
		!load(&e, on->offset, on->size, EXT2_FLAG_RW, error) ||
		!wdr_ext_edit_note_blocks(&e, error) ||
		!wdr_ext_edit_write_content(&e, data, len, error))
		return false;
	set_times(&e, mtime);
	/* One write of one sector switches from the old content to the new. */
	return wdr_ext_edit_flush(&e, error) && wdr_ext_edit_write_inode(&e, error) &&
	       wdr_ext_edit_free_old(&e, error);
}

bool wdr_ext_check_replace(const WdrVolumeSpan *on, const char *path, GError **error)
{
	g_auto(WdrExtEdit) e = { .dev = on->dev };

	if (find_file(&e, on->offset, on->size, path, error) &&
		load(&e, on->offset, on->size, 0, error))
		return true;
	g_prefix_error(error, "/%s cannot be changed in place: ", path);
	return false;
}
