/* wanderitas readdress: makes a copied disk name its own identifiers. */
#include "cli/common/plan_options.h"

#include "base/command.h"
#include "change/readdress.h"
#include "cli/common/progress.h"
#include "plan/second_machine.h"
#include "present/show_itinerary.h"
#include "present/show_steps.h"

typedef struct {
	gboolean running, renew, write;
	char *name_by, *second, *state;
} ReaddressOptions;

static void options_clear(ReaddressOptions *o)
{
	g_free(o->name_by);
	g_free(o->second);
	g_free(o->state);
}
G_DEFINE_AUTO_CLEANUP_CLEAR_FUNC(ReaddressOptions, options_clear)

static bool parse(ReaddressOptions *o, WdrGlobals *globals, int *argc, char ***argv,
	WdrReaddressOptions *ret, GError **error)
{
	const GOptionEntry entries[] = {
		WDR_OPTION("running", 0, NONE, &o->running),
		WDR_OPTION("renew", 0, NONE, &o->renew),
		WDR_OPTION("name-by", 0, STRING, &o->name_by),
		WDR_OPTION("as-second-machine", 0, STRING, &o->second),
		WDR_OPTION("write", 0, NONE, &o->write),
		WDR_OPTION("state", 0, FILENAME, &o->state),
		{ 0 },
	};

	if (!wdr_cli_parse(&wdr_cmd_readdress, globals, entries, argc, argv, error))
		return false;
	if (*argc > 2 || (*argc == 2) == (o->running != 0)) {
		wdr_error_set(
			error, WDR_ERROR_USAGE, "readdress takes one disk or image, or --running");
		g_autofree char *look = wdr_command("survey");
		wdr_error_hint(error, "to list the disks: %s", look);
		return false;
	}
	*ret = (WdrReaddressOptions){ .is_running = o->running != 0,
		.renews = o->renew != 0,
		.has_name_by = o->name_by != NULL,
		.second_name = o->second };
	if (o->second && o->running)
		return wdr_error_set(error, WDR_ERROR_USAGE,
			"--as-second-machine is for a copy, not for the running system");
	if (o->second && !wdr_second_machine_check_name(o->second, error))
		return false;
	return !o->name_by || wdr_cli_name_by(o->name_by, &ret->name_by, error);
}

static int write_it(
	const ReaddressOptions *o, WdrGlobals *globals, const WdrOut *out, WdrReaddress *r)
{
	g_autoptr(GError) error = NULL;
	g_autofree char *state =
		o->state ? g_canonicalize_filename(o->state, NULL) : wdr_readdress_default_state(r);
	bool has_begun = false;

	if (wdr_readdress_write(r, state, &has_begun, &error)) {
		wdr_progress_end();
		wdr_present_readdressed(out, r, state, globals->json != 0);
		return wdr_readdress_left(r) ? WDR_EXIT_FOUND : WDR_EXIT_DONE;
	}
	g_autofree char *undo = wdr_command("rewind", state);
	if (has_begun)
		wdr_error_hint(&error, "run it again to continue; or restore everything: %s", undo);
	return wdr_cli_fail(globals, error, has_begun ? WDR_EXIT_STOPPED : WDR_EXIT_REFUSED);
}

static int readdress(ReaddressOptions *o, WdrGlobals *globals, const WdrReaddressOptions *options,
	const char *disk)
{
	g_autoptr(GError) error = NULL;
	g_autoptr(WdrWorld) world = NULL;
	g_autoptr(WdrReaddress) r = NULL;
	g_autofree char *running = NULL;
	WdrOut out = wdr_cli_stdout(globals);

	if (!wdr_cli_world(globals, &world, &error) ||
		(options->is_running && !wdr_cli_running_disk(world, &running, &error)) ||
		!wdr_readdress_plan(world, running ? running : disk, options, &r, &error))
		return wdr_cli_fail(globals, error, WDR_EXIT_REFUSED);
	bool has_work = options->renews || wdr_readdress_itinerary(r)->edits->len > 0 ||
			wdr_readdress_files(r)->len > 0;
	if (!globals->json)
		wdr_present_readdress(&out, r, options->renews);
	if (o->write && has_work)
		return write_it(o, globals, &out, r);
	if (globals->json)
		wdr_present_readdress_json(stdout, r, NULL);
	else if (has_work)
		wdr_present_preview(&out);
	return wdr_readdress_left(r) ? WDR_EXIT_FOUND : WDR_EXIT_DONE;
}

static int readdress_run(WdrGlobals *globals, int argc, char **argv)
{
	g_auto(ReaddressOptions) o = { 0 };
	WdrReaddressOptions options = { 0 };
	g_autoptr(GError) error = NULL;

	if (!parse(&o, globals, &argc, &argv, &options, &error))
		return wdr_cli_fail(globals, error, WDR_EXIT_REFUSED);
	return readdress(&o, globals, &options, argc == 2 ? argv[1] : NULL);
}

const WdrCommand wdr_cmd_readdress = { "readdress", readdress_run };
