/* wanderitas ready: the checks before a move. */
#include "cli/common/plan_options.h"

#include "cli/common/keep.h"
#include "cli/common/step.h"
#include "present/show_ready.h"

#include <string.h>

static bool ready(
	WdrPlanOptions *o, WdrGlobals *globals, int argc, char **argv, bool *ret, GError **error)
{
	g_autofree char *word = NULL;
	const GOptionEntry more[] = { WDR_OPTION("medium", 0, STRING, &word), { 0 } };
	g_autofree GOptionEntry *entries = wdr_plan_options_entries(o, more);
	const char *medium = NULL;
	g_autoptr(WdrWorld) world = NULL;
	g_autoptr(WdrItinerary) it = NULL;
	g_autoptr(GPtrArray) checks = NULL;
	GError *refusal = NULL;
	WdrOut out = wdr_cli_stdout(globals);

	if (!wdr_cli_parse(&wdr_cmd_ready, globals, entries, &argc, &argv, error))
		return false;
	if (argc != 1)
		return wdr_error_set(error, WDR_ERROR_USAGE,
			"ready takes no '%s'; disks are named by --from and --to", argv[1]);
	if (!wdr_cli_medium(word, &medium, error) || !wdr_cli_world(globals, &world, error))
		return false;
	/* The draft finds it too, and says what is wrong when it cannot be found. */
	if (!o->from && !wdr_cli_running_disk(world, &o->from, NULL))
		g_debug("the disk that the system runs from is unknown");
	if (wdr_plan_options_draft(world, o, &it, &refusal))
		checks = wdr_ready_checks(world, it, WDR_BOOTS_HERE, medium);
	else if (!o->to || !(checks = wdr_ready_refusal(world, o->from, o->to, refusal))) {
		g_propagate_error(error, refusal);
		return false;
	}
	g_clear_error(&refusal);
	g_autoptr(json_t) document = wdr_present_ready_document(o->to, checks);
	/* The checks of images say nothing of this machine. */
	if (it ? !it->source.is_image && !it->target.is_image : !strchr(o->to, '/'))
		wdr_cli_keep_ready(world, document);
	if (globals->json)
		wdr_json_print(document, stdout);
	else
		wdr_present_ready(&out, o->to, checks);
	*ret = wdr_ready_stop(checks, NULL) == NULL;
	return true;
}

static int ready_run(WdrGlobals *globals, int argc, char **argv)
{
	g_auto(WdrPlanOptions) o = { 0 };
	g_autoptr(GError) error = NULL;
	bool is_ready = false;

	if (!ready(&o, globals, argc, argv, &is_ready, &error))
		return wdr_cli_fail(globals, error, WDR_EXIT_FOUND);
	return is_ready ? WDR_EXIT_DONE : WDR_EXIT_FOUND;
}

const WdrCommand wdr_cmd_ready = { "ready", ready_run };
