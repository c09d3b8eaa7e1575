/* The steps around a move that move --with names. */
#pragma once

#include "cli/common/cli.h"
#include "plan/itinerary.h"

typedef enum {
	WDR_STEP_DRIVERS = 1 << 0,  /* what the target needs, into the source's initramfs */
	WDR_STEP_ORDER = 1 << 1,    /* the board tries the target's medium first */
	WDR_STEP_FIRMWARE = 1 << 2, /* firmware files that are missing or older */
} WdrMoveSteps;

/* false: it is none. *ret_changes: what it changes, for messages. */
bool wdr_move_step_named(const char *name, WdrMoveSteps *ret, const char **ret_changes);
typedef struct {
	bool has_changed_source; /* an itinerary drawn before is out of date */
	bool has_begun;          /* it failed after something may have been changed */
} WdrMoveStepsDone;
/* Takes those of the set, before anything of the move is done. REFUSED: one cannot be taken. */
bool wdr_move_steps_take(const WdrGlobals *globals, const WdrWorld *world, unsigned steps,
	const WdrItinerary *it, WdrMoveStepsDone *ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Takes those that need the finished disk. An error leaves the move as it is: done. */
bool wdr_move_steps_finish(const WdrGlobals *globals, const WdrWorld *world, unsigned steps,
	const WdrItinerary *it, GError **error) G_GNUC_WARN_UNUSED_RESULT;
