/* The part of the program that draws, with cairo: it is loaded where it is there. */
#include "present/chart_part.h"

#include "base/text.h"
#include "present/chart_axis.h"
#include "present/show_pace.h"

#include <cairo-svg.h>
#include <cairo.h>
#include <math.h>
#include <string.h>

#define MB 1e6
#define PI 3.14159265358979323846
#define FONT "DejaVu Sans"

enum {
	WIDTH = 1280,
	HEIGHT = 800,
	MARGIN = 48,
	TITLE_AT = 58,
	SUBTITLE_AT = 86,
	PLOT_TOP = 150,
	LEGEND_ROW = 26,
	LABEL_ROOM = 64, /* under a plot */
	AXIS_ROOM = 70,  /* left of it */
	GAP = 36,        /* between two */
	BAR_MAX = 74,
	CUT = 48,       /* letters of a legend's description */
	SERIES_MAX = 8, /* more cannot be told apart */
};

typedef struct {
	double r, g, b;
} Color;

/* Series differ in brightness, which prints and every eye can tell, and in hatching besides. */
typedef struct {
	Color paper, ink, faint, grid, series[4];
} Theme;

static const Theme themes[] = {
	{ { 1, 1, 1 }, { 0.12, 0.14, 0.16 }, { 0.36, 0.39, 0.42 }, { 0.86, 0.88, 0.89 },
		{ { 0.10, 0.26, 0.38 }, { 0.93, 0.66, 0.22 }, { 0.30, 0.52, 0.49 },
			{ 0.83, 0.80, 0.90 } } },
	{ { 0.09, 0.10, 0.12 }, { 0.93, 0.94, 0.95 }, { 0.69, 0.72, 0.75 }, { 0.24, 0.26, 0.29 },
		{ { 0.55, 0.76, 0.92 }, { 0.90, 0.58, 0.20 }, { 0.32, 0.55, 0.52 },
			{ 0.86, 0.83, 0.93 } } },
};

typedef struct {
	WdrPaceKind kind;
	const char *line_1, *line_2; /* under its bars */
} Group;

typedef struct {
	const char *title, *unit;
	Group groups[4];
	size_t n;
	bool is_requests; /* a second; otherwise MB/s */
} Panel;

static const Panel panels[] = {
	{ "In sequence, requests of 1 MiB", "MB/s",
		{ { WDR_PACE_READ_IN_SEQUENCE, "reads", "" },
			{ WDR_PACE_WRITE_IN_SEQUENCE, "writes", "" } },
		2, false },
	{ "Small requests", "a second",
		{ { WDR_PACE_READ_AT_RANDOM, "reads, 4 KiB", "one at a time" },
			{ WDR_PACE_READ_MANY, "reads, 4 KiB", "8 at once" },
			{ WDR_PACE_COMMIT, "commits, 4 KiB", "each flushed" },
			{ WDR_PACE_SMALL_FILES, "files, 16 KiB", "made, removed" } },
		4, true },
};

typedef struct {
	cairo_t *cairo;
	const WdrPaceRecord *record;
	const Theme *theme;
	double plot_bottom;
} Drawing;

typedef struct {
	double left, right, top, bottom;
	WdrAxis axis;
} Plot;

/* ---- text ---- */

static void use(const Drawing *d, Color c)
{
	cairo_set_source_rgb(d->cairo, c.r, c.g, c.b);
}

static void font(const Drawing *d, double size, bool is_bold)
{
	cairo_select_font_face(d->cairo, FONT, CAIRO_FONT_SLANT_NORMAL,
		is_bold ? CAIRO_FONT_WEIGHT_BOLD : CAIRO_FONT_WEIGHT_NORMAL);
	cairo_set_font_size(d->cairo, size);
}

static double text_width(const Drawing *d, const char *text)
{
	cairo_text_extents_t e;

	cairo_text_extents(d->cairo, text, &e);
	return e.x_advance;
}

/* `share` of its width lies left of x. */
static void say(const Drawing *d, double x, double y, double share, const char *text)
{
	cairo_move_to(d->cairo, x - text_width(d, text) * share, y);
	cairo_show_text(d->cairo, text);
}

/* ---- bars ---- */

static double value_of(const Panel *panel, WdrPaceKind kind, double rate)
{
	return panel->is_requests ? rate / wdr_pace_kind(kind)->request_bytes : rate / MB;
}

