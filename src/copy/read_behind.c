/* Reading files back behind the writer.
 *
 * Rules that keep this honest:
 *   - A file is read only after all of its bytes were written and the target was flushed since.
 *   - It is read through `medium`, which goes past the page cache, into memory of its own.
 *   - Its hash is compared with the one that the reader of the source made, not with anything that
 *     the writer had in hand.
 *   - What is kept for each file is 8 bytes: a fold of the places and the content. The walk over
 * the finished volume folds the places that it finds with the packing list's hash, and both must
 *     agree.
 * A flush can take the medium long, and what waits at the end is what nobody could read meanwhile.
 * So groups are as small as 8 MiB where flushes are quick, and up to 64 MiB, so that these are
 * rare, where they are slow. */
#include "copy/read_behind.h"

#include "base/share.h"
#include "base/stop.h"
#include "base/text.h"
#include "copy/volume_copy.h"
#include "disk/buffers.h"
#include "disk/spot_checks.h"

#include <stdatomic.h>

enum {
	WAITING_MAX = 8192, /* files, or parts of them */
	WAITING_MIN = 4096, /* what is passed over is read at the end, when nothing else is done */
	GROUP_BYTES_MIN = 8 * 1024 * 1024,
	GROUP_BYTES_MAX = 64 * 1024 * 1024,
	BYTES_PER_FILE = 8192, /* of tiny ones, each counts as much */
	/* A flush takes less than one part of these of a group's time, and more than one of those.
	 */
	FLUSH_SHARE_MAX = 8,
	FLUSH_SHARE_MIN = 32,
	WINDOW_BYTES = WDR_BUFFER_BYTES,
	SAMPLE_BYTES = 4096,
	REPORT_EVERY_US = 200000,
};

/* A file, or a part of a large one, which is hashed on behind the part before it. */
typedef struct {
	char *path;
	uint64_t size, bytes; /* of the file; of the runs of this part */
	bool is_first, is_last;
	WdrHash content; /* with the last part */
	WdrPlaced placed;
} Waiting;

struct WdrReadBehind {
	WdrBlockDev *target, *medium;
	uint64_t offset, first;
	GThread *thread;
	GMutex lock;
	GCond changed;
	/* Under the lock. */
	GQueue waiting; /* Waiting, as they were written */
	uint64_t waiting_bytes, written, read;
	uint64_t group_bytes;
	bool is_passed_over;     /* the file that is being written */
	uint64_t put;            /* bytes of it that were put here; the writer's own */
	bool is_ending, is_over; /* all is written; nothing is left to do */
	atomic_bool is_stopping; /* also read without it */
	GError *failure;
	/* The thread's own, until it has ended. */
	GArray *known; /* uint64_t for each id: the fold; 0: nobody vouches for it */
	WdrSpots *sample;
	WdrHasher *hasher;
	uint64_t pos;    /* bytes that it was given of a file */
	uint8_t *window; /* of WINDOW_BYTES */
	uint64_t window_at;
	size_t window_len;
};

static void waiting_free(void *data)
{
	Waiting *w = data;

	g_array_unref(w->placed.runs);
	g_free(w->path);
	g_free(w);
}

static uint64_t fold(uint64_t places, WdrHash content)
{
	const uint64_t all[] = { places, content.high, content.low };
	uint64_t folded = wdr_hash(all, sizeof(all)).low;

	return folded ? folded : 1;
}

/* ---- the thread ---- */

/* Bytes of the disk, through a window that serves the small files next to each other, too. */
static bool read_bytes(
	WdrReadBehind *b, uint64_t at, uint64_t end, uint8_t **ret, size_t *ret_len, GError **error)
{
	if (at < b->window_at || at >= b->window_at + b->window_len) {
		uint64_t start = wdr_round_down(at, WDR_DIRECT_BYTES);
		uint64_t room = wdr_blockdev_size(b->medium) - start;
		b->window_len = 0;
		if (!wdr_blockdev_read(
			    b->medium, b->window, (size_t)MIN(room, WINDOW_BYTES), start, error))
			return false;
		b->window_at = start;
		b->window_len = (size_t)MIN(room, WINDOW_BYTES);
	}
	*ret = b->window + (at - b->window_at);
	*ret_len = (size_t)MIN(end - at, b->window_at + b->window_len - at);
	return true;
}

