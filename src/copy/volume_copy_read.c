/* The readers of the copying engine: each takes the next file, reads it in chunks and hashes it.
 *
 * There are two, so that one hashes while the other waits for the disk. More would make the disk
 * jump between files. Hashing is done here, not by the writer, since it takes as long as a fast
 * disk takes to write. */
#include "copy/volume_copy_priv.h"

#include "base/stop.h"
#include "base/text.h"

#include <stdlib.h>

enum {
	SMALL_BYTES = 64 * 1024, /* most files are smaller */
	CHUNK_ALIGN = 4096,      /* so that reads past the page cache need no copy */
	WAKE_AT_FILES = 16,
};

/* Under the lock. */
static void wait_as_reader(WdrCopyRun *r)
{
	wdr_copy_run_wake_writer(r);
	r->readers_waiting++;
	g_cond_wait(&r->for_readers, &r->lock);
	r->readers_waiting--;
}

/* NULL: there is no file left, or the run is being stopped. */
static WdrJob *take_job(WdrCopyRun *r)
{
	g_mutex_lock(&r->lock);
	while (r->to_read.length == 0 && !r->is_planned && !r->is_stopping)
		wait_as_reader(r);
	GList *first = r->is_stopping ? NULL : g_queue_pop_head_link(&r->to_read);
	WdrJob *job = first ? first->data : NULL;
	if (!job)
		wdr_copy_run_wake_writer(r);
	g_mutex_unlock(&r->lock);
	return job;
}

/* The writer has nothing to do until this file's next chunk comes. */
static bool is_awaited(const WdrCopyRun *r, const WdrJob *job)
{
	return job->turn == r->turn && job->chunks.length == 0;
}

/* Under the lock. One that the writer waits for is always let through, or all readers could wait
 * for room that only its writing can make. */
static void wait_for_room(WdrCopyRun *r, WdrJob *job, size_t room)
{
	size_t most = wdr_copy_ahead_bytes();
	int64_t begun = g_get_monotonic_time();

	while (r->in_flight + room > most && !is_awaited(r, job) && !r->is_stopping) {
		job->is_blocked = true;
		wait_as_reader(r);
		job->is_blocked = false;
		most = wdr_copy_ahead_bytes() / 2;
	}
	r->waited_for_target += g_get_monotonic_time() - begun;
}

/* What a reader has for itself. */
typedef struct {
	WdrHasher *hasher;
	WdrSlab *slab;    /* that its small chunks are taken from; NULL: none yet */
	WdrChunk *beyond; /* takes what comes behind a file's last byte, which is nothing */
} Reader;

/* The rest of these functions are called under the lock. */

static uint8_t *take_buffer(WdrCopyRun *r)
{
	guint n = r->buffers->len;

	return n > 0 ? g_ptr_array_steal_index_fast(r->buffers, n - 1) : wdr_buffer_new();
}

static WdrSlab *take_slab(WdrCopyRun *r)
{
	guint n = r->slabs->len;

	if (n > 0)
		return g_ptr_array_steal_index_fast(r->slabs, n - 1);
	WdrSlab *slab = g_new0(WdrSlab, 1);
	slab->bytes = aligned_alloc(CHUNK_ALIGN, WDR_SLAB_BYTES);
	if (!slab->bytes)
		g_error("out of memory");
	return slab;
}

static void take_part(WdrCopyRun *r, Reader *own, WdrChunk *chunk)
{
	WdrSlab *slab = own->slab;

	if (!slab || WDR_SLAB_BYTES - slab->used < chunk->room) {
		if (slab)
			wdr_copy_run_leave_slab(r, slab);
		slab = own->slab = take_slab(r);
		slab->users = 1;
	}
	chunk->slab = slab;
	chunk->data = slab->bytes + slab->used;
	slab->used += chunk->room;
	slab->users++;
}

