#include "cli/step.h"

#include "boot/survey.h"
#include "present/rehearsal.h"

typedef struct {
	char *medium, *without;
} RehearseOptions;

/* The one that was named, or all others; of an image nobody knows any. */
static bool find_away(const WdrWorld *world, const WdrDisk *disk, const WdrDisk *without,
	GPtrArray **ret, GError **error)
{
	WdrSystem *system = NULL;

	if (disk->is_image && !without)
		return true;
	if (!without)
		return wdr_systems_beside(world, disk, NULL, ret, error);
	if (!wdr_system_open(world, without, &system, error))
		return false;
	*ret = g_ptr_array_new_with_free_func((GDestroyNotify)wdr_system_free);
	g_ptr_array_add(*ret, system);
	return true;
}

static bool rehearse(RehearseOptions *o, WdrGlobals *globals, int argc, char **argv,
	WdrVerdict *ret, GError **error)
{
	const GOptionEntry entries[] = {
		{ "medium", 0, 0, G_OPTION_ARG_STRING, &o->medium,
			"What an image, or the disk, will be attached as", "nvme|usb|sd|emmc" },
		{ "without", 0, 0, G_OPTION_ARG_FILENAME, &o->without,
			"Think this disk alone away, and leave the machine's others in", "DISK" },
		{ 0 },
	};
	g_autoptr(WdrWorld) world = NULL;
	g_autoptr(WdrDisk) disk = NULL;
	g_autoptr(WdrDisk) without = NULL;
	g_autoptr(WdrSystem) system = NULL;
	g_autoptr(GPtrArray) others = NULL;
	g_autoptr(GPtrArray) away = NULL;
	const char *medium = NULL;

	if (!wdr_cli_parse(&wdr_cmd_rehearse, globals, entries, &argc, &argv, error))
		return false;
	if (argc != 2)
		return wdr_error_set(error, WDR_ERROR_USAGE, "rehearse takes one disk");
	if (!wdr_cli_world(globals, &world, error) ||
		!wdr_disk_find(world, argv[1], &disk, error) ||
		!wdr_cli_medium(o->medium, &medium, error) ||
		(o->without && !wdr_disk_find(world, o->without, &without, error)) ||
		(without && !wdr_systems_beside(world, disk, without, &others, error)) ||
		!find_away(world, disk, without, &away, error) ||
		!wdr_system_open(world, disk, &system, error))
		return false;
	if (!medium && !disk->is_image)
		medium = disk->medium;
	/* An image is for whatever board it will be put into. */
	g_autoptr(WdrBoard) board = disk->is_image ? NULL : wdr_board_look(world);
	g_autoptr(WdrRehearsal) r =
		wdr_rehearse(system, &(WdrRehearsing){ medium, board, others, away });
	WdrOut out = wdr_cli_stdout(globals);
	if (globals->json)
		wdr_present_rehearsal_json(stdout, disk->name, medium, r);
	else
		wdr_present_rehearsal(&out, disk->name, medium, without ? without->name : NULL, r);
	*ret = r->verdict;
	return true;
}

static int rehearse_run(WdrGlobals *globals, int argc, char **argv)
{
	RehearseOptions o = { 0 };
	g_autoptr(GError) error = NULL;
	WdrVerdict verdict = WDR_VERDICT_BOOTS;
	bool is_fine = rehearse(&o, globals, argc, argv, &verdict, &error);

	g_free(o.medium);
	g_free(o.without);
	if (!is_fine)
		return wdr_cli_fail(globals, error, WDR_EXIT_FOUND);
	return verdict <= WDR_VERDICT_REMARKS ? WDR_EXIT_DONE : WDR_EXIT_FOUND;
}

const WdrCommand wdr_cmd_rehearse = { "rehearse",
	"DISK [--without DISK] [--medium nvme|usb|sd|emmc]",
	"Walk the start of a board from that disk alone: will it boot, and if not, why.",
	WDR_GROUP_LOOK, rehearse_run };
