/* wanderitas firmware: compares and updates firmware files of the boot volume. */
#include "cli/common/plan_options.h"

#include "change/update_firmware.h"
#include "cli/common/step.h"
#include "present/show_firmware.h"

typedef struct {
	WdrStepOptions step;
	char *from;
} FirmwareOptions;

static void options_clear(FirmwareOptions *o)
{
	wdr_step_options_clear(&o->step);
	g_free(o->from);
}
G_DEFINE_AUTO_CLEANUP_CLEAR_FUNC(FirmwareOptions, options_clear)

static bool parse(FirmwareOptions *o, WdrGlobals *globals, int argc, char **argv, GError **error)
{
	const GOptionEntry entries[] = {
		WDR_OPTION("from", 0, FILENAME, &o->from),
		{ 0 },
	};

	const WdrStepUsage usage = {
		.command = &wdr_cmd_firmware,
		.own = entries,
		.has_on = true,
	};

	return wdr_cli_step_parse(&usage, globals, &o->step, &argc, &argv, error);
}

static bool make_plan(
	FirmwareOptions *o, const WdrWorld *world, WdrFirmwarePlan **ret, GError **error)
{
	return (o->step.on || wdr_cli_running_disk(world, &o->step.on, error)) &&
	       wdr_firmware_plan(world, &(WdrFirmwareOptions){ o->from, o->step.on }, ret, error);
}

static void show(const WdrOut *out, const void *plan)
{
	wdr_present_firmware(out, plan);
}

static void show_json(FILE *file, const void *plan, const char *state)
{
	wdr_present_firmware_json(file, plan, state);
}

static bool write_plan(void *plan, const char *state, bool *ret_has_begun, GError **error)
{
	WdrFirmwarePlan *p = plan;

	return wdr_disk_session_write(p->site, state, p->files, ret_has_begun, error);
}

static bool is_fine(const void *plan, bool is_done)
{
	const WdrFirmwarePlan *p = plan;

	return p->left->len == 0 && (is_done || p->files->len == 0);
}

const WdrStepSort wdr_step_firmware = { "firmware", show, show_json, write_plan, is_fine };

static int firmware_run(WdrGlobals *globals, int argc, char **argv)
{
	g_auto(FirmwareOptions) o = { 0 };
	g_autoptr(GError) error = NULL;
	g_autoptr(WdrWorld) world = NULL;
	g_autoptr(WdrFirmwarePlan) p = NULL;

	if (!parse(&o, globals, argc, argv, &error) || !wdr_cli_world(globals, &world, &error) ||
		!make_plan(&o, world, &p, &error))
		return wdr_cli_fail(globals, error, WDR_EXIT_REFUSED);
	return wdr_cli_step(globals, &(WdrStepRun){ .sort = &wdr_step_firmware,
					     .state = o.step.state,
					     .site = p->site,
					     .has_work = p->files->len > 0,
					     .is_writing = o.step.write != 0,
					     .is_asked = o.step.write != 0,
					     .plan = p });
}

const WdrCommand wdr_cmd_firmware = { "firmware", firmware_run };
