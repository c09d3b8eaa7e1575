/* Reading the contents of an ext volume's files: runs of blocks, holes, inline data. */
#include "volume/ext/ext_priv.h"

#include "volume/sweep.h"

#include <string.h>

typedef WdrExtVolume Ext;

/* Of a value of an attribute, and what the inode itself holds of inline data. */
enum { INLINE_BYTES_MAX = 65536 + 60 };

typedef struct {
	WdrContent content;
	WdrBlockDev *dev;
	WdrSweep *sweep; /* borrowed; NULL: none */
	WdrSweepGroup *group;
	bool is_careful; /* it failed */
	uint64_t offset; /* of the volume */
	uint32_t block_size;
	uint64_t size; /* of the file */
	GArray *runs;  /* WdrExtRun */
	guint run;
	uint64_t pos; /* bytes of the run already given */
	uint8_t *inline_data;
} ExtContent;

bool wdr_ext_inline_data(Ext *x, ext2_ino_t ino, uint64_t size, uint8_t **ret, GError **error)
{
	size_t len = 0;

	if (size > x->fs->blocksize)
		return wdr_ext_bad_inode(x, ino, error, "inline data larger than a block");
	/* What is stored may be more than the file's size says, and all of it is given. */
	errcode_t code = ext2fs_inline_data_size(x->fs, ino, &len);
	if (!code && len > INLINE_BYTES_MAX)
		return wdr_ext_bad_inode(
			x, ino, error, "inline data larger than an attribute can be");
	g_autofree uint8_t *buf = g_malloc0(MAX(x->fs->blocksize, len) + 1);
	if (!code)
		code = ext2fs_inline_data_get(x->fs, ino, NULL, buf, &len);
	buf[size] = '\0';
	if (code)
		return wdr_ext_error(
			error, code, "%s: inline data of inode %u", x->volume.name, ino);
	*ret = g_steal_pointer(&buf);
	return true;
}

/* From where the content is in the run. */
static bool read_run(ExtContent *c, const WdrExtRun *r, void *buf, size_t len, GError **error)
{
	uint64_t at = c->offset + r->physical * c->block_size + c->pos;
	const WdrSweptRun run = { at, len };

	if (c->sweep && !c->content.damage)
		return wdr_sweep_read(c->sweep, c->group, buf, run, 0, error);
	/* What large requests cannot read is asked for in smaller pieces, from here on in this
	 * file. */
	if (c->sweep && !c->is_careful && wdr_sweep_read(c->sweep, c->group, buf, run, 0, NULL))
		return true;
	c->is_careful = true;
	WdrCarefulRead careful = { wdr_read_device, c->dev, c->content.damage, at,
		r->logical * c->block_size + c->pos };
	return wdr_damage_read(&careful, buf, len, error);
}

static bool ext_next(WdrContent *content, void *buf, size_t cap, WdrPiece *ret, GError **error)
{
	ExtContent *c = WDR_DERIVED(content, ExtContent, content);

	if (c->inline_data) {
		size_t len = (size_t)MIN(c->size - c->pos, cap);
		memcpy(buf, c->inline_data + c->pos, len);
		*ret = (WdrPiece){ c->pos, len, false };
		c->pos += len;
		return true;
	}
	while (c->run < c->runs->len) {
		const WdrExtRun *r = &g_array_index(c->runs, WdrExtRun, c->run);
		uint64_t offset = r->logical * c->block_size + c->pos;
		uint64_t left = (uint64_t)r->count * c->block_size - c->pos;
		/* Blocks behind the end of the file (fallocate makes them) are not content. */
		left = offset >= c->size ? 0 : MIN(left, c->size - offset);
		if (left == 0) {
			c->run++;
			c->pos = 0;
			continue;
		}
		uint64_t len = r->is_unwritten ? left : MIN(left, cap);
		if (!r->is_unwritten && !read_run(c, r, buf, (size_t)len, error))
			return false;
		c->pos += len;
		*ret = (WdrPiece){ offset, len, r->is_unwritten };
		return true;
	}
	*ret = (WdrPiece){ .offset = c->size };
	return true;
}

static void ext_skip(WdrContent *content, uint64_t to)
{
	ExtContent *c = WDR_DERIVED(content, ExtContent, content);

	while (c->run < c->runs->len) {
		const WdrExtRun *r = &g_array_index(c->runs, WdrExtRun, c->run);
		uint64_t start = r->logical * c->block_size;
		if (start + (uint64_t)r->count * c->block_size > to) {
			c->pos = MAX(c->pos, to > start ? to - start : 0);
			return;
		}
		c->run++;
		c->pos = 0;
	}
}

static uint64_t ext_places(const WdrContent *content)
{
	const ExtContent *c = WDR_DERIVED(content, const ExtContent, content);

	return c->inline_data ? 0 : wdr_ext_runs_hash(c->runs);
}

/* Of runs that are worth being read together with others. */
static WdrSweepGroup *tell_sweep(const ExtContent *c)
{
	WdrSweptRun runs[WDR_SWEPT_RUNS_MAX];
	size_t n = 0;

	for (guint i = 0; i < c->runs->len && n < WDR_SWEPT_RUNS_MAX; i++) {
		const WdrExtRun *r = &g_array_index(c->runs, WdrExtRun, i);
		uint64_t len = (uint64_t)r->count * c->block_size;
		if (!r->is_unwritten && len <= WDR_SWEPT_BYTES_MAX)
			runs[n++] = (WdrSweptRun){ c->offset + r->physical * c->block_size, len };
	}
	return wdr_sweep_expect(c->sweep, runs, n);
}

