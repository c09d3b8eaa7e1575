/* The records of a move on the new root: a copy of its itinerary, logbook and packing lists, so
 * that after the restart it can be told whether everything is there, with the old disk in a drawer.
 *
 * They lie in a folder of their own, ARRIVAL_FOLDER with the second at which the itinerary was
 * drawn behind it; where /var comes from another volume, below root's home. No packing list has
 * them. */
#pragma once

#include "move/move_run.h"

/* Folders that may hold such folders, on the root volume; NULL-ended. */
extern const char *const wdr_arrival_homes[];
/* The folders in these (char *), each of which may have the records of a move, are added to `ret`.
 * False: one of them cannot be read; those of the others were added all the same. */
bool wdr_records_folders(const WdrWorld *world, GPtrArray *ret, GError **error);

/* Whether this part gets them: then nobody else needs to have e2fsck look at it. */
bool wdr_records_belong_on(const WdrMoveRun *m, const WdrItineraryPart *p);
/* Puts them onto the target's root, whose other contents are all there, or brings them up to date;
 * then e2fsck looks at it. Where there is no room for them a note is made. */
bool wdr_records_leave(
	WdrMoveRun *m, WdrLastPart *last_part, GError **error) G_GNUC_WARN_UNUSED_RESULT;
