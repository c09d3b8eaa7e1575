/* The measurements: the chart, in light and dark, and every figure as text. */
#include "base/text.h"

#include "present/chart.h"
#include "pages/page_parts.h"
#include "present/show_pace.h"

#include <string.h>

#define MB 1e6

/* Measured things come from a record that any hand may have changed. */
static char *clean(const char *text)
{
	g_autoptr(json_t) raw = json_string(text);
	g_autoptr(json_t) fit = raw ? wdr_page_clean(raw) : NULL;

	return g_strdup(fit ? json_string_value(fit) : "");
}

static void add_picture(WdrPage *p, const WdrPaceRecord *paces)
{
	g_autofree char *light = wdr_chart_svg(paces, false);
	g_autofree char *dark = wdr_chart_svg(paces, true);

	if (!wdr_chart_is_there(NULL))
		wdr_page_add(p,
			"<p>Without a chart: the package wanderitas-charts, which draws it, was "
			"not installed where this page was made.</p>\n");
	if (!light || !dark)
		return;
	g_autofree char *light64 = g_base64_encode((const guchar *)light, strlen(light));
	g_autofree char *dark64 = g_base64_encode((const guchar *)dark, strlen(dark));
	wdr_page_add(p,
		"<picture><source media=\"screen and (prefers-color-scheme: dark)\" "
		"srcset=\"data:image/svg+xml;base64,%s\"><img src=\"data:image/svg+xml;base64,%s\" "
		"width=\"1280\" height=\"800\" alt=\"The speeds as bars; the table below has every "
		"figure.\"></picture>\n",
		dark64, light64);
}

static void add_figure(WdrPage *p, const char *const *headers, const WdrPaceRecord *r,
	const WdrPaced *paced, WdrPaceKind kind)
{
	const WdrPaceFigure *f = &paced->figures[kind];
	const WdrPaceKindInfo *info = wdr_pace_kind(kind);
	double most = wdr_pace_largest(r);
	g_autofree char *raw_title = wdr_paced_title(paced);
	g_autofree char *title = clean(raw_title);
	g_autofree char *rate = wdr_pace_number(f->median / MB);
	g_autofree char *requests = wdr_pace_number(f->median / info->request_bytes);
	g_autofree char *spread = g_strdup_printf(
		"%.0f %%%s", wdr_pace_spread(f) * 100, wdr_pace_is_unsteady(f) ? ", unsteady" : "");
	g_autofree char *median = wdr_pace_latency(f->latency_median);
	g_autofree char *p99 = wdr_pace_latency(f->latency_p99);
	g_autofree char *raw_verdict = wdr_pace_verdict(r, kind, paced);
	g_autofree char *verdict = raw_verdict ? clean(raw_verdict) : NULL;
	g_autofree char *link = wdr_pace_link(paced, kind);
	const WdrPageCell cells[] = { { .text = title, .bar = most > 0 ? f->median / most : 0 },
		{ .text = rate, .is_number = true }, { .text = link, .is_number = true },
		{ .text = info->is_random ? requests : NULL, .is_number = true },
		{ .text = spread, .is_number = true }, { .text = median, .is_number = true },
		{ .text = p99, .is_number = true }, { .text = verdict } };

	wdr_page_row(p, headers, cells);
}

static void add_kind(WdrPage *p, const WdrPaceRecord *r, WdrPaceKind kind)
{
	static const char *const headers[] = { "Disk", "MB/s", "Link allows", "Per second",
		"Spread", "Latency, median", "Latency, 99 %", "Against", NULL };

	if (!wdr_pace_is_measured(r, kind))
		return;
	const char *text = wdr_pace_kind(kind)->text;
	wdr_page_add(p, "<h3>%c%s</h3>\n", g_ascii_toupper(*text), text + 1);
	wdr_page_table(p, "speeds", headers);
	for (guint i = 0; i < r->measured->len; i++) {
		const WdrPaced *paced = r->measured->pdata[i];
		if (paced->figures[kind].is_there)
			add_figure(p, headers, r, paced, kind);
	}
	wdr_page_table_end(p);
}

static void add_descriptions(WdrPage *p, const WdrPaceRecord *r)
{
	wdr_page_add(p, "<ul>\n");
	for (guint i = 0; i < r->measured->len; i++) {
		const WdrPaced *paced = r->measured->pdata[i];
		g_autofree char *raw_title = wdr_paced_title(paced);
		g_autofree char *title = clean(raw_title);
		g_autofree char *raw = wdr_pace_description(paced);
		g_autofree char *description = clean(raw);
		wdr_page_add(p, "<li><b>%s</b>: %s%s</li>\n", title, description,
			paced->is_stand_in
				? ". Measured as a file: the figures are those of the machine that "
				  "this report was made on"
				: "");
	}
	wdr_page_add(p, "</ul>\n");
}

void wdr_page_speeds(WdrPage *p, const WdrPaceRecord *paces)
{
	wdr_page_section(p, "speeds", "Speeds");
	if (!paces || paces->measured->len == 0) {
		wdr_page_absent(p,
			"Not measured: pace measures with -o FILE.json, and report shows that here with "
			"--pace FILE.json.");
	} else {
		g_autofree char *day = wdr_format_time(paces->at);
		wdr_page_add(p, "<p class=\"soft\">Measured %s, %g s for each figure.</p>\n", day,
			paces->seconds);
		add_picture(p, paces);
		add_descriptions(p, paces);
		for (unsigned kind = 0; kind < WDR_PACE_KINDS; kind++)
			add_kind(p, paces, (WdrPaceKind)kind);
	}
	wdr_page_section_end(p);
}
