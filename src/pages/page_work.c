/* What was done: edits, checks, the copy, what stayed behind, warnings, the way back. */
#include "base/state.h"
#include "base/command.h"
#include "base/text.h"

#include "pages/page_parts.h"

#include <string.h>

/* ---- edits ---- */

static void add_diff(WdrPage *p, const char *diff)
{
	g_auto(GStrv) lines = g_strsplit(diff, "\n", -1);

	wdr_page_add(p, "<pre>");
	for (size_t i = 0; lines[i]; i++) {
		const char *line = lines[i];
		bool is_head = g_str_has_prefix(line, "---") || g_str_has_prefix(line, "+++") ||
			       g_str_has_prefix(line, "@@");
		if (*line)
			wdr_page_add(p, "<span class=\"%s\">%s</span>",
				is_head        ? "where"
				: *line == '+' ? "add"
				: *line == '-' ? "del"
					       : "same",
				line);
	}
	wdr_page_add(p, "</pre>\n");
}

/* What the move, or a step around it, changed where it lay. */
static void add_changes(WdrPage *p)
{
	const json_t *changes = wdr_page_at(p->report, "changes");

	for (size_t i = 0; i < json_array_size(changes); i++) {
		const json_t *each = json_array_get(changes, i);
		const json_t *what = wdr_page_at(each, "what");
		wdr_page_add(p,
			"<h3>Changed in place; the originals are in <code>%s</code></h3>\n<ul>\n",
			wdr_page_text(each, "records"));
		for (size_t k = 0; k < json_array_size(what); k++) {
			const char *text = json_string_value(json_array_get(what, k));
			if (text)
				wdr_page_add(p, "<li>%s</li>\n", text);
		}
		wdr_page_add(p, "</ul>\n");
	}
}

void wdr_page_edits(WdrPage *p)
{
	const json_t *edits = wdr_page_at(p->report, "itinerary.edits");

	wdr_page_section(p, "edits", "Every edit");
	if (json_array_size(edits) == 0)
		wdr_page_absent(p, "None: every place that names a disk stayed true.");
	for (size_t i = 0; i < json_array_size(edits); i++) {
		const json_t *e = json_array_get(edits, i);
		wdr_page_add(p, "<h3>/%s, partition %" JSON_INTEGER_FORMAT " of the %s</h3>\n",
			wdr_page_text(e, "file"), wdr_page_number(e, "partition"),
			strcmp(wdr_page_text(e, "on"), "source") == 0 ? "old disk" : "new disk");
		add_diff(p, wdr_page_text(e, "diff"));
	}
	add_changes(p);
	wdr_page_section_end(p);
}

/* ---- checks ---- */

/* How a state looks. */
static WdrPageCell badge_of(const char *state)
{
	static const char *const marks[] = { "good", "warning", "bad", "warning" };

	for (WdrState i = WDR_STATE_OK; i <= WDR_STATE_UNKNOWN; i++) {
		if (strcmp(state, wdr_state_name(i)) == 0)
			return (WdrPageCell){ .text = state, .mark = marks[i] };
	}
	return (WdrPageCell){ .text = state, .mark = "plain" };
}

static void add_checks(WdrPage *p, const char *title, const json_t *list, const char *otherwise)
{
	static const char *const headers[] = { "", "State", "What was seen", "To do", NULL };

	wdr_page_add(p, "<h3>%s</h3>\n", title);
	if (json_array_size(list) == 0) {
		wdr_page_absent(p, otherwise);
		return;
	}
	wdr_page_table(p, "checks", headers);
	for (size_t i = 0; i < json_array_size(list); i++) {
		const json_t *each = json_array_get(list, i);
		const WdrPageCell cells[] = { { .text = wdr_page_text(each, "name") },
			badge_of(wdr_page_text(each, "state")),
			{ .text = wdr_page_text(each, "text") },
			{ .text = wdr_page_text(each, "hint") } };
		wdr_page_row(p, headers, cells);
	}
	wdr_page_table_end(p);
}

