/* Reads many small files of a disk with few large requests.
 *
 * A card answers few requests a second, whatever their size. Files tell where they lie, and when
 * one of them is read, what lies between it and the next ones is read with the same request, up to
 * 256 KiB. Longer requests would make the walk's own look-ups of folders wait. What was read before
 * a file's place was looked up does not serve that file: it may have been written in between.
 *
 * What is expected stands in groups of some thousand runs. Each is an array that is sorted when the
 * first of it is read: a list that is always in order would cost more than all else here. */
#include "volume/sweep.h"

#include "base/text.h"

#include <stdlib.h>
#include <string.h>

enum {
	/* Long enough for a card's sequential speed, short enough that a look-up of the file system
	 * that has to wait behind one does not wait long. */
	REQUEST_BYTES = WDR_SWEPT_BYTES_MAX,
	BUFFERS = 8,
	/* Reading over a gap costs less than a request of its own up to about this. */
	GAP_BYTES = 32 * 1024,
	ALIGN = 4096,
	GROUP_RUNS = 2048,
};

/* Under the sweep's lock. */
struct WdrSweepGroup {
	GArray *runs;   /* WdrSweptRun; len 0: it was read */
	guint sorted;   /* so many of them, by place; others were told since */
	unsigned users; /* contents, and the sweep itself while it adds to it */
};

typedef struct {
	uint8_t *bytes;
	uint64_t at, len; /* len 0: empty */
	uint64_t moment;  /* when it was asked for */
	uint64_t used;
	bool is_reading;
	unsigned users;
} Buffer;

struct WdrSweep {
	WdrBlockDev *dev;
	GMutex lock;
	GCond changed;
	/* All below under the lock. */
	WdrSweepGroup *open; /* that runs are added to; NULL: none */
	WdrSweepGroup none;  /* without runs: of contents that told of none */
	Buffer buffers[BUFFERS];
	uint64_t clock;
};

WdrSweep *wdr_sweep_new(WdrBlockDev *dev)
{
	WdrSweep *s = g_new0(WdrSweep, 1);

	s->dev = dev;
	s->none.runs = g_array_new(FALSE, FALSE, sizeof(WdrSweptRun));
	g_mutex_init(&s->lock);
	g_cond_init(&s->changed);
	return s;
}

static void leave(WdrSweepGroup *group)
{
	if (!group || --group->users > 0)
		return;
	g_array_unref(group->runs);
	g_free(group);
}

void wdr_sweep_free(WdrSweep *s)
{
	if (!s)
		return;
	for (size_t i = 0; i < BUFFERS; i++)
		free(s->buffers[i].bytes);
	leave(s->open);
	g_array_unref(s->none.runs);
	g_mutex_clear(&s->lock);
	g_cond_clear(&s->changed);
	g_free(s);
}

uint64_t wdr_sweep_moment(WdrSweep *s)
{
	g_mutex_lock(&s->lock);
	uint64_t moment = ++s->clock;
	g_mutex_unlock(&s->lock);
	return moment;
}

WdrSweepGroup *wdr_sweep_expect(WdrSweep *s, const WdrSweptRun *runs, size_t n)
{
	if (n == 0)
		return NULL;
	g_mutex_lock(&s->lock);
	if (s->open && s->open->runs->len >= GROUP_RUNS)
		leave(g_steal_pointer(&s->open));
	if (!s->open) {
		s->open = g_new0(WdrSweepGroup, 1);
		s->open->runs = g_array_new(FALSE, FALSE, sizeof(WdrSweptRun));
		s->open->users = 1;
	}
	WdrSweepGroup *group = s->open;
	g_array_append_vals(group->runs, runs, (guint)n);
	group->users++;
	g_mutex_unlock(&s->lock);
	return group;
}

void wdr_sweep_forget(WdrSweep *s, WdrSweepGroup *group)
{
	if (!group)
		return;
	g_mutex_lock(&s->lock);
	leave(group);
	g_mutex_unlock(&s->lock);
}

static int by_place(const void *a, const void *b)
{
	const WdrSweptRun *x = a;
	const WdrSweptRun *y = b;

	return x->at < y->at ? -1 : x->at > y->at;
}

/* While runs are still being added, sorting waits until there are many new ones. */
static void sort(const WdrSweep *s, WdrSweepGroup *group)
{
	guint fresh = group->runs->len - group->sorted;

	if (fresh == 0 || (group == s->open && fresh * 4 < group->sorted))
		return;
	g_array_sort(group->runs, by_place);
	group->sorted = group->runs->len;
}

