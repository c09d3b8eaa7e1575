/* Collects everything that is known of one move in one JSON document. */
#include "check/report.h"

#include "base/command.h"
#include "base/io.h"
#include "base/json.h"
#include "base/stat.h"
#include "base/state.h"
#include "base/text.h"
#include "boot/system/survey.h"
#include "disk/flash.h"
#include "journal/move_progress.h"
#include "move/move.h"
#include "move/target_records.h"
#include "pace/pace_record.h"

#include <string.h>

enum { DOCUMENT_BYTES_MAX = 16 * 1024 * 1024 };

/* ---- which move ---- */

static int64_t drawn_at(const char *folder)
{
	g_autofree char *path = g_build_filename(folder, "itinerary.json", NULL);
	g_autoptr(WdrItinerary) it = NULL;

	return wdr_is_file(path) && wdr_itinerary_load(path, &it, NULL) ? it->made_at : -1;
}

char *wdr_report_newest(const WdrWorld *world)
{
	g_autoptr(GPtrArray) folders = g_ptr_array_new_with_free_func(g_free);
	const char *newest = NULL;
	int64_t when = -1;

	/* Moves of this machine keep theirs there, too. Changes in place have itineraries that are
	 * no moves, and are not loaded. */
	(void)!wdr_records_folders(world, folders, NULL);
	for (guint i = 0; i < folders->len; i++) {
		int64_t then = drawn_at(folders->pdata[i]);
		if (then > when)
			newest = folders->pdata[i];
		when = MAX(when, then);
	}
	return g_strdup(newest);
}

/* ---- what the logbook tells ---- */

typedef struct {
	json_t *steps, *stops, *figures;
	int64_t last; /* when the newest line was written */
} Told;

/* The step before lasted until now. */
static void end_step(Told *t, int64_t at)
{
	json_t *step = json_array_get(t->steps, json_array_size(t->steps) - 1);
	int64_t begun = json_integer_value(json_object_get(step, "at"));

	if (step && !json_object_get(step, "seconds"))
		json_object_set_new(step, "seconds", json_integer(MAX(at - begun, 0)));
}

static bool take_line(json_t *line, void *data)
{
	Told *t = data;
	const char *event = json_string_value(json_object_get(line, "event"));
	const char *what = json_string_value(json_object_get(line, "what"));
	int64_t at = json_integer_value(json_object_get(line, "at"));

	/* That was after the restart, and is no end of a step. */
	if (strcmp(event, "mark") == 0 && g_strcmp0(what, WDR_MARK_ARRIVED) == 0)
		return true;
	t->last = at;
	if (strcmp(event, "step") == 0) {
		end_step(t, at);
		json_array_append_new(t->steps,
			json_pack("{s:I, s:o}", "at", (json_int_t)at, "what", wdr_json_text(what)));
	} else if (strcmp(event, "stopped") == 0) {
		end_step(t, at);
		json_array_append_new(t->stops,
			json_pack("{s:I, s:o}", "at", (json_int_t)at, "why", wdr_json_text(what)));
	} else if (strcmp(event, "done") == 0) {
		end_step(t, at);
	} else if (strcmp(event, "figures") == 0) {
		json_decref(t->figures);
		t->figures = json_incref(line);
	}
	return true;
}

static json_t *missing_to_json(const GPtrArray *list)
{
	json_t *json = json_array();

	for (guint i = 0; i < list->len; i++) {
		const WdrUnreadable *m = list->pdata[i];
		json_array_append_new(
			json, json_pack("{s:i, s:o, s:I}", "partition", (int)m->partition, "path",
				      wdr_json_text(m->path), "bytes",
				      (json_int_t)wdr_unreadable_bytes(m)));
	}
	return json;
}

/* The copy on the new root was made before the end: that it is there at all says that the move came
 * to it. */
static const char *state_of(const char *records, const WdrMoveProgress *l)
{
	g_autofree char *name = g_path_get_basename(records);
	bool is_copy = g_str_has_prefix(name, WDR_ARRIVAL_PREFIX);

	if (l->has_arrived)
		return "arrived";
	return l->is_done || l->was_done || is_copy ? "done" : "unfinished";
}

