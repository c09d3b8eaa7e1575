/* How much time a work still takes, by what it took so far. Pure arithmetic: the caller has the
 * clock. */
#pragma once

#include "world/world.h"

/* Copying and reading back go at rates of their own. */
typedef enum { WDR_WORK_COPY, WDR_WORK_READ_BACK, WDR_WORK_KINDS } WdrWorkKind;

/* Units are bytes, and more for each entry: a small file costs a disk as much as a request does. */
typedef struct {
	bool has_work;
	double total[WDR_WORK_KINDS]; /* units of the whole work */
	double given_rate; /* of reading back, as it was measured beforehand; 0: unknown */
	double done[WDR_WORK_KINDS];    /* units of finished steps */
	double counted[WDR_WORK_KINDS]; /* of these, what was done while this clock ran */
	double seconds[WDR_WORK_KINDS]; /* that this took, the present step's too */
	/* The present step, which may do both by turns: units at its first and last report. */
	bool is_open[WDR_WORK_KINDS];
	double first[WDR_WORK_KINDS], last[WDR_WORK_KINDS];
	double whole[WDR_WORK_KINDS]; /* units of the step */
	WdrWorkKind kind;             /* of the last report */
	double now;                   /* of the last report, or the step's begin */
} WdrTimeLeft;

/* Again for the same work: what was learned in the meantime is taken over. */
void wdr_time_left_work(WdrTimeLeft *t, const WdrWork *work);
void wdr_time_left_begin_step(WdrTimeLeft *t, double now);
void wdr_time_left_see(WdrTimeLeft *t, const WdrProgress *p, double now);
/* Share of the whole work that is done, 0 to 1; negative: unknown. */
double wdr_time_left_share(const WdrTimeLeft *t);
/* Seconds left at `now`; negative: not known yet. */
double wdr_time_left_s(const WdrTimeLeft *t, double now);
