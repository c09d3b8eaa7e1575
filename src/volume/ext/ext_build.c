/* Filling a new ext volume in one pass: inode numbers follow the order in which names come, blocks
 * are handed out in rising order, extents go straight into the inode, folders are built whole, and
 * all data leaves in large sequential writes. libext2fs keeps bitmaps, counters and checksums. */
#include "volume/ext/ext_priv.h"

#include "base/cursor.h"
#include "base/text.h"

#include <string.h>

enum {
	LINKS_MAX = 65000,            /* of a folder; beyond it dir_nlink says 1 */
	LOST_AND_FOUND_BYTES = 16384, /* room that e2fsck can use without allocating */
};

typedef WdrExtBuild Build;

/* Adds the path to an error; false, to be returned. */
static bool failed_at(const char *path, GError **error)
{
	g_prefix_error(error, "/%s: ", path);
	return false;
}

/* The rule that saves a table of millions of numbers: serials count the entries in the order of the
 * walk, and inodes are handed out in that order. So each follows from the other. */
static ext2_ino_t ino_of(const Build *b, uint64_t serial)
{
	return serial == 0 ? EXT2_ROOT_INO : b->first_ino + (ext2_ino_t)(serial - 1);
}

/* ---- inodes ---- */

/* An inode with all but its content. *blocks counts what it uses already. */
static bool make_inode(Build *b, const WdrBuildNode *at, const WdrEntry *e, uint8_t *raw,
	uint64_t *blocks, GError **error)
{
	struct ext2_inode_large *in = (struct ext2_inode_large *)(void *)raw;
	size_t size = EXT2_INODE_SIZE(b->blocks.fs->super);
	ext2_ino_t ino = ino_of(b, at->serial);

	if (ino > b->blocks.fs->super->s_inodes_count)
		return wdr_error_set(
			error, WDR_ERROR_NO_SPACE, "the new ext volume has no inodes left");
	memset(raw, 0, MAX(size, sizeof(*in)));
	wdr_ext_inode_put_metadata(e, size, in);
	in->i_links_count = (uint16_t)MIN(e->links, LINKS_MAX);
	*blocks = 0;
	if (at->serial != 0)
		ext2fs_inode_alloc_stats2(b->blocks.fs, ino, +1, e->kind == WDR_KIND_FOLDER);
	return wdr_ext_inode_put_xattrs(b, ino, e, raw, blocks, error);
}

/* ---- folders ---- */

/* Writes the blocks of a folder. Each has a checksum over its bytes and the folder's inode number.
 */
static bool stream_folder(Build *b, ext2_ino_t ino, GByteArray *image, GArray *runs, GError **error)
{
	size_t bs = b->blocks.fs->blocksize;
	uint64_t total = image->len / bs;

	for (uint64_t done = 0; done < total;) {
		WdrExtRun r = { .logical = done };
		uint64_t count = 0;
		if (!wdr_ext_alloc(&b->blocks.alloc, MIN(total - done, WDR_EXT_RUN_BLOCKS),
			    &r.physical, &count, error))
			return false;
		r.count = (uint32_t)count;
		wdr_ext_add_run(runs, &r);
		for (uint64_t i = 0; i < count; i++) {
			uint8_t *block = image->data + (done + i) * bs;
			errcode_t code =
				ext2fs_dir_block_csum_set(b->blocks.fs, ino, (void *)block);
			if (code)
				return wdr_ext_error(error, code, "sealing a folder block");
			if (!wdr_ext_put_block(&b->blocks, r.physical + i, block, error))
				return false;
		}
		done += count;
	}
	return true;
}

/* Writes names and completes the inode, which was made when the folder's own name came. The link
 * count of a folder follows from its names: itself, ".", and ".." of each folder in it. */
