/* wanderitas arrive: the checks after the restart. */
#include "cli/common/plan_options.h"

#include "check/arrive.h"
#include "cli/common/keep.h"
#include "cli/common/progress.h"
#include "move/move.h"
#include "present/show_arrival.h"

static bool arrive(WdrGlobals *globals, int argc, char **argv, WdrArrival **ret, GError **error)
{
	gboolean all = FALSE;
	const GOptionEntry entries[] = {
		WDR_OPTION("all", 0, NONE, &all),
		{ 0 },
	};
	g_autoptr(WdrWorld) world = NULL;
	g_autofree char *disk = NULL;

	if (!wdr_cli_parse(&wdr_cmd_arrive, globals, entries, &argc, &argv, error))
		return false;
	if (argc != 1)
		return wdr_error_set(error, WDR_ERROR_USAGE,
			"arrive looks at the system that runs, and takes no '%s'", argv[1]);
	if (!wdr_cli_world(globals, &world, error) || !wdr_cli_running_disk(world, &disk, error))
		return false;
	bool is_fine = wdr_arrive(world, disk, all != 0, ret, error);
	wdr_progress_end();
	if (is_fine && (*ret)->is_there)
		wdr_cli_keep(world, (*ret)->records, WDR_ARRIVAL_FILE,
			wdr_present_arrival_document(*ret));
	return is_fine;
}

static int arrive_run(WdrGlobals *globals, int argc, char **argv)
{
	g_autoptr(WdrArrival) a = NULL;
	g_autoptr(GError) error = NULL;
	WdrOut out = wdr_cli_stdout(globals);

	if (!arrive(globals, argc, argv, &a, &error))
		return wdr_cli_fail(globals, error, WDR_EXIT_FOUND);
	if (globals->json)
		wdr_present_arrival_json(stdout, a);
	else
		wdr_present_arrival(&out, a);
	return a->is_there && wdr_checks_count(a->checks, WDR_STATE_STOP) == 0 ? WDR_EXIT_DONE
									       : WDR_EXIT_FOUND;
}

const WdrCommand wdr_cmd_arrive = { "arrive", arrive_run };
