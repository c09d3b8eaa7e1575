/* Many boards on one page that leads to the page of each, and as a table for other programs. */
#pragma once

#include "base/cleanup.h"

/* index: as check/report_index.h makes it. The caller's. */
char *wdr_page_index(json_t *index, const char *title);
/* A line for each board below one with the names of columns, as RFC 4180 has it: for labels. The
 * caller's. */
char *wdr_boards_csv(const json_t *index);
