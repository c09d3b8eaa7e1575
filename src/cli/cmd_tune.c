/* wanderitas tune: shows and sets firmware settings for a new medium. */
#include "cli/common/plan_options.h"

#include "base/json.h"
#include "change/tune.h"
#include "cli/common/step.h"
#include "present/show_steps.h"

typedef struct {
	WdrStepOptions step;
	char *target;
	char **set, **unset;
} TuneOptions;

static void options_clear(TuneOptions *o)
{
	wdr_step_options_clear(&o->step);
	g_free(o->target);
	g_strfreev(o->set);
	g_strfreev(o->unset);
}
G_DEFINE_AUTO_CLEANUP_CLEAR_FUNC(TuneOptions, options_clear)

static bool parse(TuneOptions *o, WdrGlobals *globals, int argc, char **argv, GError **error)
{
	const GOptionEntry entries[] = {
		WDR_OPTION("set", 0, STRING_ARRAY, &o->set),
		WDR_OPTION("unset", 0, STRING_ARRAY, &o->unset),
		WDR_OPTION("for", 0, FILENAME, &o->target),
		{ 0 },
	};

	const WdrStepUsage usage = {
		.command = &wdr_cmd_tune,
		.own = entries,
		.has_on = true,
		.instead = "settings are named by --set and --unset",
	};

	if (!wdr_cli_step_parse(&usage, globals, &o->step, &argc, &argv, error))
		return false;
	return !o->step.write || o->set || o->unset ||
	       wdr_error_set(error, WDR_ERROR_USAGE, "--write needs --set or --unset");
}

static bool make_plan(TuneOptions *o, const WdrWorld *world, WdrTunePlan **ret, GError **error)
{
	if (!o->step.on && !wdr_cli_running_disk(world, &o->step.on, error))
		return false;
	WdrTuneOptions options = { o->step.on, o->target, o->set, o->unset };
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

	wdr_json_print(root, file);
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
					     .state = o.step.state,
					     .site = p->site,
					     .has_work = p->files->len > 0,
					     .is_writing = o.step.write != 0,
					     .is_asked = o.set || o.unset,
					     .plan = p });
}

const WdrCommand wdr_cmd_tune = { "tune", tune_run };
