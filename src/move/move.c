/* The steps of a move in their order. */
#include "move/move.h"

#include "base/command.h"
#include "base/record.h"
#include "base/stat.h"
#include "base/text.h"
#include "change/change.h"
#include "copy/packing_list.h"
#include "disk/spot_checks.h"
#include "disk/true_size.h"
#include "disk/users.h"
#include "move/move_run.h"
#include "move/target_records.h"
#include "plan/running_source.h"
#include "plan/target_partition.h"
#include "world/pause.h"

#include <errno.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

enum {
	SEAL_BYTES = 4096,
	WIPE_BYTES = 1024 * 1024,
	CHECKPOINT_BYTES = 1024 * 1024 * 1024,
	SPOTS_APART_MIN = 256 * 1024,
	SPOTS_APART_MAX = 16 * 1024 * 1024,
	SPOTS_BEYOND = 64 * 1024 * 1024
};

void wdr_move_result_clear(WdrMoveResult *r)
{
	g_clear_pointer(&r->state, g_free);
	g_clear_pointer(&r->missing, g_ptr_array_unref);
	wdr_caught_up_clear(&r->caught_up);
}

/* ---- before anything is written ---- */

static bool prepare(WdrMoveRun *m, GError **error)
{
	if (m->it->pause && !wdr_pause_check(m->world, m->it->pause, error))
		return false;
	return wdr_move_run_open_source(m, true, error) &&
	       (m->is_resuming ? wdr_move_run_reopen_target(m, error)
			       : wdr_move_run_open_target(m, &m->it->target, error) &&
					 wdr_move_run_check_target_contents(m, error)) &&
	       (!wdr_move_run_has_source_edits(m->it) || wdr_running_is(m->disks.source->system) ||
		       wdr_change_check_rest(m->world, m->disks.source->disk, error));
}

static void remove_checkpoint(const WdrMoveRun *m, const WdrItineraryPart *p)
{
	g_autofree char *path = wdr_move_records_checkpoint_file(&m->records, p);

	wdr_record_remove(path);
}

/* A state folder that cannot be written to is no reason to give a move up. */
static bool hint_at_state(GError **error)
{
	wdr_error_hint(error,
		"nothing was written to either disk; a move keeps its records in a folder: name one that "
		"has room with --state DIR");
	return false;
}

/* For a comparison after the restart, where the system that runs is the one that is moved. */
static bool note_boot_time(const WdrMoveRun *m, GError **error)
{
	WdrBootTime time;

	return wdr_world_is_reproducible(m->world) || m->disks.source->disk->is_image ||
	       !wdr_disk_has_root(m->world, m->disks.source->disk) ||
	       !wdr_boot_time_ask(m->world, &time) ||
	       wdr_logbook_boot_time(m->records.logbook, &time, error);
}

static bool begin_logbook(WdrMoveRun *m, GError **error)
{
	g_autofree char *itinerary = g_build_filename(m->records.state, "itinerary.json", NULL);
	g_autofree char *logbook = wdr_move_records_logbook_file(&m->records);
	g_autofree char *json = wdr_itinerary_to_json(m->it);

	if (m->is_resuming)
		return wdr_logbook_open(m->world, logbook, &m->records.logbook, error);
	for (guint i = 0; i < m->it->parts->len; i++)
		remove_checkpoint(m, m->it->parts->pdata[i]);
	g_autofree char *ready = g_build_filename(m->records.state, WDR_READY_FILE, NULL);
	if (!m->ready)
		wdr_record_remove(ready);
	return (wdr_record_write(itinerary, json, strlen(json), error) &&
		       (!m->ready || wdr_record_write(ready, m->ready, strlen(m->ready), error)) &&
		       wdr_logbook_begin(
			       m->world, logbook, "itinerary.json", &m->records.logbook, error) &&
		       note_boot_time(m, error)) ||
	       hint_at_state(error);
}

/* ---- step 1: an empty table, and the note ---- */

static bool wipe(WdrMoveRun *m, uint64_t start, uint64_t size, GError **error)
{
	uint64_t part = MIN(size, WIPE_BYTES);

	return wdr_blockdev_zero(m->disks.target, start, part, error) &&
	       wdr_blockdev_zero(m->disks.target, start + size - part, part, error);
}

/* What will be erased is of no use to the medium any more. */
static void discard(WdrMoveRun *m)
{
	const WdrItineraryPart *only = m->it->parts->pdata[0];
	uint64_t start = m->it->into ? only->to.start : 0;
	uint64_t size = m->it->into ? only->to.size : wdr_blockdev_size(m->disks.target);

	if (!wdr_blockdev_discard(m->disks.target, start, size))
		g_debug("%s does not support discarding blocks", m->it->target.name);
}

