/* What a catch-up did, as text and JSON. */
#include "present/show_catchup.h"

#include "base/json.h"
#include "base/text.h"

#include <string.h>

enum { SHOWN_MAX = 40, UNSETTLED_MAX = 10 };

static const char *word_of(const WdrCaught *c)
{
	return c->from ? "renamed" : wdr_diff_name(c->kind);
}

static unsigned count_of(const GPtrArray *changes, const char *word)
{
	unsigned count = 0;

	for (guint i = 0; changes && i < changes->len; i++)
		count += g_strcmp0(word_of(changes->pdata[i]), word) == 0 ? 1 : 0;
	return count;
}

unsigned wdr_present_not_copied(const WdrCaughtUp *c)
{
	return count_of(c->changes, "edited");
}

static const char *const words[] = { "new", "changed", "renamed", "removed", "metadata" };

static char *counts(const WdrCaughtUp *c)
{
	static const char *const said[] = { "new", "changed", "renamed", "removed",
		"with other metadata" };
	g_autoptr(GString) text = g_string_new(NULL);

	for (size_t i = 0; i < G_N_ELEMENTS(words); i++) {
		unsigned count = count_of(c->changes, words[i]);
		if (count)
			g_string_append_printf(
				text, "%s%u %s", text->len ? ", " : "", count, said[i]);
	}
	return g_strdup(text->len ? text->str : "nothing");
}

static void show_changes(const WdrOut *out, const GPtrArray *changes, guint most)
{
	static const WdrColumn columns[] = { { "WHAT", false }, { "PARTITION", true },
		{ "FILE", false } };
	g_autoptr(WdrGrid) g = wdr_grid_new(columns, G_N_ELEMENTS(columns));

	for (guint i = 0; i < changes->len && i < most; i++) {
		const WdrCaught *c = changes->pdata[i];
		g_autofree char *path = wdr_escape(c->path);
		g_autofree char *from = c->from ? wdr_escape(c->from) : NULL;
		g_autofree char *number = g_strdup_printf("%u", c->partition);
		g_autofree char *file = g_strdup_printf("/%s%s%s%s", path,
			c->is_folder && *path ? "/" : "", from ? "  was /" : "", from ? from : "");
		const char *cells[] = { word_of(c), number, file };
		wdr_grid_row(
			g, c->kind == WDR_DIFF_EDITED ? WDR_STYLE_WARNING : WDR_STYLE_PLAIN, cells);
	}
	wdr_grid_print(g, out);
	if (changes->len > most)
		wdr_out_text(out, WDR_STYLE_PLAIN, "... and %u more (--verbose lists all)\n",
			changes->len - most);
}

static void show_edited(const WdrOut *out, const WdrCaughtUp *c)
{
	for (guint i = 0; c->changes && i < c->changes->len; i++) {
		const WdrCaught *e = c->changes->pdata[i];
		g_autofree char *path = wdr_escape(e->path);
		if (e->kind == WDR_DIFF_EDITED)
			wdr_out_text(out, WDR_STYLE_WARNING,
				"  not copied /%s on partition %u: it, or the boot volume that it is on, "
				"has new identifiers on the target, and changed on the source since; move "
				"again, or change it there too\n",
				path, e->partition);
	}
}

static void show_pause(const WdrOut *out, const WdrCaughtUp *c, const char *before)
{
	if (c->paused)
		wdr_out_text(out, WDR_STYLE_PLAIN, "%s%s %s down for %.1f s\n", before, c->paused,
			strchr(c->paused, ',') ? "were" : "was", c->paused_s);
	if (c->pause_problem)
		wdr_out_hanging(out, WDR_STYLE_BAD, 0, c->pause_problem);
}

void wdr_present_caught_up(const WdrOut *out, const WdrCaughtUp *c)
{
	if (!c->changes)
		return;
	g_autofree char *what = counts(c);
	g_autofree char *bytes = wdr_format_size(c->bytes);
	if (c->passes == 0)
		wdr_out_text(out, WDR_STYLE_PLAIN, "  meanwhile   nothing changed on the source\n");
	else
		wdr_out_text(out, WDR_STYLE_PLAIN,
			"  meanwhile   %s; copied in %u further pass%s (%s)\n", what, c->passes,
			c->passes == 1 ? "" : "es", bytes);
	show_pause(out, c, "  paused      ");
	show_edited(out, c);
	if (c->unsettled->len) {
		wdr_out_text(out, WDR_STYLE_WARNING,
			"  still changing, so what was copied of it may be old:\n");
		show_changes(out, c->unsettled, UNSETTLED_MAX);
	}
}

void wdr_present_catchup(
	const WdrOut *out, const WdrItinerary *it, const WdrMoveResult *r, bool shows_all)
{
	const WdrCaughtUp *c = &r->caught_up;
	g_autofree char *bytes = wdr_format_size(c->bytes);
	g_autofree char *what = counts(c);

	if (c->passes == 0) {
		wdr_out_text(out, WDR_STYLE_GOOD,
			"nothing %schanged on %s since it was copied; %s was not written to\n",
			wdr_present_not_copied(c) ? "else " : "", it->source.name, it->target.name);
	} else {
		show_changes(out, c->changes, shows_all ? G_MAXUINT : SHOWN_MAX);
		wdr_out_text(out, WDR_STYLE_GOOD,
			"\ndone: %s; %s copied to %s and read back, in %u pass%s\n", what, bytes,
			it->target.name, c->passes, c->passes == 1 ? "" : "es");
	}
	show_pause(out, c, "");
	show_edited(out, c);
	if (c->unsettled->len) {
		wdr_out_text(out, WDR_STYLE_WARNING,
			"still changing, so what was copied of it may be old:\n");
		show_changes(out, c->unsettled, SHOWN_MAX);
	}
}

static json_t *changes_json(const GPtrArray *changes)
{
	json_t *list = json_array();

	for (guint i = 0; i < changes->len; i++) {
		const WdrCaught *c = changes->pdata[i];
		g_autofree char *path = wdr_escape(c->path);
		g_autofree char *from = c->from ? wdr_escape(c->from) : NULL;
		json_array_append_new(
			list, json_pack("{s:s, s:i, s:s, s:s?}", "what", word_of(c), "partition",
				      (int)c->partition, "path", path, "was", from));
	}
	return list;
}

json_t *wdr_present_caught_up_json(const WdrCaughtUp *c)
{
	if (!c->changes)
		return json_null();
	json_t *paused = c->paused
				 ? json_pack("{s:s, s:f, s:o}", "units", c->paused, "seconds",
					   c->paused_s, "problem", wdr_json_text(c->pause_problem))
				 : json_null();
	return json_pack("{s:i, s:I, s:o, s:o, s:o}", "passes", (int)c->passes, "bytes",
		(json_int_t)c->bytes, "changes", changes_json(c->changes), "still_changing",
		changes_json(c->unsettled), "paused", paused);
}

void wdr_present_catchup_json(FILE *file, const WdrItinerary *it, const WdrMoveResult *r)
{
	g_autoptr(json_t) root = json_pack("{s:s, s:s, s:o, s:o, s:o, s:o}", "format",
		"wanderitas-catchup/2", "result", "done", "source", wdr_json_text(it->source.name),
		"target", wdr_json_text(it->target.name), "records", wdr_json_text(r->state),
		"caught_up", wdr_present_caught_up_json(&r->caught_up));

	wdr_json_print(root, file);
}
