/* The copying engine: the planner, the writer, and what they hand to each other.
 *
 *   planner ── batches ──────────────────────────> writer (the caller's thread) ──> builder
 *      └────── files with content, by place ──> 2 readers ── chunks ──┘
 *
 *   A reporter tells the observer how far it is.
 *
 * Rules that keep this correct:
 *   - Only the planner touches the walk, only the writer touches the builder, the record and the
 *     checkpoints. Volumes must allow opening and reading from several threads.
 *   - The writer takes files in the order in which the planner queued them (`turn`). So the
 * target's layout depends on the source alone, not on which reader was faster.
 *   - A reader waits when 8 MiB are read but not written, until half of it is. It does not wait
 * with the chunk that the writer needs next: otherwise all readers could hold later files, and
 * nobody could go on.
 *   - A reader wakes the writer once some files are read, and always before it waits itself.
 *   - The first error stops all threads (wdr_copy_run_fail). A batch is freed by the writer when it
 *     is done, or at the end, after the readers, which may still use its files. */
#include "copy/volume_copy.h"

#include "base/stop.h"
#include "copy/volume_copy_priv.h"

enum {
	READERS = 2,
	BATCHES_AHEAD = 2,
	REPORT_EVERY_US = 200000,
	CHECKPOINT_EVERY_US = 20 * 1000000,
	TELL_WRITTEN_BYTES = 32 * 1024 * 1024,
};

struct WdrCopyCount {
	atomic_uint_fast64_t bytes;
};

WdrCopyCount *wdr_copy_count_new(void)
{
	return g_new0(WdrCopyCount, 1);
}

void wdr_copy_count_free(WdrCopyCount *count)
{
	g_free(count);
}

void wdr_copy_count_done(void *count, uint64_t bytes)
{
	atomic_fetch_add(&((WdrCopyCount *)count)->bytes, bytes);
}

uint64_t wdr_copy_count_bytes(const WdrCopyCount *count)
{
	return atomic_load(&count->bytes);
}

void wdr_copy_run_fail(WdrCopyRun *r, GError *error)
{
	g_mutex_lock(&r->lock);
	if (r->failure)
		g_error_free(error);
	else
		r->failure = error;
	r->is_stopping = true;
	g_cond_broadcast(&r->for_planner);
	g_cond_broadcast(&r->for_readers);
	g_cond_broadcast(&r->for_writer);
	g_mutex_unlock(&r->lock);
}

void wdr_copy_run_wake_readers(WdrCopyRun *r)
{
	if (r->readers_waiting > 0)
		g_cond_broadcast(&r->for_readers);
}

void wdr_copy_run_wake_writer(WdrCopyRun *r)
{
	if (r->writer_waits)
		g_cond_signal(&r->for_writer);
}

/* Under the lock. Returns how long it took, in microseconds. */
static int64_t wait_as_writer(WdrCopyRun *r)
{
	int64_t begun = g_get_monotonic_time();

	r->writer_waits = true;
	r->ready = 0;
	g_cond_wait(&r->for_writer, &r->lock);
	r->writer_waits = false;
	return g_get_monotonic_time() - begun;
}

/* ---- planner ---- */

/* Queues a batch for the writer and its files for the readers. Waits while two batches are ahead:
 * they hold all their entries, which bounds the memory. False: the run is being stopped, and the
 * batch stays the caller's. */
static bool hand_over(WdrCopyRun *r, WdrBatch *w)
{
	g_mutex_lock(&r->lock);
	while (r->batches.length >= BATCHES_AHEAD && !r->is_stopping) {
		r->planner_waits = true;
		g_cond_wait(&r->for_planner, &r->lock);
		r->planner_waits = false;
	}
	bool is_wanted = !r->is_stopping;
	if (is_wanted) {
		g_queue_push_tail(&r->batches, w);
		for (guint i = 0; i < w->by_place->len; i++)
			g_queue_push_tail_link(
				&r->to_read, &((WdrJob *)w->by_place->pdata[i])->link);
	}
	wdr_copy_run_wake_readers(r);
	wdr_copy_run_wake_writer(r);
	g_mutex_unlock(&r->lock);
	return is_wanted;
}

