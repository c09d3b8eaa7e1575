/* What was copied over after the first copying. */
#pragma once

#include "move/catchup.h"
#include "present/out.h"

#include <jansson.h>

/* One line that counts, for the end of a move; nothing when nobody looked. Names what may still
 * change. */
void wdr_present_caught_up(const WdrOut *out, const WdrCaughtUp *c);
/* The whole answer of catchup: each change (all, or the first forty), and what may still change. */
void wdr_present_catchup(
	const WdrOut *out, const WdrItinerary *it, const WdrMoveResult *r, bool shows_all);
void wdr_present_catchup_json(FILE *file, const WdrItinerary *it, const WdrMoveResult *r);
/* As part of a document. */
json_t *wdr_present_caught_up_json(const WdrCaughtUp *c);
/* How many things were found that it could not copy. */
unsigned wdr_present_not_copied(const WdrCaughtUp *c);
