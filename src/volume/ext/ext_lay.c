/* Laying an empty ext volume onto a disk: mkfs makes it as a sparse file, and the blocks that it
 * took are copied over through our own handle (mkfs cannot open a disk that we hold exclusively).
 * What the medium held before must not show through: every block in use is written, also those of
 * zeros. */
#include "volume/ext/ext_priv.h"

#include <stdlib.h>
#include <unistd.h>

enum { COPY_BYTES = 1024 * 1024 };

typedef struct {
	uint64_t from, to; /* blocks, the end not included */
} Span;

static int by_start(const void *a, const void *b)
{
	const Span *x = a;
	const Span *y = b;

	return x->from < y->from ? -1 : x->from > y->from;
}

static int journal_span(
	ext2_filsys fs, blk64_t *block, e2_blkcnt_t logical, blk64_t ref, int offset, void *data)
{
	GArray *spans = data;
	Span *last = spans->len ? &g_array_index(spans, Span, spans->len - 1) : NULL;

	(void)fs;
	(void)ref;
	(void)offset;
	if (logical <= 0) /* its first block is the journal's superblock */
		return 0;
	if (last && last->to == *block) {
		last->to++;
		return 0;
	}
	Span s = { *block, *block + 1 };
	g_array_append_val(spans, s);
	return 0;
}

/* Blocks of zeros that need no copying: the journal. */
static bool journal_spans(ext2_filsys fs, GArray *spans, GError **error)
{
	if (fs->super->s_journal_inum == 0)
		return true;
	errcode_t code = ext2fs_block_iterate3(fs, fs->super->s_journal_inum,
		BLOCK_FLAG_READ_ONLY | BLOCK_FLAG_DATA_ONLY, NULL, journal_span, spans);
	return code ? wdr_ext_error(error, code, "finding the fresh journal") : true;
}

/* With group checksums the kernel and e2fsck know how much of an inode table was never used;
 * without them all of it must be zeros. Group 0's holds mkfs's own inodes and is copied. */
static void table_spans(ext2_filsys fs, GArray *spans)
{
	for (dgrp_t g = 1; g < fs->group_desc_count; g++) {
		uint64_t start = ext2fs_inode_table_loc(fs, g);
		Span s = { start, start + fs->inode_blocks_per_group };
		g_array_append_val(spans, s);
	}
}

typedef struct {
	const WdrBuildTarget *to;
	ext2_filsys fs;
	WdrBlockDev *from;
	uint8_t *buf; /* COPY_BYTES */
} Copying;

static bool copy_span(const Copying *c, Span s, GError **error)
{
	const WdrBuildTarget *t = c->to;
	ext2_filsys fs = c->fs;
	WdrBlockDev *from = c->from;
	uint8_t *buf = c->buf;
	uint64_t at = s.from * fs->blocksize;
	uint64_t end = s.to * fs->blocksize;

	while (at < end) {
		size_t part = (size_t)MIN(end - at, COPY_BYTES);
		if (!wdr_blockdev_read(from, buf, part, at, error) ||
			!wdr_blockdev_write(t->dev, buf, part, t->offset + at, error))
			return false;
		at += part;
	}
	return true;
}

static bool zero_spans(const WdrBuildTarget *t, ext2_filsys fs, const GArray *spans, GError **error)
{
	for (guint i = 0; i < spans->len; i++) {
		const Span *s = &g_array_index(spans, Span, i);
		if (!wdr_blockdev_zero(t->dev, t->offset + s->from * fs->blocksize,
			    (s->to - s->from) * fs->blocksize, error))
			return false;
	}
	return true;
}

/* Copies [from, to) less what the sorted `apart` covers. */
static bool copy_less(const Copying *c, Span used, const GArray *apart, GError **error)
{
	for (guint i = 0; i < apart->len && used.from < used.to; i++) {
		const Span *a = &g_array_index(apart, Span, i);
		if (a->to <= used.from)
			continue;
		if (a->from >= used.to)
			break;
		Span before = { used.from, MAX(used.from, a->from) };
		if (!copy_span(c, before, error))
			return false;
		used.from = MIN(a->to, used.to);
	}
	return copy_span(c, used, error);
}

