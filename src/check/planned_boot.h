/* Whether what an itinerary makes starts: beforehand, as far as that can be known (the source's
 * volumes are read as they are, with the edits, new identifiers and the table that they will have
 * on the target), and when it is made. Only reads. */
#pragma once

#include "check/machine.h"

/* REFUSED: the source is not as the itinerary was drawn for. */
bool wdr_planned_rehearse(
	const WdrMachine *a, WdrRehearsal **ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Of a move that was carried out; of a root alone, the source with the target beside it. NULL: one
 * that is needed cannot be read. */
WdrRehearsal *wdr_moved_rehearse(
	const WdrWorld *world, const WdrItinerary *it, WdrBootsWhere where);
