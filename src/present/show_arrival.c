/* The checks after the restart as text and JSON. */
#include "present/show_arrival.h"

#include "base/json.h"
#include "base/text.h"
#include "present/show_ready.h"

/* What is left for a hand to do. */
static void show_next(const WdrOut *out, const WdrArrival *a)
{
	const WdrItineraryDisk *old = &a->it->source;

	wdr_out_text(out, WDR_STYLE_HEADING, "next: ");
	if (a->it->what == WDR_MOVE_ROOT)
		wdr_out_text(out, WDR_STYLE_PLAIN, "leave the %s in: the boot files are on it\n",
			old->medium);
	else if (old->is_image)
		wdr_out_text(
			out, WDR_STYLE_PLAIN, "nothing; the image %s is as it was\n", old->name);
	else
		wdr_out_text(out, WDR_STYLE_PLAIN,
			"keep the %s as a backup: it still boots, as it was on that day\n",
			old->medium);
}

void wdr_present_arrival(const WdrOut *out, const WdrArrival *a)
{
	g_autofree char *when = wdr_format_time(a->it->made_at);
	unsigned stops = wdr_checks_count(a->checks, WDR_STATE_STOP);

	wdr_out_text(out, WDR_STYLE_HEADING, "the move from %s to %s of %s\n\n", a->it->source.name,
		a->it->target.name, when);
	wdr_present_checks(out, a->checks);
	fputc('\n', out->file);
	if (!a->is_there)
		wdr_out_text(
			out, WDR_STYLE_BAD, "not arrived: the system runs from the old disk\n");
	else if (stops)
		wdr_out_text(out, WDR_STYLE_BAD,
			"arrived, but not everything is as planned; see above\n");
	else
		wdr_out_text(out, WDR_STYLE_GOOD, "arrived: the system runs from %s%s\n", a->disk,
			a->is_closed ? ", and the logbook of the move is closed" : "");
	if (a->is_there && stops == 0)
		show_next(out, a);
}

static json_t *boot_time_json(bool is_known, const WdrBootTime *t)
{
	if (!is_known)
		return json_null();
	json_t *json = json_pack("{s:I}", "all_us", (json_int_t)wdr_boot_time_all(t));
	for (unsigned i = 0; i < WDR_BOOT_PARTS; i++)
		json_object_set_new(json, wdr_boot_part_key(i), json_integer(t->us[i]));
	return json;
}

json_t *wdr_present_arrival_document(const WdrArrival *a)
{
	const WdrArrivalBootTimes *times = &a->boot_times;

	return json_pack("{s:s, s:b, s:b, s:b, s:o, s:o, s:o, s:{s:o, s:o}, s:o}", "format",
		"wanderitas-arrival/2", "arrived", a->is_there, "as_planned",
		a->is_there && wdr_checks_count(a->checks, WDR_STATE_STOP) == 0, "logbook_closed",
		a->is_closed, "records", wdr_json_text(a->records), "disk", wdr_json_text(a->disk),
		"target", wdr_json_text(a->it->target.name), "boot_time", "now",
		boot_time_json(times->has_now, &times->now), "before",
		boot_time_json(times->has_before, &times->before), "checks",
		wdr_present_checks_json(a->checks));
}

void wdr_present_arrival_json(FILE *file, const WdrArrival *a)
{
	g_autoptr(json_t) root = wdr_present_arrival_document(a);

	wdr_json_print(root, file);
}
