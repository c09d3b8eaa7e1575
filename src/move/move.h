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

#include "move/difference.h"
#include "move/itinerary.h"
#include "move/missing.h"

/* One thing that changed on the source after it was carried. */
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
	uint64_t bytes; /* contents carried */
} WdrCaughtUp;
void wdr_caught_up_clear(WdrCaughtUp *c);

typedef struct {
	uint64_t entries, bytes;  /* carried and found again */
	uint64_t bytes_before;    /* of these, by a run before this one */
	uint64_t verify_bytes;    /* read back by this run */
	double carry_s, verify_s; /* seconds */
	bool has_changed_source;  /* boot files of it, with --what root */
	bool has_taken_steps;     /* steps before the move changed it; the caller sets it */
	WdrCaughtUp caught_up;
	GPtrArray *missing; /* WdrMissing: could not be read; zeros in its place */
	char *state;        /* the folder with itinerary, logbook and packing lists */
} WdrMoveResult;
void wdr_move_result_clear(WdrMoveResult *r);
G_DEFINE_AUTO_CLEANUP_CLEAR_FUNC(WdrMoveResult, wdr_move_result_clear)

typedef struct {
	/* The folder for itinerary, logbook, packing lists, checkpoints and scratch files; made if
	 * need be. */
	const char *state;
	/* Go on with the move that the folder tells of; `it` is its itinerary. What is finished is
	 * not done again. */
	bool is_resuming;
	bool accepts_damage;       /* end well although something could not be read */
	uint64_t checkpoint_bytes; /* 0: as many as are sensible */
	/* The checks that were made before, as JSON, to be kept with the itinerary for the report;
	 * NULL: none. */
	const char *ready;
} WdrMoveOptions;

/* What an itinerary that was drawn earlier tells of the target's contents is replaced by what is
 * there now; *ret_changes (char *, a line each) tells the differences, for the user to agree to.
 * REFUSED: it is another disk. wdr_move() refuses a target that is not as the itinerary tells. */
bool wdr_move_look_at_target(const WdrWorld *world, WdrItinerary *it, GPtrArray **ret_changes,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* *ret_has_begun tells whether the target was written to: an error before that is a refusal, one
 * after it leaves an unfinished target, which says so itself. */
bool wdr_move(const WdrWorld *world, const WdrItinerary *it, const WdrMoveOptions *options,
	bool *ret_has_begun, WdrMoveResult *ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* Where this machine's moves and changes keep their state, each in a folder of its own. */
#define WDR_STATE_FOLDER "/var/lib/wanderitas"
/* Folders in it that tell of the move which this system came by: nothing to go on with. */
#define WDR_ARRIVAL_PREFIX "arrival-"

/* Files of a state folder, and of the records on the new root, beside itinerary.json and
 * logbook.jsonl: the checks before the move, the rehearsal after it, and those after the restart,
 * as the commands print them with --json. */
#define WDR_READY_FILE "ready.json"
#define WDR_REHEARSAL_FILE "rehearsal.json"
#define WDR_ARRIVAL_FILE "arrival.json"

/* Where the state of a move to this disk is kept unless the user says otherwise. The caller's. */
char *wdr_move_default_state(const WdrWorld *world, const WdrItineraryDisk *target);
/* The state folder of the newest move of this machine, not of another step. *ret is the caller's;
 * NULL: there is none. */
bool wdr_move_newest_state(
	const WdrWorld *world, char **ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* The same before a move is gone on with that had not told that its target is erased: that may be
 * half erased, by us. What else is there now and was not shown is told. */
bool wdr_move_look_again_at_target(const WdrWorld *world, WdrItinerary *it, GPtrArray **ret_changes,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Takes scratch folders away that a kill left in it; nobody else may be working there. */
void wdr_move_clear_scratch(const char *state);
/* Whether the move that this folder tells of had begun to erase its target. */
bool wdr_move_was_begun(const char *state, bool *ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;
