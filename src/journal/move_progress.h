/* How far a move has come, as its logbook tells. The marks:
 *   cleared    the target's old table is gone; ours, without boot marks, is there
 *   held       the start of the last part is in the state folder, a note is in its place
 *   released   all is in its place, boot marks too
 *   arrived    the system was started from the target, and everything was there
 * and of a part:
 *   begun      from its start: nothing that was said of it before counts
 *   copied    it is on the target, read back and checked
 *   changing   it is being brought up to date: until "copied" follows it may be damaged */
#pragma once

#include "journal/logbook.h"

#define WDR_MARK_CLEARED "cleared"
#define WDR_MARK_HELD "held"
#define WDR_MARK_RELEASED "released"
#define WDR_MARK_ARRIVED "arrived"
#define WDR_PART_BEGUN "begun"
#define WDR_PART_COPIED "copied"
#define WDR_PART_CHANGING "changing"

/* A stretch of a part that is copied block by block: on the target, and read back. */
typedef struct {
	unsigned number;
	uint64_t start, size; /* bytes of the part */
	WdrHash hash;
} WdrMoveProgressRange;

typedef struct {
	bool is_cleared, is_released, has_arrived;
	bool is_done;       /* and nothing was begun since */
	bool was_done;      /* once */
	GHashTable *copied; /* number of a part -> WdrPartSeal */
	GArray *ranges;     /* WdrMoveProgressRange */
	GPtrArray *missing; /* WdrUnreadable */
	bool has_boot_time;
	WdrBootTime boot_time; /* of the old disk, before the move */
} WdrMoveProgress;

/* Nothing has been done. */
void wdr_move_progress_init(WdrMoveProgress *ret);
void wdr_move_progress_clear(WdrMoveProgress *l);
G_DEFINE_AUTO_CLEANUP_CLEAR_FUNC(WdrMoveProgress, wdr_move_progress_clear)
bool wdr_move_progress_is_copied(const WdrMoveProgress *l, unsigned number);
/* What it was like then. Borrowed; NULL: it is not copied. */
const WdrPartSeal *wdr_move_progress_seal(const WdrMoveProgress *l, unsigned number);
/* The stretch that begins there; NULL: none. */
const WdrMoveProgressRange *wdr_move_progress_range(
	const WdrMoveProgress *l, unsigned number, uint64_t start);

/* The text of a logbook; `name` is for messages. */
bool wdr_move_progress_parse(const char *name, const char *text, WdrMoveProgress *ret,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
bool wdr_move_progress_read(
	const char *path, WdrMoveProgress *ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;
