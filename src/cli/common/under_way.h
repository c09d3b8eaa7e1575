/* What the commands share that go on with a move which left its state in a folder. */
#pragma once

#include "cli/common/cli.h"
#include "move/move.h"

/* The itinerary that the user named. */
bool wdr_cli_load_itinerary(
	const char *given, WdrItinerary **ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* The folder with the records: it was named (`state`), or given as the folder or as its itinerary,
 * or it is the newest. Both results are the caller's. */
bool wdr_cli_find_move(const WdrWorld *world, const char *state, const char *given,
	char **ret_state, WdrItinerary **ret, GError **error);

/* After the target was written to: what could not be read, what can be seen of why, and how to go
 * on. error is borrowed; returns the exit code. */
int wdr_cli_fail_begun(const WdrGlobals *globals, const WdrWorld *world, GError *error,
	const WdrItinerary *it, const WdrMoveResult *result);
