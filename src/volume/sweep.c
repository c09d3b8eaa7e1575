/* Reads many small files of a disk with few large requests.
 *
 * A card answers few requests a second, whatever their size. Files tell where they lie, and when
 * one of them is read, what lies between it and the next ones is read with the same request, up to
 * 256 KiB. Longer requests would make the walk's own look-ups of folders wait. What was read before
 * a file's place was looked up does not serve that file: it may have been written in between. */
#include "volume/sweep.h"

#include "base/text.h"

#include <stdlib.h>
#include <string.h>

enum {
	/* Long enough for a card's sequential speed, short enough that a look-up of the file system
	 * that has to wait behind one does not wait long. */
	REQUEST_BYTES = WDR_SWEPT_BYTES_MAX,
	BUFFERS = 16,
	/* Reading over a gap costs less than a request of its own up to about this. */
	GAP_BYTES = 32 * 1024,
	ALIGN = 4096,
};

typedef struct {
	uint64_t at, len;
} Extent;

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
	GSequence *expected; /* Extent, by place */
	Buffer buffers[BUFFERS];
	uint64_t clock;
};

WdrSweep *wdr_sweep_new(WdrBlockDev *dev)
{
	WdrSweep *s = g_new0(WdrSweep, 1);

	s->dev = dev;
	s->expected = g_sequence_new(g_free);
	g_mutex_init(&s->lock);
	g_cond_init(&s->changed);
	return s;
}

void wdr_sweep_free(WdrSweep *s)
{
	if (!s)
		return;
	for (size_t i = 0; i < BUFFERS; i++)
		free(s->buffers[i].bytes);
	g_sequence_free(s->expected);
	g_mutex_clear(&s->lock);
	g_cond_clear(&s->changed);
	g_free(s);
}

static int by_place(const void *a, const void *b, void *data)
{
	const Extent *x = a;
	const Extent *y = b;

	(void)data;
	return x->at < y->at ? -1 : x->at > y->at;
}

uint64_t wdr_sweep_moment(WdrSweep *s)
{
	g_mutex_lock(&s->lock);
	uint64_t moment = ++s->clock;
	g_mutex_unlock(&s->lock);
	return moment;
}

void wdr_sweep_expect(WdrSweep *s, uint64_t at, uint64_t len)
{
	Extent *e = g_new(Extent, 1);

	*e = (Extent){ at, len };
	g_mutex_lock(&s->lock);
	g_sequence_insert_sorted(s->expected, e, by_place, NULL);
	g_mutex_unlock(&s->lock);
}

void wdr_sweep_forget(WdrSweep *s, uint64_t at, uint64_t len)
{
	Extent e = { at, len };

	g_mutex_lock(&s->lock);
	GSequenceIter *found = g_sequence_lookup(s->expected, &e, by_place, NULL);
	if (found)
		g_sequence_remove(found);
	g_mutex_unlock(&s->lock);
}

/* Where a request that starts with [at, end) should end. */
static uint64_t extend(const WdrSweep *s, uint64_t start, uint64_t at, uint64_t end)
{
	Extent here = { at, 0 };
	GSequenceIter *next = g_sequence_search(s->expected, &here, by_place, NULL);

	for (; !g_sequence_iter_is_end(next); next = g_sequence_iter_next(next)) {
		const Extent *e = g_sequence_get(next);
		uint64_t up_to = e->at + e->len;
		if (e->at > end + GAP_BYTES || up_to - start > REQUEST_BYTES)
			break;
		end = MAX(end, up_to);
	}
	return MIN(wdr_round_up(end, ALIGN), wdr_blockdev_size(s->dev));
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
static bool fill(WdrSweep *s, Buffer *b, uint64_t at, uint64_t len)
{
	uint64_t start = wdr_round_down(at, ALIGN);
	uint64_t end = extend(s, start, at, at + len);

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
static Buffer *take(WdrSweep *s, uint64_t at, uint64_t len, uint64_t since)
{
	Buffer *b = NULL;

	while ((b = find(s, at, len, since)) && b->is_reading)
		g_cond_wait(&s->changed, &s->lock);
	if (!b && (b = oldest(s)) && !fill(s, b, at, len))
		return NULL;
	if (b) {
		b->users++;
		b->used = ++s->clock;
	}
	return b;
}

bool wdr_sweep_read(WdrSweep *s, void *buf, size_t len, uint64_t at, uint64_t since, GError **error)
{
	if (len > REQUEST_BYTES)
		return wdr_blockdev_read(s->dev, buf, len, at, error);
	g_mutex_lock(&s->lock);
	Buffer *b = take(s, at, len, since);
	g_mutex_unlock(&s->lock);
	/* No buffer is free, or reading failed, perhaps beside what is wanted. */
	if (!b)
		return wdr_blockdev_read(s->dev, buf, len, at, error);
	memcpy(buf, b->bytes + (at - b->at), len);
	g_mutex_lock(&s->lock);
	b->users--;
	g_mutex_unlock(&s->lock);
	return true;
}