static bool write_folder(Build *b, const WdrExtFolder *f, uint8_t *raw, GError **error)
{
	struct ext2_inode_large *in = (struct ext2_inode_large *)(void *)raw;
	g_autoptr(GByteArray) image = NULL;
	g_autoptr(GArray) runs = g_array_new(FALSE, FALSE, sizeof(WdrExtRun));
	/* Nothing else of what it has so far counts: after a checkpoint it may be filled again. */
	uint64_t blocks = ext2fs_file_acl_block(b->blocks.fs, (struct ext2_inode *)in) ? 1 : 0;
	uint64_t links = 2;
	bool is_indexed = false;

	for (size_t i = 0; i < f->n; i++)
		links += f->names[i].type == EXT2_FT_DIR ? 1 : 0;
	if (!wdr_ext_dir_blocks(b->blocks.fs, f, &image, &is_indexed, error) ||
		!stream_folder(b, f->self, image, runs, error))
		return false;
	in->i_links_count = (uint16_t)(links >= LINKS_MAX ? 1 : links);
	in->i_size = image->len;
	in->i_flags &= ~(uint32_t)EXT2_INDEX_FL;
	if (is_indexed)
		in->i_flags |= EXT2_INDEX_FL;
	blocks += image->len / b->blocks.fs->blocksize;
	if (!wdr_ext_put_tree(&b->blocks, f->self, in, runs, &blocks, error))
		return false;
	wdr_ext_inode_put_blocks(b, in, blocks);
	return wdr_ext_table_put(b->table, f->self, raw, error);
}

/* e2fsck wants a /lost+found. It is made when the source has none. */
static bool make_lost_and_found(Build *b, GArray *names, GError **error)
{
	WdrExtName name = { "lost+found", 10, EXT2_FT_DIR, EXT2_GOOD_OLD_FIRST_INO, 0, 0 };
	WdrEntry e = { .kind = WDR_KIND_FOLDER, .mode = 0700 };
	const WdrExtFolder f = { EXT2_GOOD_OLD_FIRST_INO, EXT2_ROOT_INO, NULL, 0,
		LOST_AND_FOUND_BYTES / b->blocks.fs->blocksize };
	g_autofree uint8_t *raw = wdr_ext_inode_new(b->blocks.fs);

	e.mtime.sec = e.atime.sec = e.ctime.sec = e.crtime.sec = b->blocks.fs->super->s_mkfs_time;
	wdr_ext_inode_put_metadata(
		&e, EXT2_INODE_SIZE(b->blocks.fs->super), (struct ext2_inode_large *)(void *)raw);
	ext2fs_inode_alloc_stats2(b->blocks.fs, EXT2_GOOD_OLD_FIRST_INO, +1, 1);
	g_array_append_val(names, name);
	return write_folder(b, &f, raw, error);
}

static uint8_t dirent_type(WdrKind kind)
{
	static const uint8_t types[] = { EXT2_FT_REG_FILE, EXT2_FT_DIR, EXT2_FT_SYMLINK,
		EXT2_FT_CHRDEV, EXT2_FT_BLKDEV, EXT2_FT_FIFO, EXT2_FT_SOCK };

	return types[kind];
}

static bool build_fill_folder(WdrBuilder *builder, const WdrBuildNode *folder, WdrChild *children,
	size_t n, GError **error)
{
	Build *b = WDR_DERIVED(builder, Build, builder);
	g_autoptr(GArray) names = g_array_sized_new(FALSE, FALSE, sizeof(WdrExtName), (guint)n + 1);
	g_autofree uint8_t *raw = wdr_ext_inode_new(b->blocks.fs);
	bool has_lost_and_found = false;

	for (size_t i = 0; i < n; i++) {
		size_t len = strlen(children[i].name);
		if (len > EXT2_NAME_LEN)
			return wdr_error_set(error, WDR_ERROR_UNSUPPORTED,
				"%s/%s: the name is longer than ext allows", folder->path,
				children[i].name);
		WdrExtName name = { children[i].name, (uint8_t)len, dirent_type(children[i].kind),
			ino_of(b, children[i].serial), 0, 0 };
		g_array_append_val(names, name);
		has_lost_and_found |= strcmp(children[i].name, "lost+found") == 0;
	}
	bool is_root = folder->serial == 0;
	if (is_root && !has_lost_and_found && !make_lost_and_found(b, names, error))
		return failed_at(folder->path, error);
	size_t min_blocks = strcmp(folder->path, "lost+found") == 0
				    ? LOST_AND_FOUND_BYTES / b->blocks.fs->blocksize
				    : 1;
	const WdrExtFolder f = { ino_of(b, folder->serial), ino_of(b, folder->parent),
		(WdrExtName *)(void *)names->data, names->len, min_blocks };
	if (!wdr_ext_table_get(b->table, f.self, raw, error) || !write_folder(b, &f, raw, error))
		return failed_at(folder->path, error);
	return true;
}

/* ---- entries without content ---- */

