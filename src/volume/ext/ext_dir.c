/* Folder blocks of an ext volume, built whole: plain ones, and the hash tree that the kernel looks
 * names up in when a folder is larger than one block.
 * Format: Documentation/filesystems/ext4/directory.rst of the kernel.
 *
 *   block 0: "." ".." root info, index entries      levels 0: leaves; 1: nodes of leaves; 2:
 * large_dir then nodes and leaves; a leaf is a plain folder block with the names of one range of
 * hashes  */
#include "volume/ext/ext_priv.h"

#include "base/cursor.h"

#include <stdlib.h>
#include <string.h>

enum {
	DIRENT_BYTES = 8,
	TAIL_BYTES = 12,      /* checksum of a leaf, in the shape of an unused entry */
	INDEX_TAIL_BYTES = 8, /* checksum of an index block */
	ROOT_ENTRIES_AT = 32, /* behind ".", ".." and the root info */
	NODE_ENTRIES_AT = 8,  /* behind an unused entry over the whole block */
	INDEX_ENTRY_BYTES = 8,
	ROOT_INFO_AT = 24,
};

typedef struct {
	ext2_filsys fs;
	size_t block_size;
	size_t tail, index_tail; /* 0 without metadata checksums */
	GByteArray *out;
} Dir;

typedef struct {
	uint32_t hash;
	uint32_t block;
} Index;

static size_t dirent_room(size_t name_len)
{
	return (DIRENT_BYTES + name_len + 3) & ~(size_t)3;
}

static uint8_t *new_block(Dir *d)
{
	size_t at = d->out->len;

	g_byte_array_set_size(d->out, (guint)(at + d->block_size));
	memset(d->out->data + at, 0, d->block_size);
	return d->out->data + at;
}

/* Record lengths of 64 KiB do not fit into 16 bits. */
static void put_rec_len(Dir *d, uint8_t *at, size_t len)
{
	(void)ext2fs_set_rec_len(d->fs, (unsigned)len, (struct ext2_dir_entry *)(void *)at);
}

static void put_dirent(Dir *d, uint8_t *at, const WdrExtName *n, size_t rec_len)
{
	wdr_put_le32(at, n->ino);
	put_rec_len(d, at, rec_len);
	at[6] = n->name_len;
	at[7] = n->type;
	memcpy(at + DIRENT_BYTES, n->name, n->name_len);
}

/* A plain block being filled. */
typedef struct {
	size_t at;   /* of the block in d->out; the array moves as it grows */
	size_t used; /* bytes */
	size_t last; /* where the last entry starts */
} Leaf;

static Leaf begin_leaf(Dir *d)
{
	uint8_t *block = new_block(d);

	return (Leaf){ .at = (size_t)(block - d->out->data) };
}

static bool leaf_takes(const Dir *d, const Leaf *l, size_t name_len, size_t slack)
{
	return l->used + dirent_room(name_len) + slack <= d->block_size - d->tail;
}

static void leaf_add(Dir *d, Leaf *l, const WdrExtName *n)
{
	put_dirent(d, d->out->data + l->at + l->used, n, dirent_room(n->name_len));
	l->last = l->used;
	l->used += dirent_room(n->name_len);
}

/* The last entry takes the rest of the block. */
static void end_leaf(Dir *d, const Leaf *l)
{
	uint8_t *block = d->out->data + l->at;

	put_rec_len(d, block + l->last, d->block_size - d->tail - l->last);
	if (d->tail)
		ext2fs_initialize_dirent_tail(d->fs,
			(struct ext2_dir_entry_tail *)(void *)(block + d->block_size - TAIL_BYTES));
}

static WdrExtName dot(ext2_ino_t self)
{
	return (WdrExtName){ ".", 1, EXT2_FT_DIR, self, 0, 0 };
}

static WdrExtName dot_dot(ext2_ino_t parent)
{
	return (WdrExtName){ "..", 2, EXT2_FT_DIR, parent, 0, 0 };
}

static void build_plain(Dir *d, const WdrExtFolder *f)
{
	Leaf leaf = begin_leaf(d);
	WdrExtName up[] = { dot(f->self), dot_dot(f->parent) };

	leaf_add(d, &leaf, &up[0]);
	leaf_add(d, &leaf, &up[1]);
	for (size_t i = 0; i < f->n; i++) {
		if (!leaf_takes(d, &leaf, f->names[i].name_len, 0)) {
			end_leaf(d, &leaf);
			leaf = begin_leaf(d);
		}
		leaf_add(d, &leaf, &f->names[i]);
	}
	end_leaf(d, &leaf);
}

static int by_hash(const void *a, const void *b)
{
	const WdrExtName *x = a;
	const WdrExtName *y = b;

	if (x->hash != y->hash)
		return x->hash < y->hash ? -1 : 1;
	if (x->minor != y->minor)
		return x->minor < y->minor ? -1 : 1;
	return 0;
}

static bool hash_names(ext2_filsys fs, WdrExtName *names, size_t n, GError **error)
{
	int version = fs->super->s_def_hash_version;

	/* The flag in the superblock decides, not this machine's char: a card made on an arm board
	 * has unsigned hashes. */
	if (version <= EXT2_HASH_TEA && (fs->super->s_flags & EXT2_FLAGS_UNSIGNED_HASH))
		version += EXT2_HASH_LEGACY_UNSIGNED - EXT2_HASH_LEGACY;
	for (size_t i = 0; i < n; i++) {
		errcode_t code = ext2fs_dirhash2(version, names[i].name, names[i].name_len, NULL, 0,
			fs->super->s_hash_seed, &names[i].hash, &names[i].minor);
		if (code)
			return wdr_ext_error(error, code, "hashing a name");
	}
	qsort(names, n, sizeof(*names), by_hash);
	return true;
}

