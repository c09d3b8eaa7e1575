/* Finds the move that --resume, catchup and report are about. */
#include "cli/common/under_way.h"

#include "base/command.h"
#include "base/stat.h"
#include "cli/common/progress.h"
#include "disk/health/failure_clues.h"
#include "present/show_trouble.h"

#include <errno.h>
#include <string.h>
#include <sys/stat.h>

bool wdr_cli_load_itinerary(const char *given, WdrItinerary **ret, GError **error)
{
	WdrStat st;

	if (wdr_stat(given, &st) != 0 && errno == ENOENT) {
		g_autofree char *draw = wdr_command("draft", "--to", "DISK", "-o", given);
		wdr_error_set(error, WDR_ERROR_USAGE, "there is no itinerary '%s'", given);
		wdr_error_hint(error, "to draw one: %s", draw);
		return false;
	}
	if (wdr_is_folder(given)) {
		g_autofree char *resume = wdr_command("move", "--resume", given);
		wdr_error_set(error, WDR_ERROR_USAGE, "%s is a folder, not an itinerary", given);
		wdr_error_hint(
			error, "if it has the records of a move, to continue that: %s", resume);
		return false;
	}
	if (wdr_itinerary_load(given, ret, error))
		return true;
	g_prefix_error(error, "this is not an itinerary that can be used: ");
	return false;
}

/* The records beside a target image; NULL: there are none. */
static char *beside_image(const char *given)
{
	g_autofree char *folder = given ? g_strconcat(given, ".wanderitas", NULL) : NULL;

	return folder && wdr_is_folder(folder) ? g_canonicalize_filename(folder, NULL) : NULL;
}

/* A target, not an itinerary: no file of ours is so large. */
static bool is_disk(const char *given)
{
	WdrStat st;

	return wdr_stat(given, &st) == 0 &&
	       (S_ISBLK(st.stx_mode) || st.stx_size > WDR_ITINERARY_BYTES_MAX);
}

static bool find_state(
	const WdrWorld *world, const char *state, const char *given, char **ret, GError **error)
{
	*ret = NULL;
	if (state || (given && wdr_is_folder(given))) {
		*ret = g_canonicalize_filename(state ? state : given, NULL);
	} else if ((*ret = beside_image(given))) {
		return true;
	} else if (!given) {
		if (!wdr_move_newest_state(world, ret, error))
			return false;
	} else if (is_disk(given)) {
		wdr_error_set(error, WDR_ERROR_USAGE,
			"no move to %s is known: there is no folder %s.wanderitas", given, given);
		wdr_error_hint(error,
			"name the folder that the move left; one that had not begun to write leaves none");
		return false;
	} else {
		g_autoptr(WdrItinerary) it = NULL;
		if (!wdr_cli_load_itinerary(given, &it, error))
			return false;
		g_autofree char *folder = g_path_get_dirname(given);
		g_autofree char *beside = g_build_filename(folder, "logbook.jsonl", NULL);
		*ret = g_file_test(beside, G_FILE_TEST_EXISTS)
			       ? g_canonicalize_filename(folder, NULL)
			       : wdr_move_default_state(world, &it->target);
	}
	if (*ret)
		return true;
	wdr_error_set(error, WDR_ERROR_USAGE, "there is no move to continue");
	wdr_error_hint(error, "name its itinerary, or the folder that it left");
	return false;
}

bool wdr_cli_find_move(const WdrWorld *world, const char *state, const char *given,
	char **ret_state, WdrItinerary **ret, GError **error)
{
	if (!find_state(world, state, given, ret_state, error))
		return false;
	g_autofree char *plan = g_build_filename(*ret_state, "itinerary.json", NULL);
	return wdr_itinerary_load(plan, ret, error);
}

/* It tells that this disk failed. */
static bool names(const GError *error, const char *path)
{
	return g_error_matches(error, WDR_ERROR, WDR_ERROR_IO) && strstr(error->message, path);
}

static void show_signs(const WdrWorld *world, const WdrOut *out, const WdrItineraryDisk *disk)
{
	g_autoptr(WdrDisk) now = NULL;

	if (!wdr_itinerary_disk_find(world, disk, &now, NULL))
		return;
	g_autoptr(GPtrArray) signs = wdr_failure_clues(world, now);
	wdr_present_failure_clues(out, disk->name, signs);
}

int wdr_cli_fail_begun(const WdrGlobals *globals, const WdrWorld *world, GError *error,
	const WdrItinerary *it, const WdrMoveResult *result)
{
	WdrOut out = wdr_out(stderr, globals->no_color);

	wdr_progress_end();
	if (result->missing->len)
		wdr_present_unreadable(&out, result->missing);
	/* Which of the two it was the message says; what names neither is no failure of a disk. */
	if (result->missing->len || names(error, it->source.path))
		show_signs(world, &out, &it->source);
	else if (names(error, it->target.path) ||
		 strstr(error->message, "read back from the target"))
		show_signs(world, &out, &it->target);
	g_prefix_error(&error, "stopped part-way: ");
	if (wdr_error_get_hint(error))
		return wdr_cli_fail(globals, error, WDR_EXIT_STOPPED);
	g_autofree char *undo = wdr_command("rewind", result->state);
	g_autofree char *resume = wdr_command("move", "--resume", result->state);
	if (result->has_changed_source)
		wdr_error_hint(&error,
			"%s is complete, but boot files on the source may be half changed. To restore "
			"them and continue: %s && %s",
			it->target.name, undo, resume);
	else
		wdr_error_hint(&error,
			"%s is unfinished, is marked so, and will not boot; the source %s. To start over, "
			"run the same move again. To continue: %s",
			it->target.name,
			result->has_taken_steps ? "is unchanged but for the steps of --with"
						: "is unchanged",
			resume);
	return wdr_cli_fail(globals, error, WDR_EXIT_STOPPED);
}