static void put_device(const WdrEntry *e, struct ext2_inode_large *in)
{
	/* The old form where it holds the numbers, as the kernel writes them. */
	if (e->rdev_major < 256 && e->rdev_minor < 256)
		in->i_block[0] = e->rdev_major << 8 | e->rdev_minor;
	else
		in->i_block[1] = (e->rdev_minor & 0xff) | e->rdev_major << 8 |
				 (e->rdev_minor & ~(uint32_t)0xff) << 12;
}

static bool put_target(Build *b, ext2_ino_t ino, const WdrEntry *e, struct ext2_inode_large *in,
	uint64_t *blocks, GError **error)
{
	size_t len = strlen(e->target);
	g_autoptr(GArray) runs = g_array_new(FALSE, FALSE, sizeof(WdrExtRun));
	WdrExtRun r = { .count = 1 };
	uint64_t count = 0;

	in->i_size = (uint32_t)len;
	if (len < sizeof(in->i_block)) {
		memcpy(in->i_block, e->target, len);
		return true;
	}
	if (len >= b->blocks.fs->blocksize)
		return wdr_error_set(error, WDR_ERROR_UNSUPPORTED,
			"its link target is longer than a block of the volume");
	g_autofree uint8_t *image = g_malloc0(b->blocks.fs->blocksize);
	memcpy(image, e->target, len);
	if (!wdr_ext_alloc(&b->blocks.alloc, 1, &r.physical, &count, error) ||
		!wdr_ext_put_block(&b->blocks, r.physical, image, error))
		return false;
	wdr_ext_add_run(runs, &r);
	(*blocks)++;
	return wdr_ext_put_tree(&b->blocks, ino, in, runs, blocks, error);
}

static bool build_add(
	WdrBuilder *builder, const WdrBuildNode *at, const WdrEntry *entry, GError **error)
{
	Build *b = WDR_DERIVED(builder, Build, builder);
	g_autoptr(GArray) nothing = g_array_new(FALSE, FALSE, sizeof(WdrExtRun));
	g_autofree uint8_t *raw = wdr_ext_inode_new(b->blocks.fs);
	struct ext2_inode_large *in = (struct ext2_inode_large *)(void *)raw;
	ext2_ino_t ino = ino_of(b, at->serial);
	uint64_t blocks = 0;
	bool is_fine = make_inode(b, at, entry, raw, &blocks, error);

	if (is_fine && entry->kind == WDR_KIND_SYMLINK)
		is_fine = put_target(b, ino, entry, in, &blocks, error);
	if (is_fine && entry->kind == WDR_KIND_FILE) {
		in->i_size = (uint32_t)entry->size;
		in->i_size_high = (uint32_t)(entry->size >> 32);
		is_fine = wdr_ext_put_tree(&b->blocks, ino, in, nothing, &blocks, error);
	}
	if (entry->kind == WDR_KIND_CHAR || entry->kind == WDR_KIND_BLOCK)
		put_device(entry, in);
	if (!is_fine)
		return failed_at(at->path, error);
	wdr_ext_inode_put_blocks(b, in, blocks);
	return wdr_ext_table_put(b->table, ino, raw, error);
}

/* ---- files ---- */

static bool build_begin_file(
	WdrBuilder *builder, const WdrBuildNode *at, const WdrEntry *entry, GError **error)
{
	Build *b = WDR_DERIVED(builder, Build, builder);
	struct ext2_inode_large *in = (struct ext2_inode_large *)(void *)b->file.inode;

	if (!make_inode(b, at, entry, b->file.inode, &b->file.blocks, error))
		return failed_at(at->path, error);
	in->i_size = (uint32_t)entry->size;
	in->i_size_high = (uint32_t)(entry->size >> 32);
	if (entry->size > G_MAXINT32)
		ext2fs_set_feature_large_file(b->blocks.fs->super);
	b->file.ino = ino_of(b, at->serial);
	g_array_set_size(b->file.runs, 0);
	b->file.pos = 0;
	return true;
}

/* Zeros to the end of the open block, or up to `to` (bytes of the file) within it. */
static bool pad_block(Build *b, uint64_t to, GError **error)
{
	static const uint8_t zeros[65536];
	uint64_t bs = b->blocks.fs->blocksize;
	uint64_t end = wdr_round_up(b->file.pos, bs);
	uint64_t len = MIN(end, MAX(to, b->file.pos)) - b->file.pos;

	if (len == 0)
		return true;
	if (!wdr_stream_write(b->blocks.stream, zeros, (size_t)len, b->file.at, error))
		return false;
	b->file.pos += len;
	b->file.at += len;
	return true;
}

