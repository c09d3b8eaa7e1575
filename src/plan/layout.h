/* Where the partitions lie on the target. */
#pragma once

#include "plan/itinerary.h"

/* What the user wants of the sizes; 0: nothing. */
typedef struct {
	uint64_t leave_free; /* at the end */
	uint64_t boot_size;
} WdrLayoutRoom;

/* Sets to.start and to.size of all parts (in the order of the source's starts): sizes as on the
 * source, but the root's, which takes what is left. NO_SPACE says how much is missing for even an
 * empty root. */
bool wdr_layout_arrange(
	WdrItinerary *it, const WdrLayoutRoom *room, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* The partition type for another kind of table; NULL: there is none. */
const char *wdr_layout_type(const char *type, WdrTableKind from, WdrTableKind to);