static void hatch(const Drawing *d, guint series, double x, double y, double w, double h)
{
	static const double steps[] = { 0, 9, 0, 9 };
	double step = steps[series % G_N_ELEMENTS(steps)];

	if (step <= 0 && series < G_N_ELEMENTS(steps))
		return;
	step = step > 0 ? step : 6;
	cairo_save(d->cairo);
	cairo_rectangle(d->cairo, x, y, w, h);
	cairo_clip(d->cairo);
	use(d, d->theme->paper);
	cairo_set_line_width(d->cairo, 1.4);
	for (double at = -h; at < w; at += step) {
		bool is_rising = series % 2 == 1;
		cairo_move_to(d->cairo, x + at, is_rising ? y + h : y);
		cairo_line_to(d->cairo, x + at + h, is_rising ? y : y + h);
	}
	cairo_stroke(d->cairo);
	cairo_restore(d->cairo);
}

static void fill_bar(const Drawing *d, guint series, double x, double y, double w, double h)
{
	use(d, d->theme->series[series % G_N_ELEMENTS(d->theme->series)]);
	cairo_rectangle(d->cairo, x, y, w, h);
	cairo_fill(d->cairo);
	hatch(d, series, x, y, w, h);
	use(d, d->theme->series[series % G_N_ELEMENTS(d->theme->series)]);
	cairo_set_line_width(d->cairo, 1);
	cairo_rectangle(d->cairo, x + 0.5, y + 0.5, MAX(w - 1, 1), MAX(h - 1, 0.5));
	cairo_stroke(d->cairo);
}

static double height_of(const Plot *plot, double value)
{
	return wdr_axis_share(&plot->axis, value) * (plot->bottom - plot->top);
}

/* From the slowest round to the fastest. */
static void draw_spread(const Drawing *d, const Plot *plot, double x, double low, double high)
{
	double top = plot->bottom - height_of(plot, high);
	double bottom = plot->bottom - height_of(plot, low);

	if (bottom - top < 3)
		return;
	cairo_move_to(d->cairo, x, top);
	cairo_line_to(d->cairo, x, bottom);
	cairo_move_to(d->cairo, x - 5, top);
	cairo_line_to(d->cairo, x + 5, top);
	cairo_move_to(d->cairo, x - 5, bottom);
	cairo_line_to(d->cairo, x + 5, bottom);
	/* With an edge, so that it is seen on a dark bar. */
	use(d, d->theme->paper);
	cairo_set_line_width(d->cairo, 4.5);
	cairo_stroke_preserve(d->cairo);
	use(d, d->theme->ink);
	cairo_set_line_width(d->cairo, 1.5);
	cairo_stroke(d->cairo);
}

/* As large as the bar is wide, on paper of its own: a line of the grid behind it is no part of it.
 */
static void label(const Drawing *d, double x, double y, double room, const char *text)
{
	enum { LARGEST = 14, SMALLEST = 9 };
	int size = LARGEST;

	for (font(d, size, true); size > SMALLEST && text_width(d, text) > room;)
		font(d, --size, true);
	double width = text_width(d, text);
	use(d, d->theme->paper);
	cairo_rectangle(d->cairo, x - width / 2 - 1, y - size, width + 2, size + 2);
	cairo_fill(d->cairo);
	use(d, d->theme->ink);
	say(d, x, y, 0.5, text);
}

typedef struct {
	WdrPaceKind kind;
	guint series;
	double x, width;
} Bar;

static void draw_bar(const Drawing *d, const Plot *plot, const Panel *panel, const Bar *bar)
{
	WdrPaceKind kind = bar->kind;
	guint series = bar->series;
	double x = bar->x;
	double width = bar->width;
	const WdrPaced *p = d->record->measured->pdata[series];
	const WdrPaceFigure *f = &p->figures[kind];
	double value = value_of(panel, kind, f->median);
	double high = value_of(panel, kind, f->max);
	double height = MAX(height_of(plot, value), 1);
	double top = MIN(plot->bottom - height, plot->bottom - height_of(plot, high));
	g_autofree char *number = wdr_axis_number(value);

	fill_bar(d, series, x, plot->bottom - height, width, height);
	draw_spread(d, plot, x + width / 2, value_of(panel, kind, f->min), high);
	label(d, x + width / 2, top - 7, width + 4, number);
}

static guint series_count(const WdrPaceRecord *r)
{
	return MIN(r->measured->len, SERIES_MAX);
}

