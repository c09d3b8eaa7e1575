/* The page of many boards, and the same as a CSV file. */
#include "pages/page_index.h"

#include "base/text.h"
#include "pages/page_html.h"
#include "pages/page_verdict.h"

#include <string.h>

/* ---- how many of each ---- */

typedef struct {
	size_t all, copied, boot, arrived, bad;
} Counts;

/* What came of the copy, of the rehearsal, after the restart. */
enum { COPIED, REHEARSED, ARRIVED, VERDICTS };

static void verdicts_of(const json_t *board, WdrVerdictText ret[VERDICTS])
{
	ret[COPIED] = wdr_verdict_copied(
		wdr_page_text(board, "state"), wdr_page_number(board, "damaged_files") > 0);
	ret[REHEARSED] = wdr_verdict_rehearsed(wdr_page_text(board, "rehearsed"));
	ret[ARRIVED] = wdr_verdict_arrived(
		wdr_page_at(board, "arrived"), wdr_page_at(board, "as_planned"));
}

static bool is(const WdrVerdictText *verdict, const char *mark)
{
	return strcmp(verdict->mark, mark) == 0;
}

static Counts count(const json_t *boards)
{
	Counts n = { .all = json_array_size(boards) };

	for (size_t i = 0; i < n.all; i++) {
		WdrVerdictText v[VERDICTS];
		verdicts_of(json_array_get(boards, i), v);
		n.copied += is(&v[COPIED], "good") ? 1 : 0;
		n.boot += g_str_has_prefix(v[REHEARSED].brief, "boots") ? 1 : 0;
		n.arrived += is(&v[ARRIVED], "good") ? 1 : 0;
		n.bad += is(&v[COPIED], "bad") || is(&v[REHEARSED], "bad") || is(&v[ARRIVED], "bad")
				 ? 1
				 : 0;
	}
	return n;
}

static void add_count(WdrPage *p, size_t some, size_t all, const char *what)
{
	wdr_page_add(p, "<li><span class=\"badge %s\">%zu of %zu %s</span></li>\n",
		some == all ? "good" : "plain", some, all, what);
}

static void add_header(WdrPage *p, const char *title)
{
	const Counts n = count(wdr_page_at(p->report, "boards"));

	wdr_page_add(p,
		"<header>\n<p class=\"soft\">Reports of moves</p>\n<h1>%s</h1>\n"
		"<ul class=\"verdicts\">\n",
		title);
	add_count(p, n.copied, n.all, "copied and read back completely");
	add_count(p, n.boot, n.all, "boot, as rehearsed");
	add_count(p, n.arrived, n.all, "booted from the new disk as planned");
	if (n.bad)
		wdr_page_add(p,
			"<li><span class=\"badge bad\">%zu with something wrong</span></li>\n",
			n.bad);
	wdr_page_add(p, "</ul>\n</header>\n");
}

/* ---- the boards ---- */

static WdrPageCell badge(const WdrVerdictText *v)
{
	return (WdrPageCell){ .text = v->brief, .mark = v->mark };
}

static char *link_of(const json_t *board)
{
	const char *page = wdr_page_text(board, "page");

	return *page ? g_uri_escape_string(page, NULL, TRUE) : NULL;
}

static char *disk_of(const json_t *board)
{
	g_autofree char *size = wdr_page_size(board, "target.size");
	const char *model = wdr_page_text(board, "target.model");
	const char *medium = wdr_page_text(board, "target.medium");

	return json_is_object(wdr_page_at(board, "target"))
		       ? g_strdup_printf("%s, %s", *model ? model : medium, size)
		       : NULL;
}

/* NULL: it is not finished. The caller's. */
static char *finished(const json_t *board)
{
	const json_t *at = wdr_page_at(board, "finished_at");

	return json_is_integer(at) ? wdr_format_time(json_integer_value(at)) : NULL;
}

static void add_board(WdrPage *p, const char *const *headers, const json_t *b)
{
	WdrVerdictText v[VERDICTS];
	g_autofree char *page = link_of(b);
	g_autofree char *disk = disk_of(b);
	g_autofree char *day = finished(b);
	const json_t *mb = wdr_page_at(b, "mb_per_s");
	g_autofree char *rate =
		json_is_real(mb) ? g_strdup_printf("%.0f MB/s", json_real_value(mb)) : NULL;
	size_t n = json_array_size(wdr_page_at(b, "warnings"));
	g_autofree char *warnings = n ? g_strdup_printf("%zu", n) : NULL;

	verdicts_of(b, v);
	const WdrPageCell cells[] = { { .text = wdr_page_text(b, "name"), .link = page },
		{ .text = wdr_page_text(b, "label") }, { .text = wdr_page_text(b, "host") },
		{ .text = wdr_page_text(b, "target.serial"), .is_code = true }, { .text = disk },
		{ .text = day }, badge(&v[COPIED]), badge(&v[REHEARSED]), badge(&v[ARRIVED]),
		{ .text = rate, .is_number = true }, { .text = warnings, .is_number = true } };

	wdr_page_row(p, headers, cells);
}

