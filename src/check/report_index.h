/* What the reports of many boards tell, as one document: which disk became which board, when, and
 * what to look at. The format: docs/formats/report-index.md. */
#pragma once

#include "base/cleanup.h"
#include "base/json.h"
#include "world/world.h"

/* All of it is borrowed. */
typedef struct {
	const char *name;     /* of its slot, or of its file */
	const char *label;    /* NULL: none */
	const char *host;     /* where the report does not tell it; NULL: unknown */
	const char *page;     /* the file of its own page; NULL: it has none */
	const json_t *report; /* as check/report.h makes it; NULL: its move was not begun */
} WdrIndexedBoard;

/* Without boards; the caller's. */
json_t *wdr_report_index_new(const WdrWorld *world);
void wdr_report_index_add(json_t *index, const WdrIndexedBoard *board);