static bool copy_used(const WdrBuildTarget *t, ext2_filsys fs, WdrBlockDev *from,
	const GArray *apart, GError **error)
{
	g_autofree uint8_t *buf = g_malloc(COPY_BYTES);
	const Copying c = { t, fs, from, buf };
	blk64_t last = ext2fs_blocks_count(fs->super) - 1;
	blk64_t at = fs->super->s_first_data_block;
	/* Before block 1 of a 1 KiB volume lies the boot sector: zeros. */
	Span head = { 0, at };

	if (!copy_span(&c, head, error))
		return false;
	while (at <= last) {
		blk64_t end = 0;
		if (ext2fs_find_first_set_block_bitmap2(fs->block_map, at, last, &at) != 0)
			return true;
		if (ext2fs_find_first_zero_block_bitmap2(fs->block_map, at, last, &end) != 0)
			end = last + 1;
		if (!copy_less(&c, (Span){ at, end }, apart, error))
			return false;
		at = end;
	}
	return true;
}

static bool lay(const WdrBuildTarget *t, WdrBlockDev *from, ext2_filsys fs, GError **error)
{
	g_autoptr(GArray) apart = g_array_new(FALSE, FALSE, sizeof(Span));

	if (!journal_spans(fs, apart, error))
		return false;
	bool tables_need_zeros = !ext2fs_has_group_desc_csum(fs);
	if (tables_need_zeros)
		table_spans(fs, apart);
	if (!zero_spans(t, fs, apart, error))
		return false;
	if (!tables_need_zeros)
		table_spans(fs, apart);
	if (apart->len > 1)
		qsort(apart->data, apart->len, sizeof(Span), by_start);
	return copy_used(t, fs, from, apart, error);
}

bool wdr_ext_open_empty(const WdrWorld *world, const WdrBuildTarget *target, const WdrExtSpec *spec,
	WdrBlockDev **ret_dev, ext2_filsys *ret, GError **error)
{
	g_autofree char *path = g_build_filename(target->scratch, "fresh.ext", NULL);
	g_autoptr(WdrBlockDev) dev = NULL;
	ext2_filsys fs = NULL;

	bool is_fine = wdr_ext_make_empty(world, spec, target->size, path, error) &&
		       wdr_blockdev_open(path, WDR_OPEN_READ, &dev, error) &&
		       wdr_ext_open_fs(dev, 0, wdr_blockdev_size(dev), 0, &fs, error);
	unlink(path);
	if (!is_fine)
		return false;
	errcode_t code = ext2fs_read_bitmaps(fs);
	if (code) {
		ext2fs_free(fs);
		return wdr_ext_error(error, code, "reading the bitmaps of the fresh ext volume");
	}
	*ret_dev = g_steal_pointer(&dev);
	*ret = fs;
	return true;
}

bool wdr_ext_lay_empty(
	const WdrWorld *world, const WdrBuildTarget *target, const WdrExtSpec *spec, GError **error)
{
	g_autoptr(WdrBlockDev) from = NULL;
	ext2_filsys fs = NULL;

	if (!wdr_ext_open_empty(world, target, spec, &from, &fs, error))
		return false;
	bool is_fine = lay(target, from, fs, error);
	ext2fs_free(fs);
	return is_fine;
}

bool wdr_ext_drop_lost_and_found(ext2_filsys fs, GError **error)
{
	struct ext2_inode in;
	blk64_t block = 0;

	errcode_t code = ext2fs_read_inode(fs, EXT2_GOOD_OLD_FIRST_INO, &in);
	for (unsigned i = 0; !code && i < EXT2_I_SIZE(&in) / fs->blocksize; i++) {
		code = ext2fs_bmap2(fs, EXT2_GOOD_OLD_FIRST_INO, &in, NULL, 0, i, NULL, &block);
		if (!code && block)
			ext2fs_block_alloc_stats2(fs, block, -1);
	}
	if (!code)
		code = ext2fs_read_inode(fs, EXT2_ROOT_INO, &in);
	if (!code)
		code = ext2fs_bmap2(fs, EXT2_ROOT_INO, &in, NULL, 0, 0, NULL, &block);
	if (!code)
		ext2fs_block_alloc_stats2(fs, block, -1);
	if (code)
		return wdr_ext_error(error, code, "looking into the fresh ext volume");
	ext2fs_inode_alloc_stats2(fs, EXT2_GOOD_OLD_FIRST_INO, -1, 1);
	return true;
}
