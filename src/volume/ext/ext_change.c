/* Changing a volume that was built, while nobody has it mounted: inodes and their content are let
 * go and are created again by the builder's own code, whose serials are inode numbers here. */
#include "volume/ext/ext_priv.h"

#include <string.h>

/* A damaged extent tree must not hold us for ever. */
enum { TREE_STEPS_MAX = 64 * 1024 * 1024 };

struct WdrExtChange {
	WdrExtBuild *build;
	WdrVolume *before; /* as it was when it was opened: for looking names up */
};

static ext2_filsys fs_of(const WdrExtChange *c)
{
	return c->build->blocks.fs;
}

static ext2_ino_t ino_of(uint64_t id)
{
	return id == 0 ? EXT2_ROOT_INO : (ext2_ino_t)id;
}

uint64_t wdr_ext_change_serial(uint64_t id)
{
	return id == EXT2_ROOT_INO ? 0 : id;
}

WdrBuilder *wdr_ext_change_builder(WdrExtChange *c)
{
	return &c->build->builder;
}

WdrVolume *wdr_ext_change_before(WdrExtChange *c)
{
	return c->before;
}

void wdr_ext_change_free(WdrExtChange *c)
{
	if (!c)
		return;
	wdr_builder_free(&c->build->builder);
	wdr_volume_free(c->before);
	g_free(c);
}

static bool check_volume(ext2_filsys fs, GError **error)
{
	const struct ext2_super_block *sb = fs->super;

	if (ext2fs_has_feature_journal_needs_recovery(fs->super) || sb->s_mnt_count > 0 ||
		sb->s_mtime != 0)
		return wdr_error_set(error, WDR_ERROR_REFUSED,
			"the volume was mounted since it was made: what was changed there would be "
			"lost");
	if (!(sb->s_state & EXT2_VALID_FS) || (sb->s_state & EXT2_ERROR_FS))
		return wdr_error_set(error, WDR_ERROR_REFUSED, "the volume is marked as damaged");
	return true;
}

bool wdr_ext_change_check(WdrBlockDev *dev, uint64_t offset, uint64_t size, GError **error)
{
	ext2_filsys fs = NULL;

	if (!wdr_ext_open_fs(dev, offset, size, 0, &fs, error))
		return false;
	bool is_fine = check_volume(fs, error);
	ext2fs_free(fs);
	return is_fine;
}

bool wdr_ext_change_open(const WdrBuildTarget *target, WdrExtChange **ret, GError **error)
{
	g_autoptr(WdrExtChange) c = g_new0(WdrExtChange, 1);

	if (!wdr_ext_build_open(target, 1, &c->build, error) ||
		!wdr_ext_build_read_bitmaps(c->build, error))
		return false;
	wdr_ext_table_note_used(c->build->table);
	if (!check_volume(fs_of(c), error) ||
		!wdr_ext_volume_open(target->dev, target->offset, target->size, &c->before, error))
		return false;
	*ret = g_steal_pointer(&c);
	return true;
}

bool wdr_ext_change_reserve(WdrExtChange *c, bool is_folder, uint64_t *ret, GError **error)
{
	ext2_ino_t ino = 0;
	errcode_t code = ext2fs_new_inode(
		fs_of(c), EXT2_ROOT_INO, is_folder ? LINUX_S_IFDIR : LINUX_S_IFREG, NULL, &ino);

	if (code == EXT2_ET_INODE_ALLOC_FAIL)
		return wdr_error_set(
			error, WDR_ERROR_NO_SPACE, "the ext volume has no inodes left");
	if (code)
		return wdr_ext_error(error, code, "looking for a free inode");
	ext2fs_mark_inode_bitmap2(fs_of(c)->inode_map, ino);
	*ret = ino;
	return true;
}

/* ---- letting go ---- */

static void free_blocks(WdrExtChange *c, blk64_t first, uint64_t count)
{
	ext2fs_block_alloc_stats_range(fs_of(c), first, (blk_t)count, -1);
}

static bool has_extents(const struct ext2_inode_large *in)
{
	bool is_fast_link = LINUX_S_ISLNK(in->i_mode) && EXT2_I_SIZE(in) < sizeof(in->i_block);

	return in->i_flags & EXT4_EXTENTS_FL && !is_fast_link;
}

/* Frees the blocks of the content, the tree's own included. */
static bool free_content(
	WdrExtChange *c, ext2_ino_t ino, struct ext2_inode_large *in, GError **error)
{
	ext2_extent_handle_t handle = NULL;
	struct ext2fs_extent extent;

	if (!has_extents(in))
		return true;
	errcode_t code = ext2fs_extent_open2(fs_of(c), ino, (struct ext2_inode *)in, &handle);
	if (code)
		return wdr_ext_error(error, code, "inode %u", ino);
	code = ext2fs_extent_get(handle, EXT2_EXTENT_ROOT, &extent);
	for (unsigned steps = 0; !code && steps < TREE_STEPS_MAX; steps++) {
		if (extent.e_flags & EXT2_EXTENT_FLAGS_LEAF)
			free_blocks(c, extent.e_pblk, extent.e_len);
		else if (!(extent.e_flags & EXT2_EXTENT_FLAGS_SECOND_VISIT))
			free_blocks(c, extent.e_pblk, 1);
		code = ext2fs_extent_get(handle, EXT2_EXTENT_NEXT, &extent);
	}
	ext2fs_extent_free(handle);
	return code == EXT2_ET_EXTENT_NO_NEXT || code == EXT2_ET_NO_CURRENT_NODE ||
	       wdr_ext_error(error, code, "the extents of inode %u", ino);
}