/* Within it checkpoints are made, which need the state of the walk behind it. */
static bool ends_with_long_file(const WdrBatch *w)
{
	return w->jobs->len > 0 && wdr_job_is_long(w->jobs->pdata[w->jobs->len - 1]);
}

static void *plan_thread(void *data)
{
	WdrCopyRun *r = data;
	GError *error = NULL;

	for (;;) {
		g_autoptr(WdrBatch) w = NULL;
		if (!wdr_tree_walk_next(r->walk, &w, &error)) {
			wdr_copy_run_fail(r, error);
			break;
		}
		bool is_wanted = w && (atomic_exchange(&r->wants_state, false) ||
					      (r->copy->checkpoint && ends_with_long_file(w)));
		if (is_wanted)
			w->after = wdr_tree_walk_state(r->walk);
		if (!w || !hand_over(r, w))
			break;
		w = NULL;
	}
	g_mutex_lock(&r->lock);
	r->is_planned = true;
	wdr_copy_run_wake_readers(r);
	wdr_copy_run_wake_writer(r);
	g_mutex_unlock(&r->lock);
	return NULL;
}

/* ---- writer ---- */

static void report(WdrCopyRun *r)
{
	WdrProgress p = r->copy->total;

	g_mutex_lock(&r->lock);
	p.bytes_done = r->count ? wdr_copy_count_bytes(r->count) : r->read_bytes;
	p.entries_done = r->entries;
	p.bytes_waiting = r->copy->waiting ? r->copy->waiting(r->copy->behind_data) : 0;
	p.reads_behind = r->copy->waiting != NULL;
	p.bytes_read = r->count ? r->copy->total.bytes_done + r->read_bytes : 0;
	g_mutex_unlock(&r->lock);
	if (p.bytes_total > 0)
		p.bytes_done = MIN(p.bytes_done, p.bytes_total);
	if (p.entries_total > 0)
		p.entries_done = MIN(p.entries_done, p.entries_total);
	wdr_world_progress(r->world, &p);
}

/* Reports a few times a second, whatever the writer waits for: a slow medium can hold it up for
 * seconds. Nobody else reports while the copying lasts. */
static void *report_thread(void *data)
{
	WdrCopyRun *r = data;

	g_mutex_lock(&r->lock);
	while (!r->is_over) {
		int64_t next = g_get_monotonic_time() + REPORT_EVERY_US;
		if (g_cond_wait_until(&r->over, &r->lock, next))
			continue;
		g_mutex_unlock(&r->lock);
		report(r);
		g_mutex_lock(&r->lock);
	}
	g_mutex_unlock(&r->lock);
	return NULL;
}

static void end_reports(WdrCopyRun *r, GThread *reporter)
{
	g_mutex_lock(&r->lock);
	r->is_over = true;
	g_cond_signal(&r->over);
	g_mutex_unlock(&r->lock);
	g_thread_join(reporter);
	report(r);
}

static WdrBatch *take_batch(WdrCopyRun *r)
{
	g_mutex_lock(&r->lock);
	while (r->batches.length == 0 && !r->is_planned && !r->is_stopping)
		r->waited_for_source += wait_as_writer(r);
	WdrBatch *w = r->is_stopping ? NULL : g_queue_pop_head(&r->batches);
	if (r->planner_waits)
		g_cond_signal(&r->for_planner);
	g_mutex_unlock(&r->lock);
	return w;
}

/* First part of a batch: folders and all entries without content. Names of a folder come before the
 * entries that they name, since a builder gives inode numbers in the order of names. */
static bool build_steps(WdrCopyRun *r, const WdrBatch *w, GError **error)
{
	WdrBuilder *b = r->copy->builder;

	for (guint i = 0; i < w->order->len; i++) {
		const WdrBatchStep *step = &g_array_index(w->order, WdrBatchStep, i);
		if (!wdr_stop_check(error))
			return false;
		if (step->is_folder) {
			WdrFolderJob *f = w->folders->pdata[step->index];
			WdrBuildNode at = { f->serial, f->parent, f->path };
			if (!b->ops->fill_folder(b, &at, (WdrChild *)(void *)f->children->data,
				    f->children->len, error))
				return false;
			continue;
		}
		const WdrJob *job = w->jobs->pdata[step->index];
		WdrBuildNode at = { job->serial, job->parent, job->path };
		if (!job->link_to && !job->content && !b->ops->add(b, &at, &job->entry, error))
			return false;
	}
	return true;
}

