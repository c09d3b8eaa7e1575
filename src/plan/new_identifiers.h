/* New identifiers for the parts of an itinerary. */
#pragma once

#include "plan/itinerary.h"

/* Sets table_id and the identifiers in `to` of all parts: fresh ones, or the old ones. old_id: of
 * the old table, which the new one must not have by chance. */
bool wdr_identifiers_choose(WdrItinerary *it, const char *old_id, const WdrDraftOptions *options,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
