/* How long a move will take, by what pace measured of both disks on another day. */
#pragma once

#include "pace/pace_known.h"
#include "plan/itinerary.h"
#include "present/out.h"

typedef struct {
	WdrPaceRates source, target;
	double seconds;    /* of copying; 0: nothing is known */
	double copy_per_s; /* as in WdrWork */
} WdrExpected;

WdrExpected wdr_cli_expect(const WdrWorld *world, const WdrItinerary *it);
/* A line, where something is known. */
void wdr_cli_show_expected(const WdrOut *out, const WdrItinerary *it, const WdrExpected *e);
