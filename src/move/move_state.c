/* Where moves keep their state. */
#include "base/cleanup.h"

#include "base/io.h"
#include "base/stat.h"
#include "journal/move_progress.h"
#include "move/move.h"
#include "plan/source.h"

#include <errno.h>
#include <sys/stat.h>
#include <unistd.h>

char *wdr_move_default_state(const WdrWorld *world, const WdrItineraryDisk *target)
{
	if (target->is_image)
		return g_strconcat(target->path, ".wanderitas", NULL);
	g_autofree char *base = wdr_world_path(world, WDR_STATE_FOLDER);
	g_autofree char *name = g_strdup_printf("to-%s", target->name);
	return g_build_filename(base, name, NULL);
}

/* Of a move, or at least not certainly of something else: readdressing keeps an itinerary, too. */
static bool is_of_move(const char *itinerary)
{
	g_autoptr(json_t) json = json_load_file(itinerary, 0, NULL);
	const char *what = json_string_value(json_object_get(json, "what"));
	WdrWhat kind = WDR_MOVE_EVERYTHING;

	return !what || !wdr_what_parse(what, &kind) || kind != WDR_MOVE_NOTHING;
}

bool wdr_move_newest_state(const WdrWorld *world, char **ret, GError **error)
{
	g_autofree char *base = wdr_world_path(world, WDR_STATE_FOLDER);
	g_autoptr(GDir) dir = NULL;
	g_autofree char *found = NULL;
	int64_t newest = 0;

	if (!wdr_open_folder(base, &dir, error))
		return false;
	for (const char *name; dir && (name = g_dir_read_name(dir));) {
		g_autofree char *itinerary = g_build_filename(base, name, "itinerary.json", NULL);
		WdrStat st;
		if (g_str_has_prefix(name, WDR_ARRIVAL_PREFIX) || wdr_stat(itinerary, &st) != 0 ||
			st.stx_mtime.tv_sec < newest || !is_of_move(itinerary))
			continue;
		newest = st.stx_mtime.tv_sec;
		g_free(found);
		found = g_build_filename(base, name, NULL);
	}
	*ret = g_steal_pointer(&found);
	return true;
}

void wdr_move_clear_scratch(const char *state, const char *prefix)
{
	g_autoptr(GDir) dir = g_dir_open(state, 0, NULL);

	for (const char *name; dir && (name = g_dir_read_name(dir));) {
		g_autofree char *path = g_build_filename(state, name, NULL);
		if (g_str_has_prefix(name, prefix))
			wdr_remove_folder(path);
	}
}

bool wdr_move_was_begun(const char *state, bool *ret, GError **error)
{
	g_autofree char *path = g_build_filename(state, "logbook.jsonl", NULL);
	g_auto(WdrMoveProgress) logged = { 0 };

	*ret = false;
	/* It comes before all else. */
	if (access(path, F_OK) != 0 && errno == ENOENT)
		return true;
	if (!wdr_move_progress_read(path, &logged, error)) {
		wdr_error_hint(error,
			"nothing was written: what was done to the target so far is not known");
		return false;
	}
	*ret = logged.is_cleared;
	return true;
}
