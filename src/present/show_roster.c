/* A roster for people and as JSON. */
#include "present/show_roster.h"

#include "base/json.h"
#include "base/text.h"

#include <string.h>

void wdr_present_roster(const WdrOut *out, const WdrWorld *world, const WdrRoster *r)
{
	static const WdrColumn columns[] = { { "SLOT", false }, { "DISK", false },
		{ "MEDIUM", false }, { "MODEL", false }, { "SERIAL", false }, { "SIZE", true },
		{ "PORT", false }, { "BECOMES", false }, { "LABEL", false } };
	g_autoptr(WdrGrid) grid = wdr_grid_new(columns, G_N_ELEMENTS(columns));

	for (guint i = 0; i < r->slots->len; i++) {
		const WdrRosterSlot *s = r->slots->pdata[i];
		const WdrDisk *d = s->disk;
		g_autofree char *size = wdr_format_size(d->size);
		g_autofree char *port = wdr_disk_port(world, d);
		g_autofree char *model = d->model ? wdr_escape(d->model) : NULL;
		g_autofree char *serial = d->serial ? wdr_escape(d->serial) : NULL;
		g_autofree char *label = s->label ? wdr_escape(s->label) : NULL;
		const char *cells[] = { s->name, wdr_disk_word(d), d->medium, model, serial, size,
			port, s->host_name ? s->host_name : "a copy", label };
		wdr_grid_row(grid, WDR_STYLE_PLAIN, cells);
	}
	wdr_grid_print(grid, out);
}

static json_t *slot_document(const WdrRosterSlot *s)
{
	const WdrDisk *d = s->disk;

	return json_pack("{s:s, s:o, s:o, s:o, s:o, s:I, s:o, s:o}", "name", s->name, "disk",
		wdr_json_text(wdr_disk_word(d)), "medium", wdr_json_text(d->medium), "model",
		wdr_json_text(d->model), "serial", wdr_json_text(d->serial), "size",
		(json_int_t)d->size, "host_name", wdr_json_text(s->host_name), "label",
		wdr_json_text(s->label));
}

json_t *wdr_present_roster_document(const WdrWorld *world, const WdrRoster *r)
{
	json_t *slots = json_array();

	for (guint i = 0; i < r->slots->len; i++) {
		const WdrRosterSlot *s = r->slots->pdata[i];
		g_autofree char *port = wdr_disk_port(world, s->disk);
		json_t *slot = slot_document(s);
		json_object_set_new(slot, "port", wdr_json_text(port));
		json_array_append_new(slots, slot);
	}
	return json_pack("{s:s, s:o, s:o}", "format", "wanderitas-roster-check/1", "roster",
		wdr_json_text(r->path), "slots", slots);
}

/* ---- moves ---- */

static json_int_t number(const json_t *object, const char *key)
{
	return json_integer_value(json_object_get(object, key));
}

static char *step_text(const WdrSlotShown *s)
{
	const char *text = json_string_value(json_object_get(s->said, "text"));

	if (strcmp(s->stage, "moving") != 0)
		return g_strdup(strcmp(s->stage, "moved-before") == 0 ? "moved before" : s->stage);
	if (!text || number(s->said, "steps") == 0)
		return g_strdup(text ? text : "beginning");
	return g_strdup_printf(
		"%d/%d %s", (int)number(s->said, "step"), (int)number(s->said, "steps"), text);
}

