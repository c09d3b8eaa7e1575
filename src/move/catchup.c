/* Repeated passes that copy what changed on the source. */
#include "move/catchup.h"

#include "base/command.h"
#include "base/io.h"
#include "copy/apply_changes.h"
#include "move/move_run.h"
#include "move/target_records.h"
#include "plan/running_source.h"
#include "world/pause.h"

#include <string.h>

static void caught_free(void *data)
{
	WdrCaught *c = data;

	g_free(c->path);
	g_free(c->from);
	g_free(c);
}

void wdr_caught_up_clear(WdrCaughtUp *c)
{
	g_clear_pointer(&c->changes, g_ptr_array_unref);
	g_clear_pointer(&c->unsettled, g_ptr_array_unref);
	g_clear_pointer(&c->paused, g_free);
	g_clear_pointer(&c->pause_problem, g_free);
}

static void caught_up_init(WdrCaughtUp *c)
{
	*c = (WdrCaughtUp){ .changes = g_ptr_array_new_with_free_func(caught_free),
		.unsettled = g_ptr_array_new_with_free_func(caught_free) };
}

/* ---- what is otherwise ---- */

typedef struct {
	const WdrItineraryPart *part;
	GPtrArray *diffs; /* WdrDiff; empty: nothing changed */
	int64_t begun;
	bool is_last; /* nothing is read of the source after this part */
} Found;

static void found_free(void *data)
{
	Found *f = data;

	g_clear_pointer(&f->diffs, g_ptr_array_unref);
	g_free(f);
}

/* Files that the target has in an edited form, with what they were made from. */
static GHashTable *edited_files(const WdrMoveRun *m, unsigned number)
{
	GHashTable *edited = g_hash_table_new(g_str_hash, g_str_equal);

	for (guint i = 0; i < m->it->edits->len; i++) {
		WdrEdit *edit = m->it->edits->pdata[i];
		if (edit->number == number && !edit->is_on_source)
			g_hash_table_insert(edited, edit->file, &edit->before);
	}
	return edited;
}

static WdrDifference difference_of(const WdrMoveRun *m, const WdrItineraryPart *p,
	const WdrExclude *exclude, GHashTable *edited)
{
	return (WdrDifference){ .world = m->world,
		.source = wdr_move_run_source_part(m, p->number)->volume,
		.exclude = exclude,
		.edited = edited,
		.missing = m->records.logged.missing,
		.partition = p->number };
}

/* A FAT is copied as a whole or not at all: one whose edited files changed is left as it is. */
static void keep_whole(const WdrItineraryPart *p, GPtrArray *diffs)
{
	bool has_edited = false;

	for (guint i = 0; i < diffs->len; i++)
		has_edited |= ((const WdrDiff *)diffs->pdata[i])->kind == WDR_DIFF_EDITED;
	for (guint i = 0; has_edited && wdr_move_run_is_fat(p) && i < diffs->len; i++)
		((WdrDiff *)diffs->pdata[i])->kind = WDR_DIFF_EDITED;
}

/* What differs between the source as it is now and the packing list. The target is not read for
 * this: what is on it was read back when the list was written. */
static bool find_in_part(WdrMoveRun *m, const WdrItineraryPart *p, Found *ret, GError **error)
{
	g_autoptr(WdrExclude) exclude = wdr_move_run_exclude(m, p);
	g_autoptr(GHashTable) edited = edited_files(m, p->number);
	g_autofree char *list = wdr_move_records_packing_file(&m->records, p);
	WdrDifference d = difference_of(m, p, exclude, edited);
	g_autoptr(WdrPacking) packing = NULL;

	ret->part = p;
	if (!wdr_packing_open(list, &packing, error) ||
		!wdr_difference_find(&d, packing, &ret->diffs, &ret->begun, error))
		return false;
	keep_whole(p, ret->diffs);
	return true;
}

static unsigned count_to_copy(const Found *f)
{
	unsigned count = 0;

	for (guint i = 0; i < f->diffs->len; i++)
		count += ((const WdrDiff *)f->diffs->pdata[i])->kind == WDR_DIFF_EDITED ? 0 : 1;
	return count;
}

/* All parts; a running FAT is flushed and opened anew before. */
static bool find_all(WdrMoveRun *m, GPtrArray *found, unsigned *ret_count, GError **error)
{
	*ret_count = 0;
	if (!wdr_running_refresh(m->world, m->disks.source->disk, m->disks.source->system, error))
		return false;
	wdr_running_read_ahead(m->disks.source->system);
	for (guint i = 0; i < m->it->parts->len; i++) {
		const WdrItineraryPart *p = m->it->parts->pdata[i];
		/* Swap has nothing to copy, and blocks are only copied of what nobody writes to.
		 */
		if (!wdr_move_run_is_volume(p))
			continue;
		Found *f = g_new0(Found, 1);
		g_ptr_array_add(found, f);
		if (!find_in_part(m, p, f, error))
			return false;
		*ret_count += count_to_copy(f);
	}
	return true;
}

