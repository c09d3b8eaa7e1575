/* How much time a work still takes, by what it took so far. Pure arithmetic: the caller has the
 * clock. */
#pragma once

#include "world/world.h"

/* Copying and reading back go at rates of their own. */
typedef enum { WDR_WORK_COPY, WDR_WORK_READ_BACK, WDR_WORK_KINDS } WdrWorkKind;

/* How far one kind of work was at a time that counts while it ran. */
typedef struct {
	double seconds, bytes, entries;
} WdrTimeSample;

enum { WDR_TIME_SAMPLES = 24 };
typedef struct {
	double bytes, entries; /* of finished steps */
	WdrTimeSample counted; /* while this clock ran, in finished steps and the present one */
	/* The present step, which may do both kinds by turns: its first and last report. */
	bool is_open;
	WdrProgress first, last;
	/* What was counted, at steps of `every` seconds; every other one goes when there is no
	 * room. */
	WdrTimeSample samples[WDR_TIME_SAMPLES];
	unsigned count;
	double every;
} WdrTimeKind;

typedef struct {
	bool has_work;
	double bytes, entries; /* of the whole work: each is copied, and read back */
	double given_rate;     /* bytes a second of reading back, measured beforehand; 0: unknown */
	double expected_rate;  /* the same of copying, on another day */
	WdrTimeKind kinds[WDR_WORK_KINDS];
	WdrWorkKind kind; /* of the last report */
	double now;       /* of the last report, or the step's begin */
} WdrTimeLeft;

/* Again for the same work: what was learned in the meantime is taken over. */
void wdr_time_left_work(WdrTimeLeft *t, const WdrWork *work);
void wdr_time_left_begin_step(WdrTimeLeft *t, double now);
void wdr_time_left_see(WdrTimeLeft *t, const WdrProgress *p, double now);
/* Share of the whole work that is done, 0 to 1; negative: unknown. */
double wdr_time_left_share(const WdrTimeLeft *t);
/* Seconds left at `now`; negative: not known yet. */
double wdr_time_left_s(const WdrTimeLeft *t, double now);
/* What a copy has to do, in bytes: each entry counts as some, too. */
double wdr_time_expected_work(uint64_t bytes, uint64_t entries);
/* Seconds that copying takes by what both disks give in sequence, in bytes a second (0: that one is
 * unknown). 0: nothing is known. */
double wdr_time_expected_s(uint64_t bytes, uint64_t entries, double read_per_s, double write_per_s);