/* A whole block of the run that is in the window now. */
static void offer_sample(WdrReadBehind *b, uint64_t at, uint64_t end)
{
	uint64_t block = wdr_round_up(at, SAMPLE_BYTES);

	if (block + SAMPLE_BYTES <= MIN(end, b->window_at + b->window_len))
		wdr_spots_offer(b->sample, block, b->window + (block - b->window_at));
}

static bool read_run(WdrReadBehind *b, const WdrPlacedRun *r, GError **error)
{
	uint64_t at = b->offset + r->at;
	uint64_t end = at + r->len;
	uint64_t in_file = r->offset;

	while (at < end) {
		uint8_t *bytes = NULL;
		size_t len = 0;
		if (!wdr_stop_check(error) || !read_bytes(b, at, end, &bytes, &len, error))
			return false;
		WdrPiece piece = { in_file, len, false };
		wdr_hash_piece(b->hasher, &piece, bytes, &b->pos);
		offer_sample(b, at, end);
		at += len;
		in_file += len;
	}
	return true;
}

static bool read_part(WdrReadBehind *b, const Waiting *w, GError **error)
{
	if (w->is_first) {
		wdr_hasher_reset(b->hasher);
		b->pos = 0;
	}
	for (guint i = 0; i < w->placed.runs->len; i++) {
		if (!read_run(b, &g_array_index(w->placed.runs, WdrPlacedRun, i), error)) {
			g_prefix_error(error, "%s: ", w->path);
			return false;
		}
	}
	if (!w->is_last)
		return true;
	wdr_hasher_add_zeros(b->hasher, w->size - b->pos);
	return wdr_hash_equal(wdr_hasher_result(b->hasher), w->content) ||
	       wdr_error_set(error, WDR_ERROR_IO,
		       "read back from the target: content of '%s' is not as copied", w->path);
}

static void vouch(WdrReadBehind *b, const Waiting *w)
{
	uint64_t folded = fold(w->placed.places, w->content);

	if (w->placed.id >= b->known->len)
		g_array_set_size(b->known, (guint)(w->placed.id + 1));
	g_array_index(b->known, uint64_t, w->placed.id) = folded;
}

/* Under the lock. With the end all is written. */
static bool is_head_written(const WdrReadBehind *b)
{
	const Waiting *head = g_queue_peek_head((GQueue *)&b->waiting);

	return head && (b->is_ending || head->placed.mark <= b->written);
}

/* Under the lock. */
static bool is_enough(const WdrReadBehind *b)
{
	return b->waiting_bytes >= b->group_bytes ||
	       b->waiting.length >= b->group_bytes / BYTES_PER_FILE;
}

/* Files that are written, once there are enough of them or nothing else comes. NULL: nothing is
 * left to do. */
static GQueue *take_group(WdrReadBehind *b)
{
	GQueue *group = NULL;
	uint64_t bytes = 0;

	g_mutex_lock(&b->lock);
	while (!b->is_stopping && !(b->is_ending && b->waiting.length == 0) &&
		!(is_head_written(b) && (b->is_ending || is_enough(b))))
		g_cond_wait(&b->changed, &b->lock);
	while (!b->is_stopping && is_head_written(b) && bytes < b->group_bytes) {
		Waiting *w = g_queue_pop_head(&b->waiting);
		group = group ? group : g_queue_new();
		g_queue_push_tail(group, w);
		bytes += w->bytes;
		b->waiting_bytes -= w->bytes;
	}
	g_mutex_unlock(&b->lock);
	return group;
}

/* Both in microseconds. */
static void fit_group(WdrReadBehind *b, int64_t flush, int64_t all)
{
	g_mutex_lock(&b->lock);
	if (flush * FLUSH_SHARE_MAX > all)
		b->group_bytes = MIN(b->group_bytes * 2, GROUP_BYTES_MAX);
	else if (flush * FLUSH_SHARE_MIN < all)
		b->group_bytes = MAX(b->group_bytes / 2, GROUP_BYTES_MIN);
	g_mutex_unlock(&b->lock);
}