static void draw_group(const Drawing *d, const Plot *plot, const Panel *panel, const Group *g,
	double left, double room)
{
	guint n = series_count(d->record);
	double width = MIN(room * 0.82 / n, BAR_MAX);
	double x = left + (room - width * n) / 2;

	for (guint i = 0; i < n; i++) {
		const WdrPaced *p = d->record->measured->pdata[i];
		if (p->figures[g->kind].is_there) {
			draw_bar(d, plot, panel, &(Bar){ g->kind, i, x + width * i, width - 4 });
			continue;
		}
		use(d, d->theme->faint);
		font(d, 15, false);
		say(d, x + width * (i + 0.5) - 2, plot->bottom - 8, 0.5, "–");
	}
	use(d, d->theme->ink);
	font(d, 15, false);
	say(d, left + room / 2, plot->bottom + 24, 0.5, g->line_1);
	say(d, left + room / 2, plot->bottom + 44, 0.5, g->line_2);
}

/* ---- a panel ---- */

static size_t groups_there(const WdrPaceRecord *r, const Panel *panel)
{
	size_t n = 0;

	for (size_t i = 0; i < panel->n; i++)
		n += wdr_pace_is_measured(r, panel->groups[i].kind);
	return n;
}

static WdrAxis axis_of(const WdrPaceRecord *r, const Panel *panel)
{
	double least = INFINITY;
	double most = 0;

	for (size_t g = 0; g < panel->n; g++) {
		for (guint i = 0; i < series_count(r); i++) {
			const WdrPaced *p = r->measured->pdata[i];
			const WdrPaceFigure *f = &p->figures[panel->groups[g].kind];
			if (!f->is_there || f->max <= 0)
				continue;
			least = MIN(least, value_of(panel, panel->groups[g].kind, f->median));
			most = MAX(most, value_of(panel, panel->groups[g].kind, f->max));
		}
	}
	return wdr_axis_new(least, most);
}

static void draw_axis(const Drawing *d, const Plot *plot)
{
	double ticks[WDR_AXIS_TICKS_MAX];
	size_t n = wdr_axis_ticks(&plot->axis, ticks);

	cairo_set_line_width(d->cairo, 1);
	for (size_t i = 0; i < n; i++) {
		double y = floor(plot->bottom - height_of(plot, ticks[i])) + 0.5;
		g_autofree char *number = wdr_axis_number(ticks[i]);
		use(d, d->theme->grid);
		cairo_move_to(d->cairo, plot->left, y);
		cairo_line_to(d->cairo, plot->right, y);
		cairo_stroke(d->cairo);
		use(d, d->theme->faint);
		font(d, 14, false);
		say(d, plot->left - 10, y + 5, 1, number);
	}
	use(d, d->theme->ink);
	cairo_set_line_width(d->cairo, 1.5);
	cairo_move_to(d->cairo, plot->left, plot->bottom);
	cairo_line_to(d->cairo, plot->right, plot->bottom);
	cairo_stroke(d->cairo);
}

static void draw_panel(const Drawing *d, const Panel *panel, double left, double right)
{
	Plot plot = { left + AXIS_ROOM, right, PLOT_TOP + 50, d->plot_bottom,
		axis_of(d->record, panel) };
	size_t n = groups_there(d->record, panel);
	double room = (plot.right - plot.left) / (double)n;
	double at = plot.left;

	use(d, d->theme->ink);
	font(d, 17, true);
	say(d, left, PLOT_TOP - 10, 0, panel->title);
	use(d, d->theme->faint);
	font(d, 14, false);
	g_autofree char *unit = g_strdup_printf("%s%s", panel->unit,
		plot.axis.is_log ? ", log scale: each line is ten times the one below" : "");
	say(d, left, PLOT_TOP + 14, 0, unit);
	draw_axis(d, &plot);
	for (size_t i = 0; i < panel->n; i++) {
		if (!wdr_pace_is_measured(d->record, panel->groups[i].kind))
			continue;
		draw_group(d, &plot, panel, &panel->groups[i], at, room);
		at += room;
	}
}

/* ---- the whole ---- */

static void draw_title(const Drawing *d)
{
	const WdrPaceRecord *r = d->record;
	g_autofree char *host = wdr_escape(r->host ? r->host : "");
	g_autofree char *board = wdr_escape(r->board ? r->board : "");
	g_autofree char *time = wdr_format_time(r->at);
	g_autofree char *title =
		g_strdup_printf("How fast the disks%s%s are", *host ? " of " : "", host);
	g_autofree char *subtitle =
		g_strdup_printf("%s%s%s; the thin line on a bar spans the slowest and "
				"the fastest of %d rounds",
			board, *board ? ", " : "", time, WDR_PACE_ROUNDS);

	use(d, d->theme->ink);
	font(d, 26, true);
	say(d, MARGIN, TITLE_AT, 0, title);
	use(d, d->theme->faint);
	font(d, 15, false);
	say(d, MARGIN, SUBTITLE_AT, 0, subtitle);
}

