/* wanderitas status: the state of this machine's move. */
#include "cli/common/cli.h"

#include "cli/common/progress.h"
#include "present/show_status.h"

/* Whoever cannot read the records learns the usual way all the same. */
static int fail(const WdrGlobals *globals, const GError *error)
{
	WdrOut out = wdr_cli_stdout(globals);

	if (globals->json)
		return wdr_cli_fail(globals, error, WDR_EXIT_FOUND);
	/* The reason follows, on stderr. */
	wdr_present_status(&out, NULL, "it is unknown whether a move is under way");
	fflush(stdout);
	return wdr_cli_fail(globals, error, WDR_EXIT_FOUND);
}

static int status_run(WdrGlobals *globals, int argc, char **argv)
{
	gboolean is_short = FALSE;
	const GOptionEntry entries[] = { WDR_OPTION("short", 0, NONE, &is_short), { 0 } };
	g_autoptr(GError) error = NULL;
	g_autoptr(WdrWorld) world = NULL;
	g_autoptr(WdrStatus) status = NULL;
	WdrOut out = wdr_cli_stdout(globals);

	if (!wdr_cli_parse(&wdr_cmd_status, globals, entries, &argc, &argv, &error) ||
		!wdr_cli_world(globals, &world, &error))
		return wdr_cli_fail(globals, error, WDR_EXIT_FOUND);
	if (argc > 1) {
		wdr_error_set(&error, WDR_ERROR_USAGE, "status takes no '%s'", argv[1]);
		return wdr_cli_fail(globals, error, WDR_EXIT_USAGE);
	}
	if (!wdr_status_look(world, &status, &error))
		return fail(globals, error);
	if (globals->json)
		wdr_present_status_json(stdout, status);
	else if (is_short)
		wdr_present_status_short(stdout, status);
	else
		wdr_present_status(&out, status, NULL);
	return WDR_EXIT_DONE;
}

const WdrCommand wdr_cmd_status = { "status", status_run };
