/* wanderitas report: the page about one move, or the pages of many. */
#include "cli/common/cli.h"

#include "base/command.h"
#include "base/io.h"
#include "base/json.h"
#include "base/stat.h"
#include "check/planned_boot.h"
#include "check/report.h"
#include "cli/common/progress.h"
#include "cli/many/report_many.h"
#include "cli/common/under_way.h"
#include "move/move.h"
#include "pace/pace_record.h"
#include "pages/page.h"
#include "present/show_rehearsal.h"

#include <string.h>

typedef struct {
	char *output, *roster, *reports;
	char **paces;
} ReportOptions;

static void options_clear(ReportOptions *o)
{
	g_free(o->output);
	g_free(o->roster);
	g_free(o->reports);
	g_strfreev(o->paces);
}
G_DEFINE_AUTO_CLEANUP_CLEAR_FUNC(ReportOptions, options_clear)

static bool parse(ReportOptions *o, WdrGlobals *globals, int *argc, char ***argv, GError **error)
{
	const GOptionEntry entries[] = {
		WDR_OPTION("output", 'o', FILENAME, &o->output),
		WDR_OPTION("pace", 0, FILENAME_ARRAY, &o->paces),
		WDR_OPTION("roster", 0, FILENAME, &o->roster),
		WDR_OPTION("reports", 0, FILENAME, &o->reports),
		{ 0 },
	};

	if (!wdr_cli_parse(&wdr_cmd_report, globals, entries, argc, argv, error))
		return false;
	if (*argc > 2)
		return wdr_error_set(error, WDR_ERROR_USAGE,
			"report is about one move, not also '%s'", (*argv)[2]);
	bool is_many = o->roster || o->reports;
	if (is_many && (*argc == 2 || o->paces || (o->roster && o->reports)))
		return wdr_error_set(error, WDR_ERROR_USAGE,
			"--%s is about many moves: give no %s with it",
			o->roster ? "roster" : "reports",
			*argc == 2 ? "itinerary or folder"
			: o->paces ? "--pace"
				   : "--reports");
	if (!o->output && !globals->json) {
		wdr_error_set(error, WDR_ERROR_USAGE, "no %s to write was named",
			is_many ? "folder for pages" : "page");
		g_autofree char *page = wdr_command_again("-o", is_many ? "reports" : "move.html");
		wdr_error_hint(error, "to write %s: %s", is_many ? "them" : "one", page);
		return false;
	}
	return !o->output || is_many || wdr_output_check(o->output, error);
}

/* ---- which move ---- */

/* The folder is of this itinerary's move, not of another one. */
static bool is_of(const char *folder, const WdrItinerary *it)
{
	g_autofree char *path = g_build_filename(folder, "itinerary.json", NULL);
	g_autoptr(WdrItinerary) kept = NULL;

	return wdr_is_file(path) && wdr_itinerary_load(path, &kept, NULL) &&
	       kept->made_at == it->made_at && g_strcmp0(kept->table_id, it->table_id) == 0;
}

/* Of an itinerary: the folder that it lies in, or the one that its move would use, if they know of
 * it; NULL: it was not carried out. */
static char *records_of(const WdrWorld *world, const char *file, const WdrItinerary *it)
{
	g_autofree char *folder = g_path_get_dirname(file);
	g_autofree char *logbook = g_build_filename(folder, "logbook.jsonl", NULL);
	g_autofree char *usual = wdr_move_default_state(world, &it->target);

	if (g_file_test(logbook, G_FILE_TEST_EXISTS) && is_of(folder, it))
		return g_canonicalize_filename(folder, NULL);
	return is_of(usual, it) ? g_steal_pointer(&usual) : NULL;
}