void wdr_page_checks(WdrPage *p)
{
	wdr_page_section(p, "checks", "Checks");
	add_checks(p, "Before the move (ready)", wdr_page_at(p->report, "ready.checks"),
		"Not kept: the move was made from an itinerary by an older version, or not at all.");
	add_checks(p, "The boot from the new disk, rehearsed",
		wdr_page_at(p->report, "rehearsal.steps"),
		"Not rehearsed: the new disk does not boot by itself, or is not plugged in.");
	add_checks(p, "After the restart (arrive)", wdr_page_at(p->report, "arrival.checks"),
		"Not made yet: run 'arrive' once the board has booted from the new disk.");
	wdr_page_section_end(p);
}

/* ---- the copy ---- */

static void add_rate(
	WdrPage *p, const json_t *figures, const char *name, json_int_t bytes, const char *time_key)
{
	double seconds = (double)wdr_page_number(figures, time_key) / 1000;

	if (seconds <= 0 || bytes <= 0)
		return;
	g_autofree char *size = wdr_format_size((uint64_t)bytes);
	g_autofree char *text = g_strdup_printf(
		"%s in %.1f s: %.0f MB/s", size, seconds, (double)bytes / 1e6 / seconds);
	wdr_page_fact(p, name, text);
}

static void add_figures(WdrPage *p)
{
	const json_t *f = wdr_page_at(p->report, "figures");
	json_int_t bytes = wdr_page_number(f, "bytes");
	json_int_t before = wdr_page_number(f, "bytes_before");
	g_autofree char *entries = wdr_format_count((uint64_t)wdr_page_number(f, "entries"));
	g_autofree char *earlier = wdr_page_size(f, "bytes_before");
	g_autofree char *behind = wdr_page_size(f, "read_back_while_copying_bytes");

	if (!json_is_object(f))
		return;
	wdr_page_facts(p);
	wdr_page_fact(p, "Entries", entries);
	add_rate(p, f, "Copied", bytes - before, "copy_ms");
	if (before > 0)
		wdr_page_fact(p, "Before an interruption", earlier);
	if (wdr_page_number(f, "read_back_while_copying_bytes") > 0)
		wdr_page_fact(p, "Read back while copying", behind);
	add_rate(p, f, "Read back from the medium after it", wdr_page_number(f, "read_back_bytes"),
		"read_back_ms");
	wdr_page_facts_end(p);
}

static void add_stops(WdrPage *p)
{
	const json_t *stops = wdr_page_at(p->report, "stops");

	for (size_t i = 0; i < json_array_size(stops); i++) {
		const json_t *stop = json_array_get(stops, i);
		g_autofree char *time = wdr_format_time(wdr_page_number(stop, "at"));
		wdr_page_add(p, "<p><span class=\"badge warning\">interrupted</span> %s: %s</p>\n",
			time, wdr_page_text(stop, "why"));
	}
}

void wdr_page_copy(WdrPage *p)
{
	static const char *const headers[] = { "Begun", "Step", "Time", NULL };
	const json_t *steps = wdr_page_at(p->report, "steps");

	wdr_page_section(p, "copy", "The copy: times and rates");
	add_figures(p);
	add_stops(p);
	if (json_array_size(steps) == 0) {
		wdr_page_absent(p, "Nothing was copied.");
	} else {
		wdr_page_table(p, "steps", headers);
		for (size_t i = 0; i < json_array_size(steps); i++) {
			const json_t *step = json_array_get(steps, i);
			g_autofree char *time = wdr_format_time(wdr_page_number(step, "at"));
			json_int_t seconds = wdr_page_number(step, "seconds");
			g_autofree char *took = seconds > 0 ? wdr_format_duration((uint64_t)seconds)
							    : g_strdup("under 1 s");
			const WdrPageCell cells[] = { { .text = time, .is_number = true },
				{ .text = wdr_page_text(step, "what") },
				{ .text = took, .is_number = true } };
			wdr_page_row(p, headers, cells);
		}
		wdr_page_table_end(p);
	}
	wdr_page_section_end(p);
}

