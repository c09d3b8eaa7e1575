/* Where moves keep their state. */
#include "base/io.h"
#include "move/logged.h"
#include "move/move.h"
#include "move/source.h"

#include <sys/stat.h>

char *wdr_move_default_state(const WdrWorld *world, const WdrItineraryDisk *target)
{
	if (target->is_image)
		return g_strconcat(target->path, ".wanderitas", NULL);
	g_autofree char *base = wdr_world_path(world, WDR_STATE_FOLDER);
	g_autofree char *name = g_strdup_printf("to-%s", target->name);
	return g_build_filename(base, name, NULL);
}

char *wdr_move_newest_state(const WdrWorld *world)
{
	g_autofree char *base = wdr_world_path(world, WDR_STATE_FOLDER);
	g_autoptr(GDir) dir = g_dir_open(base, 0, NULL);
	g_autofree char *found = NULL;
	int64_t newest = 0;

	for (const char *name; dir && (name = g_dir_read_name(dir));) {
		g_autofree char *itinerary = g_build_filename(base, name, "itinerary.json", NULL);
		struct stat st;
		if (g_str_has_prefix(name, WDR_ARRIVAL_PREFIX) || stat(itinerary, &st) != 0 ||
			st.st_mtim.tv_sec < newest)
			continue;
		newest = st.st_mtim.tv_sec;
		g_free(found);
		found = g_build_filename(base, name, NULL);
	}
	return g_steal_pointer(&found);
}

void wdr_move_clear_scratch(const char *state)
{
	g_autoptr(GDir) dir = g_dir_open(state, 0, NULL);

	for (const char *name; dir && (name = g_dir_read_name(dir));) {
		g_autofree char *path = g_build_filename(state, name, NULL);
		if (g_str_has_prefix(name, WDR_SCRATCH_PREFIX))
			wdr_remove_folder(path);
	}
}

bool wdr_move_was_begun(const char *state)
{
	g_autofree char *path = g_build_filename(state, "logbook.jsonl", NULL);
	g_auto(WdrLogged) logged = { 0 };

	return wdr_logged_read(path, &logged, NULL) && logged.is_cleared;
}