static bool find_move(const WdrWorld *world, const char *given, char **ret_records,
	WdrItinerary **ret, GError **error)
{
	if (given && !wdr_is_folder(given)) {
		if (!wdr_cli_load_itinerary(given, ret, error))
			return false;
		*ret_records = records_of(world, given, *ret);
		return true;
	}
	*ret_records = given ? g_canonicalize_filename(given, NULL) : wdr_report_newest(world);
	if (!*ret_records) {
		wdr_error_set(error, WDR_ERROR_USAGE, "there is no move to report on");
		wdr_error_hint(error, "name its itinerary, or the folder with its records");
		return false;
	}
	g_autofree char *plan = g_build_filename(*ret_records, "itinerary.json", NULL);
	return wdr_itinerary_load(plan, ret, error);
}

/* ---- what was measured ---- */

/* `list`: as they are; `all`: put together, to be drawn. */
static bool load_paces(const ReportOptions *o, json_t *list, WdrPaceRecord *all, GError **error)
{
	size_t n = o->paces ? g_strv_length(o->paces) : 0;

	for (size_t i = 0; i < n; i++) {
		WdrPaceRecord *one = NULL;
		g_autofree char *label = n > 1 ? wdr_pace_record_label(o->paces[i]) : NULL;
		if (!wdr_pace_record_load(o->paces[i], &one, error))
			return false;
		json_array_append_new(list, wdr_pace_record_to_json(one));
		wdr_pace_record_take(all, one, label, true);
	}
	return true;
}

/* ---- all of it ---- */

/* Of a move that was made before rehearsals were kept, or that this system came by: made now. */
static void rehearse(const WdrWorld *world, const WdrItinerary *it, json_t *report)
{
	const char *state = json_string_value(json_object_get(report, "state"));

	if (json_is_object(json_object_get(report, "rehearsal")) ||
		g_strcmp0(state, "drawn") == 0 || g_strcmp0(state, "unfinished") == 0)
		return;
	g_autoptr(WdrRehearsal) r = wdr_moved_rehearse(world, it, WDR_BOOTS_HERE);
	if (r)
		wdr_report_take_rehearsal(report,
			wdr_present_rehearsal_document(it->target.name, it->target.medium, r));
}

static bool make(
	const ReportOptions *o, const WdrGlobals *globals, const char *given, GError **error)
{
	g_autoptr(WdrWorld) world = NULL;
	g_autoptr(WdrItinerary) it = NULL;
	g_autoptr(WdrPaceRecord) all = NULL;
	g_autoptr(json_t) paces = json_array();
	g_autoptr(json_t) report = NULL;
	g_autofree char *records = NULL;
	WdrOut out = wdr_cli_stdout(globals);

	if (!wdr_cli_world(globals, &world, error) ||
		!find_move(world, given, &records, &it, error))
		return false;
	all = wdr_pace_record_new(world, 0);
	if (!load_paces(o, paces, all, error) ||
		!wdr_report_gather(world, records, it, json_incref(paces), &report, error))
		return false;
	rehearse(world, it, report);
	wdr_progress_end();
	if (o->output) {
		g_autofree char *page = wdr_page(report, all);
		if (!wdr_write_output(o->output, page, strlen(page), error))
			return false;
	}
	if (globals->json) {
		wdr_json_print(report, stdout);
	} else if (strcmp(o->output, "-") != 0) {
		wdr_out_text(&out, WDR_STYLE_GOOD, "the report is in %s\n", o->output);
	}
	return true;
}

static int report_run(WdrGlobals *globals, int argc, char **argv)
{
	g_auto(ReportOptions) o = { 0 };
	g_autoptr(GError) error = NULL;

	if (!parse(&o, globals, &argc, &argv, &error))
		return wdr_cli_fail(globals, error, WDR_EXIT_REFUSED);
	if (o.roster || o.reports) {
		const WdrReportMany many = { o.roster, o.reports, o.output };
		if (!wdr_cli_report_many(globals, &many, &error))
			return wdr_cli_fail(globals, error, WDR_EXIT_REFUSED);
		return WDR_EXIT_DONE;
	}
	if (!make(&o, globals, argc == 2 ? argv[1] : NULL, &error))
		return wdr_cli_fail(globals, error, WDR_EXIT_REFUSED);
	return WDR_EXIT_DONE;
}

const WdrCommand wdr_cmd_report = { "report", report_run };
