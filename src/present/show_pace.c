/* Measured figures as tables and JSON. */
#include "present/show_pace.h"

#include "base/text.h"

#include <math.h>
#include <string.h>

#define MB 1e6
#define LINK_MOST 1.1

enum { BAR_CELLS = 24, EIGHTHS = 8 };

char *wdr_pace_number(double value)
{
	int decimals = value < 9.995 ? 2 : value < 99.95 ? 1 : 0;

	return g_strdup_printf("%.*f", decimals, value);
}

char *wdr_pace_latency(uint64_t ns)
{
	static const struct {
		double ns;
		const char *unit;
	} units[] = { { 1e9, "s" }, { 1e6, "ms" }, { 1e3, "us" } };
	size_t i = 0;

	while (i + 1 < G_N_ELEMENTS(units) && (double)ns < units[i].ns)
		i++;
	g_autofree char *number = wdr_pace_number((double)ns / units[i].ns);
	return g_strdup_printf("%s %s", number, units[i].unit);
}

char *wdr_pace_times(const WdrPaceFigure *f, const WdrPaceFigure *base)
{
	if (!f->is_there || !base->is_there || base->median <= 0 || f->median <= 0)
		return NULL;
	if (f->min <= base->max && base->min <= f->max)
		return NULL;
	g_autofree char *times = wdr_pace_number(f->median / base->median);
	return g_strdup_printf("%s x", times);
}

/* The same disk, folder or image, measured at another time. */
static bool is_same(const WdrPaced *a, const WdrPaced *b)
{
	if (a->serial && b->serial)
		return strcmp(a->serial, b->serial) == 0 && strcmp(a->kind, b->kind) == 0;
	return strcmp(a->name, b->name) == 0;
}

const WdrPaced *wdr_pace_base(const WdrPaceRecord *r, WdrPaceKind kind, const WdrPaced *p)
{
	const WdrPaced *first = NULL;

	for (guint i = 0; i < r->measured->len; i++) {
		const WdrPaced *other = r->measured->pdata[i];
		if (other == p)
			break;
		if (!other->figures[kind].is_there)
			continue;
		if (is_same(other, p))
			return other;
		first = first ? first : other;
	}
	return first;
}

char *wdr_pace_link(const WdrPaced *p, WdrPaceKind kind)
{
	const WdrPaceFigure *f = &p->figures[kind];

	/* What is more than the link allows came another way: from a file, or a memory. */
	if (p->link.rate == 0 || wdr_pace_kind(kind)->is_random ||
		f->median > LINK_MOST * (double)p->link.rate)
		return NULL;
	g_autofree char *rate = wdr_pace_number((double)p->link.rate / MB);
	return g_strdup_printf("of %s", rate);
}

bool wdr_pace_is_measured(const WdrPaceRecord *r, WdrPaceKind kind)
{
	for (guint i = 0; i < r->measured->len; i++) {
		if (((const WdrPaced *)r->measured->pdata[i])->figures[kind].is_there)
			return true;
	}
	return false;
}

char *wdr_pace_verdict(const WdrPaceRecord *r, WdrPaceKind kind, const WdrPaced *p)
{
	const WdrPaced *base = wdr_pace_base(r, kind, p);
	const WdrPaceFigure *f = &p->figures[kind];

	if (!base || !f->is_there)
		return NULL;
	const WdrPaceFigure *b = &base->figures[kind];
	g_autofree char *times = wdr_pace_times(f, b);
	g_autofree char *title = wdr_paced_title(base);
	if (times)
		return g_strdup_printf("%s %s", times, title);
	return g_strdup_printf(wdr_pace_is_unsteady(f) || wdr_pace_is_unsteady(b)
				       ? "not told apart from %s"
				       : "as %s",
		title);
}

/* ---- the table ---- */

/* Eighths of a cell where the terminal has them. */
static char *bar(double share)
{
	static const char *const parts[EIGHTHS] = { "", "▏", "▎", "▍", "▌", "▋", "▊", "▉" };
	unsigned eighths = (unsigned)lround(CLAMP(share, 0, 1) * BAR_CELLS * EIGHTHS);
	GString *text = g_string_new(NULL);
	bool is_utf8 = g_get_charset(NULL);

	/* What is there is seen, however small. */
	eighths = MAX(eighths, 1);
	for (unsigned i = 0; i < eighths / EIGHTHS; i++)
		g_string_append(text, is_utf8 ? "█" : "#");
	if (is_utf8)
		g_string_append(text, parts[eighths % EIGHTHS]);
	else if (text->len == 0)
		g_string_append_c(text, '|');
	return g_string_free(text, FALSE);
}

double wdr_pace_largest(const WdrPaceRecord *r)
{
	double most = 0;

	for (guint i = 0; i < r->measured->len; i++) {
		const WdrPaced *p = r->measured->pdata[i];
		for (unsigned kind = 0; kind < WDR_PACE_KINDS; kind++)
			most = MAX(most, p->figures[kind].median);
	}
	return most;
}