/* ---- what stayed behind ---- */

static void add_missing(WdrPage *p)
{
	const json_t *missing = wdr_page_at(p->report, "unreadable");

	if (json_array_size(missing) == 0)
		return;
	wdr_page_add(p, "<h3>Could not be read</h3>\n<ul>\n");
	for (size_t i = 0; i < json_array_size(missing); i++) {
		const json_t *m = json_array_get(missing, i);
		g_autofree char *size = wdr_page_size(m, "bytes");
		wdr_page_add(p,
			"<li><code>%s</code>, partition %" JSON_INTEGER_FORMAT ": %s</li>\n",
			wdr_page_text(m, "path"), wdr_page_number(m, "partition"), size);
	}
	wdr_page_add(p, "</ul>\n");
}

void wdr_page_left(WdrPage *p)
{
	static const char *const headers[] = { "Pattern", "Entries", "Size", NULL };
	const json_t *left = wdr_page_at(p->report, "itinerary.left_behind");

	wdr_page_section(p, "left", "What was left behind");
	if (json_array_size(left) == 0) {
		wdr_page_absent(p,
			"Nothing that was asked for. Sockets, lost+found and the records of this "
			"program are never copied.");
	} else {
		wdr_page_table(p, "left", headers);
		for (size_t i = 0; i < json_array_size(left); i++) {
			const json_t *l = json_array_get(left, i);
			g_autofree char *entries =
				wdr_format_count((uint64_t)wdr_page_number(l, "entries"));
			g_autofree char *size = wdr_page_size(l, "bytes");
			const WdrPageCell cells[] = { { .text = wdr_page_text(l, "pattern"),
							      .is_code = true },
				{ .text = entries, .is_number = true },
				{ .text = size, .is_number = true } };
			wdr_page_row(p, headers, cells);
		}
		wdr_page_table_end(p);
	}
	add_missing(p);
	wdr_page_section_end(p);
}

/* ---- warnings, and the way back ---- */

void wdr_page_warnings(WdrPage *p)
{
	static const char *const headers[] = { "From", "Warning", "To do", NULL };
	const json_t *warnings = wdr_page_at(p->report, "warnings");

	wdr_page_section(p, "warnings", "Warnings and notes");
	if (json_array_size(warnings) == 0) {
		wdr_page_absent(p, "None.");
	} else {
		wdr_page_table(p, "warnings", headers);
		for (size_t i = 0; i < json_array_size(warnings); i++) {
			const json_t *w = json_array_get(warnings, i);
			const WdrPageCell cells[] = { { .text = wdr_page_text(w, "from") },
				{ .text = wdr_page_text(w, "text") },
				{ .text = wdr_page_text(w, "hint") } };
			wdr_page_row(p, headers, cells);
		}
		wdr_page_table_end(p);
	}
	wdr_page_section_end(p);
}

/* A command has lines of its own: it is going to be copied. */
static void add_way_back(WdrPage *p, const char *text)
{
	const char *command = wdr_command_in(text);
	g_autofree char *before =
		command ? g_strndup(text, (size_t)(command - text)) : g_strdup(text);

	wdr_page_add(p, "<li>%s", before);
	if (command)
		wdr_page_add(p, "<code class=\"command\">%s</code>", command);
	wdr_page_add(p, "</li>\n");
}

void wdr_page_back(WdrPage *p)
{
	const json_t *back = wdr_page_at(p->report, "back");

	wdr_page_section(p, "back", "How to go back");
	wdr_page_add(p, "<ul>\n");
	for (size_t i = 0; i < json_array_size(back); i++) {
		const char *text = json_string_value(json_array_get(back, i));
		if (text)
			add_way_back(p, text);
	}
	wdr_page_add(p, "</ul>\n");
	wdr_page_section_end(p);
}