static bool take_logbook(json_t *report, const char *records, GError **error)
{
	g_autofree char *path = records ? g_build_filename(records, "logbook.jsonl", NULL) : NULL;
	g_autofree char *text = NULL;
	g_auto(WdrMoveProgress) logged = { 0 };
	Told told = { json_array(), json_array(), NULL, 0 };
	size_t len = 0;
	bool is_fine = true;

	wdr_move_progress_init(&logged);
	if (path && g_file_test(path, G_FILE_TEST_EXISTS)) {
		wdr_move_progress_clear(&logged);
		is_fine = wdr_read_file(path, WDR_LOGBOOK_BYTES_MAX, &text, &len, error) &&
			  wdr_logbook_each(path, text, take_line, &told, error) &&
			  wdr_move_progress_parse(path, text, &logged, error);
	}
	if (is_fine)
		end_step(&told, told.last);
	json_object_set_new(report, "state",
		json_string(text && is_fine ? state_of(records, &logged) : "drawn"));
	json_object_set_new(report, "steps", told.steps);
	json_object_set_new(report, "stops", told.stops);
	json_object_set_new(report, "figures", told.figures ? told.figures : json_null());
	json_object_set_new(
		report, "unreadable", is_fine ? missing_to_json(logged.missing) : json_array());
	return is_fine;
}

/* ---- documents that were kept ---- */

/* null: it is not there. */
static bool take_document(json_t *report, const char *key, const char *records, const char *name,
	const char *format, GError **error)
{
	g_autofree char *path = records ? g_build_filename(records, name, NULL) : NULL;
	g_autofree char *text = NULL;
	size_t len = 0;
	json_error_t e;

	json_object_set_new(report, key, json_null());
	if (!path || !g_file_test(path, G_FILE_TEST_EXISTS))
		return true;
	if (!wdr_read_file(path, DOCUMENT_BYTES_MAX, &text, &len, error))
		return false;
	json_t *document = json_loadb(text, len, JSON_REJECT_DUPLICATES, &e);
	const char *is = json_string_value(json_object_get(document, "format"));
	if (g_strcmp0(is, format) != 0) {
		json_decref(document);
		return wdr_error_set(error, WDR_ERROR_FORMAT, "%s is no %s", path, format);
	}
	json_object_set_new(report, key, document);
	return true;
}

static bool take_documents(json_t *report, const char *records, GError **error)
{
	return take_document(
		       report, "ready", records, WDR_READY_FILE, "wanderitas-ready/2", error) &&
	       take_document(report, "rehearsal", records, WDR_REHEARSAL_FILE,
		       "wanderitas-rehearsal/2", error) &&
	       take_document(
		       report, "arrival", records, WDR_ARRIVAL_FILE, "wanderitas-arrival/2", error);
}

/* ---- what was changed in place ---- */

static json_t *changes_of(const char *logbook)
{
	g_autoptr(GPtrArray) changes = NULL;
	json_t *what = json_array();

	if (!wdr_logbook_read(logbook, &changes, NULL))
		return what;
	for (guint i = 0; i < changes->len; i++) {
		const WdrChange *c = changes->pdata[i];
		if (c->is_rewound)
			continue;
		g_autofree char *text =
			c->file          ? g_strdup_printf("/%s on %s, partition %u", c->file,
                                          c->disk_name ? c->disk_name : c->disk, c->partition)
			: c->region      ? g_strdup_printf("%" G_GUINT64_FORMAT " bytes of %s",
						   c->region_size, wdr_device_name(c->region))
			: c->is_settings ? g_strdup("the firmware's settings")
					 : g_strdup_printf("the identifiers of %s",
						   c->disk_name ? c->disk_name : c->disk);
		json_array_append_new(what, wdr_json_text(text));
	}
	return what;
}

static void add_changes(json_t *list, const char *folder)
{
	g_autofree char *logbook = g_build_filename(folder, "logbook.jsonl", NULL);
	json_t *what =
		g_file_test(logbook, G_FILE_TEST_EXISTS) ? changes_of(logbook) : json_array();

	if (json_array_size(what) > 0)
		json_array_append_new(list,
			json_pack("{s:o, s:O}", "records", wdr_json_text(folder), "what", what));
	json_decref(what);
}

