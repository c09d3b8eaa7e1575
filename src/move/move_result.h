/* What a move did, for those who tell of it. */
#pragma once

#include "copy/difference.h"
#include "copy/unreadable.h"

/* One thing that changed on the source after it was copied. */
typedef struct {
	unsigned partition;
	WdrDiffKind kind;
	char *path;
	char *from; /* it was renamed: its old path */
	bool is_folder;
} WdrCaught;

typedef struct {
	GPtrArray *changes;   /* WdrCaught, pass by pass; NULL: nobody looked */
	GPtrArray *unsettled; /* WdrCaught: what the last pass found, and may still change */
	unsigned passes;
	uint64_t bytes; /* contents copied */
	char *paused;   /* names of the units that were stopped for the last pass; NULL: none */
	double paused_s;
	char *pause_problem; /* which of them do not run now, and what to do; NULL: all run */
} WdrCaughtUp;
void wdr_caught_up_clear(WdrCaughtUp *c);

typedef struct {
	uint64_t entries, bytes; /* copied and found again */
	uint64_t bytes_before;   /* of these, by a run before this one */
	uint64_t behind_bytes;   /* read back by this run while it copied */
	uint64_t verify_bytes;   /* and after that */
	double copy_s, verify_s; /* seconds */
	/* Seconds, too: before the first write; e2fsck and fsck.fat of the target; the rehearsal;
	 * all of it but the time in which the user was asked. The caller adds what it did itself.
	 */
	double look_s, check_s, rehearse_s, all_s;
	WdrCopyWaits waits;      /* of copy_s: which disk was the limit */
	bool has_changed_source; /* boot files of it, with --what root */
	bool has_taken_steps;    /* steps before the move changed it; the caller sets it */
	WdrCaughtUp caught_up;
	GPtrArray *missing; /* WdrUnreadable: could not be read; zeros in its place */
	char *state;        /* the folder with itinerary, logbook and packing lists */
} WdrMoveResult;
void wdr_move_result_clear(WdrMoveResult *r);
G_DEFINE_AUTO_CLEANUP_CLEAR_FUNC(WdrMoveResult, wdr_move_result_clear)
