#include "move/moving.h"

#include "base/io.h"
#include "move/change.h"
#include "move/running.h"

#include <string.h>
#include <unistd.h>

enum { WIPE_BYTES = 1024 * 1024 };

void wdr_move_result_clear(WdrMoveResult *r)
{
	g_clear_pointer(&r->state, g_free);
	wdr_caught_up_clear(&r->caught_up);
}

char *wdr_move_default_state(const WdrWorld *world, const WdrItineraryDisk *target)
{
	if (target->is_image)
		return g_strconcat(target->path, ".wanderitas", NULL);
	g_autofree char *base = wdr_world_path(world, WDR_STATE_FOLDER);
	g_autofree char *name = g_strdup_printf("to-%s", target->name);
	return g_build_filename(base, name, NULL);
}

/* ---- before anything is written ---- */

static bool prepare(WdrMoving *m, GError **error)
{
	return wdr_moving_open_source(m, true, error) &&
	       wdr_moving_open_target(m, &m->it->target, error) &&
	       (!wdr_moving_has_source_edits(m->it) || wdr_running_is(m->source->system) ||
		       wdr_change_check_rest(m->world, m->source->disk, error));
}

static bool begin_logbook(WdrMoving *m, GError **error)
{
	g_autofree char *itinerary = g_build_filename(m->state, "itinerary.json", NULL);
	g_autofree char *logbook = g_build_filename(m->state, "logbook.jsonl", NULL);
	g_autofree char *json = wdr_itinerary_to_json(m->it);

	return wdr_write_file(itinerary, json, strlen(json), error) &&
	       wdr_logbook_begin(m->world, logbook, "itinerary.json", &m->logbook, error);
}

/* ---- step 1: an empty table, and the note ---- */

static bool wipe(WdrMoving *m, uint64_t start, uint64_t size, GError **error)
{
	uint64_t part = MIN(size, WIPE_BYTES);

	return wdr_blockdev_zero(m->target, start, part, error) &&
	       wdr_blockdev_zero(m->target, start + size - part, part, error);
}

static bool clear_target(WdrMoving *m, GError **error)
{
	if (!wdr_logbook_step(m->logbook, error, "clearing %s and writing an empty partition table",
		    m->it->target.name))
		return false;
	*m->has_begun = true;
	if (!wipe(m, 0, wdr_blockdev_size(m->target), error))
		return false;
	for (guint i = 0; i < m->it->parts->len; i++) {
		const WdrItineraryPart *p = m->it->parts->pdata[i];
		if (!wipe(m, p->to.start, p->to.size, error))
			return false;
	}
	return wdr_hold_put_note(m, error) &&
	       wdr_parttable_write(m->target, m->table, false, error);
}

/* ---- steps 2 to 5 ---- */

static bool carry_part(WdrMoving *m, const WdrItineraryPart *p, GError **error)
{
	if (!wdr_moving_is_volume(p))
		return wdr_moving_carry_blocks(m, p, error);
	if (!wdr_moving_fill(m, p, m->target, p->to.start, error) ||
		!wdr_moving_compare(m, p, m->medium, p->to.start, error) ||
		!wdr_logbook_step(m->logbook, error, "checking partition %u", p->number))
		return false;
	return wdr_moving_is_fat(p)
		       ? wdr_moving_check_fat(m, m->medium, p->to.start, p->to.size, error)
		       : wdr_moving_check_ext(m, p, error);
}

/* What is held back is not on the medium yet: it is laid over what is read from there. */
static bool carry_last(WdrMoving *m, WdrHold *hold, GError **error)
{
	const WdrItineraryPart *p = hold->part;

	return wdr_moving_fill(m, p, hold->dev, 0, error) && wdr_hold_look(hold, error) &&
	       wdr_moving_compare(m, p, hold->seen, 0, error) &&
	       (!wdr_moving_is_fat(p) ||
		       (wdr_logbook_step(m->logbook, error, "checking partition %u", p->number) &&
			       wdr_moving_check_fat(m, hold->seen, 0, p->to.size, error)));
}

/* After all else but the start of the boot volume: with a loader on it a medium is one to start
 * from. */
static bool carry_loader(WdrMoving *m, GError **error)
{
	const WdrLoaderArea *a = &m->it->loader;

	return a->size == 0 ||
	       wdr_moving_carry_range(m, a->start, a->start, a->size, "the loader area", error);
}

static bool carry_all(WdrMoving *m, GError **error)
{
	g_auto(WdrHold) hold = { 0 };
	const WdrItineraryPart *last = wdr_moving_last(m->it);

	if (!clear_target(m, error))
		return false;
	for (guint i = 0; i < m->it->parts->len; i++) {
		const WdrItineraryPart *p = m->it->parts->pdata[i];
		if (p != last && !carry_part(m, p, error))
			return false;
	}
	wdr_hold_begin(m, &hold);
	return carry_last(m, &hold, error) && carry_loader(m, error) &&
	       (!wdr_running_is(m->source->system) ||
		       wdr_catchup_passes(m, &hold, &m->result->caught_up, error)) &&
	       wdr_hold_release(m, &hold, error);
}

/* ---- step 6, when boot stays on the source: its boot files ---- */

static bool change_source(WdrMoving *m, GError **error)
{
	/* The firmware has no menu to choose from: the old command line is for a hand to put back.
	 */
	bool keeps_copy = g_strcmp0(m->source->system->flow, "firmware") == 0;
	g_autoptr(WdrBlockDev) dev = NULL;
	WdrChanging c = { .world = m->world,
		.logbook = m->logbook,
		.state = m->state,
		.disk = m->source->disk,
		.system = m->source->system,
		.next = 1 };

	if (!wdr_moving_has_source_edits(m->it))
		return true;
	m->result->has_changed_source = true;
	if (!(wdr_running_is(m->source->system)
			    ? wdr_running_use_trees(m->world, m->source->system, error)
			    : wdr_blockdev_open(
				      m->source->disk->path, WDR_OPEN_WRITE, &dev, error)))
		return false;
	c.dev = dev;
	for (guint i = 0; i < m->it->edits->len; i++) {
		const WdrEdit *edit = m->it->edits->pdata[i];
		if (edit->is_on_source && !wdr_change_file(&c, edit, keeps_copy, error))
			return false;
	}
	return true;
}

bool wdr_move(const WdrWorld *world, const WdrItinerary *it, const char *state, bool *ret_has_begun,
	WdrMoveResult *ret, GError **error)
{
	WdrMoving m = { .world = world,
		.it = it,
		.state = state,
		.result = ret,
		.has_begun = ret_has_begun,
		.lock = -1 };
	GError *failure = NULL;

	*ret_has_begun = false;
	*ret = (WdrMoveResult){ .state = g_strdup(state) };
	(void)(wdr_make_folder(state, &failure) && wdr_moving_lock(&m, &failure) &&
		prepare(&m, &failure) && begin_logbook(&m, &failure) && carry_all(&m, &failure) &&
		change_source(&m, &failure) && wdr_logbook_done(m.logbook, &failure));
	bool is_fine = wdr_moving_end(&m, failure, error);
	/* A refusal leaves nothing behind; a folder with anything in it stays. */
	if (!is_fine && !*ret_has_begun)
		rmdir(state);
	return is_fine;
}