static bool read_files(WdrReadBehind *b, GQueue *group, GError **error)
{
	for (Waiting *w; (w = g_queue_pop_head(group)); waiting_free(w)) {
		bool is_fine = !b->is_stopping && read_part(b, w, error);
		if (!is_fine) {
			waiting_free(w);
			return b->is_stopping;
		}
		if (w->is_last)
			vouch(b, w);
		g_mutex_lock(&b->lock);
		b->read += w->bytes;
		g_mutex_unlock(&b->lock);
	}
	return true;
}

static bool read_group(WdrReadBehind *b, GQueue *group, GError **error)
{
	int64_t begun = g_get_monotonic_time();

	/* What was read before the flush is not from the medium for certain. */
	b->window_len = 0;
	if (!wdr_blockdev_flush(b->target, error))
		return false;
	int64_t flushed = g_get_monotonic_time();
	if (!read_files(b, group, error))
		return false;
	fit_group(b, flushed - begun, g_get_monotonic_time() - begun);
	return true;
}

static void *behind_thread(void *data)
{
	WdrReadBehind *b = data;
	GError *error = NULL;

	for (GQueue *group; !error && (group = take_group(b));) {
		(void)read_group(b, group, &error);
		g_queue_free_full(group, waiting_free);
	}
	g_mutex_lock(&b->lock);
	b->failure = error;
	b->is_over = true;
	g_cond_broadcast(&b->changed);
	g_mutex_unlock(&b->lock);
	return NULL;
}

/* ---- what others call ---- */

WdrReadBehind *wdr_read_behind_new(
	WdrBlockDev *target, WdrBlockDev *medium, uint64_t offset, uint64_t first)
{
	WdrReadBehind *b = g_new0(WdrReadBehind, 1);

	b->target = target;
	b->medium = medium;
	b->offset = offset;
	b->first = first;
	b->group_bytes = GROUP_BYTES_MIN;
	g_mutex_init(&b->lock);
	g_cond_init(&b->changed);
	g_queue_init(&b->waiting);
	b->known = g_array_new(FALSE, TRUE, sizeof(uint64_t));
	b->sample = wdr_spots_new(medium);
	b->hasher = wdr_hasher_new();
	b->window = wdr_buffer_new();
	b->thread = g_thread_new("read behind", behind_thread, b);
	return b;
}

static void end_thread(WdrReadBehind *b)
{
	g_clear_pointer(&b->thread, g_thread_join);
}

void wdr_read_behind_free(WdrReadBehind *b)
{
	if (!b)
		return;
	g_mutex_lock(&b->lock);
	b->is_stopping = true;
	g_cond_broadcast(&b->changed);
	g_mutex_unlock(&b->lock);
	end_thread(b);
	g_queue_clear_full(&b->waiting, waiting_free);
	g_mutex_clear(&b->lock);
	g_cond_clear(&b->changed);
	g_clear_error(&b->failure);
	g_array_unref(b->known);
	wdr_spots_free(b->sample);
	wdr_hasher_free(b->hasher);
	wdr_buffer_free(b->window);
	g_free(b);
}

void wdr_read_behind_count(WdrReadBehind *b, uint64_t bytes)
{
	g_mutex_lock(&b->lock);
	b->written += bytes;
	g_cond_broadcast(&b->changed);
	g_mutex_unlock(&b->lock);
}

static bool is_readable(const WdrReadBehind *b, const WdrPlaced *placed)
{
	for (guint i = 0; i < placed->runs->len; i++) {
		if (g_array_index(placed->runs, WdrPlacedRun, i).at < b->first)
			return false;
	}
	return placed->id < G_MAXUINT32;
}

