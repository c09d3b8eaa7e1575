/* Finds the newest move of this machine and tells its stage by its logbook and by the disk that the
 * system runs from. */
#include "check/status.h"

#include "base/io.h"
#include "base/json.h"
#include "base/stat.h"
#include "base/state.h"
#include "boot/rehearse/rehearse.h"
#include "disk/users.h"
#include "disk/backing.h"
#include "journal/move_progress.h"
#include "journal/state_folder.h"
#include "move/move.h"
#include "move/target_records.h"

#include <errno.h>

enum { CLOCK_SLACK_S = 5, READY_OF_A_MOVE_S = 60 };

const char *wdr_status_stage_name(WdrStatusStage stage)
{
	static const char *const names[] = { "none", "stopped", "ready", "moving", "interrupted",
		"moved", "old-disk", "booted", "arrived" };

	return names[stage];
}

void wdr_status_free(WdrStatus *s)
{
	if (!s)
		return;
	wdr_itinerary_free(s->it);
	g_free(s->records);
	g_free(s->running);
	g_free(s->candidate);
	g_free(s->ready_to);
	g_free(s->stop);
	g_free(s);
}

/* A move's itinerary in a folder of records. *ret NULL: the folder is of something else. A folder
 * that cannot be entered may be a move's: that is an error, not "no move". */
static bool load(const char *folder, WdrItinerary **ret, GError **error)
{
	g_autofree char *path = g_build_filename(folder, "itinerary.json", NULL);
	WdrStat st;

	*ret = NULL;
	if (wdr_stat(path, &st) != 0)
		return wdr_errno_is_gone(errno) ||
		       wdr_error_set_errno(error, errno, "cannot read %s", path);
	if (!wdr_itinerary_load(path, ret, error))
		return false;
	if ((*ret)->what == WDR_MOVE_NOTHING)
		g_clear_pointer(ret, wdr_itinerary_free);
	return true;
}

/* The copy of the records that a move leaves on the new root is as old as the records of the move
 * themselves; where both are there, the copy counts, since the system came by it. */
static bool is_newer(const WdrStatus *s, const WdrItinerary *it, bool is_arrival)
{
	return !s->it || it->made_at > s->it->made_at ||
	       (it->made_at == s->it->made_at && is_arrival);
}

static bool find_newest(const WdrWorld *world, WdrStatus *s, bool *ret_is_arrival, GError **error)
{
	g_autoptr(GPtrArray) folders = g_ptr_array_new_with_free_func(g_free);

	if (!wdr_records_folders(world, folders, error))
		return false;
	for (guint i = 0; i < folders->len; i++) {
		const char *folder = folders->pdata[i];
		g_autofree char *name = g_path_get_basename(folder);
		g_autoptr(WdrItinerary) it = NULL;
		bool is_arrival = g_str_has_prefix(name, WDR_ARRIVAL_PREFIX);
		if (!load(folder, &it, error))
			return false;
		if (!it || !is_newer(s, it, is_arrival))
			continue;
		wdr_itinerary_free(s->it);
		s->it = g_steal_pointer(&it);
		g_free(s->records);
		s->records = g_strdup(folder);
		*ret_is_arrival = is_arrival;
	}
	return true;
}

static void look_at_disks(const WdrWorld *world, WdrStatus *s)
{
	g_autoptr(GPtrArray) disks = NULL;
	unsigned others = 0;

	if (!wdr_disks_list(world, &disks, NULL))
		return;
	for (guint i = 0; i < disks->len; i++) {
		const WdrDisk *d = disks->pdata[i];
		if (wdr_disk_has_root(world, d)) {
			s->running = g_strdup(d->name);
		} else if (!d->is_read_only && d->size > 0 && ++others == 1) {
			s->candidate = g_strdup(d->name);
		}
	}
	if (others > 1 || !s->running)
		g_clear_pointer(&s->candidate, g_free);
}

/* The disk is there, and is still the one that it was then. */
static bool is_there(const WdrWorld *world, const WdrItineraryDisk *then, bool *ret_is_running)
{
	g_autoptr(WdrDisk) now = NULL;

	*ret_is_running = false;
	if (!wdr_itinerary_disk_find(world, then, &now, NULL) ||
		(now->size && now->size != then->size) ||
		(then->serial && g_strcmp0(then->serial, now->serial) != 0))
		return false;
	*ret_is_running = wdr_disk_has_root(world, now);
	return true;
}