/* ---- copying it ---- */

static const WdrUnreadable *missing_of(const WdrMoveRun *m, const Found *f, const char *path)
{
	return wdr_unreadable_find(m->records.logged.missing, f->part->number, path);
}

/* Of what was renamed nothing was read again: the same is missing as before. */
static bool note_renamed(WdrMoveRun *m, const Found *f, GError **error)
{
	for (guint i = 0; i < f->diffs->len; i++) {
		const WdrDiff *diff = f->diffs->pdata[i];
		const WdrUnreadable *was =
			diff->renamed_from ? missing_of(m, f, diff->renamed_from) : NULL;
		bool is_accepted = was && was->is_accepted;
		if (was && !wdr_move_records_note_unreadable(&m->records, f->part->number,
				   diff->now.path, was->ranges, error))
			return false;
		if (is_accepted)
			wdr_unreadable_find(
				m->records.logged.missing, f->part->number, diff->now.path)
				->is_accepted = true;
	}
	return true;
}

/* What is missing of what was copied now, or is not any more. */
static bool note_missing(WdrMoveRun *m, const Found *f, GError **error)
{
	if (!note_renamed(m, f, error))
		return false;
	for (guint i = 0; i < f->diffs->len; i++) {
		const WdrDiff *diff = f->diffs->pdata[i];
		const char *path = diff->now.path ? diff->now.path : diff->was.path;
		bool is_copied = (diff->kind == WDR_DIFF_NEW && !diff->renamed_from) ||
				 diff->kind == WDR_DIFF_CONTENT || diff->kind == WDR_DIFF_REMOVED;
		if (is_copied && (diff->missing->len > 0 || missing_of(m, f, path)) &&
			!wdr_move_records_note_unreadable(
				&m->records, f->part->number, path, diff->missing, error))
			return false;
	}
	return true;
}

/* The services start as soon as the source was read: what follows is about the target. */
static void end_pause(WdrMoveRun *m)
{
	WdrCaughtUp *ret = &m->result->caught_up;
	g_autoptr(GError) problem = NULL;

	if (m->pause && !wdr_pause_end(m->pause, &ret->paused_s, &problem))
		ret->pause_problem = g_strdup(problem->message);
	m->pause = NULL;
}

static bool apply_to_ext(WdrMoveRun *m, WdrLastPart *last_part, Found *f, GError **error)
{
	g_autoptr(WdrExclude) exclude = wdr_move_run_exclude(m, f->part);
	g_autoptr(GHashTable) edited = edited_files(m, f->part->number);
	g_autofree char *list = wdr_move_records_packing_file(&m->records, f->part);
	WdrDifference d = difference_of(m, f->part, exclude, edited);
	uint64_t offset = 0;
	uint64_t bytes = 0;
	WdrBlockDev *dev = wdr_last_part_device(m, last_part, f->part, false, &offset);
	WdrBuildTarget target = { dev, offset, f->part->to.size, m->disks.source->scratch, NULL,
		NULL };

	if (!wdr_apply_ext(&d, &target, f->diffs, &bytes, error))
		return false;
	if (f->is_last)
		end_pause(m);
	if (!wdr_apply_list(list, f->diffs, f->begun, error))
		return false;
	m->result->caught_up.bytes += bytes;
	return note_missing(m, f, error) &&
	       wdr_last_part_verify(m, last_part, f->part, f->diffs, error) &&
	       /* Root is checked with the records on it. */
	       (last_part->part == f->part || f->part == wdr_itinerary_root(m->it) ||
		       wdr_move_run_check_ext(m, f->part, error));
}

/* A FAT is small enough to be copied anew. */
static bool copy_fat_again(WdrMoveRun *m, WdrLastPart *last_part, Found *f, GError **error)
{
	uint64_t offset = 0;
	WdrBlockDev *dev = wdr_last_part_device(m, last_part, f->part, false, &offset);
	uint64_t entries = m->result->entries;
	uint64_t bytes = m->result->bytes;

	if (!wdr_move_run_fill(m, f->part, dev, offset, error) ||
		(last_part->part == f->part && !wdr_last_part_look(last_part, error)))
		return false;
	WdrBlockDev *medium = wdr_last_part_device(m, last_part, f->part, true, &offset);
	/* It was counted the first time. */
	m->result->entries = entries;
	m->result->bytes = bytes;
	m->result->caught_up.bytes += f->part->bytes;
	return wdr_move_run_compare(m, f->part, medium, offset, error) &&
	       wdr_move_run_check_fat(m, medium, offset, f->part->to.size, error);
}

