/* Checkpoints of an ext volume being filled.
 *
 * Superblock, group descriptors and bitmaps on the medium stay those of the empty volume until the
 * builder's finish; blocks are handed out in rising order, inodes nearly so. So a checkpoint is
 * small: the block that comes next, the runs of inodes in use, how many folders each group has. The
 * empty volume's bitmaps and these give the bitmaps as they were.
 *
 * As a GVariant: (first inode, feature flags, next block, inode runs (first, count), folders of
 * groups (group, count)). */
#include "volume/ext_priv.h"

#define CHECKPOINT_TYPE "(uuta(uu)a(uu))"

/* ---- taking one ---- */

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

static GVariant *describe(const WdrExtBuild *b)
{
	ext2_filsys fs = b->blocks.fs;
	GVariantBuilder runs;
	GVariantBuilder folders;

	g_variant_builder_init(&runs, G_VARIANT_TYPE("a(uu)"));
	g_variant_builder_init(&folders, G_VARIANT_TYPE("a(uu)"));
	add_inode_runs(fs, &runs);
	for (dgrp_t g = 0; g < fs->group_desc_count; g++) {
		if (ext2fs_bg_used_dirs_count(fs, g) > 0)
			g_variant_builder_add(
				&folders, "(uu)", g, ext2fs_bg_used_dirs_count(fs, g));
	}
	return g_variant_ref_sink(g_variant_new(CHECKPOINT_TYPE, (guint32)b->first_ino,
		fs->super->s_feature_ro_compat, (guint64)b->blocks.alloc.next, &runs, &folders));
}

bool wdr_ext_build_checkpoint(WdrBuilder *builder, GVariant **ret, GError **error)
{
	WdrExtBuild *b = (WdrExtBuild *)builder;

	if (!wdr_stream_drain(b->blocks.stream, error) || !wdr_ext_table_flush(b->table, error) ||
		!wdr_blockdev_flush(b->dev, error))
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

bool wdr_ext_builder_resume(
	const WdrBuildTarget *target, GVariant *checkpoint, WdrBuilder **ret, GError **error)
{
	g_autoptr(GVariantIter) runs = NULL;
	g_autoptr(GVariantIter) folders = NULL;
	guint32 first_ino = 0;
	guint32 features = 0;
	guint64 next = 0;
	WdrExtBuild *b = NULL;

	if (!g_variant_is_of_type(checkpoint, G_VARIANT_TYPE(CHECKPOINT_TYPE)))
		return no_fit(error);
	g_variant_get(checkpoint, CHECKPOINT_TYPE, &first_ino, &features, &next, &runs, &folders);
	if (!wdr_ext_build_open(target, first_ino, &b, error))
		return false;
	g_autoptr(WdrBuilder) builder = &b->builder;
	ext2_filsys fs = b->blocks.fs;
	if (first_ino <= EXT2_GOOD_OLD_FIRST_INO || next > ext2fs_blocks_count(fs->super))
		return no_fit(error);
	if (!take_inodes(fs, runs, error) || !count_folders(fs, folders, error) ||
		!wdr_ext_alloc_up_to(&b->blocks.alloc, next, error))
		return false;
	fs->super->s_feature_ro_compat |= features & EXT2_FEATURE_RO_COMPAT_LARGE_FILE;
	wdr_ext_table_note_used(b->table);
	wdr_ext_table_forget_unused(b->table);
	*ret = g_steal_pointer(&builder);
	return true;
}
