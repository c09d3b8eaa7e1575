/* Takes out of each board's report what a list of boards shows. */
#include "check/report_index.h"

#include "plan/itinerary.h"

#define FORMAT_NAME "wanderitas-report-index/1"

static json_t *taken(const json_t *object, const char *key)
{
	json_t *value = json_object_get(object, key);

	return value ? json_deep_copy(value) : json_null();
}

static json_t *disk_of(const json_t *report, const char *which)
{
	const json_t *d = json_object_get(json_object_get(report, "itinerary"), which);

	if (!json_is_object(d))
		return json_null();
	return json_pack("{s:o, s:o, s:o, s:o, s:o}", "name", taken(d, "name"), "medium",
		taken(d, "medium"), "model", taken(d, "model"), "serial", taken(d, "serial"),
		"size", taken(d, "size"));
}

/* When its last step ended; null where its move did not end. */
static json_t *finished_at(const json_t *report)
{
	const char *state = json_string_value(json_object_get(report, "state"));
	const json_t *steps = json_object_get(report, "steps");
	const json_t *last = json_array_get(steps, json_array_size(steps) - 1);

	if (!last || (g_strcmp0(state, "done") != 0 && g_strcmp0(state, "arrived") != 0))
		return json_null();
	return json_integer(json_integer_value(json_object_get(last, "at")) +
			    json_integer_value(json_object_get(last, "seconds")));
}

/* Of copying, in MB/s; null where it is not known. */
static json_t *rate(const json_t *report)
{
	const json_t *f = json_object_get(report, "figures");
	double copied = json_number_value(json_object_get(f, "bytes")) -
			json_number_value(json_object_get(f, "bytes_before"));
	double ms = json_number_value(json_object_get(f, "copy_ms"));

	return copied > 0 && ms > 0 ? json_real((double)(int64_t)(copied / ms / 100 + 0.5) / 10)
				    : json_null();
}

static json_t *host_of(const WdrIndexedBoard *b)
{
	const char *host =
		json_string_value(json_object_get(json_object_get(b->report, "moved"), "host"));

	return wdr_json_text(host ? host : b->host);
}

json_t *wdr_report_index_new(const WdrWorld *world)
{
	return json_pack("{s:s, s:I, s:s, s:[]}", "format", FORMAT_NAME, "made_at",
		(json_int_t)wdr_world_now(world), "made_by", WDR_VERSION, "boards");
}

void wdr_report_index_add(json_t *index, const WdrIndexedBoard *b)
{
	const json_t *arrival = json_object_get(b->report, "arrival");
	const json_t *rehearsal = json_object_get(b->report, "rehearsal");
	json_t *entry = json_pack("{s:o, s:o, s:o, s:o, s:o, s:o}", "name", wdr_json_text(b->name),
		"label", wdr_json_text(b->label), "host", host_of(b), "page",
		wdr_json_text(b->page), "source", disk_of(b->report, "source"), "target",
		disk_of(b->report, "target"));

	json_object_set_new(
		entry, "state", b->report ? taken(b->report, "state") : json_string("none"));
	json_object_set_new(entry, "finished_at", finished_at(b->report));
	json_object_set_new(entry, "damaged_files",
		json_integer(
			(json_int_t)json_array_size(json_object_get(b->report, "unreadable"))));
	json_object_set_new(entry, "rehearsed", taken(rehearsal, "verdict"));
	json_object_set_new(entry, "arrived", taken(arrival, "arrived"));
	json_object_set_new(entry, "as_planned", taken(arrival, "as_planned"));
	json_object_set_new(entry, "mb_per_s", rate(b->report));
	json_object_set_new(
		entry, "warnings", b->report ? taken(b->report, "warnings") : json_array());
	json_array_append_new(json_object_get(index, "boards"), entry);
}
