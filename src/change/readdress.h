/* Putting the mentions of one disk right in place: for systems that were copied by other means. */
#pragma once

#include "plan/itinerary.h"

typedef struct {
	bool is_running; /* the running system, through its mounts */
	bool renews;     /* fresh identifiers besides */
	bool has_name_by;
	WdrIdentifierKind name_by;
	const char *second_name; /* it becomes another machine's, of this name; NULL: not */
} WdrReaddressOptions;

typedef struct WdrReaddress WdrReaddress;
/* Finds out what is to be done; changes nothing. disk: with is_running the one that the system
 * runs from. */
bool wdr_readdress_plan(const WdrWorld *world, const char *disk, const WdrReaddressOptions *options,
	WdrReaddress **ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;
void wdr_readdress_free(WdrReaddress *r);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(WdrReaddress, wdr_readdress_free)

/* The plan as an itinerary from the disk to itself (what: NOTHING); borrowed. */
const WdrItinerary *wdr_readdress_itinerary(const WdrReaddress *r);
/* WdrFilePlan: what becomes of further files; borrowed. */
const GPtrArray *wdr_readdress_files(const WdrReaddress *r);
/* Mentions that name nothing, and that could not be matched to a partition. */
unsigned wdr_readdress_left(const WdrReaddress *r);
/* Where the records are kept unless the user says otherwise. The caller's. */
char *wdr_readdress_default_state(const WdrReaddress *r);

/* Does it. `state` is the folder of logbook and originals. *ret_has_begun as for wdr_move(). */
bool wdr_readdress_write(WdrReaddress *r, const char *state, bool *ret_has_begun,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