/* Those of the move itself first, then those of the steps around it. */
static json_t *changes_in_force(const WdrWorld *world, const char *records)
{
	json_t *list = json_array();
	g_autofree char *base = wdr_world_path(world, WDR_STATE_FOLDER);
	g_autoptr(GDir) dir = g_dir_open(base, 0, NULL);
	g_autoptr(GPtrArray) folders = g_ptr_array_new_with_free_func(g_free);

	if (records)
		add_changes(list, records);
	for (const char *name; dir && (name = g_dir_read_name(dir));)
		g_ptr_array_add(folders, g_build_filename(base, name, NULL));
	g_ptr_array_sort(folders, wdr_by_text);
	for (guint i = 0; i < folders->len; i++) {
		if (g_strcmp0(folders->pdata[i], records) != 0)
			add_changes(list, folders->pdata[i]);
	}
	return list;
}

/* ---- machines ---- */

static json_t *machine_to_json(const WdrWorld *world)
{
	g_autoptr(WdrPaceRecord) r = wdr_pace_record_new(world, 0);

	return json_pack("{s:o, s:o, s:o}", "host", wdr_json_text(r->host), "board",
		wdr_json_text(r->board), "kernel", wdr_json_text(r->kernel));
}

/* What the new root calls itself. */
static json_t *moved_to_json(const WdrWorld *world, const WdrItinerary *it)
{
	g_autoptr(WdrDisk) disk = NULL;
	g_autoptr(WdrSystem) s = NULL;

	if (!wdr_itinerary_disk_find(world, &it->target, &disk, NULL) ||
		!wdr_system_open(world, disk, &s, NULL) || !s->root)
		return json_null();
	return json_pack("{s:o, s:o}", "host", wdr_json_text(s->host_name), "system",
		wdr_json_text(s->os_name));
}

/* ---- warnings ---- */

static void warn(json_t *list, const char *from, const json_t *text, const json_t *hint)
{
	json_t *each = NULL;
	size_t i = 0;

	if (!json_is_string(text))
		return;
	/* One line a fact, whoever found it first. */
	json_array_foreach(list, i, each)
	{
		if (json_equal(json_object_get(each, "text"), text))
			return;
	}
	json_array_append_new(
		list, json_pack("{s:s, s:o, s:o}", "from", from, "text", json_deep_copy(text),
			      "hint", json_is_string(hint) ? json_deep_copy(hint) : json_null()));
}

/* Of a list of checks or steps, those whose state is not ok. */
static void warn_of(json_t *list, const char *from, json_t *checks)
{
	json_t *each = NULL;
	size_t i = 0;

	json_array_foreach(checks, i, each)
	{
		const char *state = json_string_value(json_object_get(each, "state"));
		if (state && strcmp(state, wdr_state_name(WDR_STATE_OK)) != 0)
			warn(list, from, json_object_get(each, "text"),
				json_object_get(each, "hint"));
	}
}

static void warn_of_texts(json_t *list, const char *from, json_t *texts)
{
	json_t *each = NULL;
	size_t i = 0;

	json_array_foreach(texts, i, each) warn(list, from, each, NULL);
}

static void warn_of_missing(json_t *list, const json_t *missing)
{
	json_t *each = NULL;
	size_t i = 0;

	json_array_foreach(missing, i, each)
	{
		const char *path = json_string_value(json_object_get(each, "path"));
		g_autofree char *text = g_strdup_printf(
			"%s could not be read completely from the old disk; unreadable ranges "
			"were filled with zeros",
			path ? path : "a part of a partition");
		g_autoptr(json_t) json = wdr_json_text(text);
		warn(list, "move", json, NULL);
	}
}

static void warn_of_pace(json_t *list, json_t *paces)
{
	json_t *record = NULL;
	json_t *each = NULL;
	size_t i = 0;
	size_t k = 0;

	json_array_foreach(paces, i, record)
	{
		json_array_foreach(json_object_get(record, "measured"), k, each)
		{
			const char *name = json_string_value(json_object_get(each, "name"));
			g_autofree char *from = g_strdup_printf("pace of %s", name ? name : "?");
			warn(list, from, json_object_get(each, "failure"), NULL);
			warn_of_texts(list, from, json_object_get(each, "warnings"));
		}
	}
}

/* What was said before a later look at the same things is stale: before the restart the plan's
 * notes and the rehearsal count, after it what was found then. */