/* What was renamed is listed under its new name alone. */
static void tell(WdrCaughtUp *ret, const Found *f)
{
	g_autoptr(GHashTable) renamed = g_hash_table_new(g_str_hash, g_str_equal);

	for (guint i = 0; i < f->diffs->len; i++) {
		WdrDiff *diff = f->diffs->pdata[i];
		if (diff->renamed_from)
			g_hash_table_add(renamed, diff->renamed_from);
	}
	for (guint i = 0; i < f->diffs->len; i++) {
		const WdrDiff *diff = f->diffs->pdata[i];
		bool is_removed = diff->kind == WDR_DIFF_REMOVED;
		if (is_removed && g_hash_table_contains(renamed, diff->was.path))
			continue;
		if (diff->kind == WDR_DIFF_EDITED && ret->passes > 0)
			continue;
		WdrCaught *c = g_new0(WdrCaught, 1);
		c->partition = f->part->number;
		c->kind = diff->kind;
		/* What cannot be copied may have been removed. */
		const WdrListEntry *there = diff->now.path ? &diff->now : &diff->was;
		c->path = g_strdup(there->path);
		c->from = g_strdup(diff->renamed_from);
		c->is_folder = there->kind == WDR_KIND_FOLDER;
		g_ptr_array_add(ret->changes, c);
	}
}

/* Before the first change the target is made unbootable again (wdr_last_part_take), and each part
 * is marked "changing" in the logbook: cut off here, it is copied again. */
static bool copy_changes(WdrMoveRun *m, WdrLastPart *last_part, GPtrArray *found, GError **error)
{
	if (!last_part->dev && !wdr_last_part_take(m, last_part, error))
		return false;
	bool is_last = true;
	for (guint i = found->len; i > 0; i--) {
		Found *f = found->pdata[i - 1];
		f->is_last = is_last && count_to_copy(f) > 0;
		is_last &= !f->is_last;
	}
	for (guint i = 0; i < found->len; i++) {
		Found *f = found->pdata[i];
		if (count_to_copy(f) == 0)
			continue;
		if (!wdr_logbook_step(m->records.logbook, error,
			    "copying %u changes to partition %u", count_to_copy(f),
			    f->part->number) ||
			!wdr_move_run_note_changing(m, f->part, error) ||
			!(wdr_move_run_is_fat(f->part) ? copy_fat_again : apply_to_ext)(
				m, last_part, f, error) ||
			!wdr_move_run_note_copied(m, f->part, error))
			return false;
	}
	return true;
}

/* *ret_count: what it found, and copied as it was. */
static bool make_pass(WdrMoveRun *m, WdrLastPart *last_part, WdrCaughtUp *ret, GPtrArray *found,
	unsigned *ret_count, GError **error)
{
	if (!wdr_logbook_step(m->records.logbook, error, "looking for what changed since") ||
		!find_all(m, found, ret_count, error))
		return false;
	for (guint i = 0; i < found->len; i++)
		tell(ret, found->pdata[i]);
	return *ret_count == 0 || copy_changes(m, last_part, found, error);
}

/* The last look finds what still changes; what it found was copied as it was. */
static void tell_unsettled(WdrCaughtUp *ret, const GPtrArray *found)
{
	WdrCaughtUp last = { .changes = ret->unsettled };

	for (guint i = 0; i < found->len; i++)
		tell(&last, found->pdata[i]);
}

/* What the services wrote before they were down is whole, and was copied so: others changed what is
 * younger. */
static void forget_settled(GPtrArray *found, int64_t since_ns)
{
	for (guint i = 0; i < found->len; i++) {
		GPtrArray *diffs = ((Found *)found->pdata[i])->diffs;
		for (guint k = 0; k < diffs->len;) {
			const WdrDiff *d = diffs->pdata[k];
			int64_t at = d->now.ctime.sec * G_GINT64_CONSTANT(1000000000) +
				     d->now.ctime.nsec;
			if (d->now.path && at >= since_ns)
				k++;
			else
				g_ptr_array_remove_index(diffs, k);
		}
	}
}

static bool make_paused_pass(
	WdrMoveRun *m, WdrLastPart *last_part, WdrCaughtUp *ret, GError **error)
{
	g_autoptr(GPtrArray) found = g_ptr_array_new_with_free_func(found_free);
	g_autofree char *named = wdr_pause_names(m->it->pause);
	g_autoptr(WdrPause) pause = NULL;
	unsigned count = 0;

	if (!wdr_logbook_step(m->records.logbook, error, "stopping %s", named) ||
		!wdr_pause_begin(m->world, m->it->pause, &pause, error))
		return false;
	m->pause = pause;
	bool is_made = make_pass(m, last_part, ret, found, &count, error);
	/* Where nothing was copied, or something failed. */
	end_pause(m);
	ret->paused = wdr_pause_names(wdr_pause_units(pause));
	if (!is_made)
		return false;
	ret->passes += count > 0;
	forget_settled(found, wdr_pause_begun_ns(pause));
	tell_unsettled(ret, found);
	return wdr_logbook_step(
		m->records.logbook, error, "%s: down for %.1f s", ret->paused, ret->paused_s);
}