static void slot_cells(const WdrSlotShown *s, char *ret[7])
{
	bool is_moving = strcmp(s->stage, "moving") == 0;
	json_int_t total = number(s->said, "bytes_total");
	json_int_t done = number(s->said, "bytes_done");
	const json_t *left = json_object_get(s->said, "seconds_left");
	double copied = (double)(number(s->result, "bytes") - number(s->result, "bytes_before"));
	double copy_s = json_number_value(json_object_get(s->result, "copy_seconds"));

	ret[0] = g_strdup(s->slot->name);
	ret[1] = g_strdup(wdr_disk_word(s->slot->disk));
	ret[2] = s->slot->disk->serial ? wdr_escape(s->slot->disk->serial) : NULL;
	ret[3] = g_strdup(s->slot->host_name);
	ret[4] = step_text(s);
	ret[5] = is_moving && total > 0
			 ? g_strdup_printf("%.0f %%", (double)done * 100 / (double)total)
		 : copied > 0 && copy_s > 0 ? g_strdup_printf("%.0f MB/s", copied / copy_s / 1e6)
					    : NULL;
	ret[6] = is_moving && json_is_integer(left)
			 ? wdr_format_duration((uint64_t)json_integer_value(left))
		 : s->seconds > 0 && !is_moving ? wdr_format_duration((uint64_t)(s->seconds + 0.5))
						: NULL;
}

static WdrStyle style_of(const WdrSlotShown *s)
{
	if (strcmp(s->stage, "failed") == 0)
		return WDR_STYLE_BAD;
	return g_str_has_prefix(s->stage, "moved") ? WDR_STYLE_GOOD : WDR_STYLE_PLAIN;
}

void wdr_present_slots(const WdrOut *out, const WdrSlotShown *slots, size_t n)
{
	bool is_over = true;
	for (size_t i = 0; i < n; i++)
		is_over &= strcmp(slots[i].stage, "moving") != 0;
	const WdrColumn columns[] = { { "SLOT", false }, { "DISK", false }, { "SERIAL", false },
		{ "BECOMES", false }, { "STEP", false }, { is_over ? "RATE" : "DONE", true },
		{ is_over ? "TIME" : "LEFT", true } };
	g_autoptr(WdrGrid) grid = wdr_grid_new(columns, G_N_ELEMENTS(columns));

	for (size_t i = 0; i < n; i++) {
		char *cells[7];
		slot_cells(&slots[i], cells);
		wdr_grid_row(grid, style_of(&slots[i]), (const char *const *)cells);
		for (size_t k = 0; k < G_N_ELEMENTS(cells); k++)
			g_free(cells[k]);
	}
	wdr_grid_print(grid, out);
}

void wdr_present_slot_failures(const WdrOut *out, const WdrSlotShown *slots, size_t n)
{
	for (size_t i = 0; i < n; i++) {
		const json_t *error = json_object_get(slots[i].result, "error");
		const char *message = json_string_value(json_object_get(error, "message"));
		const char *hint = json_string_value(json_object_get(error, "hint"));
		if (strcmp(slots[i].stage, "failed") != 0)
			continue;
		wdr_out_text(out, WDR_STYLE_BAD, "slot %s failed: %s\n", slots[i].slot->name,
			message ? message : "it told no reason");
		if (hint) {
			wdr_out_text(out, WDR_STYLE_PLAIN, "  ");
			wdr_out_hanging(out, WDR_STYLE_PLAIN, 2, hint);
		}
	}
}

json_t *wdr_present_slots_document(const WdrRoster *r, const WdrSlotShown *slots, size_t n)
{
	json_t *all = json_array();

	for (size_t i = 0; i < n; i++) {
		const WdrSlotShown *s = &slots[i];
		json_t *slot = slot_document(s->slot);
		bool has_failed = strcmp(s->stage, "failed") == 0;
		json_t *result = s->result ? json_incref((json_t *)s->result) : json_null();
		json_object_set_new(slot, "stage", json_string(s->stage));
		json_object_set_new(slot, "seconds", json_real(s->seconds));
		json_object_set_new(slot, has_failed ? "move" : "error", json_null());
		json_object_set_new(slot, has_failed ? "error" : "move",
			has_failed && s->result ? json_incref(json_object_get(s->result, "error"))
						: json_incref(result));
		json_decref(result);
		json_array_append_new(all, slot);
	}
	return json_pack("{s:s, s:o, s:o}", "format", "wanderitas-roster-move/1", "roster",
		wdr_json_text(r->path), "slots", all);
}
