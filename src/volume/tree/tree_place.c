/* Where the contents of files of a mounted ext4 lie on its disk.
 *
 * Cards read tens of megabytes a second in sequence, but answer few requests: file by file, a tree
 * of small files comes at a tenth of that. The disk itself can be read in the order of places, many
 * files with a request. What is read so is a file's content only if
 *   - all that was written to it had reached the disk: it changed last before the volume was
 * flushed, by a clock that was not set since,
 *   - nothing of it lies elsewhere or is stored in another form (FIEMAP's flags), and
 *   - it is the same file, of the same size, change time and places after it was read.
 * Everything else is read through the kernel. */
#include "volume/tree/tree_priv.h"

#include <linux/fiemap.h>
#include <linux/fs.h>
#include <string.h>
#include <sys/ioctl.h>
#include <sys/stat.h>
#include <time.h>
#include <unistd.h>

enum {
	EXTENTS_AT_ONCE = 64,
	RUNS_MAX = 4096, /* of one file */
	CLOCK_SLACK_US = 200000,
};

static int64_t microseconds(clockid_t clock)
{
	struct timespec t;

	clock_gettime(clock, &t);
	return t.tv_sec * INT64_C(1000000) + t.tv_nsec / 1000;
}

/* How far the wall clock is from the time since boot. It changes when somebody sets the clock; then
 * the change times of files cannot be compared with `settled`, and no file is read from the disk.
 */
static int64_t clock_offset(void)
{
	return microseconds(CLOCK_REALTIME) - microseconds(CLOCK_BOOTTIME);
}

/* Must come before the walk begins: syncfs brings all that was written until now to the disk, and
 * only files that changed well before that moment (`settled`) are read from it. */
bool wdr_tree_use_disk(WdrVolume *tree, WdrBlockDev *dev, uint64_t offset, uint64_t size)
{
	WdrTree *t = WDR_DERIVED(tree, WdrTree, volume);
	int64_t now = microseconds(CLOCK_REALTIME);

	if (!wdr_blockdev_is_past_cache(dev) || syncfs(t->root) != 0) {
		wdr_blockdev_free(dev);
		return false;
	}
	t->sweep = wdr_sweep_new(dev);
	t->disk = dev;
	t->offset = offset;
	t->size = size;
	t->settled = (WdrTime){ now / 1000000 - WDR_SETTLED_AFTER_S, 0 };
	t->clock_offset = clock_offset();
	return true;
}

void wdr_tree_bytes(WdrVolume *tree, uint64_t *ret_from_disk, uint64_t *ret_through_kernel)
{
	WdrTree *t = WDR_DERIVED(tree, WdrTree, volume);

	*ret_from_disk = atomic_load(&t->from_disk);
	*ret_through_kernel = atomic_load(&t->through_kernel);
}

static bool is_before(WdrTime a, WdrTime b)
{
	return a.sec != b.sec ? a.sec < b.sec : a.nsec < b.nsec;
}

/* False: some flag says that the bytes are not plainly there (delayed, inline, encoded,
 * tail-packed, shared with other files in a way that we do not know), or the place makes no sense.
 */
static bool take_extent(const struct fiemap_extent *e, uint64_t fs_size, GArray *runs)
{
	const uint32_t plain = FIEMAP_EXTENT_LAST | FIEMAP_EXTENT_MERGED | FIEMAP_EXTENT_UNWRITTEN;
	WdrTreeRun r = { e->fe_logical, e->fe_physical, e->fe_length,
		(e->fe_flags & FIEMAP_EXTENT_UNWRITTEN) != 0 };
	const WdrTreeRun *last = runs->len ? &g_array_index(runs, WdrTreeRun, runs->len - 1) : NULL;

	if (e->fe_flags & ~plain || r.len == 0 || r.physical == 0 || r.physical > fs_size ||
		r.len > fs_size - r.physical || runs->len == RUNS_MAX ||
		(last && r.logical < last->logical + last->len))
		return false;
	g_array_append_val(runs, r);
	return true;
}

/* NULL: some of it is not plainly on the disk. With FIEMAP_FLAG_SYNC what is in memory of the file
 * is written first. */
