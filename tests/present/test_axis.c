/* Axes: what they reach, where their ticks are, and how numbers are written. */
#include "support.h"

#include "present/chart_axis.h"

#include <math.h>

Suite *suite_axis(void);

static const struct {
	double least, most;
	bool is_log;
	size_t ticks;
	double first, last;
} axes[] = {
	{ 43.8, 397, false, 6, 0, 500 },
	{ 0.9, 0.95, false, 7, 0, 1.2 },
	{ 912, 10471, false, 7, 0, 12000 },
	{ 3, 150, false, 10, 0, 180 },
	{ 3, 250, true, 4, 1, 1000 },
	{ 150, 290000, true, 5, 100, 1e6 },
	/* The smallest has some height. */
	{ 100, 99000, true, 6, 10, 1e6 },
	/* Nothing was measured, or nonsense. */
	{ INFINITY, 0, false, 2, 0, 1 },
	{ 1, INFINITY, false, 2, 0, 1 },
	{ NAN, NAN, false, 2, 0, 1 },
};

START_TEST(ticks)
{
	WdrAxis a = wdr_axis_new(axes[_i].least, axes[_i].most);
	double at[WDR_AXIS_TICKS_MAX];
	size_t n = wdr_axis_ticks(&a, at);

	ck_assert_int_eq(a.is_log, axes[_i].is_log);
	ck_assert_uint_eq(n, axes[_i].ticks);
	ck_assert_double_eq_tol(at[0], axes[_i].first, 1e-9);
	ck_assert_double_eq_tol(at[n - 1], axes[_i].last, axes[_i].last * 1e-9);
	for (size_t i = 1; i < n; i++) {
		ck_assert(at[i] > at[i - 1]);
		ck_assert(wdr_axis_share(&a, at[i]) > wdr_axis_share(&a, at[i - 1]));
	}
	ck_assert_double_eq_tol(wdr_axis_share(&a, at[n - 1]), 1, 1e-9);
	ck_assert(wdr_axis_share(&a, 0) == 0);
	/* There is room for the number above the highest bar. */
	if (isfinite(axes[_i].most) && axes[_i].most > 0) {
		ck_assert(wdr_axis_share(&a, axes[_i].most) < 0.97);
		ck_assert(wdr_axis_share(&a, axes[_i].least) > 0);
	}
}
END_TEST

static const struct {
	double value;
	const char *text;
} numbers[] = { { 0, "0" }, { 0.25, "0.25" }, { 0.5, "0.5" }, { 9.994, "9.99" }, { 9.996, "10" },
	{ 20, "20" }, { 43.8, "43.8" }, { 99.96, "100" }, { 397.4, "397" }, { 1500, "1500" },
	{ 9999.4, "9999" }, { 10000, "10k" }, { 10471, "10.5k" }, { 149000, "149k" },
	{ 999499, "999k" }, { 999500, "1M" }, { 1234567, "1.23M" } };

START_TEST(number)
{
	g_autofree char *text = wdr_axis_number(numbers[_i].value);

	ck_assert_str_eq(text, numbers[_i].text);
}
END_TEST

Suite *suite_axis(void)
{
	Suite *s = suite_create("present/axis");
	TCase *tc = tcase_create("axis");

	tcase_add_loop_test(tc, ticks, 0, G_N_ELEMENTS(axes));
	tcase_add_loop_test(tc, number, 0, G_N_ELEMENTS(numbers));
	suite_add_tcase(s, tc);
	return s;
}
