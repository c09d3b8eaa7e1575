/* Checkpoints of an ext volume being filled.
 *
 * Blocks are handed out in rising order, inodes nearly so. So a checkpoint is small: the block that
 * comes next, the runs of inodes in use, how many folders each group has. The empty volume's
 * bitmaps and these give the bitmaps as they were. On the medium bitmaps and descriptors stay those
 * of the empty volume until the builder's finish, which may be what was cut off: so they are not
 * read from there, but mkfs makes the empty volume once more.
 *
 * As a GVariant: (first inode, feature flags, next block, inode runs (first, count), folders of
 * groups (group, count), files being written). Of these there is one or none: (number, inode, bytes
 * given, blocks taken, runs (logical, physical, count, is unwritten)). */
#include "volume/ext/ext_priv.h"

#include <string.h>

#define FILE_TYPE "(uaytta(ttub))"
#define CHECKPOINT_TYPE "(uuta(uu)a(uu)a" FILE_TYPE ")"

/* ---- taking one ---- */

/* Nearly one run, as inodes are handed out in rising order: small, however many there are. */
static void add_inode_runs(ext2_filsys fs, GVariantBuilder *runs)
{
	ext2_ino_t last = fs->super->s_inodes_count;
	ext2_ino_t at = EXT2_GOOD_OLD_FIRST_INO;

	while (at <= last) {
		ext2_ino_t end = 0;
		if (ext2fs_find_first_set_inode_bitmap2(fs->inode_map, at, last, &at) != 0)
			return;
		if (ext2fs_find_first_zero_inode_bitmap2(fs->inode_map, at, last, &end) != 0)
			end = last + 1;
		g_variant_builder_add(runs, "(uu)", at, end - at);
		at = end;
	}
}

static void add_file(const WdrExtBuild *b, GVariantBuilder *files)
{
	GVariantBuilder runs;

	if (b->file.ino == 0)
		return;
	g_variant_builder_init(&runs, G_VARIANT_TYPE("a(ttub)"));
	for (guint i = 0; i < b->file.runs->len; i++) {
		const WdrExtRun *r = &g_array_index(b->file.runs, WdrExtRun, i);
		g_variant_builder_add(&runs, "(ttub)", r->logical, r->physical, r->count,
			(gboolean)r->is_unwritten);
	}
	g_variant_builder_add(files, "(u@aytta(ttub))", (guint32)b->file.ino,
		g_variant_new_fixed_array(G_VARIANT_TYPE_BYTE, b->file.inode,
			EXT2_INODE_SIZE(b->blocks.fs->super), 1),
		b->file.pos, b->file.blocks, &runs);
}

static GVariant *describe(const WdrExtBuild *b)
{
	ext2_filsys fs = b->blocks.fs;
	GVariantBuilder runs;
	GVariantBuilder folders;
	GVariantBuilder files;

	g_variant_builder_init(&runs, G_VARIANT_TYPE("a(uu)"));
	g_variant_builder_init(&folders, G_VARIANT_TYPE("a(uu)"));
	g_variant_builder_init(&files, G_VARIANT_TYPE("a" FILE_TYPE));
	add_inode_runs(fs, &runs);
	add_file(b, &files);
	for (dgrp_t g = 0; g < fs->group_desc_count; g++) {
		if (ext2fs_bg_used_dirs_count(fs, g) > 0)
			g_variant_builder_add(
				&folders, "(uu)", g, ext2fs_bg_used_dirs_count(fs, g));
	}
	return g_variant_ref_sink(g_variant_new(CHECKPOINT_TYPE, (guint32)b->first_ino,
		fs->super->s_feature_ro_compat, (guint64)b->blocks.alloc.next, &runs, &folders,
		&files));
}

/* Everything that the checkpoint describes is on the medium before it is made: data, then the inode
 * table, then a flush. The caller writes it to the state folder after that. */
bool wdr_ext_build_checkpoint(WdrBuilder *builder, GVariant **ret, GError **error)
{
	WdrExtBuild *b = WDR_DERIVED(builder, WdrExtBuild, builder);

	if ((b->file.ino != 0 && !wdr_ext_build_pad(b, error)) ||
		!wdr_stream_drain(b->blocks.stream, error) ||
		!wdr_ext_table_flush(b->table, error) || !wdr_blockdev_flush(b->dev, error))
		return false;
	*ret = describe(b);
	return true;
}

/* ---- going on from it ---- */