static void add_boards(WdrPage *p)
{
	static const char *const headers[] = { "Board", "Label", "Host name", "Serial", "Disk",
		"Finished", "Copied", "Rehearsed", "After the restart", "Rate", "To look at",
		NULL };
	const json_t *boards = wdr_page_at(p->report, "boards");

	wdr_page_section(p, "boards", "Which disk became which board");
	if (json_array_size(boards) == 0)
		wdr_page_absent(p, "None.");
	wdr_page_table(p, "boards", headers);
	for (size_t i = 0; i < json_array_size(boards); i++)
		add_board(p, headers, json_array_get(boards, i));
	wdr_page_table_end(p);
	wdr_page_section_end(p);
}

/* ---- what to look at: what several boards have is listed once ---- */

typedef struct {
	const json_t *warning;
	GString *boards;
} Told;

static void told_free(void *data)
{
	Told *t = data;

	g_string_free(t->boards, TRUE);
	g_free(t);
}

static Told *find_told(const GPtrArray *all, const json_t *warning)
{
	for (guint i = 0; i < all->len; i++) {
		Told *t = all->pdata[i];
		if (json_equal(json_object_get(t->warning, "text"),
			    json_object_get(warning, "text")) &&
			json_equal(json_object_get(t->warning, "hint"),
				json_object_get(warning, "hint")))
			return t;
	}
	return NULL;
}

static GPtrArray *gather(const json_t *boards)
{
	GPtrArray *all = g_ptr_array_new_with_free_func(told_free);

	for (size_t i = 0; i < json_array_size(boards); i++) {
		const json_t *b = json_array_get(boards, i);
		const json_t *warnings = wdr_page_at(b, "warnings");
		for (size_t k = 0; k < json_array_size(warnings); k++) {
			const json_t *w = json_array_get(warnings, k);
			Told *t = find_told(all, w);
			if (!t) {
				t = g_new0(Told, 1);
				*t = (Told){ w, g_string_new(NULL) };
				g_ptr_array_add(all, t);
			}
			g_string_append_printf(t->boards, "%s%s", t->boards->len ? ", " : "",
				wdr_page_text(b, "name"));
		}
	}
	return all;
}

static void add_warnings(WdrPage *p)
{
	static const char *const headers[] = { "Boards", "Found by", "What", "To do", NULL };
	g_autoptr(GPtrArray) all = gather(wdr_page_at(p->report, "boards"));

	wdr_page_section(p, "warnings", "What to look at");
	if (all->len == 0)
		wdr_page_absent(p, "Nothing was found.");
	else
		wdr_page_table(p, "warnings", headers);
	for (guint i = 0; i < all->len; i++) {
		const Told *t = all->pdata[i];
		const WdrPageCell cells[] = { { .text = t->boards->str },
			{ .text = wdr_page_text(t->warning, "from") },
			{ .text = wdr_page_text(t->warning, "text") },
			{ .text = wdr_page_text(t->warning, "hint") } };
		wdr_page_row(p, headers, cells);
	}
	if (all->len)
		wdr_page_table_end(p);
	wdr_page_section_end(p);
}

char *wdr_page_index(json_t *index, const char *title)
{
	g_autoptr(json_t) clean = wdr_page_clean(index);
	WdrPage p = { g_string_new(NULL), clean };

	wdr_page_begin(&p, title);
	add_header(&p, title);
	add_boards(&p);
	add_warnings(&p);
	wdr_page_begin_footer(&p);
	wdr_page_end(&p);
	return g_string_free(p.html, FALSE);
}

/* ---- CSV ---- */

/* A spreadsheet takes what begins so for a formula; a serial number comes from a disk. */
static void add_field(GString *csv, const char *text, bool is_last)
{
	g_auto(GStrv) parts = g_strsplit(text, "\"", -1);
	g_autofree char *doubled = g_strjoinv("\"\"", parts);
	bool is_formula = *text && strchr("=+-@\t\r", *text);

	g_string_append_printf(
		csv, "\"%s%s\"%s", is_formula ? "'" : "", doubled, is_last ? "\r\n" : ",");
}

static void add_line(GString *csv, const json_t *b)
{
	WdrVerdictText v[VERDICTS];
	g_autofree char *day = finished(b);
	g_autofree char *size =
		g_strdup_printf("%" JSON_INTEGER_FORMAT, wdr_page_number(b, "target.size"));

	verdicts_of(b, v);
	const char *const fields[] = { wdr_page_text(b, "name"), wdr_page_text(b, "label"),
		wdr_page_text(b, "host"), wdr_page_text(b, "target.medium"),
		wdr_page_text(b, "target.model"), wdr_page_text(b, "target.serial"), size,
		day ? day : "", v[COPIED].brief, v[REHEARSED].brief, v[ARRIVED].brief };

	for (size_t i = 0; i < G_N_ELEMENTS(fields); i++)
		add_field(csv, fields[i], i + 1 == G_N_ELEMENTS(fields));
}

char *wdr_boards_csv(const json_t *index)
{
	static const char *const names[] = { "board", "label", "host_name", "medium", "model",
		"serial", "size_bytes", "finished", "copied", "rehearsed", "after_restart" };
	const json_t *boards = json_object_get(index, "boards");
	GString *csv = g_string_new(NULL);

	for (size_t i = 0; i < G_N_ELEMENTS(names); i++)
		add_field(csv, names[i], i + 1 == G_N_ELEMENTS(names));
	for (size_t i = 0; i < json_array_size(boards); i++)
		add_line(csv, json_array_get(boards, i));
	return g_string_free(csv, FALSE);
}