static void add_row(WdrGrid *g, const WdrPaceRecord *r, const WdrPaced *p, WdrPaceKind kind)
{
	const WdrPaceFigure *f = &p->figures[kind];
	const WdrPaceKindInfo *info = wdr_pace_kind(kind);
	double most = wdr_pace_largest(r);
	g_autofree char *title = wdr_paced_title(p);
	g_autofree char *name = g_strdup_printf("  %s", title);
	g_autofree char *drawn = bar(most > 0 ? f->median / most : 0);
	g_autofree char *rate = wdr_pace_number(f->median / MB);
	double per_second = f->median / info->request_bytes;
	g_autofree char *requests = per_second < 1000
					    ? wdr_pace_number(per_second)
					    : wdr_format_count((uint64_t)(per_second + 0.5));
	g_autofree char *spread = g_strdup_printf(
		"%.0f %%%s", wdr_pace_spread(f) * 100, wdr_pace_is_unsteady(f) ? " unsteady" : "");
	g_autofree char *median = wdr_pace_latency(f->latency_median);
	g_autofree char *p99 = wdr_pace_latency(f->latency_p99);
	g_autofree char *verdict = wdr_pace_verdict(r, kind, p);
	g_autofree char *link = wdr_pace_link(p, kind);
	const char *const cells[] = { name, drawn, rate, link, info->is_random ? requests : NULL,
		spread, median, p99, verdict };

	wdr_grid_row(g, wdr_pace_is_unsteady(f) ? WDR_STYLE_WARNING : WDR_STYLE_PLAIN, cells);
}

static void show_figures(const WdrOut *out, const WdrPaceRecord *r)
{
	static const WdrColumn columns[] = { { "", false }, { "", false }, { "MB/s", true },
		{ "link", true }, { "per second", true }, { "spread", true }, { "latency", true },
		{ "99 % in", true }, { "", false } };
	g_autoptr(WdrGrid) g = wdr_grid_new(columns, G_N_ELEMENTS(columns));

	for (unsigned k = 0; k < WDR_PACE_KINDS; k++) {
		if (wdr_pace_is_measured(r, (WdrPaceKind)k))
			wdr_grid_section(g, wdr_pace_kind((WdrPaceKind)k)->text);
		for (guint i = 0; i < r->measured->len; i++) {
			const WdrPaced *p = r->measured->pdata[i];
			if (p->figures[k].is_there)
				add_row(g, r, p, (WdrPaceKind)k);
		}
	}
	wdr_grid_print(g, out);
}

/* ---- warnings and notes ---- */

static void append(GString *text, const char *value)
{
	g_autofree char *shown = value ? wdr_escape(value) : NULL;

	if (shown)
		g_string_append_printf(text, "%s%s", text->len ? ", " : "", shown);
}

char *wdr_pace_description(const WdrPaced *p)
{
	GString *text = g_string_new(NULL);
	g_autofree char *size = p->size ? wdr_format_size(p->size) : NULL;
	double read = p->figures[WDR_PACE_READ_IN_SEQUENCE].median;

	if (p->disk && strcmp(p->disk, p->name) != 0) {
		g_autofree char *on = g_strdup_printf("%s on %s", p->kind, p->disk);
		append(text, on);
	}
	append(text, p->medium);
	append(text, p->model);
	append(text, size);
	append(text, p->link.text);
	if (p->link.rate > 0) {
		g_autofree char *rate = wdr_pace_number((double)p->link.rate / MB);
		g_string_append_printf(text, ": %s MB/s at most", rate);
	}
	if (p->link.rate > 0 && read > 0 && !p->is_stand_in)
		g_string_append_printf(
			text, ", and reads have %.0f %% of it", read / (double)p->link.rate * 100);
	if (text->len == 0)
		append(text, p->kind);
	return g_string_free(text, FALSE);
}

static void show_warnings(const WdrOut *out, const WdrPaced *p)
{
	g_autofree char *title = wdr_paced_title(p);
	g_autofree char *description = wdr_pace_description(p);

	wdr_out_text(out, WDR_STYLE_HEADING, "%s", title);
	wdr_out_text(out, WDR_STYLE_PLAIN, "  ");
	wdr_out_hanging(out, WDR_STYLE_PLAIN, 4, description);
	if (p->failure) {
		wdr_out_text(out, WDR_STYLE_BAD, "  FAILED: ");
		wdr_out_hanging(out, WDR_STYLE_BAD, 4, p->failure);
	}
	for (guint i = 0; i < p->warnings->len; i++) {
		wdr_out_text(out, WDR_STYLE_WARNING, "  - ");
		wdr_out_hanging(out, WDR_STYLE_WARNING, 4, p->warnings->pdata[i]);
	}
}

void wdr_present_pace(const WdrOut *out, const WdrPaceRecord *r)
{
	show_figures(out, r);
	for (guint i = 0; i < r->measured->len; i++) {
		if (i == 0)
			fputc('\n', out->file);
		show_warnings(out, r->measured->pdata[i]);
	}
}
