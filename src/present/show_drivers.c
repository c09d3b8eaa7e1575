/* Drivers and where they are, as text and JSON. */
#include "present/show_drivers.h"

#include "base/json.h"
#include "base/text.h"
#include "present/show_steps.h"

#include <string.h>

static const struct {
	const char *name; /* in JSON */
	const char *text;
	WdrStyle style;
} locations[] = {
	{ "built in", "built into the kernel", WDR_STYLE_PLAIN },
	{ "initramfs", "in the initramfs", WDR_STYLE_PLAIN },
	{ "root", "on the root disk only", WDR_STYLE_BAD },
	{ "absent", "missing: this kernel does not have it", WDR_STYLE_BAD },
	{ "unknown", "unknown: no list of what this kernel has", WDR_STYLE_WARNING },
};

static void show_table(const WdrOut *out, const WdrDrivers *of)
{
	static const WdrColumn columns[] = { { "driver", false }, { "needed for", false },
		{ "where", false } };
	g_autoptr(WdrGrid) g = wdr_grid_new(columns, G_N_ELEMENTS(columns));

	for (guint i = 0; i < of->list->len; i++) {
		const WdrDriver *d = of->list->pdata[i];
		g_autofree char *file = d->file ? wdr_escape(d->file) : NULL;
		g_autofree char *where = g_strdup_printf(
			"%s%s%s", locations[d->where].text, file ? ": " : "", file ? file : "");
		wdr_grid_row(
			g, locations[d->where].style, (const char *[]){ d->name, d->use, where });
	}
	wdr_grid_print(g, out);
}

static void show_start(const WdrOut *out, const WdrDrivers *of)
{
	g_autofree char *started_by = wdr_escape(of->started_by);
	g_autofree char *kernel = wdr_escape(of->kernel);
	g_autofree char *file = of->file ? wdr_escape(of->file) : NULL;

	wdr_out_text(out, WDR_STYLE_HEADING, "\n%s", started_by);
	wdr_out_text(out, WDR_STYLE_PLAIN, ": /%s%s%s, ", kernel, of->release ? ", Linux " : "",
		of->release ? of->release : "");
	wdr_out_text(out, of->is_unnamed ? WDR_STYLE_BAD : WDR_STYLE_PLAIN,
		!file            ? "no initramfs%s\n"
		: of->is_unnamed ? "initramfs /%s, which the loader does not load\n"
				 : "initramfs /%s\n",
		file ? file : "");
	if (of->problem)
		wdr_out_text(out, WDR_STYLE_BAD, "%s\n", of->problem);
	else
		show_table(out, of);
}

static void show_verdict(const WdrOut *out, const WdrDriversPlan *p)
{
	if (!p->medium)
		wdr_out_text(out, WDR_STYLE_WARNING,
			"\nnobody knows what %s will be attached as; give it with --medium\n",
			p->target);
	if (p->missing == 0)
		wdr_out_text(out, WDR_STYLE_GOOD,
			"\nall drivers needed to mount root are in the initramfs or the kernel\n");
	else if (p->missing > 0)
		wdr_out_text(out, p->is_first_fine ? WDR_STYLE_WARNING : WDR_STYLE_BAD,
			"\n%u driver%s needed to mount root %s missing from the initramfs%s\n",
			p->missing, p->missing == 1 ? "" : "s", p->missing == 1 ? "is" : "are",
			p->is_first_fine ? " of other boot entries than the default" : "");
}

static void show_runs(const WdrOut *out, const WdrDriversPlan *p)
{
	for (guint i = 0; i < p->runs->len; i++) {
		g_autofree char *command = g_strjoinv(" ", p->runs->pdata[i]);
		wdr_out_text(out, WDR_STYLE_PLAIN, "\nthen runs: %s\n", command);
	}
}

void wdr_present_drivers(const WdrOut *out, const WdrDriversPlan *p)
{
	g_autofree char *on = wdr_escape(p->site->disk->name);
	g_autofree char *target = wdr_escape(p->target);

	bool is_same = strcmp(p->site->disk->name, p->target) == 0;
	wdr_out_text(out, WDR_STYLE_HEADING, "drivers that the system on %s needs%s%s%s%s\n", on,
		is_same ? "" : " for root on ", is_same ? "" : target, p->medium ? ", as " : "",
		p->medium ? p->medium : "");
	for (guint i = 0; i < p->starts->len; i++)
		show_start(out, p->starts->pdata[i]);
	show_verdict(out, p);
	wdr_present_file_plans(out, p->files);
	show_runs(out, p);
	wdr_present_left(out, p->left);
}

static json_t *start_json(const WdrDrivers *of)
{
	json_t *list = json_array();

	for (guint i = 0; i < of->list->len; i++) {
		const WdrDriver *d = of->list->pdata[i];
		json_array_append_new(
			list, json_pack("{s:o, s:o, s:s, s:o}", "name", wdr_json_text(d->name),
				      "needed_for", wdr_json_text(d->use), "where",
				      locations[d->where].name, "file", wdr_json_text(d->file)));
	}
	return json_pack("{s:o, s:o, s:o, s:o, s:b, s:o, s:o}", "entry",
		wdr_json_text(of->started_by), "kernel", wdr_json_text(of->kernel), "release",
		wdr_json_text(of->release), "initramfs", wdr_json_text(of->file),
		"initramfs_not_loaded", (int)of->is_unnamed, "problem", wdr_json_text(of->problem),
		"drivers", list);
}

void wdr_present_drivers_json(FILE *file, const WdrDriversPlan *p, const char *state)
{
	json_t *starts = json_array();
	json_t *runs = json_array();

	for (guint i = 0; i < p->starts->len; i++)
		json_array_append_new(starts, start_json(p->starts->pdata[i]));
	for (guint i = 0; i < p->runs->len; i++) {
		g_autofree char *command = g_strjoinv(" ", p->runs->pdata[i]);
		json_array_append_new(runs, wdr_json_text(command));
	}
	g_autoptr(json_t) root = json_pack("{s:s, s:o, s:o, s:s?, s:i, s:o, s:o, s:o, s:o, s:o}",
		"format", "wanderitas-drivers/2", "on", wdr_json_text(p->site->disk->name), "for",
		wdr_json_text(p->target), "medium", p->medium, "missing", (int)p->missing,
		"boot_entries", starts, "files", wdr_present_file_plans_json(p->files), "runs",
		runs, "todo", wdr_json_texts(p->left), "records", wdr_json_text(state));
	wdr_json_print(root, file);
}