/* Leaves with some room left, so that the first new names do not split them at once. The index gets
 * the first hash of each; bit 0 says that the block before holds names of this hash too. */
static void build_leaves(Dir *d, const WdrExtName *names, size_t n, GArray *index)
{
	size_t slack = d->block_size / 8;

	for (size_t i = 0; i < n;) {
		Index entry = { names[i].hash, (uint32_t)(d->out->len / d->block_size) };
		if (i > 0 && names[i - 1].hash == names[i].hash)
			entry.hash |= 1;
		g_array_append_val(index, entry);
		Leaf leaf = begin_leaf(d);
		do
			leaf_add(d, &leaf, &names[i++]);
		while (i < n && leaf_takes(d, &leaf, names[i].name_len, slack));
		end_leaf(d, &leaf);
	}
}

/* Index entries at `at`: the first one's hash is not stored, limit and count are in its place. */
static void put_index(uint8_t *at, const Index *entries, size_t n, size_t limit)
{
	for (size_t i = 0; i < n; i++) {
		wdr_put_le32(at + i * INDEX_ENTRY_BYTES, entries[i].hash);
		wdr_put_le32(at + i * INDEX_ENTRY_BYTES + 4, entries[i].block);
	}
	wdr_put_le16(at, (uint16_t)limit);
	wdr_put_le16(at + 2, (uint16_t)n);
}

static GArray *build_nodes(Dir *d, const GArray *below, size_t limit)
{
	GArray *nodes = g_array_new(FALSE, FALSE, sizeof(Index));

	for (size_t i = 0; i < below->len; i += limit) {
		const Index *first = &g_array_index(below, Index, i);
		Index entry = { first->hash, (uint32_t)(d->out->len / d->block_size) };
		uint8_t *block = new_block(d);
		put_rec_len(d, block, d->block_size);
		put_index(block + NODE_ENTRIES_AT, first, MIN(limit, below->len - i), limit);
		g_array_append_val(nodes, entry);
	}
	return nodes;
}

static void fill_root(Dir *d, ext2_ino_t self, ext2_ino_t parent, const GArray *index, size_t limit,
	uint8_t levels)
{
	uint8_t *block = d->out->data;
	WdrExtName up[] = { dot(self), dot_dot(parent) };

	put_dirent(d, block, &up[0], 12);
	put_dirent(d, block + 12, &up[1], d->block_size - 12);
	block[ROOT_INFO_AT + 4] = d->fs->super->s_def_hash_version;
	block[ROOT_INFO_AT + 5] = 8;
	block[ROOT_INFO_AT + 6] = levels;
	put_index(block + ROOT_ENTRIES_AT, &g_array_index(index, Index, 0), index->len, limit);
}

/* Leaves first, sorted by hash, then levels of index nodes until one fits the root block. Block 0
 * is reserved at the beginning and filled at the end, when its entries are known. */
static bool build_indexed(Dir *d, const WdrExtFolder *f, GError **error)
{
	size_t n = f->n;
	size_t root_limit = (d->block_size - ROOT_ENTRIES_AT - d->index_tail) / INDEX_ENTRY_BYTES;
	size_t node_limit = (d->block_size - NODE_ENTRIES_AT - d->index_tail) / INDEX_ENTRY_BYTES;
	uint8_t most_levels = ext2fs_has_feature_largedir(d->fs->super) ? 2 : 1;
	g_autoptr(GArray) index = g_array_new(FALSE, FALSE, sizeof(Index));
	uint8_t levels = 0;

	if (!hash_names(d->fs, f->names, n, error))
		return false;
	(void)new_block(d);
	build_leaves(d, f->names, n, index);
	while (index->len > root_limit) {
		if (levels++ == most_levels)
			return wdr_error_set(error, WDR_ERROR_UNSUPPORTED,
				"a folder of %zu names is larger than ext without large_dir allows",
				n);
		GArray *nodes = build_nodes(d, index, node_limit);
		g_array_unref(index);
		index = nodes;
	}
	fill_root(d, f->self, f->parent, index, root_limit, levels);
	return true;
}

/* Checksums of the blocks are set later (stream_folder in ext_build.c): they depend on the inode.
 */
bool wdr_ext_dir_blocks(ext2_filsys fs, const WdrExtFolder *f, GByteArray **ret,
	bool *ret_is_indexed, GError **error)
{
	bool has_csum = ext2fs_has_feature_metadata_csum(fs->super);
	g_autoptr(GByteArray) out = g_byte_array_new();
	Dir d = { fs, fs->blocksize, has_csum ? TAIL_BYTES : 0, has_csum ? INDEX_TAIL_BYTES : 0,
		out };
	size_t bytes = dirent_room(1) + dirent_room(2);

	for (size_t i = 0; i < f->n; i++)
		bytes += dirent_room(f->names[i].name_len);
	*ret_is_indexed = bytes > d.block_size - d.tail && ext2fs_has_feature_dir_index(fs->super);
	if (*ret_is_indexed && !build_indexed(&d, f, error))
		return false;
	if (!*ret_is_indexed)
		build_plain(&d, f);
	while (out->len / d.block_size < f->min_blocks) {
		Leaf leaf = begin_leaf(&d);
		end_leaf(&d, &leaf);
	}
	*ret = g_steal_pointer(&out);
	return true;
}