static bool no_fit(GError **error)
{
	return wdr_error_set(
		error, WDR_ERROR_FORMAT, "the checkpoint does not fit the volume on the target");
}

/* mkfs gives the same layout for the same options and size; another version of it may not. Then the
 * volume is refused, not repaired. */
static bool is_laid_alike(ext2_filsys fs, ext2_filsys empty)
{
	if (ext2fs_blocks_count(fs->super) != ext2fs_blocks_count(empty->super) ||
		fs->super->s_inodes_count != empty->super->s_inodes_count ||
		fs->blocksize != empty->blocksize ||
		fs->group_desc_count != empty->group_desc_count)
		return false;
	for (dgrp_t g = 0; g < fs->group_desc_count; g++) {
		if (ext2fs_block_bitmap_loc(fs, g) != ext2fs_block_bitmap_loc(empty, g) ||
			ext2fs_inode_bitmap_loc(fs, g) != ext2fs_inode_bitmap_loc(empty, g) ||
			ext2fs_inode_table_loc(fs, g) != ext2fs_inode_table_loc(empty, g))
			return false;
	}
	return true;
}

static void take_empty_blocks(ext2_filsys fs, ext2_filsys empty)
{
	blk64_t last = ext2fs_blocks_count(fs->super) - 1;
	blk64_t at = fs->super->s_first_data_block;

	while (at <= last) {
		blk64_t end = 0;
		if (ext2fs_find_first_set_block_bitmap2(empty->block_map, at, last, &at) != 0)
			return;
		if (ext2fs_find_first_zero_block_bitmap2(empty->block_map, at, last, &end) != 0)
			end = last + 1;
		ext2fs_mark_block_bitmap_range2(fs->block_map, at, (unsigned)(end - at));
		at = end;
	}
}

static void take_empty_groups(ext2_filsys fs, ext2_filsys empty)
{
	for (dgrp_t g = 0; g < fs->group_desc_count; g++) {
		ext2fs_bg_free_blocks_count_set(fs, g, ext2fs_bg_free_blocks_count(empty, g));
		ext2fs_bg_free_inodes_count_set(fs, g, ext2fs_bg_free_inodes_count(empty, g));
		ext2fs_bg_used_dirs_count_set(fs, g, ext2fs_bg_used_dirs_count(empty, g));
		ext2fs_bg_itable_unused_set(fs, g, ext2fs_bg_itable_unused(empty, g));
		ext2fs_bg_flags_zap(fs, g);
		ext2fs_bg_flags_set(fs, g, ext2fs_bg_flags(empty, g));
		ext2fs_group_desc_csum_set(fs, g);
	}
	ext2fs_free_blocks_count_set(fs->super, ext2fs_free_blocks_count(empty->super));
	fs->super->s_free_inodes_count = empty->super->s_free_inodes_count;
}

static bool take_empty(const WdrWorld *world, const WdrBuildTarget *target, const WdrExtSpec *spec,
	ext2_filsys fs, GError **error)
{
	g_autoptr(WdrBlockDev) dev = NULL;
	ext2_filsys empty = NULL;

	errcode_t code = ext2fs_allocate_block_bitmap(fs, "blocks", &fs->block_map);
	if (!code)
		code = ext2fs_allocate_inode_bitmap(fs, "inodes", &fs->inode_map);
	if (code)
		return wdr_ext_error(error, code, "making bitmaps for the ext volume");
	if (!wdr_ext_open_empty(world, target, spec, &dev, &empty, error))
		return false;
	bool is_fine = wdr_ext_drop_lost_and_found(empty, error) &&
		       (is_laid_alike(fs, empty) || no_fit(error));
	if (is_fine) {
		take_empty_blocks(fs, empty);
		take_empty_groups(fs, empty);
		for (ext2_ino_t ino = 1; ino <= fs->super->s_inodes_count; ino++) {
			if (ext2fs_test_inode_bitmap2(empty->inode_map, ino))
				ext2fs_mark_inode_bitmap2(fs->inode_map, ino);
		}
	}
	ext2fs_free(empty);
	return is_fine;
}

/* ext2fs_inode_alloc_stats2 counts down free inodes of groups and superblock; folders come apart.
 */
