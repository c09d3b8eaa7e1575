/* Carrying out an itinerary that was agreed to. */
#pragma once

#include "check/machine.h"
#include "cli/common/cli.h"
#include "move/move.h"

typedef struct {
	WdrMoveOptions move;
	WdrBootsWhere where;
	double look_s;        /* seconds that looking took before */
	unsigned steps;       /* WdrMoveSteps that --with names */
	bool has_taken_steps; /* of --with: something of the source is another now */
} WdrPerforming;

/* Moves, rehearses what was made, keeps both results with the records, and prints what was done, or
 * the error. Returns the exit code. */
int wdr_cli_perform(const WdrGlobals *globals, const WdrWorld *world, const WdrItinerary *it,
	const WdrPerforming *how);