bool wdr_ext_build_pad(Build *b, GError **error)
{
	return pad_block(b, UINT64_MAX, error);
}

static void move_on(Build *b, uint64_t len)
{
	b->file.at += len;
	b->file.pos += len;
}

/* Bytes that the open file can take where it is: up to the end of its block, or of new ones. */
static bool make_room(Build *b, uint64_t len, uint64_t *ret, GError **error)
{
	uint64_t bs = b->blocks.fs->blocksize;
	WdrExtRun r = { .logical = b->file.pos / bs };
	uint64_t count = 0;

	*ret = wdr_round_up(b->file.pos, bs) - b->file.pos;
	if (*ret > 0)
		return true;
	if (!wdr_ext_alloc(&b->blocks.alloc, (len + bs - 1) / bs, &r.physical, &count, error))
		return false;
	r.count = (uint32_t)count;
	wdr_ext_add_run(b->file.runs, &r);
	b->file.blocks += count;
	b->file.at = b->blocks.offset + r.physical * bs;
	*ret = count * bs;
	return true;
}

/* Appends bytes to the open file, allocating as many blocks at once as the bytes need. `pos` is the
 * place in the file, `at` the place on the disk. The stream gathers these bytes with those of other
 * files: since blocks rise, they become one large write. */
static bool write_bytes(Build *b, const uint8_t *data, uint64_t len, GError **error)
{
	uint64_t room = 0;

	while (len > 0) {
		if (!make_room(b, len, &room, error))
			return false;
		uint64_t part = MIN(len, room);
		if (!wdr_stream_write(b->blocks.stream, data, (size_t)part, b->file.at, error))
			return false;
		move_on(b, part);
		data += part;
		len -= part;
	}
	return true;
}

static bool reserve_blocks(Build *b, uint64_t first, uint64_t blocks, GError **error)
{
	while (blocks > 0) {
		WdrExtRun r = { .logical = first, .is_unwritten = true };
		uint64_t count = 0;
		if (!wdr_ext_alloc(&b->blocks.alloc, MIN(blocks, WDR_EXT_RUN_BLOCKS), &r.physical,
			    &count, error))
			return false;
		r.count = (uint32_t)count;
		wdr_ext_add_run(b->file.runs, &r);
		b->file.blocks += count;
		first += count;
		blocks -= count;
	}
	return true;
}

/* Starts a new block with zeros in front when a piece starts in the middle of one. */
static bool move_to(Build *b, uint64_t offset, GError **error)
{
	static const uint8_t zeros[65536];
	uint64_t bs = b->blocks.fs->blocksize;

	if (!pad_block(b, offset, error))
		return false;
	if (b->file.pos == offset)
		return true;
	b->file.pos = wdr_round_down(offset, bs);
	return write_bytes(b, zeros, offset - b->file.pos, error);
}

static bool write_zeros(Build *b, uint64_t len, GError **error)
{
	static const uint8_t zeros[65536];

	while (len > 0) {
		uint64_t part = MIN(len, sizeof(zeros));
		if (!write_bytes(b, zeros, part, error))
			return false;
		len -= part;
	}
	return true;
}

/* Whole blocks are reserved; where an unwritten piece shares a block with data, at either end, that
 * block is data with zeros. */
static bool unwritten_piece(Build *b, const WdrPiece *piece, GError **error)
{
	const struct ext2_inode_large *in = (struct ext2_inode_large *)(void *)b->file.inode;
	uint64_t bs = b->blocks.fs->blocksize;
	uint64_t end = piece->offset + piece->len;
	uint64_t first = wdr_round_up(piece->offset, bs);
	uint64_t last = end >= EXT2_I_SIZE(in) ? wdr_round_up(end, bs) : wdr_round_down(end, bs);

	if (first >= last)
		return move_to(b, piece->offset, error) && write_zeros(b, piece->len, error);
	if (piece->offset < first && (!move_to(b, piece->offset, error) ||
					     !write_zeros(b, first - piece->offset, error)))
		return false;
	if (!wdr_ext_build_pad(b, error) ||
		!reserve_blocks(b, first / bs, (last - first) / bs, error))
		return false;
	b->file.pos = last;
	return end <= last || write_zeros(b, end - last, error);
}