/* The runs, or what is left of them, that were not put before. */
static void cut_runs(Waiting *w, uint64_t put)
{
	g_autoptr(GArray) all = w->placed.runs;

	w->placed.runs = g_array_new(FALSE, FALSE, sizeof(WdrPlacedRun));
	for (guint i = 0; i < all->len; i++) {
		WdrPlacedRun r = g_array_index(all, WdrPlacedRun, i);
		uint64_t cut = put > r.offset ? MIN(put - r.offset, r.len) : 0;
		r = (WdrPlacedRun){ r.offset + cut, r.at + cut, r.len - cut };
		if (r.len > 0)
			g_array_append_val(w->placed.runs, r);
		w->bytes += r.len;
	}
}

/* Of a file of which a part was passed over, the rest is, too. Under the lock. */
static bool is_wanted(WdrReadBehind *b, const Waiting *w)
{
	b->is_passed_over = (!w->is_first && b->is_passed_over) ||
			    b->waiting.length >= MAX(wdr_share_of(WAITING_MAX), WAITING_MIN) ||
			    !is_readable(b, &w->placed);
	return !b->is_passed_over;
}

bool wdr_read_behind_put(WdrReadBehind *b, const char *path, uint64_t size, const WdrHash *content,
	WdrPlaced *placed, GError **error)
{
	Waiting *w = g_new0(Waiting, 1);

	*w = (Waiting){ .path = g_strdup(path),
		.size = size,
		.is_first = b->put == 0,
		.is_last = content != NULL,
		.placed = *placed };
	placed->runs = NULL;
	if (content)
		w->content = *content;
	cut_runs(w, b->put);
	b->put = content ? 0 : MAX(w->placed.end, 1);
	g_mutex_lock(&b->lock);
	bool is_fine = !b->failure;
	if (!is_fine)
		g_propagate_error(error, g_error_copy(b->failure));
	if (is_fine && is_wanted(b, w)) {
		b->waiting_bytes += w->bytes;
		g_queue_push_tail(&b->waiting, g_steal_pointer(&w));
		if (is_enough(b))
			g_cond_broadcast(&b->changed);
	}
	g_mutex_unlock(&b->lock);
	if (w)
		waiting_free(w);
	return is_fine;
}

uint64_t wdr_read_behind_waiting(WdrReadBehind *b)
{
	g_mutex_lock(&b->lock);
	uint64_t waiting = b->waiting_bytes;
	g_mutex_unlock(&b->lock);
	return waiting;
}

uint64_t wdr_read_behind_bytes(WdrReadBehind *b)
{
	g_mutex_lock(&b->lock);
	uint64_t read = b->read;
	g_mutex_unlock(&b->lock);
	return read;
}

static void tell(WdrReadBehind *b, const WdrWorld *world, const WdrProgress *total)
{
	WdrProgress p = *total;

	p.bytes_done = MIN(wdr_read_behind_bytes(b), p.bytes_total);
	wdr_world_progress(world, &p);
}

bool wdr_read_behind_finish(
	WdrReadBehind *b, const WdrWorld *world, const WdrProgress *total, GError **error)
{
	g_mutex_lock(&b->lock);
	b->is_ending = true;
	g_cond_broadcast(&b->changed);
	while (!b->is_over) {
		int64_t next = g_get_monotonic_time() + REPORT_EVERY_US;
		if (g_cond_wait_until(&b->changed, &b->lock, next))
			continue;
		g_mutex_unlock(&b->lock);
		tell(b, world, total);
		g_mutex_lock(&b->lock);
	}
	g_mutex_unlock(&b->lock);
	end_thread(b);
	if (!b->failure)
		return true;
	g_propagate_error(error, g_steal_pointer(&b->failure));
	return false;
}

bool wdr_read_behind_knows(const WdrReadBehind *b, uint64_t id)
{
	return id < b->known->len && g_array_index(b->known, uint64_t, id) != 0;
}

bool wdr_read_behind_holds(const WdrReadBehind *b, uint64_t id, uint64_t places, WdrHash content)
{
	return wdr_read_behind_knows(b, id) &&
	       g_array_index(b->known, uint64_t, id) == fold(places, content);
}

bool wdr_read_behind_check_sample(const WdrReadBehind *b, GError **error)
{
	return wdr_spots_check(b->sample, error);
}
