/* One disk whose files are changed in place: at rest, or the running one through its mounts. What
 * is to be changed is planned as whole contents, shown, and done with a logbook that rewind.h
 * reads. */
#pragma once

#include "change/change.h"
#include "plan/file_plan.h"
#include "plan/itinerary.h"

typedef struct {
	const WdrWorld *world; /* borrowed */
	WdrDisk *disk;
	WdrSystem *system;     /* of a running one, volumes that are mounted are trees */
	WdrItineraryDisk seen; /* what the disk was when it was looked at */
	bool is_running;
} WdrDiskSession;

/* FORMAT: it has no table, or a volume cannot be read; REFUSED: it is the target of an unfinished
 * move. Whether somebody uses it is not asked here. */
bool wdr_disk_session_open(const WdrWorld *world, const char *disk, bool is_running,
	WdrDiskSession **ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;
void wdr_disk_session_free(WdrDiskSession *o);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(WdrDiskSession, wdr_disk_session_free)
/* The same through its mounts when the running system of this machine, or of a bench that holds a
 * whole one, runs from that disk, and at rest when not. */
bool wdr_disk_session_find(const WdrWorld *world, const char *disk, WdrDiskSession **ret,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* The folder that has those of a disk's changes: an image's lies beside it. The caller's. */
char *wdr_disk_records(const WdrWorld *world, const WdrDisk *disk);
/* Where the records of such work are kept unless the user says otherwise: `what` is a word for it.
 * The caller's. */
char *wdr_disk_state(const WdrWorld *world, const WdrDisk *disk, const char *what, int64_t at);
char *wdr_disk_session_state(const WdrDiskSession *o, const char *what, int64_t at);
/* REFUSED: it is another disk by now, or somebody else is at it. */
bool wdr_disk_session_check(const WdrDiskSession *o, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* The same, and begins the logbook. plan_file: a file beside it with the plan; NULL: none.
 */
bool wdr_disk_session_begin(const WdrDiskSession *o, const char *state, const char *plan_file,
	WdrLogbook **ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* ---- contents ---- */

/* Makes them, in their order. */
bool wdr_file_plans_apply(
	const GPtrArray *plans, WdrChanging *c, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Does all of them. *ret_has_begun: something may have been changed. */
bool wdr_disk_session_write(WdrDiskSession *o, const char *state, const GPtrArray *plans,
	bool *ret_has_begun, GError **error) G_GNUC_WARN_UNUSED_RESULT;
