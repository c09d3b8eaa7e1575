#include "cli/cli.h"

#include "cli/progress.h"
#include "move/catchup.h"
#include "present/catchup.h"

#include <string.h>

static bool parse(char **state, WdrGlobals *globals, int *argc, char ***argv, GError **error)
{
	const GOptionEntry entries[] = {
		{ "state", 0, 0, G_OPTION_ARG_FILENAME, state, "The folder that the move left",
			"DIR" },
		{ 0 },
	};

	return wdr_cli_parse(&wdr_cmd_catchup, globals, entries, argc, argv, error) &&
	       (*argc <= 2 || wdr_error_set(error, WDR_ERROR_USAGE,
				      "catchup takes one itinerary, not also '%s'", (*argv)[2]));
}

/* The folder of the move that is meant: it was named, or its itinerary was, or it is the newest. */
static bool find_state(
	const WdrWorld *world, const char *named, const char *given, char **ret, GError **error)
{
	if (named)
		*ret = g_canonicalize_filename(named, NULL);
	else if (!given)
		*ret = wdr_catchup_find(world);
	else if (g_file_test(given, G_FILE_TEST_IS_DIR))
		*ret = g_canonicalize_filename(given, NULL);
	else {
		g_autoptr(WdrItinerary) it = NULL;
		if (!wdr_itinerary_load(given, &it, error))
			return false;
		g_autofree char *folder = g_path_get_dirname(given);
		g_autofree char *beside = g_build_filename(folder, "logbook.jsonl", NULL);
		*ret = g_file_test(beside, G_FILE_TEST_EXISTS)
			       ? g_canonicalize_filename(folder, NULL)
			       : wdr_move_default_state(world, &it->target);
	}
	if (*ret)
		return true;
	wdr_error_set(error, WDR_ERROR_USAGE, "there is no finished move to catch up with");
	wdr_error_hint(error, "name its itinerary, or the folder that it left");
	return false;
}

static int fail_begun(const WdrGlobals *globals, GError *error, const WdrItinerary *it)
{
	wdr_progress_end();
	if (!wdr_error_get_hint(error))
		wdr_error_hint(&error,
			"%s is unfinished, is marked so, and will not boot; the source is as it was. Run "
			"the move again",
			it->target.name);
	return wdr_cli_fail(globals, error, WDR_EXIT_STOPPED);
}

static int catch_up(char **named, WdrGlobals *globals, int argc, char **argv)
{
	g_autoptr(GError) error = NULL;
	g_autoptr(WdrWorld) world = NULL;
	g_autoptr(WdrItinerary) it = NULL;
	g_auto(WdrMoveResult) result = { 0 };
	g_autofree char *state = NULL;
	WdrOut out = wdr_cli_stdout(globals);
	bool has_begun = false;

	if (!parse(named, globals, &argc, &argv, &error) ||
		!wdr_cli_world(globals, &world, &error) ||
		!find_state(world, *named, argc == 2 ? argv[1] : NULL, &state, &error))
		return wdr_cli_fail(globals, error, WDR_EXIT_REFUSED);
	g_autofree char *plan = g_build_filename(state, "itinerary.json", NULL);
	if (!wdr_itinerary_load(plan, &it, &error))
		return wdr_cli_fail(globals, error, WDR_EXIT_REFUSED);
	if (!wdr_catchup(world, it, state, &has_begun, &result, &error)) {
		if (has_begun)
			return fail_begun(globals, error, it);
		return wdr_cli_fail(globals, error, WDR_EXIT_REFUSED);
	}
	wdr_progress_end();
	if (globals->json)
		wdr_present_catchup_json(stdout, it, &result);
	else
		wdr_present_catchup(&out, it, &result, globals->verbose != 0);
	bool is_all = wdr_present_uncarried(&result.caught_up) == 0 &&
		      result.caught_up.unsettled->len == 0;
	return is_all ? WDR_EXIT_DONE : WDR_EXIT_FOUND;
}

static int catchup_run(WdrGlobals *globals, int argc, char **argv)
{
	char *state = NULL;
	int code = catch_up(&state, globals, argc, argv);

	g_free(state);
	return code;
}

const WdrCommand wdr_cmd_catchup = { "catchup", "[ITINERARY]",
	"Carry over what changed on the source since it was carried.", WDR_GROUP_MOVE,
	catchup_run };
