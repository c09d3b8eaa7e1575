/* A root that moves alone into a partition that the target has already. */
#pragma once

#include "plan/itinerary.h"

/* The partition that the text names: by its number or its name. NULL: there is none. */
const WdrPartition *wdr_partition_named(
	const WdrDisk *disk, const WdrPartTable *table, const char *text);
/* Finds the partition that `text` names (its number, or its name) in the target's table, and gives
 * the itinerary's only part its place, type and partition identifiers; the table stays as it is. */
bool wdr_into_choose(WdrItinerary *it, const WdrPartTable *table, const WdrDraftOptions *options,
	const char *text, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* The target still has that partition at that place. */
bool wdr_into_check(
	const WdrItinerary *it, const WdrPartTable *now, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* What is erased: the target's name, or that of its partition. The caller's. */
char *wdr_itinerary_erased(const WdrItinerary *it);
