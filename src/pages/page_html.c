/* Escaped HTML: headings, tables, facts. */
#include "pages/page_html.h"

#include "base/text.h"
#include "pages/page_style.h"

#include <string.h>

/* ---- strings that may have anything in them ---- */

/* What a browser would not show, or would let run over its neighbours. */
static bool is_unfit(gunichar c)
{
	bool is_control = (c < 0x20 && c != '\t' && c != '\n') || (c >= 0x7f && c < 0xa0);
	bool turns = c == 0x061c || c == 0x200e || c == 0x200f || (c >= 0x202a && c <= 0x202e) ||
		     (c >= 0x2066 && c <= 0x2069);

	return is_control || turns || c == 0xfffe || c == 0xffff;
}

static json_t *clean_string(const char *text)
{
	g_autoptr(GString) clean = g_string_new(NULL);

	for (const char *at = text; *at; at = g_utf8_next_char(at)) {
		gunichar c = g_utf8_get_char(at);
		g_string_append_unichar(clean, is_unfit(c) ? 0xfffd : c);
	}
	return json_string(clean->str);
}

json_t *wdr_page_clean(json_t *json)
{
	json_t *each = NULL;
	const char *key = NULL;
	size_t i = 0;

	if (json_is_string(json))
		return clean_string(json_string_value(json));
	if (json_is_array(json)) {
		json_t *copy = json_array();
		json_array_foreach(json, i, each) json_array_append_new(copy, wdr_page_clean(each));
		return copy;
	}
	if (!json_is_object(json))
		return json_deep_copy(json);
	json_t *copy = json_object();
	json_object_foreach(json, key, each) json_object_set_new(copy, key, wdr_page_clean(each));
	return copy;
}

/* ---- looking things up ---- */

const json_t *wdr_page_at(const json_t *json, const char *path)
{
	g_auto(GStrv) names = g_strsplit(path, ".", -1);

	for (size_t i = 0; json && names[i]; i++)
		json = json_object_get(json, names[i]);
	return json;
}

const char *wdr_page_text(const json_t *json, const char *path)
{
	const char *text = json_string_value(wdr_page_at(json, path));

	return text ? text : "";
}

json_int_t wdr_page_number(const json_t *json, const char *path)
{
	return json_integer_value(wdr_page_at(json, path));
}

char *wdr_page_size(const json_t *json, const char *path)
{
	return wdr_format_size((uint64_t)MAX(wdr_page_number(json, path), 0));
}

/* ---- markup ---- */

void wdr_page_add(WdrPage *p, const char *format, ...)
{
	va_list args;

	va_start(args, format);
	g_autofree char *markup = g_markup_vprintf_escaped(format, args);
	va_end(args);
	g_string_append(p->html, markup);
}

void wdr_page_begin(WdrPage *p, const char *title)
{
	wdr_page_add(p,
		"<!DOCTYPE html>\n<html lang=\"en\">\n<head>\n<meta charset=\"utf-8\">\n"
		"<meta name=\"viewport\" content=\"width=device-width,initial-scale=1\">\n"
		"<meta http-equiv=\"Content-Security-Policy\" content=\"default-src 'none'; "
		"style-src 'unsafe-inline'; img-src data:\">\n<title>%s</title>\n"
		"<style>\n",
		title);
	for (size_t i = 0; i < G_N_ELEMENTS(page_style); i++)
		g_string_append(p->html, page_style[i]);
	wdr_page_add(p, "</style>\n</head>\n<body>\n<main>\n");
}

void wdr_page_begin_footer(WdrPage *p)
{
	g_autofree char *day = wdr_format_time(wdr_page_number(p->report, "made_at"));

	wdr_page_add(p, "<footer>\n<p>Made by wanderitas %s, %s.",
		wdr_page_text(p->report, "made_by"), day);
}

void wdr_page_end(WdrPage *p)
{
	wdr_page_add(p, "</p>\n</footer>\n</main>\n</body>\n</html>\n");
}

void wdr_page_section(WdrPage *p, const char *id, const char *title)
{
	wdr_page_add(p, "<section id=\"%s\">\n<h2>%s</h2>\n", id, title);
}

void wdr_page_section_end(WdrPage *p)
{
	wdr_page_add(p, "</section>\n");
}

void wdr_page_absent(WdrPage *p, const char *why)
{
	wdr_page_add(p, "<p class=\"absent\">%s</p>\n", why);
}

void wdr_page_table(WdrPage *p, const char *class, const char *const *headers)
{
	wdr_page_add(p, "<table class=\"%s\">\n<thead><tr>", class);
	for (size_t i = 0; headers[i]; i++)
		wdr_page_add(p, "<th scope=\"col\">%s</th>", headers[i]);
	wdr_page_add(p, "</tr></thead>\n<tbody>\n");
}

static void add_cell(WdrPage *p, const char *header, const WdrPageCell *c)
{
	bool is_empty = !c->text || !*c->text;

	/* On a narrow screen the header is shown in front of each cell. */
	wdr_page_add(p, "<td class=\"%s\" data-label=\"%s\">",
		is_empty       ? "empty"
		: c->is_number ? "number"
			       : "text",
		header);
	if (!is_empty && c->link)
		wdr_page_add(p, "<a href=\"%s\">%s</a>", c->link, c->text);
	else if (!is_empty && c->mark)
		wdr_page_add(p, "<span class=\"badge %s\">%s</span>", c->mark, c->text);
	else if (!is_empty)
		wdr_page_add(p, c->is_code ? "<code>%s</code>" : "%s", c->text);
	if (c->bar > 0) {
		char width[G_ASCII_DTOSTR_BUF_SIZE];
		g_ascii_formatd(width, sizeof(width), "%.1f", CLAMP(c->bar, 0.004, 1) * 100);
		wdr_page_add(p,
			"<span class=\"rail\"><span class=\"bar\" style=\"width:%s%%\"></span></span>",
			width);
	}
	wdr_page_add(p, "</td>");
}

void wdr_page_row(WdrPage *p, const char *const *headers, const WdrPageCell *cells)
{
	wdr_page_add(p, "<tr>");
	for (size_t i = 0; headers[i]; i++)
		add_cell(p, headers[i], &cells[i]);
	wdr_page_add(p, "</tr>\n");
}

void wdr_page_table_end(WdrPage *p)
{
	wdr_page_add(p, "</tbody>\n</table>\n");
}

void wdr_page_facts(WdrPage *p)
{
	wdr_page_add(p, "<dl class=\"facts\">\n");
}

void wdr_page_fact(WdrPage *p, const char *name, const char *value)
{
	if (value && *value)
		wdr_page_add(p, "<div><dt>%s</dt><dd>%s</dd></div>\n", name, value);
}

void wdr_page_facts_end(WdrPage *p)
{
	wdr_page_add(p, "</dl>\n");
}