static WdrChunk *take_chunk(WdrCopyRun *r, Reader *own, size_t room)
{
	GList *idle = g_queue_pop_head_link(&r->idle);
	WdrChunk *chunk = idle ? idle->data : g_new0(WdrChunk, 1);

	chunk->link.data = chunk;
	chunk->room = room;
	if (room == WDR_CHUNK_BYTES)
		chunk->data = take_buffer(r);
	else
		take_part(r, own, chunk);
	r->in_flight += MAX(room, WDR_CHUNK_COST_MIN);
	return chunk;
}

/* A chunk with room for at least `want` bytes, or for WDR_CHUNK_BYTES of them; NULL when stopping.
 */
static WdrChunk *take_room(WdrCopyRun *r, Reader *own, WdrJob *job, uint64_t want)
{
	size_t room = want <= SMALL_BYTES ? (size_t)wdr_round_up(MAX(want, 1), CHUNK_ALIGN)
					  : WDR_CHUNK_BYTES;

	g_mutex_lock(&r->lock);
	wait_for_room(r, job, room);
	WdrChunk *chunk = r->is_stopping ? NULL : take_chunk(r, own, room);
	g_mutex_unlock(&r->lock);
	return chunk;
}

/* Under the lock. */
static void hand_chunk(WdrCopyRun *r, WdrJob *job, WdrChunk *chunk)
{
	g_queue_push_tail_link(&job->chunks, &chunk->link);
	r->read_bytes += chunk->piece.is_unwritten ? 0 : chunk->piece.len;
	if (job->turn == r->turn && chunk->room == WDR_CHUNK_BYTES)
		wdr_copy_run_wake_writer(r);
}

/* The file's last chunk (NULL: it has none, or was handed over), and that it is the last. */
static void end_job(WdrCopyRun *r, WdrJob *job, WdrChunk *last)
{
	g_mutex_lock(&r->lock);
	if (last)
		hand_chunk(r, job, last);
	job->is_read = true;
	if (++r->ready >= WAKE_AT_FILES || r->to_read.length == 0)
		wdr_copy_run_wake_writer(r);
	g_mutex_unlock(&r->lock);
}

/* A damaged source, or a file that grows while it is read, may give pieces that overlap or reach
 * beyond the size in the inode. The builder relies on neither happening. */
static bool check_piece(const WdrJob *job, const WdrPiece *piece, uint64_t pos, GError **error)
{
	if (piece->offset >= pos && piece->offset <= job->entry.size &&
		piece->len <= job->entry.size - piece->offset)
		return true;
	return wdr_error_set(error, WDR_ERROR_FORMAT, "its content does not fit its size");
}

/* Tells the writer when the hasher has passed a mark. */
static void note_reached(const WdrCopyRun *r, const WdrJob *job, const WdrHasher *hasher,
	uint64_t before, WdrChunk *chunk)
{
	WdrHashMark mark = wdr_hasher_mark(hasher);

	if (!r->copy->checkpoint || mark.at == before)
		return;
	chunk->reached = g_new0(WdrReached, 1);
	chunk->reached->mark = mark;
	chunk->reached->missing = g_array_new(FALSE, FALSE, sizeof(WdrRange));
	for (guint i = 0; job->damage && i < job->damage->ranges->len; i++) {
		WdrRange range = g_array_index(job->damage->ranges, WdrRange, i);
		if (range.offset >= mark.at)
			break;
		range.len = MIN(range.len, mark.at - range.offset);
		g_array_append_val(chunk->reached->missing, range);
	}
}

/* From where an earlier run had copied it to, or simply the next. */
static bool next_piece(const WdrJob *job, WdrChunk *chunk, uint64_t pos, GError **error)
{
	bool is_first = job->reached && pos == job->reached->mark.at;

	return is_first ? wdr_content_next_from(
				  job->content, chunk->data, chunk->room, pos, &chunk->piece, error)
			: wdr_content_next(
				  job->content, chunk->data, chunk->room, &chunk->piece, error);
}

