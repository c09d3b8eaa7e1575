/* The report of a move as one HTML page that needs nothing else: no scripts, nothing fetched, light
 * and dark, fit for paper. */
#pragma once

#include "pace/pace_record.h"

/* `report`: a document as move/report.h tells; what it lacks is said to be missing, and whatever it
 * holds is escaped. `paces`: all measurements put together; NULL: there are none. The caller's. */
char *wdr_page(json_t *report, const WdrPaceRecord *paces);