static GArray *look_up(int fd, uint64_t fs_size, uint32_t flags)
{
	g_autofree struct fiemap *map =
		g_malloc(sizeof(struct fiemap) + EXTENTS_AT_ONCE * sizeof(struct fiemap_extent));
	g_autoptr(GArray) runs = g_array_new(FALSE, FALSE, sizeof(WdrTreeRun));
	uint64_t at = 0;

	for (bool is_last = false; !is_last;) {
		memset(map, 0, sizeof(*map));
		map->fm_start = at;
		map->fm_flags = flags;
		map->fm_length = UINT64_MAX - at;
		map->fm_extent_count = EXTENTS_AT_ONCE;
		if (ioctl(fd, FS_IOC_FIEMAP, map) != 0)
			return NULL;
		is_last = map->fm_mapped_extents == 0;
		for (uint32_t i = 0; i < map->fm_mapped_extents; i++) {
			const struct fiemap_extent *e = &map->fm_extents[i];
			if (!take_extent(e, fs_size, runs))
				return NULL;
			at = e->fe_logical + e->fe_length;
			is_last |= (e->fe_flags & FIEMAP_EXTENT_LAST) != 0;
		}
	}
	return g_steal_pointer(&runs);
}

static WdrSweepGroup *expect(const WdrTree *t, const WdrTreePlace *p)
{
	WdrSweptRun runs[WDR_SWEPT_RUNS_MAX];
	size_t n = 0;

	for (guint i = 0; i < p->runs->len && n < WDR_SWEPT_RUNS_MAX; i++) {
		const WdrTreeRun *r = &g_array_index(p->runs, WdrTreeRun, i);
		if (!r->is_unwritten && r->len <= WDR_SWEPT_BYTES_MAX)
			runs[n++] = (WdrSweptRun){ t->offset + r->physical, r->len };
	}
	return wdr_sweep_expect(t->sweep, runs, n);
}

/* NULL: this file has to be read through the kernel. Files longer than WDR_SWEPT_BYTES_MAX have a
 * place, too, but are read by themselves, not in the sweep. */
WdrTreePlace *wdr_tree_place_new(WdrTree *t, int fd)
{
	WdrStat st;
	int64_t drift = clock_offset() - t->clock_offset;

	if (!t->sweep || drift > CLOCK_SLACK_US || drift < -CLOCK_SLACK_US ||
		wdr_fstat(fd, &st) != 0)
		return NULL;
	WdrTime changed = wdr_tree_time(&st.stx_ctime);
	/* Of a mapping of the file, too, the kernel notes a write before it goes to the disk. */
	if (!is_before(changed, t->settled))
		return NULL;
	/* A call to write that is held up stamps the file long before its bytes come; and where
	 * blocks are smaller than pages, a block shows as the file's before its bytes are in it. */
	GArray *runs = look_up(fd, t->size, FIEMAP_FLAG_SYNC);
	if (!runs)
		return NULL;
	WdrTreePlace *p = g_new0(WdrTreePlace, 1);
	p->runs = runs;
	p->ino = st.stx_ino;
	p->size = st.stx_size;
	p->changed = changed;
	p->moment = wdr_sweep_moment(t->sweep);
	p->group = expect(t, p);
	return p;
}

void wdr_tree_place_free(WdrTree *t, WdrTreePlace *p)
{
	if (!p)
		return;
	wdr_sweep_forget(t->sweep, p->group);
	g_array_unref(p->runs);
	g_free(p);
}

/* To be asked after each piece was read from the disk, and before it is used. */
bool wdr_tree_place_still_holds(const WdrTreePlace *p, int fd)
{
	WdrStat st;

	if (wdr_fstat(fd, &st) != 0 || st.stx_ino != p->ino || st.stx_size != p->size ||
		!wdr_time_equal(wdr_tree_time(&st.stx_ctime), p->changed))
		return false;
	/* Defragmenting moves a file without a trace in its times. */
	g_autoptr(GArray) now = look_up(fd, UINT64_MAX, 0);
	if (!now || now->len != p->runs->len)
		return false;
	for (guint i = 0; i < now->len; i++) {
		const WdrTreeRun *a = &g_array_index(now, WdrTreeRun, i);
		const WdrTreeRun *b = &g_array_index(p->runs, WdrTreeRun, i);
		if (a->logical != b->logical || a->physical != b->physical || a->len != b->len ||
			a->is_unwritten != b->is_unwritten)
			return false;
	}
	return true;
}