/* The next chunk of the job that has the turn; NULL with *is_end when it was read to its end. */
static WdrChunk *next_chunk(WdrCopyRun *r, WdrJob *job, bool *is_end)
{
	g_mutex_lock(&r->lock);
	while (job->chunks.length == 0 && !job->is_read && !r->is_stopping) {
		if (job->is_blocked)
			wdr_copy_run_wake_readers(r);
		r->waited_for_source += wait_as_writer(r);
	}
	GList *first = r->is_stopping ? NULL : g_queue_pop_head_link(&job->chunks);
	WdrChunk *chunk = first ? first->data : NULL;
	*is_end = !chunk;
	g_mutex_unlock(&r->lock);
	return chunk;
}

void wdr_copy_run_leave_slab(WdrCopyRun *r, WdrSlab *slab)
{
	if (--slab->users > 0)
		return;
	slab->used = 0;
	g_ptr_array_add(r->slabs, slab);
}

void wdr_copy_run_give_room(WdrCopyRun *r, WdrChunk *chunk)
{
	g_clear_pointer(&chunk->reached, wdr_reached_free);
	g_mutex_lock(&r->lock);
	r->in_flight -= MAX(chunk->room, WDR_CHUNK_COST_MIN);
	if (chunk->slab)
		wdr_copy_run_leave_slab(r, chunk->slab);
	else
		g_ptr_array_add(r->buffers, chunk->data);
	chunk->data = NULL;
	chunk->slab = NULL;
	g_queue_push_head_link(&r->idle, &chunk->link);
	if (r->in_flight + WDR_CHUNK_BYTES <= wdr_copy_ahead_bytes() / 2)
		wdr_copy_run_wake_readers(r);
	g_mutex_unlock(&r->lock);
}

/* Bytes of files that the writer is done with: on the medium, or soon to be. */
static uint64_t written_bytes(WdrCopyRun *r)
{
	g_mutex_lock(&r->lock);
	uint64_t bytes = r->count ? wdr_copy_count_bytes(r->count) : r->read_bytes;
	g_mutex_unlock(&r->lock);
	return bytes;
}

/* `job` NULL: between two batches. */
static bool make_checkpoint(WdrCopyRun *r, const WdrBatch *w, const WdrJob *job,
	const WdrReached *reached, GError **error)
{
	g_autoptr(GVariant) state = wdr_copy_state(w->after, job, reached);

	r->checkpoint_at = g_get_monotonic_time();
	r->checkpoint_bytes = written_bytes(r);
	return r->copy->checkpoint(r->copy->checkpoint_data, state, error);
}

/* A chunk that reaches behind a mark is given in two, with the checkpoint between them. */
static bool put_chunk(
	WdrCopyRun *r, const WdrBatch *w, const WdrJob *job, WdrChunk *c, GError **error)
{
	WdrBuilder *b = r->copy->builder;
	uint64_t mark = c->reached && w->after ? c->reached->mark.at : 0;
	WdrPiece piece = c->piece;
	WdrPiece head = piece;

	if (piece.len == 0)
		return true;
	bool is_buffer = !c->slab && !piece.is_unwritten && b->ops->give;
	if (mark == 0 || mark >= job->entry.size)
		return is_buffer ? b->ops->give(b, &piece, &c->data, error)
				 : b->ops->piece(b, &piece, c->data, error);
	head.len = mark > piece.offset ? MIN(piece.len, mark - piece.offset) : 0;
	if ((head.len > 0 && !b->ops->piece(b, &head, c->data, error)) ||
		!make_checkpoint(r, w, job, c->reached, error))
		return false;
	piece.offset += head.len;
	piece.len -= head.len;
	return piece.len == 0 || b->ops->piece(b, &piece, c->data + head.len, error);
}

static bool tell_written(
	const WdrCopyRun *r, const WdrJob *job, const WdrHash *content, GError **error)
{
	const WdrCopy *c = r->copy;

	return !c->written ||
	       c->written(c->behind_data, job->path, job->entry.size, content, error);
}