static bool build_piece(
	WdrBuilder *builder, const WdrPiece *piece, const void *data, GError **error)
{
	Build *b = WDR_DERIVED(builder, Build, builder);

	if (piece->is_unwritten)
		return unwritten_piece(b, piece, error);
	return move_to(b, piece->offset, error) && write_bytes(b, data, piece->len, error);
}

/* The stream takes the buffer as it is, unless its bytes do not fit into one run. */
static bool build_give(WdrBuilder *builder, const WdrPiece *piece, uint8_t **buffer, GError **error)
{
	Build *b = WDR_DERIVED(builder, Build, builder);
	uint64_t room = 0;

	if (!move_to(b, piece->offset, error) || !make_room(b, piece->len, &room, error))
		return false;
	uint64_t part = MIN(piece->len, room);
	bool is_fine = part == piece->len ? wdr_stream_give(b->blocks.stream, buffer, (size_t)part,
						    b->file.at, error)
					  : wdr_stream_write(b->blocks.stream, *buffer,
						    (size_t)part, b->file.at, error);
	if (!is_fine)
		return false;
	move_on(b, part);
	return part == piece->len || write_bytes(b, *buffer + part, piece->len - part, error);
}

/* The inode is written only now, when all runs are known. A file that a kill cuts off has no inode,
 * or one that a checkpoint describes. */
static bool build_end_file(WdrBuilder *builder, GError **error)
{
	Build *b = WDR_DERIVED(builder, Build, builder);
	struct ext2_inode_large *in = (struct ext2_inode_large *)(void *)b->file.inode;

	ext2_ino_t ino = b->file.ino;

	if (!wdr_ext_build_pad(b, error) ||
		!wdr_ext_put_tree(&b->blocks, ino, in, b->file.runs, &b->file.blocks, error))
		return false;
	wdr_ext_inode_put_blocks(b, in, b->file.blocks);
	b->file.ino = 0;
	b->file.ended = ino;
	return wdr_ext_table_put(b->table, ino, b->file.inode, error);
}

/* Fewer names of a hard link were found than its inode says, since some are left behind. */
static bool build_set_links(WdrBuilder *builder, uint64_t serial, uint64_t links, GError **error)
{
	Build *b = WDR_DERIVED(builder, Build, builder);
	g_autofree uint8_t *raw = wdr_ext_inode_new(b->blocks.fs);

	if (!wdr_ext_table_get(b->table, ino_of(b, serial), raw, error))
		return false;
	((struct ext2_inode_large *)(void *)raw)->i_links_count = (uint16_t)MIN(links, LINKS_MAX);
	return wdr_ext_table_put(b->table, ino_of(b, serial), raw, error);
}

/* ---- the volume ---- */

/* Order: data, inode table, then bitmaps, descriptors and superblock by libext2fs. Before that the
 * medium has the bitmaps of the empty volume; nothing mounts it in between, since its start is held
 * back or its partition has no boot mark (see move/last_part.c). */
static bool build_finish(WdrBuilder *builder, GError **error)
{
	Build *b = WDR_DERIVED(builder, Build, builder);

	wdr_ext_alloc_settle(&b->blocks.alloc);
	if (!wdr_stream_drain(b->blocks.stream, error) || !wdr_ext_table_flush(b->table, error))
		return false;
	ext2fs_mark_super_dirty(b->blocks.fs);
	ext2fs_mark_ib_dirty(b->blocks.fs);
	ext2fs_mark_bb_dirty(b->blocks.fs);
	errcode_t code = ext2fs_close2(b->blocks.fs, 0);
	if (code)
		return wdr_ext_error(error, code, "closing the new ext volume");
	b->blocks.fs = NULL; /* freed, but only when it went well */
	return wdr_blockdev_flush(b->dev, error);
}

static void build_free(WdrBuilder *builder)
{
	Build *b = WDR_DERIVED(builder, Build, builder);

	wdr_stream_free(b->blocks.stream);
	wdr_ext_table_free(b->table);
	if (b->blocks.fs)
		ext2fs_free(b->blocks.fs);
	g_array_unref(b->file.runs);
	g_free(b->file.inode);
	g_free(b->xattr_block);
	g_free(b);
}

static void build_fit(WdrBuilder *builder, WdrEntry *entry)
{
	wdr_ext_inode_fit(
		EXT2_INODE_SIZE(WDR_DERIVED(builder, Build, builder)->blocks.fs->super), entry);
}