/* A pass takes time, in which the source may change again: so there are up to three, each shorter
 * than the one before. What still differs in the last one is named to the user. Where services are
 * to be stopped, that is for the last one alone. */
bool wdr_catchup_passes(WdrMoveRun *m, WdrLastPart *last_part, WdrCaughtUp *ret, GError **error)
{
	unsigned most = WDR_PASSES_MAX - (m->it->pause ? 1 : 0);
	unsigned count = 1;

	caught_up_init(ret);
	while (ret->passes < most && count > 0) {
		g_autoptr(GPtrArray) found = g_ptr_array_new_with_free_func(found_free);
		if (!make_pass(m, last_part, ret, found, &count, error))
			return false;
		ret->passes += count > 0;
		if (ret->passes == WDR_PASSES_MAX)
			tell_unsettled(ret, found);
	}
	return !m->it->pause || make_paused_pass(m, last_part, ret, error);
}

/* ---- on its own ---- */

static bool is_unfinished(const WdrMoveRun *m, GError **error)
{
	wdr_error_set(error, WDR_ERROR_REFUSED, "%s is the target of an unfinished move",
		m->it->target.name);
	g_autofree char *next = wdr_command("move", "--resume", m->records.state);
	wdr_error_hint(error, "to continue it: %s", next);
	return false;
}

/* Also of a catching up: it may have been cut off when all but the boot marks was in its place. */
static bool check_logbook(WdrMoveRun *m, GError **error)
{
	g_autofree char *path = wdr_move_records_logbook_file(&m->records);

	wdr_move_progress_clear(&m->records.logged);
	return wdr_move_progress_read(path, &m->records.logged, error) &&
	       ((m->records.logged.was_done && m->records.logged.is_released) ||
		       is_unfinished(m, error));
}

/* The packing lists describe what the move made. They are of use only if nobody put another file
 * system in its place since. */
static bool check_target_parts(WdrMoveRun *m, GError **error)
{
	for (guint i = 0; i < m->it->parts->len; i++) {
		const WdrItineraryPart *p = m->it->parts->pdata[i];
		g_auto(WdrProbe) probe = { 0 };
		if (wdr_probe_is_unfinished(m->disks.medium, p->to.start))
			return is_unfinished(m, error);
		if (!wdr_probe_read(m->disks.medium, p->to.start, p->to.size, &probe, error))
			return false;
		if (g_strcmp0(probe.uuid, p->to.uuid) != 0)
			return wdr_error_set(error, WDR_ERROR_REFUSED,
				"partition %u of %s is not the one that the move made", p->number,
				m->it->target.name);
		if (wdr_itinerary_method(p) == WDR_METHOD_EXT &&
			!wdr_ext_change_check(m->disks.medium, p->to.start, p->to.size, error)) {
			g_prefix_error(error, "%s: partition %u: ", m->it->target.name, p->number);
			return false;
		}
	}
	return true;
}

static bool open_logbook(WdrMoveRun *m, GError **error)
{
	g_autofree char *logbook = wdr_move_records_logbook_file(&m->records);

	return wdr_logbook_open(m->world, logbook, &m->records.logbook, error);
}

static bool run(WdrMoveRun *m, GError **error)
{
	g_auto(WdrLastPart) last_part = { 0 };
	WdrItineraryDisk expected = wdr_itinerary_moved_target(m->it);

	return (!m->it->pause || wdr_pause_check(m->world, m->it->pause, error)) &&
	       wdr_move_run_lock(m, error) && check_logbook(m, error) &&
	       wdr_move_run_open_source(m, false, error) &&
	       wdr_move_run_open_target(m, &expected, error) && check_target_parts(m, error) &&
	       open_logbook(m, error) &&
	       wdr_catchup_passes(m, &last_part, &m->result->caught_up, error) &&
	       wdr_move_run_check_unreadable(m, error) &&
	       (!last_part.dev || (wdr_records_leave(m, &last_part, error) &&
					  wdr_last_part_release(m, &last_part, error))) &&
	       wdr_move_run_end_well(m, error);
}

bool wdr_catchup(const WdrWorld *world, const WdrItinerary *it, const char *state,
	bool *ret_has_begun, WdrMoveResult *ret, GError **error)
{
	WdrMoveRun m;
	GError *failure = NULL;

	wdr_move_run_init(&m, world, it, state, ret_has_begun, ret);
	m.goes_on = true;
	(void)run(&m, &failure);
	return wdr_move_run_end(&m, failure, error);
}
