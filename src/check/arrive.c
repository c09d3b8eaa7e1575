/* Finds the records of the move that the running system came by, and runs the checks after the
 * restart. */
#include "check/arrive_priv.h"

#include "base/io.h"
#include "base/stat.h"
#include "boot/formats/fstab.h"
#include "disk/mounts.h"
#include "journal/move_progress.h"
#include "move/move.h"
#include "move/target_records.h"
#include "plan/logical_partitions.h"
#include "plan/running_source.h"
#include "volume/lookup.h"

#include <string.h>

void wdr_arrival_free(WdrArrival *a)
{
	if (!a)
		return;
	wdr_itinerary_free(a->it);
	g_ptr_array_unref(a->checks);
	g_free(a->records);
	g_free(a->disk);
	g_free(a);
}

WdrSystemPart *wdr_arriving_part(const WdrArriving *a, const WdrItineraryPart *p)
{
	return wdr_system_part(a->system, wdr_itinerary_new_number(a->it, p));
}

/* ---- which move ---- */

/* An image was written to a disk of another size and name. */
static bool may_be(const WdrItineraryDisk *then, const WdrDisk *now)
{
	return then->is_image ||
	       (then->size == now->size && g_strcmp0(then->serial, now->serial) == 0);
}

typedef struct {
	const WdrArriving *a;
	WdrArrival *found; /* the newest; NULL: none yet */
} Search;

/* The move of a folder, if the running system is one end of it. */
static void consider(Search *s, const char *folder)
{
	const WdrSystem *system = s->a->system;
	g_autofree char *path = g_build_filename(folder, "itinerary.json", NULL);
	g_autoptr(WdrItinerary) it = NULL;

	if (!wdr_is_file(path) || !wdr_itinerary_load(path, &it, NULL))
		return;
	const WdrItineraryPart *root = wdr_itinerary_root(it);
	const char *uuid = system->root ? system->root->probe.uuid : NULL;
	bool is_there = root && uuid && g_strcmp0(uuid, root->to.uuid) == 0 &&
			may_be(&it->target, s->a->disk);
	bool is_old = root && uuid && g_strcmp0(uuid, root->from.uuid) == 0 &&
		      may_be(&it->source, s->a->disk);
	bool is_newer = !s->found || it->made_at > s->found->it->made_at;
	if ((!is_there && !is_old) || !is_newer)
		return;
	if (!s->found)
		s->found = g_new0(WdrArrival, 1);
	wdr_itinerary_free(s->found->it);
	g_free(s->found->records);
	s->found->it = g_steal_pointer(&it);
	s->found->records = g_strdup(folder);
	s->found->is_there = is_there;
}

static void search(Search *s)
{
	g_autoptr(GPtrArray) folders = g_ptr_array_new_with_free_func(g_free);

	(void)!wdr_records_folders(s->a->world, folders, NULL);
	for (guint i = 0; i < folders->len; i++)
		consider(s, folders->pdata[i]);
}

static bool no_move(const WdrArriving *a, GError **error)
{
	wdr_error_set(error, WDR_ERROR_USAGE, "no move is known that ended on %s, or began there",
		a->disk->name);
	wdr_error_hint(error,
		"a move leaves its records on the new root, below /"
		"%s; was this system moved by an "
		"older version, or were they removed?",
		wdr_arrival_homes[0]);
	return false;
}

/* ---- the logbook ---- */

/* What is closed stays so. A folder that cannot be written to is reported, and nothing more. */
static void close_logbook(const WdrArriving *a, WdrArrival *arrival)
{
	g_autofree char *path = g_build_filename(a->records, "logbook.jsonl", NULL);
	g_auto(WdrMoveProgress) logged = { 0 };
	g_autoptr(WdrLogbook) logbook = NULL;
	g_autoptr(GError) error = NULL;

	if (wdr_move_progress_read(path, &logged, NULL) && logged.has_arrived)
		arrival->is_closed = true;
	else if (wdr_logbook_open(a->world, path, &logbook, &error) &&
		 wdr_logbook_mark(logbook, WDR_MARK_ARRIVED, &error))
		arrival->is_closed = true;
	else
		wdr_world_note(a->world, "the logbook cannot be closed: %s", error->message);
}

