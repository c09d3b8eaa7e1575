/* wanderitas tune: shows and sets firmware settings for a new medium. */
#include "cli/plan_options.h"

#include "base/json.h"
#include "change/tune.h"
#include "cli/step.h"
#include "present/show_steps.h"

typedef struct {
	char *target, *on, *state;
	char **set, **unset;
	gboolean write;
} TuneOptions;

static void options_clear(TuneOptions *o)
{
	g_free(o->target);
	g_free(o->on);
	g_free(o->state);
	g_strfreev(o->set);
	g_strfreev(o->unset);
}
G_DEFINE_AUTO_CLEANUP_CLEAR_FUNC(TuneOptions, options_clear)

static bool parse(TuneOptions *o, WdrGlobals *globals, int argc, char **argv, GError **error)
{
	const GOptionEntry entries[] = {
		{ "set", 0, 0, G_OPTION_ARG_STRING_ARRAY, &o->set,
			"Switch a setting on: pcie, pcie-gen3, usb-current, usb-storage; may be given "
			"several times",
			"SETTING" },
		{ "unset", 0, 0, G_OPTION_ARG_STRING_ARRAY, &o->unset,
			"Take it out again; may be given several times", "SETTING" },
		{ "for", 0, 0, G_OPTION_ARG_FILENAME, &o->target,
			"The disk that the settings are for (default: the one that is looked at)",
			"DISK" },
		{ "on", 0, 0, G_OPTION_ARG_FILENAME, &o->on,
			"The disk or image whose boot files are looked at (default: the running one)",
			"DISK" },
		{ "write", 0, 0, G_OPTION_ARG_NONE, &o->write,
			"Do it; without this it is only shown", NULL },
		{ "state", 0, 0, G_OPTION_ARG_FILENAME, &o->state,
			"Folder for logbook and originals", "DIR" },
		{ 0 },
	};

	if (!wdr_cli_parse(&wdr_cmd_tune, globals, entries, &argc, &argv, error))
		return false;
	return argc <= 1 ||
	       wdr_error_set(error, WDR_ERROR_USAGE,
		       "tune takes no '%s'; settings are named by --set and --unset", argv[1]);
}

static bool make_plan(TuneOptions *o, const WdrWorld *world, WdrTunePlan **ret, GError **error)
{
	if (!o->on && !wdr_cli_running_disk(world, &o->on, error))
		return false;
	WdrTuneOptions options = { o->on, o->target, o->set, o->unset };
	return wdr_tune_plan(world, &options, ret, error);
}

static void show(const WdrOut *out, const void *plan)
{
	const WdrTunePlan *p = plan;

	wdr_present_facts(out, p->facts);
	wdr_present_file_plans(out, p->files);
}

static void show_json(FILE *file, const void *plan, const char *state)
{
	const WdrTunePlan *p = plan;
	g_autoptr(json_t) root = json_pack("{s:s, s:o, s:o, s:o}", "format", "wanderitas-tune/2",
		"facts", wdr_present_facts_json(p->facts), "files",
		wdr_present_file_plans_json(p->files), "records", wdr_json_text(state));

	json_dumpf(root, file, JSON_INDENT(2));
	fputc('\n', file);
}

static bool write_plan(void *plan, const char *state, bool *ret_has_begun, GError **error)
{
	WdrTunePlan *p = plan;

	return wdr_disk_session_write(p->site, state, p->files, ret_has_begun, error);
}

static const WdrStepSort sort = { "tune", show, show_json, write_plan, NULL };

static int tune_run(WdrGlobals *globals, int argc, char **argv)
{
	g_auto(TuneOptions) o = { 0 };
	g_autoptr(GError) error = NULL;
	g_autoptr(WdrWorld) world = NULL;
	g_autoptr(WdrTunePlan) p = NULL;

	if (!parse(&o, globals, argc, argv, &error) || !wdr_cli_world(globals, &world, &error) ||
		!make_plan(&o, world, &p, &error))
		return wdr_cli_fail(globals, error, WDR_EXIT_REFUSED);
	return wdr_cli_step(globals, &(WdrStepRun){ .sort = &sort,
					     .state = o.state,
					     .site = p->site,
					     .has_work = p->files->len > 0,
					     .is_writing = o.write != 0,
					     .is_asked = o.set || o.unset,
					     .plan = p });
}

const WdrCommand wdr_cmd_tune = { "tune", "[--set SETTING] [--unset SETTING] [--write]",
	"Show, and change, settings of the boot files that a new medium may want.", WDR_GROUP_AFTER,
	tune_run };
