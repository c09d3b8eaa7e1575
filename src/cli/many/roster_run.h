/* Carrying a roster out: a move for each slot, each in a copy of the program, at the same time.
 *
 * Every slot's move is the same move that it would be alone, with its own records, so that a disk
 * that fails, or is pulled out, ends its own move and no other. What the program found out of the
 * source before is the copies' too. All read the source at about the same time, so the kernel reads
 * it once: what one of them asked for is in memory for the others. One that falls behind by more
 * than the memory holds reads the source for itself. */
#pragma once

#include "cli/common/cli.h"
#include "plan/itinerary.h"
#include "plan/source.h"
#include "roster/roster.h"

#include <jansson.h>

typedef enum {
	WDR_SLOT_WAITING,
	WDR_SLOT_MOVING,
	WDR_SLOT_MOVED,
	WDR_SLOT_MOVED_BEFORE, /* by an earlier run */
	WDR_SLOT_FAILED,
} WdrSlotStage;
const char *wdr_slot_stage_name(WdrSlotStage stage);

/* A slot and its move. */
typedef struct {
	const WdrRosterSlot *slot; /* borrowed */
	WdrSlotStage stage;
	char *state;         /* the folder of its move */
	bool is_begun;       /* its move is resumed; otherwise it follows the itinerary */
	WdrItinerary *drawn; /* to be agreed to; NULL: nothing new is erased */
	char *ready;         /* its checks, as JSON; NULL: none were made */
	json_t *said;        /* the last progress; NULL: none */
	json_t *result;      /* what the move printed; NULL: nothing */
	int64_t begun;       /* by g_get_monotonic_time(); 0: not yet */
	double seconds;      /* that it took; 0: it has not ended */
} WdrSlotRun;
void wdr_slot_run_free(WdrSlotRun *run);
/* The file of its itinerary, which is there once it was agreed to. The caller's. */
char *wdr_slot_run_plan(const WdrSlotRun *run);

/* All of it is borrowed. */
typedef struct {
	const WdrGlobals *globals;
	WdrWorld *world;
	const WdrSource *looked_at; /* the source; NULL: nothing was drawn */
	const char *const *despite; /* checks, as in WdrMoveRoster */
	void (*each)(void *data);   /* is called each second */
	void *data;
} WdrRosterRunning;

/* Runs those that wait (WdrSlotRun) to their ends. With a stop asked for, all are told to stop, and
 * it returns when they have ended. */
void wdr_roster_run(const WdrRosterRunning *how, GPtrArray *runs);
