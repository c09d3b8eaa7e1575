/* What a mention names among all surveyed disks, and the advice on it. */
#pragma once

#include "boot/system/survey.h"

typedef enum {
	WDR_MARK_NONE,
	WDR_MARK_NOTHING,   /* no such disk */
	WDR_MARK_TWO,       /* it names two things */
	WDR_MARK_ELSEWHERE, /* it names another disk than the one its file is on */
	WDR_MARK_LEFT,      /* it is not edited */
} WdrMark;

typedef struct {
	GPtrArray *names; /* char *: "nvme0n1p2" */
	GPtrArray *roles; /* const char *, one for each name; "" for none */
	WdrMark mark;
	GPtrArray *advice; /* char *: whole sentences */
	bool is_grave;     /* what starts by default would not find its root, or the wrong one */
} WdrFinding;
void wdr_finding_free(WdrFinding *f);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(WdrFinding, wdr_finding_free)

WdrFinding *wdr_finding_new(const WdrSurvey *s, const WdrSurveyDisk *from, const WdrMention *m);
const char *wdr_mark_name(WdrMark mark); /* "no such disk", …; "" for none */
