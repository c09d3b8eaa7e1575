/* The state of this machine's move, from "nobody looked" to "arrived". */
#pragma once

#include "plan/itinerary.h"

typedef enum {
	WDR_STATUS_NONE,        /* no move is known, and nobody ran 'ready' */
	WDR_STATUS_STOPPED,     /* by the last 'ready' */
	WDR_STATUS_READY,       /* by the last 'ready' */
	WDR_STATUS_MOVING,      /* a move or a catchup is under way */
	WDR_STATUS_INTERRUPTED, /* one of them */
	WDR_STATUS_MOVED,    /* the target is complete; the system still runs from the old disk */
	WDR_STATUS_OLD_DISK, /* it was booted since, from the old disk */
	WDR_STATUS_BOOTED,   /* the system runs from the target; nobody has checked it yet */
	WDR_STATUS_ARRIVED,  /* and somebody has */
} WdrStatusStage;
const char *wdr_status_stage_name(WdrStatusStage stage); /* "none", "interrupted", … */

typedef struct {
	WdrStatusStage stage;
	WdrItinerary *it; /* NULL: there is no move */
	char *records;    /* its folder; NULL: there is no move */
	bool has_source;  /* the source is plugged in, or its image is there */
	bool has_target;
	/* The disk that the system runs from, and the one disk besides that a move could go to.
	 * NULL: unknown, or there are several. */
	char *running, *candidate;
	/* Of the last 'ready', where it is newer than the move: its target, and what stops it.
	 * NULL: there is none. Of a target that is complete `stop` is why it does not boot, by its
	 * last rehearsal. */
	char *ready_to, *stop;
} WdrStatus;
void wdr_status_free(WdrStatus *s);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(WdrStatus, wdr_status_free)

/* Of the newest move whose records are below the state folder. Reads only, no disk among it. An
 * error where these records cannot be read. */
bool wdr_status_look(const WdrWorld *world, WdrStatus **ret, GError **error);
