/* The readers of the copying engine: each takes the next file, reads it in chunks and hashes it.
 *
 * There are two, so that one hashes while the other waits for the disk. More would make the disk
 * jump between files. Hashing is done here, not by the writer, since it takes as long as a fast
 * disk takes to write. */
#include "copy/volume_copy_priv.h"

#include "base/stop.h"

#include <stdlib.h>

enum {
	SMALL_CHUNK_BYTES = 64 * 1024, /* most files are smaller */
	CHUNK_ALIGN = 4096,            /* so that reads past the page cache need no copy */
};

/* NULL: there is no file left, or the run is being stopped. */
static WdrJob *take_job(WdrCopyRun *r)
{
	g_mutex_lock(&r->lock);
	while (r->to_read.length == 0 && !r->is_planned && !r->is_stopping)
		g_cond_wait(&r->changed, &r->lock);
	WdrJob *job = r->is_stopping ? NULL : g_queue_pop_head(&r->to_read);
	g_mutex_unlock(&r->lock);
	return job;
}

/* The writer has nothing to do until this file's next chunk comes. */
static bool is_awaited(const WdrCopyRun *r, const WdrJob *job)
{
	return job->turn == r->turn && job->chunks.length == 0;
}

/* A chunk with room for at least `want` bytes, or for WDR_CHUNK_BYTES of them; NULL when stopping.
 * One that the writer waits for is always let through, or all readers could wait for room that only
 * its writing can make. */
static WdrChunk *take_room(WdrCopyRun *r, const WdrJob *job, uint64_t want)
{
	size_t room = want <= SMALL_CHUNK_BYTES ? SMALL_CHUNK_BYTES : WDR_CHUNK_BYTES;
	WdrChunk *chunk = NULL;
	int64_t begun = g_get_monotonic_time();

	g_mutex_lock(&r->lock);
	while (r->in_flight + room > WDR_COPY_AHEAD_BYTES && !is_awaited(r, job) && !r->is_stopping)
		g_cond_wait(&r->changed, &r->lock);
	r->waited_for_target += g_get_monotonic_time() - begun;
	bool may_go_on = !r->is_stopping;
	if (may_go_on) {
		r->in_flight += room;
		chunk = g_queue_pop_head(room == WDR_CHUNK_BYTES ? &r->large : &r->small);
		r->allocated += chunk ? 0 : room;
	}
	/* Idle chunks of the other size make way. */
	GQueue *other = room == WDR_CHUNK_BYTES ? &r->small : &r->large;
	while (r->allocated > WDR_COPY_AHEAD_BYTES + WDR_CHUNK_BYTES && other->length > 0) {
		WdrChunk *idle = g_queue_pop_head(other);
		r->allocated -= idle->room;
		wdr_chunk_free(idle);
	}
	g_mutex_unlock(&r->lock);
	if (!may_go_on || chunk)
		return chunk;
	chunk = g_new0(WdrChunk, 1);
	chunk->room = room;
	chunk->data = aligned_alloc(CHUNK_ALIGN, room);
	if (!chunk->data)
		g_error("out of memory");
	return chunk;
}

/* Gives a chunk to the writer, which waits for the file that has the turn. */
static void hand_chunk(WdrCopyRun *r, WdrJob *job, WdrChunk *chunk)
{
	g_mutex_lock(&r->lock);
	g_queue_push_tail(&job->chunks, chunk);
	r->read_bytes += chunk->piece.is_unwritten ? 0 : chunk->piece.len;
	if (job->turn == r->turn)
		g_cond_broadcast(&r->changed);
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

/* One piece of a file; *pos moves behind it, *is_end after the last one. */
static bool read_piece(
	WdrCopyRun *r, WdrJob *job, WdrHasher *hasher, uint64_t *pos, bool *is_end, GError **error)
{
	if (!wdr_stop_check(error))
		return false;
	WdrChunk *chunk = take_room(r, job, job->entry.size - *pos);
	if (!chunk) {
		*is_end = true;
		return true;
	}
	if (!next_piece(job, chunk, *pos, error) ||
		(chunk->piece.len > 0 && !check_piece(job, &chunk->piece, *pos, error))) {
		wdr_chunk_free(chunk);
		return false;
	}
	WdrPiece piece = chunk->piece;
	uint64_t mark = wdr_hasher_mark(hasher).at;
	*is_end = piece.len == 0;
	if (*is_end)
		wdr_hasher_add_zeros(hasher, job->entry.size - *pos);
	else
		wdr_hash_piece(hasher, &piece, chunk->data, pos);
	note_reached(r, job, hasher, mark, chunk);
	/* The empty last piece only gives its room back. */
	hand_chunk(r, job, chunk);
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
	g_mutex_lock(&r->lock);
	job->is_read = true;
	g_cond_broadcast(&r->changed);
	g_mutex_unlock(&r->lock);
	return true;
}

static bool read_job(WdrCopyRun *r, WdrJob *job, WdrHasher *hasher, GError **error)
{
	uint64_t pos = job->reached ? job->reached->mark.at : 0;
	bool is_end = false;

	begin_reading(r, job, hasher);
	while (!is_end) {
		if (!read_piece(r, job, hasher, &pos, &is_end, error)) {
			g_prefix_error(error, "%s: ", job->path);
			return false;
		}
	}
	g_mutex_lock(&r->lock);
	job->hash = wdr_hasher_result(hasher);
	job->is_read = true;
	g_cond_broadcast(&r->changed);
	g_mutex_unlock(&r->lock);
	return true;
}

void *wdr_copy_read_thread(void *data)
{
	WdrCopyRun *r = data;
	g_autoptr(WdrHasher) hasher = wdr_hasher_new();
	GError *error = NULL;

	for (WdrJob *job; (job = take_job(r));) {
		if (!is_known(r, job) && !read_job(r, job, hasher, &error)) {
			wdr_copy_run_fail(r, error);
			return NULL;
		}
	}
	return NULL;
}