static void draw_legend(const Drawing *d)
{
	guint n = series_count(d->record);
	double y = d->plot_bottom + LABEL_ROOM + LEGEND_ROW;

	for (guint i = 0; i < n; i++, y += LEGEND_ROW) {
		const WdrPaced *p = d->record->measured->pdata[i];
		g_autofree char *title = wdr_paced_title(p);
		g_autofree char *what = wdr_pace_description(p);
		g_autofree char *description = g_strconcat(
			p->is_stand_in ? "a file of this machine in place of: " : "", what, NULL);
		fill_bar(d, i, MARGIN, y - 13, 34, 16);
		use(d, d->theme->ink);
		font(d, 15, true);
		say(d, MARGIN + 46, y, 0, title);
		double at = MARGIN + 46 + text_width(d, title) + 14;
		use(d, d->theme->faint);
		font(d, 15, false);
		/* A chart has no room for whole sentences. */
		while (g_utf8_strlen(description, -1) > CUT &&
			at + text_width(d, description) > WIDTH - MARGIN)
			*g_utf8_find_prev_char(description, description + strlen(description)) =
				'\0';
		say(d, at, y, 0, description);
	}
	if (d->record->measured->len > n) {
		g_autofree char *more =
			g_strdup_printf("and %u more, not drawn", d->record->measured->len - n);
		use(d, d->theme->faint);
		font(d, 15, false);
		say(d, MARGIN + 46, y, 0, more);
	}
}

static void draw(cairo_t *cairo, const WdrPaceRecord *r, const Theme *theme)
{
	double left = MARGIN;
	bool has_more = r->measured->len > SERIES_MAX;
	double legend = LEGEND_ROW * (series_count(r) + (has_more ? 2.0 : 1.0));
	Drawing d = { cairo, r, theme, HEIGHT - LABEL_ROOM - legend - 12 };
	size_t all = 0;

	use(&d, theme->paper);
	cairo_paint(cairo);
	draw_title(&d);
	for (size_t i = 0; i < G_N_ELEMENTS(panels); i++)
		all += groups_there(r, &panels[i]);
	size_t there = 0;
	for (size_t i = 0; i < G_N_ELEMENTS(panels); i++)
		there += groups_there(r, &panels[i]) > 0;
	double room = WIDTH - 2.0 * MARGIN - GAP * ((double)there - 1) - AXIS_ROOM * (double)there;
	for (size_t i = 0; i < G_N_ELEMENTS(panels); i++) {
		size_t n = groups_there(r, &panels[i]);
		if (n == 0)
			continue;
		double width = AXIS_ROOM + room * (double)n / (double)all;
		draw_panel(&d, &panels[i], left, left + width);
		left += width + GAP;
	}
	draw_legend(&d);
}

static cairo_status_t take_bytes(void *to, const unsigned char *data, unsigned len)
{
	g_byte_array_append(to, data, len);
	return CAIRO_STATUS_SUCCESS;
}

/* NULL: cairo could not. */
static GByteArray *render(const WdrPaceRecord *r, const Theme *theme, bool is_svg)
{
	g_autoptr(GByteArray) bytes = g_byte_array_new();
	cairo_surface_t *surface =
		is_svg ? cairo_svg_surface_create_for_stream(take_bytes, bytes, WIDTH, HEIGHT)
		       : cairo_image_surface_create(CAIRO_FORMAT_RGB24, WIDTH, HEIGHT);
	cairo_t *cairo = cairo_create(surface);

	draw(cairo, r, theme);
	bool is_fine = cairo_status(cairo) == CAIRO_STATUS_SUCCESS;
	cairo_destroy(cairo);
	if (is_fine && !is_svg)
		is_fine = cairo_surface_write_to_png_stream(surface, take_bytes, bytes) ==
			  CAIRO_STATUS_SUCCESS;
	cairo_surface_finish(surface);
	cairo_surface_destroy(surface);
	return is_fine ? g_steal_pointer(&bytes) : NULL;
}

static GByteArray *render_record(const WdrPaceRecord *r, bool is_dark, bool is_svg)
{
	return render(r, &themes[is_dark], is_svg);
}

const WdrChartPart wdr_chart_part = { WDR_VERSION, render_record };
