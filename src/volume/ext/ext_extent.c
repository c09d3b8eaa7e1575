/* Extent trees: where a file's blocks lie. Format: Documentation/filesystems/ext4/ifork.rst.
 *
 *   header: magic(2) entries(2) room(2) depth(2) generation(4)
 *   leaf:   logical(4) length(2) start_high(2) start_low(4)      length above 32768: unwritten
 *   index:  logical(4) block_low(4) block_high(2) unused(2)
 * Up to four entries fit in the inode; a block ends in a checksum.                            */
#include "volume/ext/ext_priv.h"

#include "base/cursor.h"

#include <string.h>

enum {
	EXTENT_MAX = 32768, /* blocks in one extent */
	EXTENT_MAX_UNWRITTEN = 32767,
	EXTENTS_IN_INODE = 4,
	EXTENT_BYTES = 12, /* an extent, an index entry, and the header alike */
	EXTENT_TAIL_BYTES = 4,
};

bool wdr_ext_put_block(WdrExtBlocks *b, uint64_t block, const void *data, GError **error)
{
	return wdr_stream_write(
		b->stream, data, b->fs->blocksize, b->offset + block * b->fs->blocksize, error);
}

static void put_extent_header(uint8_t *at, size_t n, size_t most, size_t depth)
{
	wdr_put_le16(at, EXT3_EXT_MAGIC);
	wdr_put_le16(at + 2, (uint16_t)n);
	wdr_put_le16(at + 4, (uint16_t)most);
	wdr_put_le16(at + 6, (uint16_t)depth);
	wdr_put_le32(at + 8, 0);
}

static void put_extent(uint8_t *at, const WdrExtRun *r)
{
	wdr_put_le32(at, (uint32_t)r->logical);
	wdr_put_le16(at + 4, (uint16_t)(r->is_unwritten ? r->count + EXTENT_MAX : r->count));
	wdr_put_le16(at + 6, (uint16_t)(r->physical >> 32));
	wdr_put_le32(at + 8, (uint32_t)r->physical);
}

static void put_extent_index(uint8_t *at, const WdrExtRun *r)
{
	wdr_put_le32(at, (uint32_t)r->logical);
	wdr_put_le32(at + 4, (uint32_t)r->physical);
	wdr_put_le16(at + 8, (uint16_t)(r->physical >> 32));
	wdr_put_le16(at + 10, 0);
}

static void put_extents(uint8_t *at, const WdrExtRun *runs, size_t n, size_t most, size_t depth)
{
	put_extent_header(at, n, most, depth);
	for (size_t i = 0; i < n; i++) {
		uint8_t *entry = at + (i + 1) * EXTENT_BYTES;
		if (depth == 0)
			put_extent(entry, &runs[i]);
		else
			put_extent_index(entry, &runs[i]);
	}
}

/* One level of the tree: blocks that hold `below`; returns index entries for them. */
static bool put_level(WdrExtBlocks *b, ext2_ino_t ino, const GArray *below, size_t depth,
	GArray *above, GError **error)
{
	size_t most = (b->fs->blocksize - EXTENT_BYTES - EXTENT_TAIL_BYTES) / EXTENT_BYTES;
	g_autofree uint8_t *image = g_malloc(b->fs->blocksize);

	for (size_t i = 0; i < below->len; i += most) {
		const WdrExtRun *first = &g_array_index(below, WdrExtRun, i);
		WdrExtRun node = { .logical = first->logical, .count = 1 };
		uint64_t count = 0;
		if (!wdr_ext_alloc(&b->alloc, 1, &node.physical, &count, error))
			return false;
		memset(image, 0, b->fs->blocksize);
		put_extents(image, first, MIN(most, below->len - i), most, depth);
		ext2fs_extent_block_csum_set(b->fs, ino, (void *)image);
		if (!wdr_ext_put_block(b, node.physical, image, error))
			return false;
		g_array_append_val(above, node);
	}
	return true;
}

bool wdr_ext_put_tree(WdrExtBlocks *b, ext2_ino_t ino, struct ext2_inode_large *in,
	const GArray *runs, uint64_t *blocks, GError **error)
{
	g_autoptr(GArray) level = g_array_copy((GArray *)runs);
	size_t depth = 0;

	for (; level->len > EXTENTS_IN_INODE; depth++) {
		g_autoptr(GArray) above = g_array_new(FALSE, FALSE, sizeof(WdrExtRun));
		if (!put_level(b, ino, level, depth, above, error))
			return false;
		*blocks += above->len;
		g_array_unref(level);
		level = g_steal_pointer(&above);
	}
	in->i_flags |= EXT4_EXTENTS_FL;
	put_extents((uint8_t *)in->i_block, (const WdrExtRun *)(void *)level->data, level->len,
		EXTENTS_IN_INODE, depth);
	return true;
}

void wdr_ext_add_run(GArray *runs, const WdrExtRun *r)
{
	WdrExtRun *last = runs->len ? &g_array_index(runs, WdrExtRun, runs->len - 1) : NULL;
	uint32_t most = r->is_unwritten ? EXTENT_MAX_UNWRITTEN : EXTENT_MAX;
	WdrExtRun left = *r;

	if (last && last->is_unwritten == r->is_unwritten && last->count < most &&
		last->logical + last->count == r->logical &&
		last->physical + last->count == r->physical) {
		uint32_t part = MIN(r->count, most - last->count);
		last->count += part;
		left.logical += part;
		left.physical += part;
		left.count -= part;
	}
	while (left.count > 0) {
		WdrExtRun part = left;
		part.count = MIN(left.count, most);
		g_array_append_val(runs, part);
		left.logical += part.count;
		left.physical += part.count;
		left.count -= part.count;
	}
}
