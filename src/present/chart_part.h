/* What the part of the program that draws charts gives it. The part is a library of its own, which
 * a board without it does not miss: cairo and what it needs are larger than all else. */
#pragma once

#include "pace/pace_record.h"

#define WDR_CHART_PART_SYMBOL "wdr_chart_part"

typedef struct {
	const char *version; /* WDR_VERSION of its build: any other is not used */
	/* A PNG or SVG file of 1280 x 800; the caller's. NULL: out of memory. */
	GByteArray *(*render)(const WdrPaceRecord *r, bool is_dark, bool is_svg);
} WdrChartPart;

__attribute__((visibility("default"))) extern const WdrChartPart wdr_chart_part;
