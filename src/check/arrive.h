/* After the restart: whether the system that runs is the one that was moved, from the disk that it
 * was moved to, and whether everything is there. */
#pragma once

#include "check/checklist.h"
#include "plan/itinerary.h"
#include "world/boot_time.h"

/* How long the boot took, now and from the old disk before the move. */
typedef struct {
	bool has_now, has_before;
	WdrBootTime now, before;
} WdrArrivalBootTimes;

typedef struct {
	WdrItinerary *it;  /* of the move */
	char *disk;        /* that the system runs from: its name */
	char *records;     /* the folder with its records */
	bool is_there;     /* the system runs from the target; false: from the old disk still */
	bool is_closed;    /* the logbook of the move says that it ended well, by now */
	GPtrArray *checks; /* WdrCheck */
	WdrArrivalBootTimes boot_times;
} WdrArrival;
void wdr_arrival_free(WdrArrival *a);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(WdrArrival, wdr_arrival_free)

/* `disk` is the one that / is mounted from. all: every file of the packing lists is compared, not a
 * sample. USAGE: there is no move that this system came from or that was made from it. Writes
 * nothing but a line into the logbook, when everything is as it should be. */
bool wdr_arrive(const WdrWorld *world, const char *disk, bool all, WdrArrival **ret,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
