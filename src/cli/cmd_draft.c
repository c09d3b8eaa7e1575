/* wanderitas draft: shows and saves an itinerary. */
#include "cli/common/expected.h"
#include "cli/common/plan_options.h"

#include "base/command.h"
#include "base/io.h"
#include "check/planned_boot.h"
#include "disk/backing.h"
#include "present/show_itinerary.h"

#include <string.h>

typedef struct {
	WdrPlanOptions plan;
	char *output;
} DraftOptions;

static bool parse(DraftOptions *o, WdrGlobals *globals, int *argc, char ***argv, GError **error)
{
	const GOptionEntry more[] = {
		WDR_OPTION("output", 'o', FILENAME, &o->output),
		{ 0 },
	};
	g_autofree GOptionEntry *entries = wdr_plan_options_entries(&o->plan, more);

	if (!wdr_cli_parse(&wdr_cmd_draft, globals, entries, argc, argv, error))
		return false;
	if (*argc == 1)
		return !o->output || wdr_output_check(o->output, error);
	return wdr_error_set(error, WDR_ERROR_USAGE,
		"draft takes no '%s'; disks are named by --from and --to", (*argv)[1]);
}

/* As far as it can be known before anything is made. */
static void show_start(const WdrWorld *world, const WdrOut *out, const WdrItinerary *it)
{
	const char *starts = it->what == WDR_MOVE_ROOT ? it->source.name : it->target.name;
	g_autoptr(WdrRehearsal) planned = NULL;
	g_autoptr(GError) error = NULL;
	g_auto(WdrMachine) around = { 0 };

	wdr_machine_look(world, it, WDR_BOOTS_HERE, &around);
	fputc('\n', out->file);
	if (wdr_planned_rehearse(&around, &planned, &error))
		wdr_present_verdict(out, "as planned", starts, planned);
	else
		wdr_out_text(out, WDR_STYLE_WARNING,
			"the boot cannot be rehearsed beforehand: %s\n", error->message);
	bool is_running = wdr_machine_runs_source(&around);
	g_autofree char *ready = wdr_command("ready", is_running ? "" : "--from",
		is_running ? "" : wdr_itinerary_disk_word(&it->source), "--to",
		wdr_itinerary_disk_word(&it->target));
	g_autofree char *all = g_strdup_printf("for all checks: %s", ready);
	wdr_out_hanging(out, WDR_STYLE_PLAIN, 0, all);
}

/* An image by mistake: the plan of a move would take the place of what is to be moved. */
static bool check_output(const DraftOptions *o, const WdrItinerary *it, GError **error)
{
	const char *const disks[] = { it->source.path, it->target.path };

	if (!o->output)
		return true;
	g_autoptr(WdrBacking) file = wdr_backing_of_path(o->output);
	for (size_t i = 0; i < G_N_ELEMENTS(disks); i++) {
		g_autoptr(WdrBacking) disk = wdr_backing_of_path(disks[i]);
		if (wdr_backing_is_shared(file, disk))
			return wdr_error_set(error, WDR_ERROR_USAGE,
				"-o %s is one of the two disks of this move", o->output);
	}
	return true;
}

static int draft(DraftOptions *o, WdrGlobals *globals, int argc, char **argv)
{
	g_autoptr(GError) error = NULL;
	g_autoptr(WdrWorld) world = NULL;
	g_autoptr(WdrItinerary) it = NULL;
	WdrOut out = wdr_cli_stdout(globals);

	if (!parse(o, globals, &argc, &argv, &error) || !wdr_cli_world(globals, &world, &error) ||
		!wdr_plan_options_draft(world, &o->plan, &it, &error))
		return wdr_cli_fail(globals, error, WDR_EXIT_REFUSED);
	g_autofree char *json = wdr_itinerary_to_json(it);
	bool is_shown = !globals->json && g_strcmp0(o->output, "-") != 0;
	if (!check_output(o, it, &error))
		return wdr_cli_fail(globals, error, WDR_EXIT_REFUSED);
	if (o->output && !wdr_write_output(o->output, json, strlen(json), &error))
		return wdr_cli_fail(globals, error, WDR_EXIT_REFUSED);
	if (globals->json) {
		fputs(json, stdout);
		return WDR_EXIT_DONE;
	}
	if (!is_shown)
		return WDR_EXIT_DONE;
	wdr_present_itinerary(&out, it);
	WdrExpected expected = wdr_cli_expect(world, it);
	wdr_cli_show_expected(&out, it, &expected);
	show_start(world, &out, it);
	if (o->output)
		wdr_out_text(&out, WDR_STYLE_GOOD, "\nwritten to %s; nothing else was changed\n",
			o->output);
	return WDR_EXIT_DONE;
}

static int draft_run(WdrGlobals *globals, int argc, char **argv)
{
	DraftOptions o = { 0 };
	int code = draft(&o, globals, argc, argv);

	wdr_plan_options_clear(&o.plan);
	g_free(o.output);
	return code;
}

const WdrCommand wdr_cmd_draft = { "draft", draft_run };
