/* The sections of a page, one function each, in its order. Private to the page. */
#pragma once

#include "pace/pace_record.h"
#include "pages/page_html.h"

/* page_disks.c */
void wdr_page_disks(WdrPage *p);
void wdr_page_layout(WdrPage *p);
void wdr_page_identifiers(WdrPage *p);
/* page_work.c */
void wdr_page_edits(WdrPage *p);
void wdr_page_checks(WdrPage *p);
void wdr_page_copy(WdrPage *p);
void wdr_page_left(WdrPage *p);
void wdr_page_warnings(WdrPage *p);
void wdr_page_back(WdrPage *p);
/* page_pace.c; NULL: nothing was measured. */
void wdr_page_speeds(WdrPage *p, const WdrPaceRecord *paces);
