/* wanderitas rewind: puts changed files back. */
#include "cli/common/step.h"

#include "base/command.h"
#include "base/stat.h"
#include "change/rewind.h"
#include "cli/common/progress.h"
#include "present/show_rewind.h"

#include <sys/stat.h>

typedef struct {
	gboolean force;
} RewindOptions;

/* A logbook, the folder that it lies in, or one whose folders have some: the newest of them that is
 * in force; NULL: none is. */
static bool logbook_in(const char *given, char **ret, GError **error)
{
	g_autofree char *inner = g_build_filename(given, "logbook.jsonl", NULL);

	*ret = NULL;
	if (!wdr_is_folder(given))
		*ret = g_strdup(given);
	else if (g_file_test(inner, G_FILE_TEST_EXISTS))
		*ret = g_steal_pointer(&inner);
	return *ret || wdr_rewind_newest_in(given, NULL, ret, error);
}

static bool check_there(const char *logbook, GError **error)
{
	if (!logbook || g_file_test(logbook, G_FILE_TEST_EXISTS))
		return true;
	wdr_error_set(error, WDR_ERROR_USAGE, "there is no logbook %s", logbook);
	wdr_error_hint(error,
		"each step that changed something showed its folder; without an argument "
		"rewind takes the newest one of this machine");
	return false;
}

static bool parse(RewindOptions *o, WdrGlobals *globals, int *argc, char ***argv, GError **error)
{
	const GOptionEntry entries[] = {
		WDR_OPTION("force", 0, NONE, &o->force),
		{ 0 },
	};

	return wdr_cli_parse(&wdr_cmd_rewind, globals, entries, argc, argv, error) &&
	       (*argc <= 2 || wdr_error_set(error, WDR_ERROR_USAGE,
				      "rewind takes one logbook, not also '%s'", (*argv)[2]));
}

static unsigned show(const WdrGlobals *globals, const char *logbook, const GPtrArray *results)
{
	WdrOut out = wdr_cli_stdout(globals);

	wdr_progress_end();
	return globals->json ? wdr_present_rewound_json(stdout, logbook, results)
			     : wdr_present_rewound(&out, logbook, results);
}

int wdr_cli_rewind(
	const WdrGlobals *globals, const WdrWorld *world, const char *logbook, bool is_forced)
{
	g_autoptr(GError) error = NULL;
	g_autoptr(GPtrArray) results = NULL;

	if (!logbook || wdr_rewind(world, logbook, is_forced, &results, &error))
		return show(globals, logbook, results) ? WDR_EXIT_FOUND : WDR_EXIT_DONE;
	if (!results)
		return wdr_cli_fail(globals, error, WDR_EXIT_REFUSED);
	g_autofree char *again = wdr_command("rewind", logbook);
	wdr_error_hint(&error, "what was put back stays so; to continue: %s", again);
	if (results->len == 0)
		return wdr_cli_fail(globals, error, WDR_EXIT_STOPPED);
	show(globals, logbook, results);
	return wdr_cli_fail_told(globals, error, WDR_EXIT_STOPPED);
}

static int rewind_run(WdrGlobals *globals, int argc, char **argv)
{
	RewindOptions o = { 0 };
	g_autoptr(GError) error = NULL;
	g_autoptr(WdrWorld) world = NULL;

	if (!parse(&o, globals, &argc, &argv, &error) || !wdr_cli_world(globals, &world, &error))
		return wdr_cli_fail(globals, error, WDR_EXIT_REFUSED);
	g_autofree char *logbook = NULL;
	if (!(argc == 2 ? logbook_in(argv[1], &logbook, &error)
			: wdr_rewind_newest(world, NULL, &logbook, &error)) ||
		!check_there(logbook, &error))
		return wdr_cli_fail(globals, error, WDR_EXIT_REFUSED);
	return wdr_cli_rewind(globals, world, logbook, o.force != 0);
}

const WdrCommand wdr_cmd_rewind = { "rewind", rewind_run };