/* Wipes where old tables, superblocks and signatures may be: first and last MiB of the disk and of
 * each new partition. What else was on the disk is not overwritten. */
static bool empty_target(WdrMoveRun *m, GError **error)
{
	discard(m);
	if (!m->it->into && !wipe(m, 0, wdr_blockdev_size(m->disks.target), error))
		return false;
	for (guint i = 0; i < m->it->parts->len; i++) {
		const WdrItineraryPart *p = m->it->parts->pdata[i];
		if (!wipe(m, p->to.start, p->to.size, error))
			return false;
	}
	return m->it->into || wdr_truesize_prove(m->disks.target, m->disks.medium, error);
}

/* The first write of a move. The mark "cleared" comes after it: without the mark, going on begins
 * here. */
static bool clear_target(WdrMoveRun *m, GError **error)
{
	g_autofree char *erased = wdr_itinerary_erased(m->it);

	if (!wdr_move_run_step(m, error,
		    m->it->into ? "clearing %s"
				: "clearing %s and writing an empty partition table",
		    erased))
		return false;
	*m->has_begun = true;
	bool is_empty = empty_target(m, error);
	/* Whatever went wrong with it: what was there before must not be taken for a system. */
	GError **second = is_empty ? error : NULL;
	return wdr_last_part_put_note(m, second) && wdr_move_run_write_table(m, false, second) &&
	       is_empty && wdr_logbook_mark(m->records.logbook, WDR_MARK_CLEARED, error);
}

/* ---- steps 2 to 5 ---- */

/* Of a part whose start is held back there is nothing on the medium to look at. */
static bool make_seal(const WdrMoveRun *m, const WdrItineraryPart *p, bool with_head,
	WdrPartSeal *ret, GError **error)
{
	g_autofree char *list = wdr_move_records_packing_file(&m->records, p);
	uint8_t head[SEAL_BYTES];
	WdrStat st;

	if (wdr_move_run_is_volume(p)) {
		if (wdr_stat(list, &st) != 0)
			return wdr_error_set_errno(error, errno, "the packing list %s", list);
		ret->list_bytes = st.stx_size;
	}
	ret->has_head = with_head && wdr_move_run_is_volume(p);
	if (!ret->has_head)
		return true;
	if (!wdr_blockdev_read(m->disks.medium, head, sizeof(head), p->to.start, error))
		return false;
	ret->head = wdr_hash(head, sizeof(head));
	return true;
}

/* An earlier run copied it: are its list and its volume still what they were? Without the list
 * nothing could be compared; a volume that somebody mounted meanwhile is copied anew. */
static bool look_at_seal(
	const WdrMoveRun *m, const WdrItineraryPart *p, bool *ret_holds, GError **error)
{
	const WdrPartSeal *was = wdr_move_progress_seal(&m->records.logged, p->number);
	WdrPartSeal now = { 0 };

	if (!make_seal(m, p, was->has_head, &now, error))
		return false;
	if (now.list_bytes != was->list_bytes) {
		wdr_error_set(error, WDR_ERROR_REFUSED,
			"the packing list of partition %u has %" G_GUINT64_FORMAT
			" bytes, and had %" G_GUINT64_FORMAT " when the partition was copied",
			p->number, now.list_bytes, was->list_bytes);
		wdr_error_hint(error,
			"run the same move again without --resume: it starts over; the source is unchanged");
		return false;
	}
	*ret_holds = !was->has_head || wdr_hash_equal(was->head, now.head);
	if (!*ret_holds)
		wdr_world_note(m->world,
			"partition %u of the target was changed since it was copied: it is copied again",
			p->number);
	return true;
}

bool wdr_move_run_note_copied(WdrMoveRun *m, const WdrItineraryPart *p, GError **error)
{
	bool is_held = m->last_part && m->last_part->part == p;

	WdrPartSeal seal = { 0 };

	if ((is_held && !wdr_last_part_save(m, error)) ||
		!make_seal(m, p, !is_held, &seal, error) ||
		!wdr_logbook_sealed(m->records.logbook, p->number, WDR_PART_COPIED, &seal, error))
		return false;
	remove_checkpoint(m, p);
	return true;
}