/* One file, from its first to its last chunk. Without a builder (reading back) the chunks are only
 * counted; the reader has hashed them. */
static bool write_job(WdrCopyRun *r, const WdrBatch *w, WdrJob *job, GError **error)
{
	WdrBuilder *b = r->copy->builder;
	WdrBuildNode at = { job->serial, job->parent, job->path };
	bool is_end = false;

	g_mutex_lock(&r->lock);
	r->turn = job->turn;
	g_mutex_unlock(&r->lock);
	if (b && !job->reached && !b->ops->begin_file(b, &at, &job->entry, error))
		return false;
	for (uint64_t told = 0;;) {
		WdrChunk *chunk = next_chunk(r, job, &is_end);
		if (is_end)
			break;
		told += chunk->piece.len;
		bool is_fine = !b || put_chunk(r, w, job, chunk, error);
		wdr_copy_run_give_room(r, chunk);
		if (!is_fine) {
			g_prefix_error(error, "%s: ", job->path);
			return false;
		}
		if (told < TELL_WRITTEN_BYTES)
			continue;
		told = 0;
		if (b && !tell_written(r, job, NULL, error))
			return false;
	}
	if (r->is_stopping || !b)
		return true;
	return b->ops->end_file(b, error) && tell_written(r, job, &job->hash, error);
}

static bool tell_missed(WdrCopyRun *r, const char *path, const WdrDamage *damage, GError **error)
{
	return !r->copy->missed || r->copy->missed(r->copy->miss_data, path, damage, error);
}

/* Gives entries to the record, in the order of the walk. This happens after their contents are
 * written: the hash of a file is known only then. */
static bool record_jobs(WdrCopyRun *r, const WdrBatch *w, guint from, guint to, GError **error)
{
	static const WdrHash nothing;

	for (guint i = from; i < to && !r->is_stopping; i++) {
		const WdrJob *job = w->jobs->pdata[i];
		bool has_missed = job->damage && job->damage->ranges->len > 0;
		if (has_missed && !tell_missed(r, job->path, job->damage, error))
			return false;
		WdrCopied copied = { job->path, &job->entry, job->link_to,
			job->content ? job->hash : nothing, job->id, job->places };
		if (r->copy->record && !r->copy->record(r->copy->data, &copied, error))
			return false;
	}
	g_mutex_lock(&r->lock);
	r->entries += to - from;
	g_mutex_unlock(&r->lock);
	return true;
}

static void fit_entries(const WdrCopyRun *r, const WdrBatch *w)
{
	WdrBuilder *b = r->copy->builder;

	for (guint i = 0; b && b->ops->fit && i < w->jobs->len; i++)
		b->ops->fit(b, &((WdrJob *)w->jobs->pdata[i])->entry);
}

/* Entries first, then contents in the order of their places on the source, then the record. */
static bool write_batch(WdrCopyRun *r, WdrBatch *w, GError **error)
{
	guint n = w->jobs->len;
	/* All but a long file, the last in both orders, is recorded before it is begun. */
	guint first = ends_with_long_file(w) ? n - 1 : n;

	fit_entries(r, w);
	if (r->copy->builder && !build_steps(r, w, error))
		return false;
	for (guint i = 0; i < w->unread->len; i++) {
		if (!tell_missed(r, w->unread->pdata[i], NULL, error))
			return false;
	}
	for (guint i = 0; i < w->by_place->len && !r->is_stopping; i++) {
		WdrJob *job = w->by_place->pdata[i];
		bool is_long = first < n && job == w->jobs->pdata[first];
		if ((is_long && !record_jobs(r, w, 0, first, error)) ||
			!write_job(r, w, job, error))
			return false;
	}
	return record_jobs(r, w, first < n ? first : 0, n, error);
}

static bool fix_links(void *data, uint64_t serial, uint64_t links, GError **error)
{
	WdrBuilder *b = ((WdrCopyRun *)data)->copy->builder;

	return !b || !b->ops->set_links || b->ops->set_links(b, serial, links, error);
}

/* Asks the planner for the state of the walk when it is time; a batch that has it is followed by a
 * checkpoint. */
