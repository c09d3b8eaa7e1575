/* Output for people: where it goes, whether in colour, and tables. */
#pragma once

#include "base/error.h"

#include <stdio.h>

typedef enum {
	WDR_STYLE_PLAIN,
	WDR_STYLE_HEADING,
	WDR_STYLE_GOOD,
	WDR_STYLE_WARNING,
	WDR_STYLE_BAD,
	WDR_STYLE_FAINT,
} WdrStyle;

typedef struct {
	FILE *file;
	bool has_color;
	unsigned columns; /* of the terminal; 0: it is none, and lines are as long as they are */
} WdrOut;

/* Colour only on a terminal that is not dumb, and neither with --no-color nor with NO_COLOR. */
WdrOut wdr_out(FILE *file, bool no_color);
/* Called before each text and table: whoever draws a line on the terminal ends it then. */
void wdr_out_before(void (*call)(void));
/* What is no text in it becomes \xHH, but for tabs and line ends. */
void wdr_out_text(const WdrOut *out, WdrStyle style, const char *format, ...) G_GNUC_PRINTF(3, 4);

/* A line behind `indent` columns that were printed already, broken between words where a terminal
 * would break it, with an end of line. */
void wdr_out_hanging(const WdrOut *out, WdrStyle style, unsigned indent, const char *text);

/* A table is rows of cells under a header; columns that are empty in every row are left out. */
typedef struct {
	const char *header;
	bool is_number; /* aligned at the right */
} WdrColumn;
typedef struct WdrGrid WdrGrid;
WdrGrid *wdr_grid_new(const WdrColumn *columns, size_t n);
/* n cells; NULL: empty. Copied; foreign text must have been escaped. */
void wdr_grid_row(WdrGrid *g, WdrStyle style, const char *const *cells);
/* A line of its own above the next row. */
void wdr_grid_section(WdrGrid *g, const char *text);
void wdr_grid_print(WdrGrid *g, const WdrOut *out);
void wdr_grid_free(WdrGrid *g);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(WdrGrid, wdr_grid_free)
