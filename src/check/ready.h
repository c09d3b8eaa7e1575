/* Whether a move will go well and what it makes will start, checked before anything is written:
 * each check with what was seen and what to do. */
#pragma once

#include "check/checklist.h"
#include "check/machine.h"
#include "plan/itinerary.h"

/* WdrCheck, in the order of the work; one name may have several. Only reads. medium: as what a
 * target image will be attached; NULL: unknown. */
GPtrArray *wdr_ready_checks(
	const WdrWorld *world, const WdrItinerary *it, WdrBootsWhere where, const char *medium);
/* Why no itinerary from one disk to the other could be drawn, as the one check that there is then
 * (from NULL: the system does not run from a disk that could be moved); NULL: the error is about
 * something else, the words of the command line for one. */
GPtrArray *wdr_ready_refusal(
	const WdrWorld *world, const char *from, const char *to, const GError *error);

bool wdr_check_is_name(const char *text);
/* All names, separated by commas. The caller's. */
char *wdr_check_names(void);
/* The first stop that `despite` (names, NULL-ended; NULL: none) does not wave through; NULL: there
 * is none. */
const WdrCheck *wdr_ready_stop(const GPtrArray *checks, const char *const *despite);