bool wdr_move_run_note_changing(WdrMoveRun *m, const WdrItineraryPart *p, GError **error)
{
	remove_checkpoint(m, p);
	return wdr_logbook_part(m->records.logbook, p->number, WDR_PART_CHANGING, error);
}

bool wdr_move_records_note_unreadable(WdrMoveRecords *records, unsigned number, const char *path,
	const GArray *ranges, GError **error)
{
	wdr_unreadable_set(records->logged.missing, number, path, ranges);
	return wdr_logbook_unreadable(records->logbook, number, path, ranges, error);
}

bool wdr_move_run_check_unreadable(const WdrMoveRun *m, GError **error)
{
	unsigned count = wdr_unreadable_count_open(m->records.logged.missing);

	if (count == 0 || m->accepts_damage)
		return true;
	wdr_error_set(error, WDR_ERROR_IO, "%s: %u file%s could not be read completely",
		m->it->source.name, count, count == 1 ? " or folder" : "s or folders");
	g_autofree char *finish =
		wdr_command("move", "--resume", "--accept-damage", m->records.state);
	wdr_error_hint(error,
		"everything else is on %s and was read back; it is marked unfinished and will not boot. To "
		"finish with zeros where nothing could be read: %s",
		m->it->target.name, finish);
	return false;
}

bool wdr_move_run_end_well(WdrMoveRun *m, GError **error)
{
	if (!wdr_logbook_done(m->records.logbook, error))
		return false;
	wdr_last_part_forget(m);
	return true;
}

/* An earlier run did it. */
static bool count_copied(WdrMoveRun *m, const WdrItineraryPart *p, GError **error)
{
	g_autoptr(WdrPacking) list = NULL;
	g_autofree char *path = wdr_move_records_packing_file(&m->records, p);
	const WdrListEntry *packed = NULL;

	m->result->bytes += p->bytes;
	m->result->bytes_before += p->bytes;
	if (!wdr_move_run_is_volume(p))
		return true;
	if (!wdr_packing_open(path, &list, error))
		return false;
	do {
		if (!wdr_packing_next(list, &packed, error))
			return false;
	} while (packed);
	m->result->entries += wdr_packing_entries(list);
	return true;
}

static bool copy_volume(WdrMoveRun *m, const WdrItineraryPart *p, GError **error)
{
	if (!wdr_move_run_fill(m, p, m->disks.target, p->to.start, error) ||
		!wdr_move_run_compare(m, p, m->disks.medium, p->to.start, error))
		return false;
	if (wdr_records_belong_on(m, p))
		return true;
	if (!wdr_move_run_step(m, error, "checking partition %u", p->number))
		return false;
	return wdr_move_run_is_fat(p)
		       ? wdr_move_run_check_fat(m, m->disks.medium, p->to.start, p->to.size, error)
		       : wdr_move_run_check_ext(m, p, error);
}

static bool copy_part(WdrMoveRun *m, const WdrItineraryPart *p, GError **error)
{
	bool is_copied = wdr_move_progress_is_copied(&m->records.logged, p->number);

	if (is_copied && !look_at_seal(m, p, &is_copied, error))
		return false;
	/* Passes find what changed on a volume since; blocks are looked at again. */
	if (is_copied && wdr_itinerary_method(p) != WDR_METHOD_BLOCKS)
		return count_copied(m, p, error);
	return (wdr_move_run_is_volume(p) ? copy_volume : wdr_move_run_copy_blocks)(m, p, error) &&
	       wdr_move_run_note_copied(m, p, error);
}

/* What is held back is not on the medium yet: it is laid over what is read from there. */
static bool copy_last(WdrMoveRun *m, WdrLastPart *last_part, GError **error)
{
	const WdrItineraryPart *p = last_part->part;

	bool is_copied = wdr_move_progress_is_copied(&m->records.logged, p->number);
	bool holds = true;

	if (is_copied)
		return look_at_seal(m, p, &holds, error) && count_copied(m, p, error) &&
		       wdr_last_part_look(last_part, error);
	return wdr_move_run_fill(m, p, last_part->dev, 0, error) &&
	       wdr_last_part_look(last_part, error) &&
	       wdr_move_run_compare(m, p, last_part->seen, 0, error) &&
	       (!wdr_move_run_is_fat(p) ||
		       (wdr_move_run_step(m, error, "checking partition %u", p->number) &&
			       wdr_move_run_check_fat(m, last_part->seen, 0, p->to.size, error))) &&
	       wdr_move_run_note_copied(m, p, error);
}

