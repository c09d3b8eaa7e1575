/* wanderitas firmware: compares and updates firmware files of the boot volume. */
#include "cli/plan_options.h"

#include "change/update_firmware.h"
#include "cli/step.h"
#include "present/show_firmware.h"

typedef struct {
	char *from, *on, *state;
	gboolean write;
} FirmwareOptions;

static void options_clear(FirmwareOptions *o)
{
	g_free(o->from);
	g_free(o->on);
	g_free(o->state);
}
G_DEFINE_AUTO_CLEANUP_CLEAR_FUNC(FirmwareOptions, options_clear)

static bool parse(FirmwareOptions *o, WdrGlobals *globals, int argc, char **argv, GError **error)
{
	const GOptionEntry entries[] = {
		{ "from", 0, 0, G_OPTION_ARG_FILENAME, &o->from,
			"The folder with firmware files (default: that of the system's package)",
			"FOLDER" },
		{ "on", 0, 0, G_OPTION_ARG_FILENAME, &o->on,
			"The disk or image whose boot volume is looked at (default: the running one)",
			"DISK" },
		{ "write", 0, 0, G_OPTION_ARG_NONE, &o->write,
			"Bring over what is missing or older; without this it is only shown",
			NULL },
		{ "state", 0, 0, G_OPTION_ARG_FILENAME, &o->state,
			"Folder for logbook and originals", "DIR" },
		{ 0 },
	};

	if (!wdr_cli_parse(&wdr_cmd_firmware, globals, entries, &argc, &argv, error))
		return false;
	return argc <= 1 ||
	       wdr_error_set(error, WDR_ERROR_USAGE, "firmware takes no '%s'", argv[1]);
}

static bool make_plan(
	FirmwareOptions *o, const WdrWorld *world, WdrFirmwarePlan **ret, GError **error)
{
	return (o->on || wdr_cli_running_disk(world, &o->on, error)) &&
	       wdr_firmware_plan(world, &(WdrFirmwareOptions){ o->from, o->on }, ret, error);
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
					     .state = o.state,
					     .site = p->site,
					     .has_work = p->files->len > 0,
					     .is_writing = o.write != 0,
					     .is_asked = o.write != 0,
					     .plan = p });
}

const WdrCommand wdr_cmd_firmware = { "firmware", "[--from FOLDER] [--on DISK|IMAGE] [--write]",
	"Hold the firmware files of a boot volume against a folder's; bring over what is older.",
	WDR_GROUP_AFTER, firmware_run };