static bool after_batch(WdrCopyRun *r, const WdrBatch *w, GError **error)
{
	int64_t now = g_get_monotonic_time();

	if (!r->copy->checkpoint || r->is_stopping)
		return true;
	if (w->after)
		return make_checkpoint(r, w, NULL, NULL, error);
	if (now - r->checkpoint_at >= CHECKPOINT_EVERY_US ||
		written_bytes(r) - r->checkpoint_bytes >= r->copy->checkpoint_bytes)
		r->wants_state = true;
	return true;
}

static void write_all(WdrCopyRun *r)
{
	GError *error = NULL;

	for (WdrBatch *w; (w = take_batch(r));) {
		bool is_fine = write_batch(r, w, &error) && after_batch(r, w, &error);
		if (!is_fine)
			wdr_copy_run_fail(r, g_steal_pointer(&error));
		g_mutex_lock(&r->lock);
		bool is_over = r->is_stopping;
		/* A batch that readers may still work on is freed after they have ended. */
		if (is_over)
			g_queue_push_head(&r->batches, w);
		g_mutex_unlock(&r->lock);
		if (is_over)
			return;
		wdr_batch_free(w);
	}
}

static void add_waits(const WdrCopyRun *r)
{
	WdrCopyWaits *w = r->copy->waits;

	if (!w)
		return;
	w->for_source += (double)r->waited_for_source / G_USEC_PER_SEC;
	w->for_target += (double)r->waited_for_target / READERS / G_USEC_PER_SEC;
}

bool wdr_copy_volume(
	const WdrWorld *world, const WdrCopy *copy, WdrCopyCount *count, GError **error)
{
	WdrCopyRun r = { .world = world,
		.copy = copy,
		.count = count,
		.entries = copy->total.entries_done,
		.checkpoint_at = g_get_monotonic_time(),
		.checkpoint_bytes = copy->total.bytes_done,
		.read_bytes = copy->total.is_reading_back ? copy->total.bytes_done : 0 };
	GThread *readers[READERS];

	WdrBatch *open = NULL;

	r.walk = wdr_tree_walk_new(copy, wdr_world_now(world));
	if (copy->resume_from && !wdr_copy_restore(r.walk, copy->resume_from, &open, error)) {
		wdr_tree_walk_free(r.walk);
		return false;
	}
	g_mutex_init(&r.lock);
	g_cond_init(&r.for_planner);
	g_cond_init(&r.for_readers);
	g_cond_init(&r.for_writer);
	g_cond_init(&r.over);
	g_queue_init(&r.batches);
	g_queue_init(&r.to_read);
	g_queue_init(&r.idle);
	r.slabs = g_ptr_array_new_with_free_func((GDestroyNotify)wdr_slab_free);
	r.buffers = g_ptr_array_new_with_free_func((GDestroyNotify)wdr_buffer_free);
	if (open)
		(void)hand_over(&r, open);
	GThread *planner = g_thread_new("planner", plan_thread, &r);
	for (size_t i = 0; i < READERS; i++)
		readers[i] = g_thread_new("reader", wdr_copy_read_thread, &r);
	GThread *reporter = g_thread_new("reporter", report_thread, &r);
	write_all(&r);
	end_reports(&r, reporter);
	g_thread_join(planner);
	for (size_t i = 0; i < READERS; i++)
		g_thread_join(readers[i]);
	g_queue_clear_full(&r.batches, (GDestroyNotify)wdr_batch_free);
	for (GList *link; (link = g_queue_pop_head_link(&r.idle));)
		g_free(link->data);
	g_ptr_array_unref(r.buffers);
	g_ptr_array_unref(r.slabs);
	GError *failure = r.failure;
	if (!failure)
		(void)wdr_tree_walk_short_links(r.walk, fix_links, &r, &failure);
	wdr_tree_walk_free(r.walk);
	add_waits(&r);
	g_mutex_clear(&r.lock);
	g_cond_clear(&r.for_planner);
	g_cond_clear(&r.for_readers);
	g_cond_clear(&r.for_writer);
	g_cond_clear(&r.over);
	if (!failure)
		return true;
	g_propagate_error(error, failure);
	return false;
}