/* By the clock as it is now: a board may not have had the time when it booted. */
static bool was_booted_since(const WdrWorld *world, int64_t moment)
{
	g_autofree char *uptime = wdr_world_line(world, "/proc/uptime");
	double up = uptime ? g_ascii_strtod(uptime, NULL) : 0;

	return up > 0 && wdr_world_now(world) - (int64_t)up > moment + CLOCK_SLACK_S;
}

static bool look_at_stage(const WdrWorld *world, WdrStatus *s, bool is_arrival, GError **error)
{
	g_autofree char *path = g_build_filename(s->records, "logbook.jsonl", NULL);
	g_auto(WdrMoveProgress) logged = { 0 };
	bool runs_source = false;
	bool runs_target = false;
	WdrStat st;

	s->has_source = is_there(world, &s->it->source, &runs_source);
	s->has_target = is_there(world, &s->it->target, &runs_target);
	if (wdr_stat(path, &st) != 0 && wdr_errno_is_gone(errno))
		wdr_move_progress_init(&logged);
	else if (!wdr_move_progress_read(path, &logged, error))
		return false;
	if (!is_arrival && wdr_move_is_under_way(world, s->records))
		s->stage = WDR_STATUS_MOVING;
	else if (logged.has_arrived)
		s->stage = WDR_STATUS_ARRIVED;
	else if (is_arrival || (runs_target && logged.is_done))
		s->stage = WDR_STATUS_BOOTED;
	else if (!logged.is_done)
		s->stage = WDR_STATUS_INTERRUPTED;
	else
		s->stage = runs_source && was_booted_since(world, st.stx_mtime.tv_sec)
				   ? WDR_STATUS_OLD_DISK
				   : WDR_STATUS_MOVED;
	return true;
}

/* ---- the last 'ready' ---- */

/* The text of the first check that stops. Borrowed; NULL: none does. */
static const char *first_stop(const json_t *checks)
{
	for (size_t i = 0; i < json_array_size(checks); i++) {
		const json_t *check = json_array_get(checks, i);
		const char *state = json_string_value(json_object_get(check, "state"));
		const char *text = json_string_value(json_object_get(check, "text"));
		if (g_strcmp0(state, wdr_state_name(WDR_STATE_STOP)) == 0)
			return text ? text : "";
	}
	return NULL;
}

/* It counts before a move, and after one that is finished and checked. A file that cannot be read
 * is none: the checks can be made again. */
static void look_at_ready(const WdrWorld *world, WdrStatus *s)
{
	g_autofree char *folder = wdr_world_path(world, WDR_STATE_FOLDER);
	g_autofree char *path = g_build_filename(folder, WDR_LAST_READY_FILE, NULL);
	bool may_count = s->stage == WDR_STATUS_NONE || s->stage == WDR_STATUS_ARRIVED;
	WdrStat st;

	if (!may_count || wdr_stat(path, &st) != 0 ||
		(s->it && st.stx_mtime.tv_sec <= s->it->made_at + READY_OF_A_MOVE_S))
		return;
	g_autoptr(json_t) root = json_load_file(path, JSON_REJECT_DUPLICATES, NULL);
	const char *to = json_string_value(json_object_get(root, "target"));
	if (!to)
		return;
	const char *stop = first_stop(json_object_get(root, "checks"));
	s->ready_to = g_strdup(to);
	s->stop = g_strdup(stop);
	s->stage = stop ? WDR_STATUS_STOPPED : WDR_STATUS_READY;
}

/* A power cycle would end at a dark board. */
static void look_at_rehearsal(WdrStatus *s)
{
	if (s->stage != WDR_STATUS_MOVED)
		return;
	g_autofree char *path = g_build_filename(s->records, WDR_REHEARSAL_FILE, NULL);
	g_autoptr(json_t) root = json_load_file(path, JSON_REJECT_DUPLICATES, NULL);
	const char *verdict = json_string_value(json_object_get(root, "verdict"));
	const char *reason = json_string_value(json_object_get(root, "reason"));
	if (g_strcmp0(verdict, wdr_verdict_name(WDR_VERDICT_FAILS)) == 0)
		s->stop = g_strdup(reason ? reason : "");
}

bool wdr_status_look(const WdrWorld *world, WdrStatus **ret, GError **error)
{
	g_autoptr(WdrStatus) s = g_new0(WdrStatus, 1);
	bool is_arrival = false;

	look_at_disks(world, s);
	if (!find_newest(world, s, &is_arrival, error) ||
		(s->it && !look_at_stage(world, s, is_arrival, error)))
		return false;
	look_at_ready(world, s);
	look_at_rehearsal(s);
	*ret = g_steal_pointer(&s);
	return true;
}