static void free_xattr_block(WdrExtChange *c, struct ext2_inode_large *in)
{
	blk64_t block = ext2fs_file_acl_block(fs_of(c), (struct ext2_inode *)in);

	if (block)
		free_blocks(c, block, 1);
	ext2fs_file_acl_block_set(fs_of(c), (struct ext2_inode *)in, 0);
}

bool wdr_ext_change_release(WdrExtChange *c, uint64_t id, GError **error)
{
	g_autofree uint8_t *raw = wdr_ext_inode_new(fs_of(c));
	struct ext2_inode_large *in = (struct ext2_inode_large *)(void *)raw;
	ext2_ino_t ino = ino_of(id);

	if (!wdr_ext_table_get(c->build->table, ino, raw, error) ||
		!free_content(c, ino, in, error))
		return false;
	free_xattr_block(c, in);
	ext2fs_inode_alloc_stats2(fs_of(c), ino, -1, LINUX_S_ISDIR(in->i_mode));
	memset(raw, 0, EXT2_INODE_SIZE(fs_of(c)->super));
	return wdr_ext_table_put(c->build->table, ino, raw, error);
}

/* ---- what stays ---- */

bool wdr_ext_change_metadata(WdrExtChange *c, uint64_t id, const WdrEntry *entry, GError **error)
{
	g_autofree uint8_t *raw = wdr_ext_inode_new(fs_of(c));
	g_autofree uint8_t *old = wdr_ext_inode_new(fs_of(c));
	struct ext2_inode_large *in = (struct ext2_inode_large *)(void *)raw;
	struct ext2_inode_large *was = (struct ext2_inode_large *)(void *)old;
	size_t size = EXT2_INODE_SIZE(fs_of(c)->super);
	uint64_t xattr_blocks = 0;
	ext2_ino_t ino = ino_of(id);

	if (!wdr_ext_table_get(c->build->table, ino, old, error))
		return false;
	bool had_block = ext2fs_file_acl_block(fs_of(c), (struct ext2_inode *)was) != 0;
	uint64_t blocks = ext2fs_get_stat_i_blocks(fs_of(c), (struct ext2_inode *)was) /
				  (fs_of(c)->blocksize / 512) -
			  (had_block ? 1 : 0);
	/* The content with its size stays; everything else is written again, the space for xattrs
	 * too.
	 */
	wdr_ext_inode_put_metadata(entry, size, in);
	in->i_flags |= was->i_flags & ~wdr_ext_kept_flags & ~(uint32_t)EXT4_HUGE_FILE_FL;
	memcpy(in->i_block, was->i_block, sizeof(in->i_block));
	in->i_size = was->i_size;
	in->i_size_high = was->i_size_high;
	in->i_links_count = was->i_links_count;
	in->i_generation = was->i_generation;
	free_xattr_block(c, was);
	if (!wdr_ext_inode_put_xattrs(c->build, ino, entry, raw, &xattr_blocks, error))
		return false;
	wdr_ext_inode_put_blocks(c->build, in, blocks + xattr_blocks);
	return wdr_ext_table_put(c->build->table, ino, raw, error);
}

bool wdr_ext_change_empty_folder(WdrExtChange *c, uint64_t id, GError **error)
{
	g_autofree uint8_t *raw = wdr_ext_inode_new(fs_of(c));
	struct ext2_inode_large *in = (struct ext2_inode_large *)(void *)raw;
	ext2_ino_t ino = ino_of(id);

	if (!wdr_ext_table_get(c->build->table, ino, raw, error))
		return false;
	if (in->i_flags & EXT4_INLINE_DATA_FL)
		return wdr_error_set(error, WDR_ERROR_UNSUPPORTED,
			"a folder lies within its inode (inline_data)");
	if (!free_content(c, ino, in, error))
		return false;
	bool has_block = ext2fs_file_acl_block(fs_of(c), (struct ext2_inode *)in) != 0;
	in->i_flags &= ~(uint32_t)EXT2_INDEX_FL;
	memset(in->i_block, 0, sizeof(in->i_block));
	wdr_ext_inode_put_blocks(c->build, in, has_block ? 1 : 0);
	return wdr_ext_table_put(c->build->table, ino, raw, error);
}

bool wdr_ext_change_links(WdrExtChange *c, uint64_t id, uint64_t *ret, GError **error)
{
	g_autofree uint8_t *raw = wdr_ext_inode_new(fs_of(c));

	if (!wdr_ext_table_get(c->build->table, ino_of(id), raw, error))
		return false;
	*ret = ((struct ext2_inode_large *)(void *)raw)->i_links_count;
	return true;
}
