/* Carrying an itinerary out.
 *
 * The order, which keeps a half-done target from being taken for a system:
 *   1. the old table and the signatures in the new partitions are wiped, a table without boot marks
 * is written, and a note at the start of the boot partition says that a move is under way;
 *   2. every other volume is built, read back from the medium, and compared;
 *   3. the boot volume is built but for its first 64 KiB, read back, and compared;
 *   4. those 64 KiB are written over the note, then the boot marks;
 *   5. with --what root: the boot files of the source are changed, each original kept.
 * Where root has the boot files with it, or is moved alone, it is the one that comes last. */
#pragma once

#include "journal/state_folder.h"
#include "move/move_result.h"
#include "plan/itinerary.h"
#include "plan/source.h"

typedef struct {
	/* The folder for itinerary, logbook, packing lists, checkpoints and scratch files; made if
	 * need be. */
	const char *state;
	/* Go on with the move of the folder; `it` is its itinerary. What is finished is
	 * not done again. */
	bool is_resuming;
	bool accepts_damage;       /* end well although something could not be read */
	uint64_t checkpoint_bytes; /* 0: as many as are sensible */
	/* The checks that were made before, as JSON, to be kept with the itinerary for the report;
	 * NULL: none. */
	const char *ready;
	double copy_per_s; /* as in WdrWork */
	const WdrSource
		*looked_at; /* the source, as it was opened to draw `it`; NULL: it was not */
} WdrMoveOptions;

/* What an itinerary says of the target's contents is replaced by what is
 * there now; *ret_changes (char *, a line each): the differences, for the user to agree to.
 * REFUSED: it is another disk. wdr_move() refuses a target that is not as the itinerary tells. */
bool wdr_move_look_at_target(const WdrWorld *world, WdrItinerary *it, GPtrArray **ret_changes,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* *ret_has_begun tells whether the target was written to: an error before that is a refusal, one
 * after it leaves an unfinished target, which says so itself. */
bool wdr_move(const WdrWorld *world, const WdrItinerary *it, const WdrMoveOptions *options,
	bool *ret_has_begun, WdrMoveResult *ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* Where the state of a move to this disk is kept unless the user says otherwise. The caller's. */
char *wdr_move_default_state(const WdrWorld *world, const WdrItineraryDisk *target);
/* The state folder of the newest move of this machine, not of another step. *ret is the caller's;
 * NULL: there is none. */
bool wdr_move_newest_state(
	const WdrWorld *world, char **ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* The same before a move is gone on with that had not told that its target is erased: that may be
 * half erased, by us. What is there now and was not shown is reported. */
bool wdr_move_look_again_at_target(const WdrWorld *world, WdrItinerary *it, GPtrArray **ret_changes,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Takes scratch folders away that a kill left in it, those with this prefix (plan/source.h); nobody
 * else may be working there. */
void wdr_move_clear_scratch(const char *state, const char *prefix);
/* One program at a time works with the records of a folder. The lock is held until *ret, the
 * caller's, is closed (WdrFd). REFUSED: another has it. */
bool wdr_move_lock(const char *folder, int *ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Whether a program holds the lock that a move, or a catchup, of this folder takes. */
bool wdr_move_is_under_way(const WdrWorld *world, const char *state);
/* Whether the move of this folder had begun to erase its target. */
bool wdr_move_was_begun(const char *state, bool *ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;
