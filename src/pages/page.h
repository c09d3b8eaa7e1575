/* The report of a move as one HTML page that needs nothing else: no scripts, nothing fetched, light
 * and dark, fit for paper. */
#pragma once

#include "pace/pace_record.h"

/* `report`: a document as check/report.h makes it; what it lacks is shown as missing, and whatever
 * it holds is escaped. `paces`: all measurements put together; NULL: there are none. The caller's.
 */
char *wdr_page(json_t *report, const WdrPaceRecord *paces);
