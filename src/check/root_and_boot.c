/* Finds the second disk of a system whose root was moved alone. */
#include "check/root_and_boot.h"

#include "base/io.h"
#include "base/stat.h"
#include "change/disk_session.h"
#include "disk/backing.h"
#include "journal/logbook.h"
#include "journal/move_progress.h"
#include "move/move.h"

static bool is_in_force(const char *logbook)
{
	g_autoptr(GPtrArray) changes = NULL;
	g_auto(WdrMoveProgress) logged = { 0 };

	return wdr_move_progress_read(logbook, &logged, NULL) && logged.is_done &&
	       wdr_logbook_read(logbook, &changes, NULL) && wdr_changes_are_in_force(changes);
}

static bool is_end(
	const WdrWorld *world, const WdrItineraryDisk *end, const WdrDisk *disk, bool *ret_is_this)
{
	g_autoptr(WdrDisk) now = NULL;

	if (!wdr_itinerary_disk_find(world, end, &now, NULL) ||
		(now->size && now->size != end->size))
		return false;
	*ret_is_this |= wdr_disk_is_same(world, now, disk);
	return true;
}

/* In one folder of records. NULL: it is of something else. */
static WdrItinerary *look_into(const WdrWorld *world, const char *folder, const WdrDisk *disk)
{
	g_autofree char *plan = g_build_filename(folder, "itinerary.json", NULL);
	g_autofree char *logbook = g_build_filename(folder, "logbook.jsonl", NULL);
	g_autoptr(WdrItinerary) it = NULL;
	bool is_this = false;

	if (!wdr_is_file(plan) || !wdr_itinerary_load(plan, &it, NULL) ||
		it->what != WDR_MOVE_ROOT || !is_end(world, &it->source, disk, &is_this) ||
		!is_end(world, &it->target, disk, &is_this) || !is_this || !is_in_force(logbook))
		return NULL;
	return g_steal_pointer(&it);
}

WdrItinerary *wdr_together_find(const WdrWorld *world, const WdrDisk *disk)
{
	g_autofree char *base = wdr_disk_records(world, disk);
	g_autoptr(GDir) dir = NULL;
	WdrItinerary *found = look_into(world, base, disk);

	if (found || !wdr_open_folder(base, &dir, NULL))
		return found;
	for (const char *name; dir && (name = g_dir_read_name(dir));) {
		g_autofree char *folder = g_build_filename(base, name, NULL);
		WdrItinerary *it = look_into(world, folder, disk);
		if (it && (!found || it->made_at > found->made_at)) {
			wdr_itinerary_free(found);
			found = g_steal_pointer(&it);
		}
		wdr_itinerary_free(it);
	}
	return found;
}
