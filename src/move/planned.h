/* Whether what an itinerary is going to make would start, as far as that can be known before it is
 * made: the source's volumes are read as they are, with the edits, new addresses and the table that
 * they will have on the target. */
#pragma once

#include "boot/rehearse.h"
#include "move/itinerary.h"

/* Of a whole move the target alone with the source thought away; of a root alone the source with
 * the target beside it. REFUSED: the source is not as the itinerary was drawn for. Only reads. */
bool wdr_planned_rehearse(const WdrWorld *world, const WdrItinerary *it, WdrRehearsal **ret,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
