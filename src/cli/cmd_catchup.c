/* wanderitas catchup: copies what changed since the move. */
#include "cli/common/cli.h"

#include "cli/common/progress.h"
#include "cli/common/under_way.h"
#include "move/catchup.h"
#include "present/show_catchup.h"

#include <string.h>

typedef struct {
	char *state;
	char **pause; /* units; NULL: none */
} CatchupOptions;

static void options_clear(CatchupOptions *o)
{
	g_free(o->state);
	g_strfreev(o->pause);
}
G_DEFINE_AUTO_CLEANUP_CLEAR_FUNC(CatchupOptions, options_clear)

static bool parse(CatchupOptions *o, WdrGlobals *globals, int *argc, char ***argv, GError **error)
{
	const GOptionEntry entries[] = {
		WDR_OPTION("state", 0, FILENAME, &o->state),
		WDR_OPTION("pause", 0, STRING_ARRAY, &o->pause),
		{ 0 },
	};

	return wdr_cli_parse(&wdr_cmd_catchup, globals, entries, argc, argv, error) &&
	       (*argc <= 2 || wdr_error_set(error, WDR_ERROR_USAGE,
				      "catchup takes one itinerary, not also '%s'", (*argv)[2]));
}

static int catchup_run(WdrGlobals *globals, int argc, char **argv)
{
	g_auto(CatchupOptions) o = { 0 };
	g_autoptr(GError) error = NULL;
	g_autoptr(WdrWorld) world = NULL;
	g_autoptr(WdrItinerary) it = NULL;
	g_auto(WdrMoveResult) result = { 0 };
	g_autofree char *state = NULL;
	WdrOut out = wdr_cli_stdout(globals);
	bool has_begun = false;

	if (!parse(&o, globals, &argc, &argv, &error) || !wdr_cli_world(globals, &world, &error) ||
		!wdr_cli_find_move(world, o.state, argc == 2 ? argv[1] : NULL, &state, &it, &error))
		return wdr_cli_fail(globals, error, WDR_EXIT_REFUSED);
	/* What the move stopped is not stopped again unless it is named again. */
	g_strfreev(it->pause);
	it->pause = g_steal_pointer(&o.pause);
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
	bool is_all = !result.caught_up.pause_problem &&
		      wdr_present_not_copied(&result.caught_up) == 0 &&
		      result.caught_up.unsettled->len == 0;
	return is_all ? WDR_EXIT_DONE : WDR_EXIT_FOUND;
}

const WdrCommand wdr_cmd_catchup = { "catchup", catchup_run };