/* Of the sorted ones, the first at or behind a place. */
static guint first_from(const WdrSweepGroup *group, uint64_t at)
{
	guint low = 0;
	guint high = group->sorted;

	while (low < high) {
		guint middle = low + (high - low) / 2;
		if (g_array_index(group->runs, WdrSweptRun, middle).at < at)
			low = middle + 1;
		else
			high = middle;
	}
	return low;
}

/* Where a request that starts at `start`, for this run, should end. */
static uint64_t extend(const WdrSweep *s, WdrSweepGroup *group, uint64_t start, WdrSweptRun run)
{
	uint64_t end = run.at + run.len;

	sort(s, group);
	for (guint i = first_from(group, run.at); i < group->sorted; i++) {
		const WdrSweptRun *r = &g_array_index(group->runs, WdrSweptRun, i);
		uint64_t up_to = r->at + r->len;
		if (r->at > end + GAP_BYTES || up_to - start > REQUEST_BYTES)
			break;
		end = r->len > 0 ? MAX(end, up_to) : end;
	}
	return MIN(wdr_round_up(end, ALIGN), wdr_blockdev_size(s->dev));
}

/* It is not read once more with its neighbours. */
static void note_read(WdrSweepGroup *group, WdrSweptRun run)
{
	for (guint i = first_from(group, run.at); i < group->sorted; i++) {
		WdrSweptRun *r = &g_array_index(group->runs, WdrSweptRun, i);
		if (r->at >= run.at + run.len)
			break;
		r->len = 0;
	}
}

static Buffer *find(WdrSweep *s, uint64_t at, uint64_t len, uint64_t since)
{
	for (size_t i = 0; i < BUFFERS; i++) {
		Buffer *b = &s->buffers[i];
		if (b->len > 0 && b->moment > since && at >= b->at && at - b->at <= b->len &&
			len <= b->len - (at - b->at))
			return b;
	}
	return NULL;
}

static Buffer *oldest(WdrSweep *s)
{
	Buffer *found = NULL;

	for (size_t i = 0; i < BUFFERS; i++) {
		Buffer *b = &s->buffers[i];
		if (!b->is_reading && b->users == 0 && (!found || b->used < found->used))
			found = b;
	}
	return found;
}

/* Called under the lock, which is let go while the disk is read. */
static bool fill(WdrSweep *s, WdrSweepGroup *group, Buffer *b, WdrSweptRun run)
{
	uint64_t start = wdr_round_down(run.at, ALIGN);
	uint64_t end = extend(s, group, start, run);

	if (!b->bytes && posix_memalign((void **)&b->bytes, ALIGN, REQUEST_BYTES + 2 * ALIGN) != 0)
		g_error("out of memory");
	b->at = start;
	b->len = end - start;
	b->moment = ++s->clock;
	b->is_reading = true;
	g_mutex_unlock(&s->lock);
	bool is_fine = wdr_blockdev_read(s->dev, b->bytes, (size_t)(end - start), start, NULL);
	g_mutex_lock(&s->lock);
	b->is_reading = false;
	if (!is_fine)
		b->len = 0;
	g_cond_broadcast(&s->changed);
	return is_fine;
}

/* A buffer with these bytes, in use by the caller; NULL: none is free, or the disk failed. */
static Buffer *take(WdrSweep *s, WdrSweepGroup *group, WdrSweptRun run, uint64_t since)
{
	Buffer *b = NULL;

	while ((b = find(s, run.at, run.len, since)) && b->is_reading)
		g_cond_wait(&s->changed, &s->lock);
	if (!b && (b = oldest(s)) && !fill(s, group, b, run))
		return NULL;
	note_read(group, run);
	if (b) {
		b->users++;
		b->used = ++s->clock;
	}
	return b;
}

bool wdr_sweep_read(WdrSweep *s, WdrSweepGroup *group, void *buf, WdrSweptRun run, uint64_t since,
	GError **error)
{
	size_t len = (size_t)run.len;

	if (len > REQUEST_BYTES)
		return wdr_blockdev_read(s->dev, buf, len, run.at, error);
	g_mutex_lock(&s->lock);
	Buffer *b = take(s, group ? group : &s->none, run, since);
	g_mutex_unlock(&s->lock);
	/* No buffer is free, or reading failed, perhaps beside what is wanted. */
	if (!b)
		return wdr_blockdev_read(s->dev, buf, len, run.at, error);
	memcpy(buf, b->bytes + (run.at - b->at), len);
	g_mutex_lock(&s->lock);
	b->users--;
	g_mutex_unlock(&s->lock);
	return true;
}
