/* New addresses for the parts of an itinerary, and the edits that put every mention right. */
#pragma once

#include "move/itinerary.h"
#include "move/source.h"

/* Sets table_id and the addresses in to of all parts: fresh ones, or the source's. */
bool wdr_readdress_choose(WdrItinerary *it, const WdrSource *source, const WdrDraftOptions *options,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Adds edits, diffs and notes. REFUSED when root= names nothing, two things, or what the kernel
 * could not find by that name. */
bool wdr_readdress_edit(WdrItinerary *it, const WdrSource *source, const WdrDraftOptions *options,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
