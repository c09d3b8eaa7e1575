/* Figures of one or several media drawn as grouped bars, by a part that may be absent. */
#pragma once

#include "pace/pace_record.h"

/* REFUSED: the part that draws is not installed. */
bool wdr_chart_is_there(GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* A name that says how to draw: .png or .svg. */
bool wdr_chart_is_name(const char *path);
/* 1280 x 800. An existing file is replaced once the new one is whole. */
bool wdr_chart_draw(
	const WdrPaceRecord *r, const char *path, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* The same as SVG, for a page; NULL: nothing draws it here, or out of memory.
 * The caller's. */
char *wdr_chart_svg(const WdrPaceRecord *r, bool is_dark);
