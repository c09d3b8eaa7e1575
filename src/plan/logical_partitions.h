/* Logical partitions: those of an MBR with numbers from 5 on, and the extended partition around
 * them. On disk each lies behind a sector of its own that says where it and the next one are; the
 * kernel numbers them in that order, so there are no gaps. */
#pragma once

#include "plan/itinerary.h"

/* Partitions begin at multiples of it. */
enum { WDR_ALIGN_BYTES = 4 * 1024 * 1024 };
/* Room in front of a logical partition for the sector that describes it; what follows stays
 * aligned. */
#define WDR_LOGICAL_HEAD_BYTES WDR_ALIGN_BYTES

/* Chooses number and type of the extended partition where one is needed, and puts the logical ones
 * behind each other in the order of their numbers. it->table is chosen. UNSUPPORTED: the partitions
 * cannot be in an MBR. */
bool wdr_logical_arrange(
	WdrItinerary *it, const WdrPartTable *source, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Start and size of the extended partition, from where the logical ones lie. */
void wdr_logical_enclose(WdrItinerary *it);
/* What a hand could have changed makes sense. Parts are by start. */
bool wdr_logical_is_sound(const WdrItinerary *it);
