/* An itinerary, and what came of it, as text. */
#pragma once

#include "change/readdress.h"
#include "move/move.h"
#include "present/show_rehearsal.h"

void wdr_present_itinerary(const WdrOut *out, const WdrItinerary *it);
/* What will be erased, right above the question. */
void wdr_present_erased(const WdrOut *out, const WdrItinerary *it);
/* rehearsal: of the target; NULL: there was none. */
void wdr_present_moved(const WdrOut *out, const WdrItinerary *it, const WdrMoveResult *r,
	const WdrRehearsal *rehearsal);
/* "wanderitas-move/2". */
void wdr_present_moved_json(
	FILE *file, const WdrItinerary *it, const WdrMoveResult *r, const WdrRehearsal *rehearsal);

void wdr_present_readdress(const WdrOut *out, const WdrReaddress *r, bool renews);
/* What was done; state: where the records are. */
void wdr_present_readdressed(
	const WdrOut *out, const WdrReaddress *r, const char *state, bool as_json);
/* "wanderitas-readdress/2"; state NULL: nothing was done. */
void wdr_present_readdress_json(FILE *file, const WdrReaddress *r, const char *state);
/* The disk that starts when the itinerary was carried out, and where its root is if that is
 * elsewhere. The caller's. */
char *wdr_present_what_starts(const WdrItinerary *it);
