/* The inode table of a volume being built: a small write-back cache of large chunks, since folders
 * get their inodes a little later than the files around them. A chunk that was never written starts
 * as zeros, not as what an earlier owner left on the medium; only group 0 holds inodes of mkfs's.
 */
#include "volume/ext/ext_priv.h"

#include "base/share.h"

#include <string.h>

enum { CHUNK_BYTES = 128 * 1024, CHUNKS = 32 };

typedef struct {
	uint64_t at; /* offset in the volume; 0: empty, since block 0 is never an inode table */
	size_t len;
	uint64_t used;
	bool is_dirty;
	uint8_t *bytes;
} Chunk;

struct WdrExtTable {
	ext2_filsys fs;
	WdrBlockDev *dev;
	uint64_t offset;
	size_t chunks_per_group;
	GHashTable *written; /* chunk number + 1, of those that are on the medium */
	bool forgets_unused;
	uint64_t clock;
	size_t count; /* of chunks, as many as this process may have */
	Chunk chunks[CHUNKS];
};

WdrExtTable *wdr_ext_table_new(ext2_filsys fs, WdrBlockDev *dev, uint64_t offset)
{
	WdrExtTable *t = g_new0(WdrExtTable, 1);
	size_t group_bytes = (size_t)fs->inode_blocks_per_group * fs->blocksize;

	t->fs = fs;
	t->dev = dev;
	t->offset = offset;
	t->count = wdr_share_of(CHUNKS);
	t->chunks_per_group = (group_bytes + CHUNK_BYTES - 1) / CHUNK_BYTES;
	t->written = g_hash_table_new(NULL, NULL);
	for (size_t i = 0; i < t->chunks_per_group; i++)
		g_hash_table_add(t->written, GSIZE_TO_POINTER(i + 1));
	return t;
}

void wdr_ext_table_note_used(WdrExtTable *t)
{
	bool has_sums = ext2fs_has_group_desc_csum(t->fs);

	for (dgrp_t g = 0; g < t->fs->group_desc_count; g++) {
		bool is_unused = has_sums && ext2fs_bg_flags_test(t->fs, g, EXT2_BG_INODE_UNINIT);
		uint64_t unused = has_sums ? ext2fs_bg_itable_unused(t->fs, g) : 0;
		uint64_t used = is_unused ? 0 : t->fs->super->s_inodes_per_group - unused;
		uint64_t bytes = used * EXT2_INODE_SIZE(t->fs->super);
		for (uint64_t c = 0; c * CHUNK_BYTES < bytes; c++)
			g_hash_table_add(t->written,
				GSIZE_TO_POINTER((size_t)g * t->chunks_per_group + (size_t)c + 1));
	}
}

void wdr_ext_table_forget_unused(WdrExtTable *t)
{
	t->forgets_unused = true;
}

void wdr_ext_table_free(WdrExtTable *t)
{
	if (!t)
		return;
	for (size_t i = 0; i < CHUNKS; i++)
		g_free(t->chunks[i].bytes);
	g_hash_table_unref(t->written);
	g_free(t);
}

/* Errors keep the chunk dirty, so that a later flush does not call it written. */
static bool write_back(WdrExtTable *t, Chunk *c, GError **error)
{
	if (c->is_dirty && !wdr_blockdev_write(t->dev, c->bytes, c->len, t->offset + c->at, error))
		return false;
	c->is_dirty = false;
	return true;
}

/* Going on from a checkpoint: inodes that the interrupted run wrote after it are on the medium, but
 * nobody has them now. They would show as used inodes without names. */
static void clear_unused(const WdrExtTable *t, Chunk *c, ext2_ino_t first)
{
	size_t size = EXT2_INODE_SIZE(t->fs->super);

	for (size_t i = 0; i < c->len / size; i++) {
		ext2_ino_t ino = first + (ext2_ino_t)i;
		if (ino <= t->fs->super->s_inodes_count &&
			!ext2fs_test_inode_bitmap2(t->fs->inode_map, ino))
			memset(c->bytes + i * size, 0, size);
	}
	c->is_dirty = true;
}

/* `first` is the inode that the chunk starts with, `number` the chunk's own. */
static Chunk *load(
	WdrExtTable *t, uint64_t at, size_t len, size_t number, ext2_ino_t first, GError **error)
{
	Chunk *c = &t->chunks[0];

	for (size_t i = 0; i < t->count; i++) {
		if (t->chunks[i].at == at) {
			t->chunks[i].used = ++t->clock;
			return &t->chunks[i];
		}
		if (t->chunks[i].used < c->used)
			c = &t->chunks[i];
	}
	if (!write_back(t, c, error))
		return NULL;
	if (!c->bytes)
		c->bytes = g_malloc(CHUNK_BYTES);
	c->at = 0;
	if (!g_hash_table_contains(t->written, GSIZE_TO_POINTER(number + 1)))
		memset(c->bytes, 0, len);
	else if (!wdr_blockdev_read(t->dev, c->bytes, len, t->offset + at, error))
		return NULL;
	g_hash_table_add(t->written, GSIZE_TO_POINTER(number + 1));
	c->at = at;
	c->len = len;
	c->used = ++t->clock;
	if (t->forgets_unused)
		clear_unused(t, c, first);
	return c;
}

static uint8_t *find(WdrExtTable *t, ext2_ino_t ino, Chunk **ret_chunk, GError **error)
{
	dgrp_t group = ext2fs_group_of_ino(t->fs, ino);
	uint64_t table = ext2fs_inode_table_loc(t->fs, group) * (uint64_t)t->fs->blocksize;
	uint64_t group_bytes = (uint64_t)t->fs->inode_blocks_per_group * t->fs->blocksize;
	uint64_t at = (uint64_t)((ino - 1) % t->fs->super->s_inodes_per_group) *
		      EXT2_INODE_SIZE(t->fs->super);
	uint64_t chunk = at / CHUNK_BYTES;
	size_t len = (size_t)MIN(CHUNK_BYTES, group_bytes - chunk * CHUNK_BYTES);

	ext2_ino_t first = ino - (ext2_ino_t)(at % CHUNK_BYTES / EXT2_INODE_SIZE(t->fs->super));

	*ret_chunk = load(t, table + chunk * CHUNK_BYTES, len,
		(size_t)group * t->chunks_per_group + (size_t)chunk, first, error);
	return *ret_chunk ? (*ret_chunk)->bytes + at % CHUNK_BYTES : NULL;
}

bool wdr_ext_table_get(WdrExtTable *t, ext2_ino_t ino, uint8_t *inode, GError **error)
{
	Chunk *c = NULL;
	const uint8_t *at = find(t, ino, &c, error);

	if (!at)
		return false;
	memcpy(inode, at, EXT2_INODE_SIZE(t->fs->super));
	return true;
}

bool wdr_ext_table_put(WdrExtTable *t, ext2_ino_t ino, uint8_t *inode, GError **error)
{
	Chunk *c = NULL;
	uint8_t *at = find(t, ino, &c, error);

	if (!at)
		return false;
	ext2fs_inode_csum_set(t->fs, ino, (struct ext2_inode_large *)(void *)inode);
	memcpy(at, inode, EXT2_INODE_SIZE(t->fs->super));
	c->is_dirty = true;
	return true;
}

bool wdr_ext_table_flush(WdrExtTable *t, GError **error)
{
	for (size_t i = 0; i < CHUNKS; i++) {
		if (!write_back(t, &t->chunks[i], error))
			return false;
	}
	return true;
}
