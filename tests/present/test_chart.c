/* The chart as a picture: its size, and whether its series can be told apart without colours. */
#include "support.h"

#include "present/chart.h"

#include <cairo.h>
#include <math.h>
#include <string.h>

Suite *suite_chart(void);

enum { SERIES = 4, SWATCH_X = 48, RUN_MIN = 10 };

static WdrPaceRecord *record(unsigned n)
{
	WdrPaceRecord *r = wdr_pace_record_new(sup_world(), 5);

	for (unsigned i = 0; i < n; i++) {
		g_autofree char *name = g_strdup_printf("disk%u", i);
		WdrPaced *p = wdr_paced_new(name, "disk");
		for (size_t k = 0; k < WDR_PACE_KINDS; k++)
			p->figures[k] = (WdrPaceFigure){ .is_there = true,
				.median = 1e6 * (i + 1),
				.min = 0.9e6 * (i + 1),
				.max = 1.1e6 * (i + 1) };
		wdr_pace_record_add(r, p);
	}
	return r;
}

/* 0 to 100, as bright as it seems to be. */
static double lightness(uint32_t rgb)
{
	static const double weights[] = { 0.0722, 0.7152, 0.2126 };
	double y = 0;

	for (unsigned i = 0; i < 3; i++) {
		double c = (rgb >> (8 * i) & 0xff) / 255.0;
		y += weights[i] * (c <= 0.04045 ? c / 12.92 : pow((c + 0.055) / 1.055, 2.4));
	}
	return y > 0.008856 ? 116 * cbrt(y) - 16 : 903.3 * y;
}

/* The colours at the left edge of the legend's swatches, from the bottom upwards. */
static size_t swatches(cairo_surface_t *s, uint32_t *ret, size_t max)
{
	const uint8_t *data = cairo_image_surface_get_data(s);
	int stride = cairo_image_surface_get_stride(s);
	int height = cairo_image_surface_get_height(s);
	size_t n = 0;
	unsigned run = 0;
	uint32_t before = 0xffffff;

	for (int y = height - 1; y > height * 2 / 3 && n < max; y--) {
		uint32_t pixel = 0;
		memcpy(&pixel, data + y * stride + 4 * SWATCH_X, sizeof(pixel));
		pixel &= 0xffffff;
		run = pixel == before ? run + 1 : 1;
		before = pixel;
		if (run == RUN_MIN && pixel != 0xffffff)
			ret[n++] = pixel;
	}
	return n;
}

START_TEST(series_differ_in_grey)
{
	g_autoptr(WdrPaceRecord) r = record(SERIES);
	uint32_t colors[SERIES + 1];

	sup_ok(wdr_chart_draw(r, sup_path("a.png"), &error));
	cairo_surface_t *s = cairo_image_surface_create_from_png(sup_path("a.png"));
	ck_assert_int_eq(cairo_surface_status(s), CAIRO_STATUS_SUCCESS);
	ck_assert_int_eq(cairo_image_surface_get_width(s), 1280);
	ck_assert_int_eq(cairo_image_surface_get_height(s), 800);
	ck_assert_uint_eq(swatches(s, colors, SERIES + 1), SERIES);
	for (size_t i = 0; i < SERIES; i++) {
		/* Against the paper. */
		ck_assert(lightness(colors[i]) < 85);
		for (size_t k = 0; k < i; k++) {
			double apart = fabs(lightness(colors[i]) - lightness(colors[k]));
			ck_assert_msg(apart > 8, "series %zu and %zu: %f", k, i, apart);
		}
	}
	cairo_surface_destroy(s);
}
END_TEST

static void ignore(GMarkupParseContext *c, const char *name, const char **names,
	const char **values, void *data, GError **error)
{
	(void)c;
	(void)names;
	(void)values;
	(void)error;
	*(unsigned *)data += strcmp(name, "svg") == 0;
}

/* However many there are, and however odd their names. */
START_TEST(svg_is_sound)
{
	static const unsigned counts[] = { 1, 2, 3, 8, 9, 60 };
	const GMarkupParser parser = { .start_element = ignore };

	for (size_t i = 0; i < G_N_ELEMENTS(counts); i++) {
		g_autoptr(WdrPaceRecord) r = record(counts[i]);
		WdrPaced *first = r->measured->pdata[0];
		g_free(first->name);
		first->name = g_strdup("<b>&\xff\n");
		g_autofree char *svg = wdr_chart_svg(r, i % 2 == 0);
		unsigned roots = 0;
		GMarkupParseContext *c = g_markup_parse_context_new(&parser, 0, &roots, NULL);
		ck_assert(g_markup_parse_context_parse(c, svg, (gssize)strlen(svg), NULL));
		ck_assert(g_markup_parse_context_end_parse(c, NULL));
		g_markup_parse_context_free(c);
		ck_assert_uint_eq(roots, 1);
	}
}
END_TEST

START_TEST(nothing_to_draw)
{
	g_autoptr(WdrPaceRecord) r = record(0);

	sup_fails(WDR_ERROR_REFUSED, "no figures to draw",
		wdr_chart_draw(r, sup_path("a.png"), &error));
	ck_assert(!g_file_test(sup_path("a.png"), G_FILE_TEST_EXISTS));
	wdr_pace_record_add(r, wdr_paced_new("sda", "disk"));
	sup_fails(WDR_ERROR_REFUSED, "no figures to draw",
		wdr_chart_draw(r, sup_path("a.svg"), &error));
	ck_assert(wdr_chart_is_name("a.svg") && wdr_chart_is_name("b/a.png"));
	ck_assert(!wdr_chart_is_name("a.gif") && !wdr_chart_is_name("png"));
}
END_TEST

Suite *suite_chart(void)
{
	Suite *s = suite_create("present/chart");
	TCase *tc = tcase_create("chart");

	tcase_add_checked_fixture(tc, sup_setup, sup_teardown);
	tcase_add_test(tc, series_differ_in_grey);
	tcase_add_test(tc, svg_is_sound);
	tcase_add_test(tc, nothing_to_draw);
	suite_add_tcase(s, tc);
	return s;
}