static json_t *warnings_of(const json_t *report)
{
	json_t *list = json_array();
	json_t *arrival = json_object_get(report, "arrival");
	json_t *rehearsal = json_object_get(report, "rehearsal");
	bool has_arrived = json_is_true(json_object_get(arrival, "arrived"));

	warn_of_missing(list, json_object_get(report, "unreadable"));
	if (!has_arrived)
		warn_of_texts(list, "draft",
			json_object_get(json_object_get(report, "itinerary"), "notes"));
	if (!has_arrived && !json_is_object(rehearsal))
		warn_of(list, "ready", json_object_get(json_object_get(report, "ready"), "checks"));
	if (!has_arrived)
		warn_of(list, "rehearse", json_object_get(rehearsal, "steps"));
	warn_of(list, "arrive", json_object_get(arrival, "checks"));
	warn_of_pace(list, json_object_get(report, "pace"));
	return list;
}

/* ---- how to go back ---- */

static void G_GNUC_PRINTF(2, 3) say(json_t *list, const char *format, ...)
{
	va_list args;

	va_start(args, format);
	g_autofree char *text = g_strdup_vprintf(format, args);
	va_end(args);
	json_array_append_new(list, wdr_json_text(text));
}

static void say_rewinds(json_t *list, const json_t *changes, const WdrItinerary *it)
{
	json_t *each = NULL;
	size_t i = 0;

	json_array_foreach(changes, i, each)
	{
		const json_t *what = json_object_get(each, "what");
		const char *folder = json_string_value(json_object_get(each, "records"));
		size_t n = json_array_size(what);
		const char *first = json_string_value(json_array_get(what, 0));
		g_autofree char *undo = folder ? wdr_command("rewind", folder) : NULL;
		if (folder && first)
			say(list, "to restore what was changed in place (%s%s): %s", first,
				n > 1 ? " and more" : "", undo);
	}
	if (json_array_size(changes) == 0 && it->what == WDR_MOVE_ROOT)
		say(list, "all changes in place were undone");
}

static json_t *way_back(const json_t *report, const WdrItinerary *it)
{
	json_t *list = json_array();
	g_autofree char *day = wdr_format_day(it->made_at);
	bool is_root = it->what == WDR_MOVE_ROOT;

	if (it->source.is_image || it->target.is_image)
		say(list, "the %s %s was only read: it is unchanged since %s", it->source.medium,
			it->source.name, day);
	else if (!is_root)
		say(list,
			"power off, take %s out, put the %s back in, power on: the move only "
			"read it, and it boots as it was on %s. What was written to the new "
			"disk since is not on it",
			it->target.name, it->source.medium, day);
	g_autofree char *order = wdr_command("order");
	if (!is_root && !it->source.is_image && !it->target.is_image)
		say(list,
			"with both plugged in, the board boots from what its boot order has first; to see "
			"it: %s",
			order);
	say_rewinds(list, json_object_get(report, "changes"), it);
	if (is_root)
		say(list, "then the %s boots with its own root, which the move only read",
			it->source.medium);
	return list;
}

/* ---- all of it ---- */

bool wdr_report_gather(const WdrWorld *world, const char *records, const WdrItinerary *it,
	json_t *paces, json_t **ret, GError **error)
{
	g_autofree char *plan = wdr_itinerary_to_json(it);
	json_t *itinerary = json_loads(plan, 0, NULL);

	wdr_json_show(itinerary);
	g_autoptr(json_t) report = json_pack("{s:s, s:I, s:s, s:o, s:o, s:o, s:o, s:o}", "format",
		WDR_REPORT_FORMAT, "made_at", (json_int_t)wdr_world_now(world), "made_by",
		WDR_VERSION, "records", wdr_json_text(records), "machine", machine_to_json(world),
		"moved", moved_to_json(world, it), "itinerary", itinerary, "pace", paces);

	if (!take_logbook(report, records, error) || !take_documents(report, records, error))
		return false;
	json_object_set_new(report, "changes", changes_in_force(world, records));
	json_object_set_new(report, "warnings", warnings_of(report));
	json_object_set_new(report, "back", way_back(report, it));
	*ret = g_steal_pointer(&report);
	return true;
}

void wdr_report_take_rehearsal(json_t *report, json_t *rehearsal)
{
	json_object_set_new(report, "rehearsal", rehearsal);
	json_object_set_new(report, "warnings", warnings_of(report));
}
