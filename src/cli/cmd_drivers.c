/* wanderitas drivers: shows and adds drivers that are needed to mount root. */
#include "cli/common/plan_options.h"

#include "base/command.h"
#include "change/add_drivers.h"
#include "cli/common/step.h"
#include "present/show_drivers.h"

typedef struct {
	WdrStepOptions step;
	char *target, *medium;
	const char *attached_as; /* that medium, as in WdrDisk; NULL: none was named */
	gboolean generate;
} DriversOptions;

static void options_clear(DriversOptions *o)
{
	wdr_step_options_clear(&o->step);
	g_free(o->target);
	g_free(o->medium);
}
G_DEFINE_AUTO_CLEANUP_CLEAR_FUNC(DriversOptions, options_clear)

static bool parse(DriversOptions *o, WdrGlobals *globals, int argc, char **argv, GError **error)
{
	const GOptionEntry entries[] = {
		WDR_OPTION("for", 0, FILENAME, &o->target),
		WDR_OPTION("medium", 0, STRING, &o->medium),
		WDR_OPTION("generate", 0, NONE, &o->generate),
		{ 0 },
	};

	const WdrStepUsage usage = {
		.command = &wdr_cmd_drivers,
		.own = entries,
		.has_on = true,
		.instead = "disks are named by --for and --on",
	};

	return wdr_cli_step_parse(&usage, globals, &o->step, &argc, &argv, error) &&
	       wdr_cli_medium(o->medium, &o->attached_as, error);
}

static bool make_plan(
	DriversOptions *o, const WdrWorld *world, WdrDriversPlan **ret, GError **error)
{
	WdrDriversOptions options = { .medium = o->attached_as };

	if (!o->step.on && !wdr_cli_running_disk(world, &o->step.on, error))
		return false;
	options.on = o->step.on;
	options.target = o->target;
	options.generates = o->generate != 0;
	if (!wdr_drivers_plan(world, &options, ret, error))
		return false;
	if (o->step.write && o->generate && !(*ret)->site->is_running && !wdr_world_bench(world)) {
		wdr_error_set(error, WDR_ERROR_REFUSED,
			"the generator makes the running system's initramfs, and that is not on %s",
			(*ret)->site->disk->name);
		g_autofree char *without = wdr_command_again_without("--generate");
		wdr_error_hint(
			error, "nothing was changed; to add the drivers without it: %s", without);
		return false;
	}
	return true;
}

static void show(const WdrOut *out, const void *plan)
{
	wdr_present_drivers(out, plan);
}

static void show_json(FILE *file, const void *plan, const char *state)
{
	wdr_present_drivers_json(file, plan, state);
}

static bool write_plan(void *plan, const char *state, bool *ret_has_begun, GError **error)
{
	return wdr_drivers_write(plan, state, ret_has_begun, error);
}

static bool is_fine(const void *plan, bool is_done)
{
	const WdrDriversPlan *p = plan;

	return p->left->len == 0 && (is_done || p->missing == 0);
}

const WdrStepSort wdr_step_drivers = { "drivers", show, show_json, write_plan, is_fine };

static int drivers_run(WdrGlobals *globals, int argc, char **argv)
{
	g_auto(DriversOptions) o = { 0 };
	g_autoptr(GError) error = NULL;
	g_autoptr(WdrWorld) world = NULL;
	g_autoptr(WdrDriversPlan) p = NULL;

	if (!parse(&o, globals, argc, argv, &error) || !wdr_cli_world(globals, &world, &error) ||
		!make_plan(&o, world, &p, &error))
		return wdr_cli_fail(globals, error, WDR_EXIT_REFUSED);
	return wdr_cli_step(globals, &(WdrStepRun){ .sort = &wdr_step_drivers,
					     .state = o.step.state,
					     .site = p->site,
					     .has_work = p->files->len + p->runs->len > 0,
					     .is_writing = o.step.write != 0,
					     .is_asked = o.step.write != 0,
					     .plan = p });
}

const WdrCommand wdr_cmd_drivers = { "drivers", drivers_run };
