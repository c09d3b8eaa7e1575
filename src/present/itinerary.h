/* An itinerary, and what came of it, as text. */
#pragma once

#include "move/move.h"
#include "present/out.h"

void wdr_present_itinerary(const WdrOut *out, const WdrItinerary *it);
void wdr_present_moved(const WdrOut *out, const WdrItinerary *it, const WdrMoveResult *r);
/* "wanderitas-move/1". */
void wdr_present_moved_json(FILE *file, const WdrItinerary *it, const WdrMoveResult *r);
