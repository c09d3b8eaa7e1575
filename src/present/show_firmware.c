/* Firmware files and their builds, as text and JSON. */
#include "present/show_firmware.h"

#include "base/command.h"
#include "base/json.h"
#include "base/text.h"
#include "present/show_steps.h"

static const struct {
	const char *text;
	WdrStyle style;
} states[] = { { "the same", WDR_STYLE_PLAIN }, { "missing", WDR_STYLE_BAD },
	{ "older", WDR_STYLE_BAD }, { "newer", WDR_STYLE_GOOD },
	{ "another, of unknown age", WDR_STYLE_WARNING },
	{ "not in the folder", WDR_STYLE_FAINT } };

void wdr_present_firmware(const WdrOut *out, const WdrFirmwarePlan *p)
{
	static const WdrColumn columns[] = { { "file", false }, { "of boards", false },
		{ "here", false }, { "built", false }, { "in the folder", false } };
	g_autoptr(WdrGrid) g = wdr_grid_new(columns, G_N_ELEMENTS(columns));
	g_autofree char *on = wdr_escape(p->site->disk->name);
	g_autofree char *from = wdr_escape(p->from);

	wdr_out_text(out, WDR_STYLE_HEADING, "firmware files on %s, compared with %s\n", on, from);
	g_autofree char *look = wdr_command("order");
	if (p->board && p->board->series == 5)
		wdr_out_text(out, WDR_STYLE_PLAIN,
			"boards of the 5 series need none of them: their firmware is in an EEPROM; to see "
			"it: %s\n",
			look);
	if (p->list->len == 0) {
		wdr_out_text(out, WDR_STYLE_FAINT, "neither has any\n");
		return;
	}
	fputc('\n', out->file);
	for (guint i = 0; i < p->list->len; i++) {
		const WdrFirmwareFile *f = p->list->pdata[i];
		g_autofree char *name = wdr_escape(f->name);
		g_autofree char *there = f->day_there ? wdr_format_day(f->day_there) : NULL;
		g_autofree char *in = f->day_from ? wdr_format_day(f->day_from) : NULL;
		wdr_grid_row(g, states[f->state].style,
			(const char *[]){ name,
				f->set == WDR_FIRMWARE_4 ? "4 series" : "up to 3 series",
				states[f->state].text, there, in });
	}
	wdr_grid_print(g, out);
	wdr_present_file_plans(out, p->files);
	wdr_present_left(out, p->left);
}

void wdr_present_firmware_json(FILE *file, const WdrFirmwarePlan *p, const char *state)
{
	json_t *list = json_array();

	for (guint i = 0; i < p->list->len; i++) {
		const WdrFirmwareFile *f = p->list->pdata[i];
		g_autofree char *name = wdr_escape(f->name);
		json_array_append_new(
			list, json_pack("{s:s, s:s, s:I, s:I}", "name", name, "here",
				      states[f->state].text, "built", (json_int_t)f->day_there,
				      "built_in_folder", (json_int_t)f->day_from));
	}
	g_autoptr(json_t) root =
		json_pack("{s:s, s:o, s:o, s:o, s:o, s:o, s:o}", "format", "wanderitas-firmware/2",
			"on", wdr_json_text(p->site->disk->name), "from", wdr_json_text(p->from),
			"firmware", list, "files", wdr_present_file_plans_json(p->files), "todo",
			wdr_json_texts(p->left), "records", wdr_json_text(state));
	wdr_json_print(root, file);
}
