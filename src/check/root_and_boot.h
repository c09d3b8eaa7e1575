/* A root that was moved alone starts together with the disk that its boot files stayed on: which
 * two disks these are, by the records of the move. Only reads. */
#pragma once

#include "disk/disks.h"
#include "plan/itinerary.h"

/* The newest move of a root alone that this disk was one end of, that came to its end, and whose
 * changes of boot files are in force; both disks are there. NULL: there is none. The caller's. */
WdrItinerary *wdr_together_find(const WdrWorld *world, const WdrDisk *disk);