/* ---- all of it ---- */

static void clear(WdrArriving *a)
{
	wdr_system_free(a->system);
	g_clear_pointer(&a->old, g_array_unref);
	wdr_disk_free(a->disk);
	g_clear_pointer(&a->fstab, g_ptr_array_unref);
	g_strfreev(a->swaps);
	wdr_board_free(a->board);
	g_free(a->arguments);
}

static bool look(WdrArriving *a, const char *disk, GError **error)
{
	g_autofree char *path = wdr_world_path(a->world, "/proc/cmdline");

	if (!wdr_disk_find(a->world, disk, &a->disk, error) ||
		!wdr_running_open(a->world, a->disk, &a->system, error))
		return false;
	if (!a->system->root || !a->system->root->volume)
		return wdr_error_set(error, WDR_ERROR_FORMAT,
			"%s has no root volume that can be read", a->disk->name);
	size_t len = 0;
	g_autofree char *fstab = wdr_follow_read(
		a->system->root->volume, "etc/fstab", WDR_BOOT_FILE_BYTES_MAX, &len);
	a->fstab = wdr_fstab_lines(fstab ? fstab : "", len);
	a->swaps = wdr_swaps(a->world);
	a->board = wdr_board_look(a->world);
	a->arguments = wdr_read_line(path);
	return true;
}

/* Nothing of the system's own identifiers leads to the old disk: its are searched for. */
static bool seek_old(WdrArriving *a, GError **error)
{
	const WdrItineraryDisk *old = &a->it->source;

	a->old = g_array_new(FALSE, FALSE, sizeof(WdrIdentity));
	for (guint i = 0; i < a->it->parts->len; i++) {
		const WdrItineraryPart *p = a->it->parts->pdata[i];
		WdrIdentity id = { p->from.uuid, p->from.label, p->from.partuuid, p->from.partlabel,
			p->number, old->is_image ? NULL : old->name, old->serial };
		/* What both have is no sign of the old one. */
		if (g_strcmp0(id.label, p->to.label) == 0)
			id.label = NULL;
		if (g_strcmp0(id.partlabel, p->to.partlabel) == 0)
			id.partlabel = NULL;
		g_array_append_val(a->old, id);
	}
	a->system->sought = a->old;
	return wdr_system_look(a->system, a->world, error);
}

static bool check(WdrArriving *a, WdrArrival *arrival, GError **error)
{
	if (!arrival->is_there) {
		wdr_arrive_why(a);
		return true;
	}
	if (!seek_old(a, error))
		return false;
	wdr_arrive_start(a);
	wdr_arrive_boot_time(a, &arrival->boot_times);
	wdr_arrive_discards(a);
	wdr_arrive_files(a);
	wdr_arrive_old(a);
	return true;
}

static bool arrive(WdrArriving *a, const char *disk, WdrArrival **ret, GError **error)
{
	Search s = { .a = a };

	if (!look(a, disk, error))
		return false;
	search(&s);
	if (!s.found)
		return no_move(a, error);
	s.found->disk = g_strdup(a->disk->name);
	a->it = s.found->it;
	a->records = s.found->records;
	a->checks = s.found->checks = wdr_checks_new();
	if (!check(a, s.found, error)) {
		wdr_arrival_free(s.found);
		return false;
	}
	if (s.found->is_there && wdr_checks_count(a->checks, WDR_STATE_STOP) == 0)
		close_logbook(a, s.found);
	*ret = s.found;
	return true;
}

bool wdr_arrive(const WdrWorld *world, const char *disk, bool all, WdrArrival **ret, GError **error)
{
	WdrArriving a = { .world = world, .all = all };
	bool is_fine = arrive(&a, disk, ret, error);

	clear(&a);
	return is_fine;
}
