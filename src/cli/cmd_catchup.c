/* wanderitas catchup: copies what changed since the move. */
#include "cli/common/cli.h"

#include "cli/common/progress.h"
#include "cli/common/under_way.h"
#include "move/catchup.h"
#include "present/show_catchup.h"

#include <string.h>

static bool parse(char **state, WdrGlobals *globals, int *argc, char ***argv, GError **error)
{
	const GOptionEntry entries[] = {
		WDR_OPTION("state", 0, FILENAME, state),
		{ 0 },
	};

	return wdr_cli_parse(&wdr_cmd_catchup, globals, entries, argc, argv, error) &&
	       (*argc <= 2 || wdr_error_set(error, WDR_ERROR_USAGE,
				      "catchup takes one itinerary, not also '%s'", (*argv)[2]));
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
		!wdr_cli_find_move(world, *named, argc == 2 ? argv[1] : NULL, &state, &it, &error))
		return wdr_cli_fail(globals, error, WDR_EXIT_REFUSED);
	if (!wdr_catchup(world, it, state, &has_begun, &result, &error)) {
		if (has_begun)
			return wdr_cli_fail_begun(globals, world, error, it, &result);
		return wdr_cli_fail(globals, error, WDR_EXIT_REFUSED);
	}
	wdr_progress_end();
	if (globals->json)
		wdr_present_catchup_json(stdout, it, &result);
	else
		wdr_present_catchup(&out, it, &result, globals->verbose != 0);
	bool is_all = wdr_present_not_copied(&result.caught_up) == 0 &&
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

const WdrCommand wdr_cmd_catchup = { "catchup", catchup_run };