/* Without a checkpoint or all of it nothing of the last part counts. */
static bool begin_last(WdrMoveRun *m, WdrLastPart *last_part, GError **error)
{
	const WdrItineraryPart *p = wdr_move_run_last(m->it);
	g_autofree char *checkpoint = wdr_move_records_checkpoint_file(&m->records, p);

	if (!m->is_resuming) {
		wdr_last_part_begin(m, last_part);
		return true;
	}
	bool has_head = wdr_move_progress_is_copied(&m->records.logged, p->number) ||
			access(checkpoint, F_OK) == 0;
	return wdr_last_part_resume(m, last_part, has_head, error);
}

/* After all else but the start of the boot volume: with a loader on it a medium is one to start
 * from. */
static bool copy_loader(WdrMoveRun *m, GError **error)
{
	const WdrLoaderArea *a = &m->it->loader;
	WdrBlockRange range = { a->start, a->start, a->size, "the loader area" };

	return a->size == 0 || wdr_move_run_copy_range(m, &range, error);
}

static bool note_figures(WdrMoveRun *m, GError **error)
{
	const WdrMoveResult *r = m->result;
	WdrLogbookFigures figures = { .entries = r->entries,
		.bytes = r->bytes,
		.bytes_before = r->bytes_before,
		.read_back_bytes = r->verify_bytes };

	if (!wdr_world_is_reproducible(m->world)) {
		figures.behind_bytes = r->behind_bytes;
		figures.copy_s = r->copy_s;
		figures.read_back_s = r->verify_s;
	} else {
		figures.read_back_bytes += r->behind_bytes;
	}

	return wdr_logbook_figures(m->records.logbook, &figures, error);
}

/* A part is read back before the next one is written. Blocks of it are remembered, close enough to
 * each other for the data of any later part to hit one of them, and looked at when all is there. */
static bool remember(
	const WdrMoveRun *m, const WdrItineraryPart *part, WdrSpots *spots, GError **error)
{
	/* A volume is filled from its start on; what lies behind was not written. */
	uint64_t filled = MIN(part->to.size, part->bytes + part->bytes / 4 + SPOTS_BEYOND);
	uint64_t least = UINT64_MAX;

	for (guint i = 0; i < m->it->parts->len; i++) {
		const WdrItineraryPart *p = m->it->parts->pdata[i];
		if (p != part && p->bytes > 0)
			least = MIN(least, p->bytes);
	}
	return wdr_spots_take(spots, part->to.start, filled,
		CLAMP(least / 4, SPOTS_APART_MIN, SPOTS_APART_MAX), error);
}

/* See "The order of a move" in docs/ARCHITECTURE.md; this is steps 2 to 5. */
static bool copy_all(WdrMoveRun *m, GError **error)
{
	g_autoptr(WdrSpots) spots = wdr_spots_new(m->disks.medium);
	g_auto(WdrLastPart) last_part = { 0 };
	const WdrItineraryPart *last = wdr_move_run_last(m->it);

	wdr_move_run_tell_work(m);
	wdr_running_read_ahead(m->disks.source->system);
	if (!m->records.logged.is_cleared && !clear_target(m, error))
		return false;
	*m->has_begun = true;
	for (guint i = 0; i < m->it->parts->len; i++) {
		const WdrItineraryPart *p = m->it->parts->pdata[i];
		if (p != last && (!copy_part(m, p, error) || !remember(m, p, spots, error)))
			return false;
	}
	/* Whatever wrote to the source since an interruption is found like what does while we read.
	 */
	bool may_differ = wdr_running_is(m->disks.source->system) || m->is_resuming;
	return begin_last(m, &last_part, error) && copy_last(m, &last_part, error) &&
	       copy_loader(m, error) && wdr_spots_check(spots, error) &&
	       (!may_differ || wdr_catchup_passes(m, &last_part, &m->result->caught_up, error)) &&
	       /* Somebody may have mounted it meanwhile. */
	       wdr_source_check_quiet(m->world, m->disks.source->disk, error) &&
	       wdr_move_run_check_unreadable(m, error) && note_figures(m, error) &&
	       wdr_records_leave(m, &last_part, error) &&
	       wdr_last_part_release(m, &last_part, error);
}

/* All was in its place when the move was interrupted. */
static bool look_again(WdrMoveRun *m, GError **error)
{
	g_auto(WdrLastPart) last_part = { 0 };

	*m->has_begun = true;
	for (guint i = 0; i < m->it->parts->len; i++) {
		if (!count_copied(m, m->it->parts->pdata[i], error))
			return false;
	}
	return wdr_catchup_passes(m, &last_part, &m->result->caught_up, error) &&
	       wdr_move_run_check_unreadable(m, error) &&
	       (!last_part.dev || (wdr_records_leave(m, &last_part, error) &&
					  wdr_last_part_release(m, &last_part, error)));
}

