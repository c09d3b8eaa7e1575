/* All that is known of one move, as one document that a page or another program can be made of. The
 * format: docs/formats/report.md. */
#pragma once

#include "base/cleanup.h"
#include "plan/itinerary.h"

#define WDR_REPORT_FORMAT "wanderitas-report/2"

/* The folder with the records of the newest move that this machine knows, or that its system came
 * by. The caller's; NULL: there is none. */
char *wdr_report_newest(const WdrWorld *world);

/* From the folder with the records of a move; without a logbook there, or a folder (NULL), of what
 * is planned. `paces`: a list of records of pace, which is taken. FORMAT: the records are damaged.
 * *ret is the caller's. */
bool wdr_report_gather(const WdrWorld *world, const char *records, const WdrItinerary *it,
	json_t *paces, json_t **ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Puts the document of a rehearsal into a report that has none, with its warnings; takes it. */
void wdr_report_take_rehearsal(json_t *report, json_t *rehearsal);
