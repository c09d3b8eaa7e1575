/* Gathers the reports of a roster's slots, or those that a folder has, and writes their pages. */
#include "cli/many/report_many.h"

#include "base/command.h"
#include "base/io.h"
#include "base/json.h"
#include "base/stat.h"
#include "base/text.h"
#include "check/report.h"
#include "check/report_index.h"
#include "pages/page.h"
#include "pages/page_index.h"
#include "roster/roster.h"

#include <errno.h>
#include <string.h>
#include <sys/stat.h>

#define INDEX_PAGE "index.html"
#define TABLE_FILE "boards.csv"

enum { REPORT_BYTES_MAX = 64 * 1024 * 1024 };

typedef struct {
	char *name, *label, *host, *page;
	json_t *report; /* NULL: its move was not begun */
} Board;

static void board_free(void *data)
{
	Board *b = data;

	g_free(b->name);
	g_free(b->label);
	g_free(b->host);
	g_free(b->page);
	json_decref(b->report);
	g_free(b);
}

static void add(GPtrArray *boards, const char *name, const WdrRosterSlot *slot, json_t *report)
{
	Board *b = g_new0(Board, 1);

	*b = (Board){ .name = g_strdup(name),
		.label = slot ? g_strdup(slot->label) : NULL,
		.host = slot ? g_strdup(slot->host_name) : NULL,
		.page = report ? g_strconcat(name, ".html", NULL) : NULL,
		.report = report };
	g_ptr_array_add(boards, b);
}

/* ---- a roster ---- */

static bool gather_slot(const WdrWorld *world, const WdrRoster *r, const WdrRosterSlot *slot,
	GPtrArray *boards, GError **error)
{
	g_autofree char *state = wdr_roster_slot_state(r, slot);
	g_autofree char *plan = g_build_filename(state, "itinerary.json", NULL);
	g_autoptr(WdrItinerary) it = NULL;
	json_t *report = NULL;

	if (wdr_is_file(plan) &&
		(!wdr_itinerary_load(plan, &it, error) ||
			!wdr_report_gather(world, state, it, json_array(), &report, error))) {
		g_prefix_error(error, "slot '%s': ", slot->name);
		return false;
	}
	add(boards, slot->name, slot, report);
	return true;
}

static bool gather_roster(
	const WdrWorld *world, const char *path, GPtrArray *boards, GError **error)
{
	g_autoptr(WdrRoster) r = NULL;

	if (!wdr_roster_load(path, &r, error))
		return false;
	for (guint i = 0; i < r->slots->len; i++) {
		if (!gather_slot(world, r, r->slots->pdata[i], boards, error))
			return false;
	}
	return true;
}

/* ---- a folder of documents ---- */

static bool load(const char *path, const char *name, GPtrArray *boards, GError **error)
{
	g_autofree char *text = NULL;
	size_t len = 0;
	json_error_t e;

	if (!wdr_read_file(path, REPORT_BYTES_MAX, &text, &len, error))
		return false;
	g_autoptr(json_t) report = json_loadb(text, len, JSON_REJECT_DUPLICATES, &e);
	if (!report) {
		g_autofree char *problem = wdr_json_load_problem(&e);
		return wdr_error_set(error, WDR_ERROR_FORMAT, "%s: %s", path, problem);
	}
	const char *format = json_string_value(json_object_get(report, "format"));
	if (g_strcmp0(format, WDR_REPORT_FORMAT) != 0) {
		g_autofree char *make = wdr_command("--json", "report");
		wdr_error_set(error, WDR_ERROR_FORMAT, "%s is no report of a move", path);
		wdr_error_hint(error, "such a file has what this prints: %s", make);
		return false;
	}
	add(boards, name, NULL, g_steal_pointer(&report));
	return true;
}

static bool gather_folder(const char *folder, GPtrArray *boards, GError **error)
{
	g_autoptr(GPtrArray) names = g_ptr_array_new_with_free_func(g_free);
	g_autoptr(GDir) dir = g_dir_open(folder, 0, NULL);

	if (!dir)
		return wdr_error_set_errno(error, errno, "cannot read the folder %s", folder);
	for (const char *name; (name = g_dir_read_name(dir));) {
		if (g_str_has_suffix(name, ".json"))
			g_ptr_array_add(names, g_strndup(name, strlen(name) - strlen(".json")));
	}
	g_ptr_array_sort(names, wdr_by_text);
	for (guint i = 0; i < names->len; i++) {
		const char *name = names->pdata[i];
		g_autofree char *file = g_strconcat(name, ".json", NULL);
		g_autofree char *path = g_build_filename(folder, file, NULL);
		if (!load(path, name, boards, error))
			return false;
	}
	return names->len > 0 ||
	       wdr_error_set(error, WDR_ERROR_USAGE, "%s has no reports (*.json)", folder);
}

/* ---- pages ---- */

static bool write_file(const char *folder, const char *name, const char *text, GError **error)
{
	g_autofree char *path = g_build_filename(folder, name, NULL);

	return wdr_write_output(path, text, strlen(text), error);
}

static bool write_pages(const WdrReportMany *o, const GPtrArray *boards, json_t *index,
	const char *title, GError **error)
{
	if (mkdir(o->folder, 0777) != 0 && !wdr_is_folder(o->folder))
		return wdr_error_set_errno(error, errno, "making the folder %s", o->folder);
	for (guint i = 0; i < boards->len; i++) {
		const Board *b = boards->pdata[i];
		g_autofree char *page = b->report ? wdr_page(b->report, NULL) : NULL;
		if (page && !write_file(o->folder, b->page, page, error))
			return false;
	}
	g_autofree char *all = wdr_page_index(index, title);
	g_autofree char *table = wdr_boards_csv(index);
	return write_file(o->folder, TABLE_FILE, table, error) &&
	       write_file(o->folder, INDEX_PAGE, all, error);
}

static json_t *index_of(const WdrWorld *world, const GPtrArray *boards)
{
	json_t *index = wdr_report_index_new(world);

	for (guint i = 0; i < boards->len; i++) {
		const Board *b = boards->pdata[i];
		wdr_report_index_add(index,
			&(WdrIndexedBoard){ b->name, b->label, b->host, b->page, b->report });
	}
	return index;
}

bool wdr_cli_report_many(const WdrGlobals *globals, const WdrReportMany *o, GError **error)
{
	g_autoptr(GPtrArray) boards = g_ptr_array_new_with_free_func(board_free);
	g_autoptr(WdrWorld) world = NULL;
	WdrOut out = wdr_cli_stdout(globals);

	if (!wdr_cli_world(globals, &world, error) ||
		!(o->roster ? gather_roster(world, o->roster, boards, error)
			    : gather_folder(o->reports, boards, error)))
		return false;
	g_autoptr(json_t) index = index_of(world, boards);
	g_autofree char *title = g_path_get_basename(o->roster ? o->roster : o->reports);
	if (o->folder && !write_pages(o, boards, index, title, error))
		return false;
	if (globals->json)
		wdr_json_print(index, stdout);
	else
		wdr_out_text(&out, WDR_STYLE_GOOD,
			"%u boards: their pages begin with %s/%s; %s/%s is a table for labels\n",
			boards->len, o->folder, INDEX_PAGE, o->folder, TABLE_FILE);
	return true;
}