static bool take_inodes(ext2_filsys fs, GVariantIter *runs, GError **error)
{
	guint32 first = 0;
	guint32 count = 0;

	while (g_variant_iter_next(runs, "(uu)", &first, &count)) {
		if (first < EXT2_GOOD_OLD_FIRST_INO || first > fs->super->s_inodes_count ||
			count > fs->super->s_inodes_count - first + 1)
			return no_fit(error);
		for (guint32 i = 0; i < count; i++) {
			if (!ext2fs_test_inode_bitmap2(fs->inode_map, first + i))
				ext2fs_inode_alloc_stats2(fs, first + i, +1, 0);
		}
	}
	return true;
}

static bool count_folders(ext2_filsys fs, GVariantIter *folders, GError **error)
{
	guint32 group = 0;
	guint32 count = 0;

	while (g_variant_iter_next(folders, "(uu)", &group, &count)) {
		if (group >= fs->group_desc_count || count > fs->super->s_inodes_per_group)
			return no_fit(error);
		ext2fs_bg_used_dirs_count_set(fs, group, count);
		ext2fs_group_desc_csum_set(fs, group);
	}
	return true;
}

static bool take_runs(WdrExtBuild *b, GVariantIter *runs, uint64_t next, GError **error)
{
	guint64 logical = 0;
	guint64 physical = 0;
	guint32 count = 0;
	gboolean is_unwritten = FALSE;

	while (g_variant_iter_next(runs, "(ttub)", &logical, &physical, &count, &is_unwritten)) {
		WdrExtRun r = { logical, physical, count, is_unwritten };
		if (physical > next || count > next - physical)
			return no_fit(error);
		g_array_append_val(b->file.runs, r);
	}
	return true;
}

static bool take_file(WdrExtBuild *b, GVariant *file, uint64_t next, GError **error)
{
	g_autoptr(GVariant) inode = NULL;
	g_autoptr(GVariantIter) runs = NULL;
	guint32 ino = 0;
	guint64 pos = 0;
	guint64 blocks = 0;
	gsize len = 0;

	g_variant_get(file, "(u@aytta(ttub))", &ino, &inode, &pos, &blocks, &runs);
	const void *bytes = g_variant_get_fixed_array(inode, &len, 1);
	if (len != EXT2_INODE_SIZE(b->blocks.fs->super) || pos % b->blocks.fs->blocksize ||
		ino < b->first_ino || ino > b->blocks.fs->super->s_inodes_count ||
		!ext2fs_test_inode_bitmap2(b->blocks.fs->inode_map, ino))
		return no_fit(error);
	memcpy(b->file.inode, bytes, len);
	b->file.ino = ino;
	b->file.pos = pos;
	b->file.blocks = blocks;
	return take_runs(b, runs, next, error);
}

bool wdr_ext_builder_resume(const WdrWorld *world, const WdrBuildTarget *target,
	const WdrExtSpec *spec, GVariant *checkpoint, WdrBuilder **ret, GError **error)
{
	g_autoptr(GVariantIter) runs = NULL;
	g_autoptr(GVariantIter) folders = NULL;
	g_autoptr(GVariant) files = NULL;
	guint32 first_ino = 0;
	guint32 features = 0;
	guint64 next = 0;
	WdrExtBuild *b = NULL;

	if (!g_variant_is_of_type(checkpoint, G_VARIANT_TYPE(CHECKPOINT_TYPE)))
		return no_fit(error);
	g_variant_get(checkpoint, "(uuta(uu)a(uu)@a" FILE_TYPE ")", &first_ino, &features, &next,
		&runs, &folders, &files);
	if (!wdr_ext_build_open(target, first_ino, &b, error))
		return false;
	g_autoptr(WdrBuilder) builder = &b->builder;
	ext2_filsys fs = b->blocks.fs;
	if (first_ino <= EXT2_GOOD_OLD_FIRST_INO || next > ext2fs_blocks_count(fs->super))
		return no_fit(error);
	if (!take_empty(world, target, spec, fs, error) || !take_inodes(fs, runs, error) ||
		!count_folders(fs, folders, error) ||
		!wdr_ext_alloc_up_to(&b->blocks.alloc, next, error))
		return false;
	if (g_variant_n_children(files) > 0) {
		g_autoptr(GVariant) file = g_variant_get_child_value(files, 0);
		if (!take_file(b, file, next, error))
			return false;
	}
	fs->super->s_feature_ro_compat |= features & EXT2_FEATURE_RO_COMPAT_LARGE_FILE;
	wdr_ext_table_note_used(b->table);
	wdr_ext_table_forget_unused(b->table);
	*ret = g_steal_pointer(&builder);
	return true;
}
