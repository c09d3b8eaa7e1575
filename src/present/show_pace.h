/* Figures of one or several media, side by side, as text. The JSON is the record itself, see
 * move/pace_record.h. */
#pragma once

#include "pace/pace_record.h"
#include "present/out.h"

/* "43.8", "397", "1480": three digits that count, as many as tell something. The caller's. */
char *wdr_pace_number(double value);
/* "85 us", "1.24 ms", "2.10 s". The caller's. */
char *wdr_pace_latency(uint64_t ns);
/* How many times the figure is the other one: "9.1 x"; NULL: they cannot be told apart, since their
 * rounds overlap, or one is nothing. The caller's. */
char *wdr_pace_times(const WdrPaceFigure *f, const WdrPaceFigure *base);
/* What a figure is compared with: that of the same disk before, failing that of the first one;
 * NULL: it is the first itself. */
const WdrPaced *wdr_pace_base(const WdrPaceRecord *r, WdrPaceKind kind, const WdrPaced *p);
/* "9.1 x mmcblk0", "as mmcblk0"; NULL: there is nothing to compare it with. The caller's. */
char *wdr_pace_verdict(const WdrPaceRecord *r, WdrPaceKind kind, const WdrPaced *p);
/* What its link allows, beside what came through it: "of 500", in MB/s; NULL: unknown, a figure of
 * small requests, which no link limits, or one that cannot have come through it. The caller's. */
char *wdr_pace_link(const WdrPaced *p, WdrPaceKind kind);
/* The largest figure of all, in bytes a second: bars of one table have one scale. */
double wdr_pace_largest(const WdrPaceRecord *r);
bool wdr_pace_is_measured(const WdrPaceRecord *r, WdrPaceKind kind);
/* What it is and how it is reached, in one line; escaped. The caller's. */
char *wdr_pace_description(const WdrPaced *p);

void wdr_present_pace(const WdrOut *out, const WdrPaceRecord *r);
