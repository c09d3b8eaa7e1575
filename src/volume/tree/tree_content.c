/* Contents of a mounted tree: read from the disk where that is certain to give the same, else
 * through the kernel. */
#include "volume/tree/tree_priv.h"

#include "base/cleanup.h"
#include "base/io.h"

#include <linux/fs.h>
#include <string.h>
#include <sys/stat.h>

typedef struct {
	WdrContent content;
	WdrTree *tree; /* borrowed */
	char *path;
	uint64_t size, pos;
	int fd;              /* opened at the first piece, by the thread that reads */
	WdrTreePlace *place; /* NULL: through the kernel */
	guint run;
} TreeContent;

/* The next data range at or after pos; false: none. */
static bool next_data(const TreeContent *c, uint64_t *start, uint64_t *end)
{
	off_t data = lseek(c->fd, (off_t)c->pos, SEEK_DATA);

	if (data < 0) {
		/* ENXIO: only a hole is left. Anything else: no support for holes here. */
		*start = errno == ENXIO ? c->size : c->pos;
		*end = c->size;
		return *start < *end;
	}
	off_t hole = lseek(c->fd, data, SEEK_HOLE);
	*start = (uint64_t)data;
	*end = hole < 0 ? c->size : MIN((uint64_t)hole, c->size);
	return *start < *end;
}

static bool read_failed(const TreeContent *c, uint64_t at, GError **error)
{
	return wdr_error_set_errno(error, errno, "%s/%s: reading at byte %" G_GUINT64_FORMAT,
		c->tree->volume.name, c->path, at);
}

/* What a file that was cut short meanwhile does not have any more is zeros. */
static bool read_file(void *self, void *buf, size_t len, uint64_t at, GError **error)
{
	const TreeContent *c = self;
	ssize_t got = wdr_pread_some(c->fd, buf, len, at);

	if (got < 0)
		return read_failed(c, at, error);
	memset((uint8_t *)buf + got, 0, len - (size_t)got);
	return true;
}

/* Contents are kept by the thousand until their batch is done: not their files. */
static void let_go(TreeContent *c)
{
	wdr_fd_clear(&c->fd);
	wdr_tree_place_free(c->tree, c->place);
	c->place = NULL;
}

/* The next piece as the disk has it; false: what follows from c->pos on is for the kernel to read.
 */
static bool next_from_disk(TreeContent *c, void *buf, size_t cap, WdrPiece *ret)
{
	for (; c->run < c->place->runs->len; c->run++) {
		const WdrTreeRun *r = &g_array_index(c->place->runs, WdrTreeRun, c->run);
		uint64_t from = MAX(c->pos, r->logical);
		uint64_t to = MIN(r->logical + r->len, c->size);
		if (from >= to)
			continue;
		uint64_t len = r->is_unwritten ? to - from : MIN(to - from, cap);
		const WdrSweptRun run = { c->tree->offset + r->physical + (from - r->logical),
			len };
		if (!r->is_unwritten && !wdr_sweep_read(c->tree->sweep, c->place->group, buf, run,
						c->place->moment, NULL))
			return false;
		if (!wdr_tree_place_still_holds(c->place, c->fd))
			return false;
		*ret = (WdrPiece){ from, len, r->is_unwritten };
		c->pos = from + len;
		if (!r->is_unwritten)
			atomic_fetch_add(&c->tree->from_disk, len);
		return true;
	}
	/* Nothing but a hole is left. */
	if (!wdr_tree_place_still_holds(c->place, c->fd))
		return false;
	c->pos = c->size;
	return true;
}

static bool next_through_kernel(
	TreeContent *c, void *buf, size_t cap, WdrPiece *ret, GError **error)
{
	WdrContent *content = &c->content;
	uint64_t start = 0;
	uint64_t end = 0;

	if (!next_data(c, &start, &end)) {
		c->pos = c->size;
		let_go(c);
		return true;
	}
	size_t want = (size_t)MIN(end - start, cap);
	ssize_t got = wdr_pread_some(c->fd, buf, want, start);
	if (got < 0 && content->damage) {
		WdrCarefulRead careful = { read_file, c, content->damage, start, start };
		if (!wdr_damage_read(&careful, buf, want, error))
			return false;
		got = (ssize_t)want;
	}
	if (got < 0)
		return read_failed(c, start, error);
	/* Nothing where data was a moment ago: it was cut short meanwhile. */
	c->pos = got > 0 ? start + (uint64_t)got : c->size;
	if (got > 0) {
		*ret = (WdrPiece){ start, (uint64_t)got, false };
		atomic_fetch_add(&c->tree->through_kernel, (uint64_t)got);
	}
	return true;
}

/* -1: errno; what is no plain file by now is gone. */
static int open_file(const TreeContent *c)
{
	g_auto(WdrFd) fd = wdr_tree_open_quietly(c->tree, c->path);
	WdrStat st;

	if (fd < 0 || wdr_fstat(fd, &st) != 0)
		return -1;
	if (!S_ISREG(st.stx_mode)) {
		errno = ENOENT;
		return -1;
	}
	return wdr_fd_steal(&fd);
}

static bool tree_next(WdrContent *content, void *buf, size_t cap, WdrPiece *ret, GError **error)
{
	TreeContent *c = WDR_DERIVED(content, TreeContent, content);

	*ret = (WdrPiece){ .offset = c->size };
	if (c->pos >= c->size) {
		let_go(c);
		return true;
	}
	if (c->fd < 0 && (c->fd = open_file(c)) < 0)
		/* Gone since it was looked at, or something else: nothing of it is left to read. */
		return wdr_errno_is_gone(errno) ||
		       wdr_error_set_errno(
			       error, errno, "opening %s/%s", c->tree->volume.name, c->path);
	if (c->place) {
		if (next_from_disk(c, buf, cap, ret))
			return true;
		wdr_tree_place_free(c->tree, c->place);
		c->place = NULL;
	}
	return next_through_kernel(c, buf, cap, ret, error);
}

static void tree_skip(WdrContent *content, uint64_t to)
{
	TreeContent *c = WDR_DERIVED(content, TreeContent, content);

	c->pos = MAX(c->pos, to);
}

static void tree_content_free(WdrContent *content)
{
	TreeContent *c = WDR_DERIVED(content, TreeContent, content);

	let_go(c);
	g_free(c->path);
	g_free(c);
}

static void look_up_place(TreeContent *c, WdrEntry *entry)
{
	g_auto(WdrFd) fd = open_file(c);

	if (fd < 0 || entry->flags & FS_JOURNAL_DATA_FL)
		return;
	c->place = wdr_tree_place_new(c->tree, fd);
	if (c->place && c->place->runs->len)
		entry->place = g_array_index(c->place->runs, WdrTreeRun, 0).physical;
}

bool wdr_tree_content_open(
	WdrVolume *v, const WdrNode *node, WdrEntry *entry, WdrContent **ret, GError **error)
{
	static const WdrContentOps ops = { tree_next, tree_content_free, tree_skip, NULL };
	TreeContent *c = g_new0(TreeContent, 1);

	(void)error;
	c->content.ops = &ops;
	c->tree = WDR_DERIVED(v, WdrTree, volume);
	c->path = g_strdup(node->path);
	c->size = entry->size;
	c->fd = -1;
	if (c->tree->sweep)
		look_up_place(c, entry);
	*ret = &c->content;
	return true;
}
