/* Copying over what changed on the source since it was copied: at the end of a move from a
 * running system, and later to a target that was not started yet. */
#pragma once

#include "move/move.h"

/* `state` is the folder that the move left. Nothing is written when nothing changed. While changes
 * are copied the target is marked as unfinished; *ret_has_begun tells whether it came to that. */
bool wdr_catchup(const WdrWorld *world, const WdrItinerary *it, const char *state,
	bool *ret_has_begun, WdrMoveResult *ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;
