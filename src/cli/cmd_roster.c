/* wanderitas roster: draws a roster of the disks that are plugged in, or checks one. */
#include "cli/common/cli.h"

#include "base/command.h"
#include "base/io.h"
#include "base/json.h"
#include "cli/common/plan_options.h"
#include "disk/backing.h"
#include "disk/users.h"
#include "present/show_roster.h"

#include <string.h>

typedef struct {
	char *from, *output;
} RosterOptions;

/* Every disk that nobody uses, and that is not the source. */
static bool free_disks(
	const WdrWorld *world, const WdrDisk *source, GPtrArray **ret, GError **error)
{
	g_autoptr(GPtrArray) disks = NULL;

	if (!wdr_disks_list(world, &disks, error))
		return false;
	for (guint i = disks->len; i > 0; i--) {
		const WdrDisk *d = disks->pdata[i - 1];
		g_autofree char *user = wdr_disk_user(world, d);
		if (user || d->is_read_only || d->size == 0 || wdr_disk_is_same(world, d, source))
			g_ptr_array_remove_index(disks, i - 1);
	}
	*ret = g_steal_pointer(&disks);
	return true;
}

static bool draw(const WdrWorld *world, const RosterOptions *o, GError **error)
{
	g_autoptr(WdrDisk) source = NULL;
	g_autoptr(GPtrArray) disks = NULL;
	WdrOut err = wdr_out(stderr, true);

	if (!wdr_cli_source_disk(world, o->from, &source, error) ||
		!free_disks(world, source, &disks, error))
		return false;
	if (disks->len == 0) {
		g_autofree char *wait = wdr_command("survey", "--wait");
		wdr_error_set(error, WDR_ERROR_REFUSED,
			"no disk but the source is plugged in that nobody uses");
		wdr_error_hint(error, "to wait for one: %s", wait);
		return false;
	}
	g_autofree char *text = wdr_roster_draw(world, o->from, disks);
	if (!wdr_write_output(o->output ? o->output : "-", text, strlen(text), error))
		return false;
	if (!o->output || strcmp(o->output, "-") == 0)
		return true;
	g_autofree char *check = wdr_command("roster", o->output);
	wdr_out_text(&err, WDR_STYLE_PLAIN, "%u slots are in %s; edit it, then check it: %s\n",
		disks->len, o->output, check);
	return true;
}

static bool check(
	const WdrGlobals *globals, const WdrWorld *world, const char *path, GError **error)
{
	g_autoptr(WdrRoster) r = NULL;
	g_autoptr(WdrDisk) source = NULL;
	WdrOut out = wdr_cli_stdout(globals);

	if (!wdr_roster_load(path, &r, error) ||
		!wdr_cli_source_disk(world, r->from, &source, error) ||
		!wdr_roster_match(world, r, source, error))
		return false;
	if (globals->json) {
		g_autoptr(json_t) document = wdr_present_roster_document(world, r);
		wdr_json_print(document, stdout);
		return true;
	}
	g_autofree char *move = wdr_command("move", "--roster", path);
	wdr_present_roster(&out, world, r);
	wdr_out_text(&out, WDR_STYLE_GOOD, "each slot has its disk\n");
	wdr_out_text(&out, WDR_STYLE_PLAIN, "to move %s to all of them: %s\n",
		wdr_disk_word(source), move);
	return true;
}

static bool run(RosterOptions *o, WdrGlobals *globals, int argc, char **argv, GError **error)
{
	const GOptionEntry entries[] = {
		WDR_OPTION("from", 0, FILENAME, &o->from),
		WDR_OPTION("output", 'o', FILENAME, &o->output),
		{ 0 },
	};
	g_autoptr(WdrWorld) world = NULL;

	if (!wdr_cli_parse(&wdr_cmd_roster, globals, entries, &argc, &argv, error))
		return false;
	if (argc > 2)
		return wdr_error_set(
			error, WDR_ERROR_USAGE, "roster takes one file, not also '%s'", argv[2]);
	if (argc == 2 && (o->from || o->output))
		return wdr_error_set(error, WDR_ERROR_USAGE,
			"--from and -o draw a roster; '%s' is one already", argv[1]);
	if (!wdr_cli_world(globals, &world, error))
		return false;
	return argc == 2 ? check(globals, world, argv[1], error) : draw(world, o, error);
}

static int roster_run(WdrGlobals *globals, int argc, char **argv)
{
	g_autoptr(GError) error = NULL;
	RosterOptions o = { 0 };
	bool is_fine = run(&o, globals, argc, argv, &error);

	g_free(o.from);
	g_free(o.output);
	return is_fine ? WDR_EXIT_DONE : wdr_cli_fail(globals, error, WDR_EXIT_REFUSED);
}

const WdrCommand wdr_cmd_roster = { "roster", roster_run };