/* ---- step 6, when boot stays on the source: its boot files ---- */

static bool change_source(WdrMoveRun *m, GError **error)
{
	/* The firmware has no menu to choose from: the old command line is for a hand to put back.
	 */
	bool keeps_copy = g_strcmp0(m->disks.source->system->flow, "firmware") == 0;
	g_autoptr(WdrBlockDev) dev = NULL;
	WdrChanging c = { .world = m->world,
		.logbook = m->records.logbook,
		.state = m->records.state,
		.disk = m->disks.source->disk,
		.system = m->disks.source->system,
		.next = 1 };

	if (!wdr_move_run_has_source_edits(m->it))
		return true;
	m->result->has_changed_source = true;
	if (!(wdr_running_is(m->disks.source->system)
			    ? wdr_running_use_trees(m->world, m->disks.source->system, error)
			    : wdr_blockdev_open(
				      m->disks.source->disk->path, WDR_OPEN_WRITE, &dev, error)))
		return false;
	c.dev = dev;
	for (guint i = 0; i < m->it->edits->len; i++) {
		const WdrEdit *edit = m->it->edits->pdata[i];
		if (edit->is_on_source && !wdr_change_file(&c, edit, keeps_copy, error))
			return false;
	}
	return true;
}

/* What the records say was done. */
static bool read_logbook(WdrMoveRun *m, GError **error)
{
	g_autofree char *path = wdr_move_records_logbook_file(&m->records);
	g_autoptr(GPtrArray) changes = NULL;

	if (!m->is_resuming)
		return true;
	wdr_move_progress_clear(&m->records.logged);
	if (!wdr_move_progress_read(path, &m->records.logged, error) ||
		!wdr_logbook_read(path, &changes, error))
		return false;
	if (m->records.logged.is_done) {
		wdr_error_set(error, WDR_ERROR_REFUSED, "the move to %s was done to its end",
			m->it->target.name);
		g_autofree char *next = wdr_command("catchup", m->records.state);
		wdr_error_hint(error, "to copy what changed on the source since: %s", next);
		return false;
	}
	for (guint i = 0; i < changes->len; i++) {
		if (((const WdrChange *)changes->pdata[i])->is_rewound)
			continue;
		wdr_error_set(error, WDR_ERROR_REFUSED,
			"the boot files of %s are being changed, and may be half changed",
			m->it->source.name);
		g_autofree char *undo = wdr_command("rewind", m->records.state);
		wdr_error_hint(error, "restore them, then continue the move: %s", undo);
		return false;
	}
	return true;
}

/* Everything before begin_logbook() only reads, but for the state folder. */
static bool run(WdrMoveRun *m, GError **error)
{
	int64_t begun = g_get_monotonic_time();

	if (!(wdr_make_private_folder(m->records.state, error) || hint_at_state(error)) ||
		!wdr_move_run_lock(m, error) || !read_logbook(m, error) || !prepare(m, error))
		return false;
	m->result->look_s = wdr_seconds_since(begun);
	return begin_logbook(m, error) &&
	       (m->records.logged.is_released ? look_again : copy_all)(m, error) &&
	       change_source(m, error) && wdr_move_run_end_well(m, error);
}

bool wdr_move(const WdrWorld *world, const WdrItinerary *it, const WdrMoveOptions *options,
	bool *ret_has_begun, WdrMoveResult *ret, GError **error)
{
	WdrMoveRun m;
	GError *failure = NULL;
	int64_t begun = g_get_monotonic_time();

	wdr_move_run_init(&m, world, it, options->state, ret_has_begun, ret);
	m.is_resuming = m.goes_on = options->is_resuming;
	m.accepts_damage = options->accepts_damage;
	m.ready = options->ready;
	m.looked_at = options->looked_at;
	m.work.copy_per_s = options->copy_per_s;
	m.checkpoint_bytes =
		options->checkpoint_bytes ? options->checkpoint_bytes : CHECKPOINT_BYTES;
	(void)run(&m, &failure);
	ret->all_s = wdr_seconds_since(begun);
	bool is_fine = wdr_move_run_end(&m, failure, error);
	/* A refusal leaves nothing behind; a folder with anything in it stays. */
	if (!is_fine && !*ret_has_begun)
		rmdir(options->state);
	return is_fine;
}