/* The next piece into the chunk; *pos moves behind it. An empty one is the end. */
static bool read_piece(const WdrCopyRun *r, const WdrJob *job, const Reader *own, WdrChunk *chunk,
	uint64_t *pos, GError **error)
{
	uint64_t mark = wdr_hasher_mark(own->hasher).at;

	if (!next_piece(job, chunk, *pos, error) ||
		(chunk->piece.len > 0 && !check_piece(job, &chunk->piece, *pos, error)))
		return false;
	if (chunk->piece.len == 0)
		wdr_hasher_add_zeros(own->hasher, job->entry.size - *pos);
	else
		wdr_hash_piece(own->hasher, &chunk->piece, chunk->data, pos);
	note_reached(r, job, own->hasher, mark, chunk);
	return true;
}

/* All of a file. The chunk with its last byte (*ret_last) is kept back until the source has
 * confirmed the end, so that a small file is handed over at once. NULL: the file ends with a hole,
 * or the run is being stopped. */
static bool read_pieces(
	WdrCopyRun *r, WdrJob *job, Reader *own, WdrChunk **ret_last, GError **error)
{
	uint64_t pos = job->reached ? job->reached->mark.at : 0;
	WdrChunk *chunk;

	while ((chunk = take_room(r, own, job, job->entry.size - pos))) {
		bool is_fine = wdr_stop_check(error) && read_piece(r, job, own, chunk, &pos, error);
		bool is_end = is_fine && chunk->piece.len == 0;
		bool is_last = is_fine && !is_end && pos == job->entry.size;
		is_fine =
			is_fine && (!is_last || read_piece(r, job, own, own->beyond, &pos, error));
		if (!is_fine || is_end) {
			wdr_copy_run_give_room(r, chunk);
			return is_fine;
		}
		if (is_last) {
			*ret_last = chunk;
			return true;
		}
		g_mutex_lock(&r->lock);
		hand_chunk(r, job, chunk);
		g_mutex_unlock(&r->lock);
	}
	return true;
}

/* Sets the hasher to where an earlier run came to, and says whether this file may be copied with
 * gaps. */
static void begin_reading(WdrCopyRun *r, WdrJob *job, WdrHasher *hasher)
{
	static const WdrHashMark start;

	wdr_hasher_take_up(hasher, job->reached ? &job->reached->mark : &start);
	if (!r->copy->may_miss || !r->copy->may_miss(r->copy->miss_data, job->path))
		return;
	job->content->damage = job->damage = wdr_damage_new(&r->read_failures);
	if (job->reached)
		g_array_append_vals(job->damage->ranges, job->reached->missing->data,
			job->reached->missing->len);
}

/* Nobody reads what somebody vouches for at these places. */
static bool is_known(WdrCopyRun *r, WdrJob *job)
{
	if (!r->copy->is_known || !r->copy->is_known(r->copy->known_data, job->id))
		return false;
	job->places = wdr_content_places(job->content);
	if (job->places == 0)
		return false;
	end_job(r, job, NULL);
	return true;
}

static bool read_job(WdrCopyRun *r, WdrJob *job, Reader *own, GError **error)
{
	WdrChunk *last = NULL;

	begin_reading(r, job, own->hasher);
	if (!read_pieces(r, job, own, &last, error)) {
		g_prefix_error(error, "%s: ", job->path);
		return false;
	}
	job->hash = wdr_hasher_result(own->hasher);
	end_job(r, job, last);
	return true;
}

void *wdr_copy_read_thread(void *data)
{
	WdrCopyRun *r = data;
	WdrChunk beyond = { .data = g_malloc(CHUNK_ALIGN), .room = CHUNK_ALIGN };
	Reader own = { .hasher = wdr_hasher_new(), .beyond = &beyond };
	GError *error = NULL;

	for (WdrJob *job; !error && (job = take_job(r));) {
		if (!is_known(r, job) && !read_job(r, job, &own, &error))
			wdr_copy_run_fail(r, error);
	}
	wdr_hasher_free(own.hasher);
	g_free(beyond.data);
	wdr_reached_free(beyond.reached);
	g_mutex_lock(&r->lock);
	if (own.slab)
		wdr_copy_run_leave_slab(r, own.slab);
	g_mutex_unlock(&r->lock);
	return NULL;
}