static const WdrBuilderOps build_ops = {
	.fill_folder = build_fill_folder,
	.add = build_add,
	.begin_file = build_begin_file,
	.piece = build_piece,
	.give = build_give,
	.end_file = build_end_file,
	.placed = wdr_ext_build_placed,
	.set_links = build_set_links,
	.checkpoint = wdr_ext_build_checkpoint,
	.fit = build_fit,
	.finish = build_finish,
	.free = build_free,
};

/* Its inode too: e2fsck looks at what is in the table, whatever the bitmap says. */
static bool clear_lost_and_found(Build *b, GError **error)
{
	g_autofree uint8_t *raw = wdr_ext_inode_new(b->blocks.fs);

	return wdr_ext_table_put(b->table, EXT2_GOOD_OLD_FIRST_INO, raw, error);
}

/* mkfs takes a few numbers at the start (its lost+found, the orphan file); all behind are free. */
static ext2_ino_t first_free_ino(ext2_filsys fs)
{
	ext2_ino_t ino = EXT2_GOOD_OLD_FIRST_INO + 1;

	return MAX(ino, fs->super->s_orphan_file_inum + 1);
}

/* The library looks an inode's generation up when it seals a folder's blocks. What the medium has
 * in its place may be another system's: ours is in the table. */
static errcode_t read_inode(ext2_filsys fs, ext2_ino_t ino, struct ext2_inode *ret)
{
	const Build *b = fs->priv_data;
	g_autofree uint8_t *raw = wdr_ext_inode_new(fs);

	if (!wdr_ext_table_get(b->table, ino, raw, NULL))
		return EXT2_ET_SHORT_READ;
	memcpy(ret, raw, sizeof(*ret));
	return 0;
}

bool wdr_ext_build_open(
	const WdrBuildTarget *target, ext2_ino_t first_ino, WdrExtBuild **ret, GError **error)
{
	ext2_filsys fs = NULL;

	if (!wdr_ext_open_fs(target->dev, target->offset, target->size, EXT2_FLAG_RW, &fs, error))
		return false;
	Build *b = g_new0(Build, 1);
	g_autoptr(WdrBuilder) builder = &b->builder;
	b->builder.ops = &build_ops;
	b->blocks.fs = fs;
	b->dev = target->dev;
	b->blocks.offset = target->offset;
	b->file.runs = g_array_new(FALSE, FALSE, sizeof(WdrExtRun));
	b->file.inode = wdr_ext_inode_new(fs);
	b->xattr_block = g_malloc0(fs->blocksize);
	b->blocks.alloc.fs = fs;
	b->first_ino = first_ino;
	b->table = wdr_ext_table_new(fs, b->dev, b->blocks.offset);
	fs->priv_data = b;
	fs->read_inode = read_inode;
	b->blocks.stream = wdr_stream_new(b->dev, target->done, target->data);
	g_steal_pointer(&builder);
	*ret = b;
	return true;
}

bool wdr_ext_build_read_bitmaps(WdrExtBuild *b, GError **error)
{
	errcode_t code = ext2fs_read_bitmaps(b->blocks.fs);

	return !code || wdr_ext_error(error, code, "reading the bitmaps of the ext volume");
}

bool wdr_ext_builder_new(const WdrWorld *world, const WdrBuildTarget *target,
	const WdrExtSpec *spec, WdrBuilder **ret, GError **error)
{
	Build *b = NULL;

	if (!wdr_ext_lay_empty(world, target, spec, error) ||
		!wdr_ext_build_open(target, 0, &b, error))
		return false;
	g_autoptr(WdrBuilder) builder = &b->builder;
	if (!wdr_ext_build_read_bitmaps(b, error) ||
		!wdr_ext_drop_lost_and_found(b->blocks.fs, error))
		return false;
	wdr_ext_spec_apply(spec, b->blocks.fs->super);
	b->first_ino = first_free_ino(b->blocks.fs);
	if (!clear_lost_and_found(b, error))
		return false;
	/* What is on the medium from here to the finish is what a checkpoint starts from. */
	errcode_t code = ext2fs_flush(b->blocks.fs);
	if (code)
		return wdr_ext_error(error, code, "writing the fresh ext volume");
	*ret = g_steal_pointer(&builder);
	return true;
}
