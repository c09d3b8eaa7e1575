/* Chooses scales and marks of a chart's axes. */
#include "present/chart_axis.h"

#include <math.h>
#include <string.h>

enum { STEPS_WANTED = 5 };

/* Beyond this the smallest bar would be a line on the floor. */
#define STRAIGHT_MAX 60.0
/* Above the highest bar, for its number. */
#define HEADROOM 1.08

/* 1, 2 or 5 times a power of ten. */
static double nice_step(double range)
{
	double raw = range / STEPS_WANTED;
	double power = pow(10, floor(log10(raw)));
	double part = raw / power;

	return power * (part < 1.5 ? 1 : part < 3.5 ? 2 : part < 7.5 ? 5 : 10);
}

WdrAxis wdr_axis_new(double least, double most)
{
	WdrAxis a = { 0 };

	if (!(most > 0) || !isfinite(most))
		return (WdrAxis){ false, 0, 1, 1 };
	a.is_log = least > 0 && most / least > STRAIGHT_MAX;
	if (a.is_log) {
		/* The smallest value has a bar of some height, too. */
		a.bottom = pow(10, floor(log10(least * 0.7)));
		a.top = pow(10, ceil(log10(most * HEADROOM)));
		return a;
	}
	a.step = nice_step(most * HEADROOM);
	a.top = ceil(most * HEADROOM / a.step) * a.step;
	return a;
}

double wdr_axis_share(const WdrAxis *a, double value)
{
	double share =
		a->is_log ? log10(MAX(value, a->bottom) / a->bottom) / log10(a->top / a->bottom)
			  : value / a->top;

	return CLAMP(share, 0, 1);
}

size_t wdr_axis_ticks(const WdrAxis *a, double *ret)
{
	size_t n = 0;

	if (a->is_log) {
		for (double at = a->bottom; at <= a->top * 1.001 && n < WDR_AXIS_TICKS_MAX;
			at *= 10)
			ret[n++] = at;
		return n;
	}
	for (; (double)n * a->step <= a->top * 1.001 && n < WDR_AXIS_TICKS_MAX; n++)
		ret[n] = (double)n * a->step;
	return n;
}

static char *three_digits(double value, const char *unit)
{
	char text[G_ASCII_DTOSTR_BUF_SIZE];
	const char *format = value < 9.995 ? "%.2f" : value < 99.95 ? "%.1f" : "%.0f";

	g_ascii_formatd(text, sizeof(text), format, value);
	/* "2.50" and "20.0" say no more than "2.5" and "20". */
	for (size_t end = strlen(text) - 1; value < 99.95 && text[end] == '0'; end--)
		text[end] = '\0';
	if (g_str_has_suffix(text, "."))
		text[strlen(text) - 1] = '\0';
	return g_strconcat(text, unit, NULL);
}

char *wdr_axis_number(double value)
{
	if (value >= 999.5e3)
		return three_digits(value / 1e6, "M");
	if (value >= 9999.5)
		return three_digits(value / 1e3, "k");
	if (value >= 99.95)
		return g_strdup_printf("%.0f", value);
	return three_digits(value, "");
}
