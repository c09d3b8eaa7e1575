/* An axis from nothing upwards: straight, or by powers of ten where the values lie far apart. */
#pragma once

#include <glib.h>
#include <stdbool.h>
#include <stddef.h>

enum { WDR_AXIS_TICKS_MAX = 16 };

typedef struct {
	bool is_log;
	double bottom, top, step; /* step: between ticks, when straight */
} WdrAxis;

/* For values from `least` (> 0) to `most`. */
WdrAxis wdr_axis_new(double least, double most);
/* Of the height, 0 to 1. */
double wdr_axis_share(const WdrAxis *a, double value);
/* Rising; how many. */
size_t wdr_axis_ticks(const WdrAxis *a, double *ret);
/* "0", "0.25", "43.8", "1500", "12.5k", "1.2M": short enough for a bar. The caller's. */
char *wdr_axis_number(double value);