static void ext_content_free(WdrContent *content)
{
	ExtContent *c = WDR_DERIVED(content, ExtContent, content);

	if (c->sweep)
		wdr_sweep_forget(c->sweep, c->group);
	g_array_unref(c->runs);
	g_free(c->inline_data);
	g_free(c);
}

static bool add_run(Ext *x, uint64_t ino, GArray *runs, const WdrExtRun *r, GError **error)
{
	const WdrExtRun *last = runs->len ? &g_array_index(runs, WdrExtRun, runs->len - 1) : NULL;
	uint64_t blocks = ext2fs_blocks_count(x->fs->super);

	if (r->physical < x->fs->super->s_first_data_block || r->physical >= blocks ||
		r->count > blocks - r->physical)
		return wdr_ext_bad_inode(x, ino, error, "its data lies outside of the volume");
	if (last && r->logical < last->logical + last->count)
		return wdr_ext_bad_inode(x, ino, error, "its extents overlap");
	g_array_append_vals(runs, r, 1);
	return true;
}

static bool extent_runs(Ext *x, uint64_t ino, struct ext2_inode *in, GArray *runs, GError **error)
{
	ext2_extent_handle_t handle = NULL;
	struct ext2fs_extent e;
	bool is_fine = true;

	errcode_t code = ext2fs_extent_open2(x->fs, (ext2_ino_t)ino, in, &handle);
	for (int op = EXT2_EXTENT_ROOT; !code && is_fine; op = EXT2_EXTENT_NEXT) {
		code = ext2fs_extent_get(handle, op, &e);
		if (code || !(e.e_flags & EXT2_EXTENT_FLAGS_LEAF) ||
			(e.e_flags & EXT2_EXTENT_FLAGS_SECOND_VISIT))
			continue;
		WdrExtRun r = { e.e_lblk, e.e_pblk, e.e_len,
			e.e_flags & EXT2_EXTENT_FLAGS_UNINIT ? true : false };
		is_fine = add_run(x, ino, runs, &r, error);
	}
	if (handle)
		ext2fs_extent_free(handle);
	if (!is_fine)
		return false;
	if (code == EXT2_ET_EXTENT_NO_NEXT || code == EXT2_ET_NO_CURRENT_NODE)
		return true;
	return wdr_ext_error(
		error, code, "%s: extents of inode %" G_GUINT64_FORMAT, x->volume.name, ino);
}

typedef struct {
	Ext *x;
	uint64_t ino;
	GArray *runs;
	GError *error;
} MapReading;

static int map_block(
	ext2_filsys fs, blk64_t *block, e2_blkcnt_t logical, blk64_t ref, int offset, void *data)
{
	MapReading *m = data;
	WdrExtRun *last =
		m->runs->len ? &g_array_index(m->runs, WdrExtRun, m->runs->len - 1) : NULL;

	(void)fs;
	(void)ref;
	(void)offset;
	if (logical < 0)
		return 0;
	if (last && last->logical + last->count == (uint64_t)logical &&
		last->physical + last->count == *block && last->count < G_MAXUINT32 &&
		*block < ext2fs_blocks_count(m->x->fs->super)) {
		last->count++;
		return 0;
	}
	WdrExtRun r = { (uint64_t)logical, *block, 1, false };
	return add_run(m->x, m->ino, m->runs, &r, &m->error) ? 0 : BLOCK_ABORT;
}

static bool mapped_runs(Ext *x, uint64_t ino, GArray *runs, GError **error)
{
	MapReading m = { .x = x, .ino = ino, .runs = runs };
	g_autofree char *buf = g_malloc(x->fs->blocksize * 3);

	errcode_t code = ext2fs_block_iterate3(
		x->fs, (ext2_ino_t)ino, BLOCK_FLAG_READ_ONLY, buf, map_block, &m);
	if (m.error) {
		g_propagate_error(error, m.error);
		return false;
	}
	return code ? wdr_ext_error(error, code, "%s: block map of inode %" G_GUINT64_FORMAT,
			      x->volume.name, ino)
		    : true;
}

bool wdr_ext_content_open(
	WdrVolume *v, const WdrNode *node, WdrEntry *entry, WdrContent **ret, GError **error)
{
	static const WdrContentOps ops = { ext_next, ext_content_free, ext_skip, ext_places };
	Ext *x = WDR_DERIVED(v, Ext, volume);
	g_autofree uint8_t *raw = NULL;
	bool is_fine = false;

	if (!wdr_ext_read_raw(x, node->id, &raw, error))
		return false;
	struct ext2_inode *in = (struct ext2_inode *)(void *)raw;
	ExtContent *c = g_new0(ExtContent, 1);
	g_autoptr(WdrContent) content = &c->content;
	c->content.ops = &ops;
	c->dev = x->dev;
	c->offset = x->offset;
	c->block_size = x->fs->blocksize;
	c->size = entry->size;
	c->runs = g_array_new(FALSE, FALSE, sizeof(WdrExtRun));
	if (in->i_flags & EXT4_INLINE_DATA_FL)
		is_fine = wdr_ext_inline_data(
			x, (ext2_ino_t)node->id, c->size, &c->inline_data, error);
	else if (in->i_flags & EXT4_EXTENTS_FL)
		is_fine = extent_runs(x, node->id, in, c->runs, error);
	else
		is_fine = mapped_runs(x, node->id, c->runs, error);
	if (!is_fine) {
		g_prefix_error(error, "%s: ", node->path);
		return false;
	}
	c->sweep = x->sweep;
	if (c->sweep)
		c->group = tell_sweep(c);
	if (c->runs->len)
		entry->place = g_array_index(c->runs, WdrExtRun, 0).physical;
	*ret = g_steal_pointer(&content);
	return true;
}
