/* A move, or a catching up, under way: what its steps share. Private to src/move. */
#pragma once

#include "move/carry.h"
#include "move/logged.h"
#include "move/move.h"
#include "move/source.h"

typedef struct {
	const WdrWorld *world;
	const WdrItinerary *it;
	const char *state;
	uint64_t checkpoint_bytes;
	const char *ready; /* as in WdrMoveOptions */
	bool is_resuming, accepts_damage;
	bool goes_on; /* a move is gone on with, or caught up: both disks were used for it before */
	WdrLogged logged; /* what an earlier run has done; `missing` is kept up to date */
	WdrSource *source;
	WdrBlockDev *target;
	WdrBlockDev *medium; /* the target, read past the page cache */
	WdrPartTable *table;
	WdrLogbook *logbook;
	WdrMoveResult *result;
	bool *has_begun;
	struct WdrHold *hold; /* of the last part, from when it is begun; borrowed */
	int lock; /* of the folder that moves of this machine keep their state in; -1: none */
} WdrMoving;

/* What a run over this state folder starts with. */
void wdr_moving_init(WdrMoving *m, const WdrWorld *world, const WdrItinerary *it, const char *state,
	bool *has_begun, WdrMoveResult *result);
/* The caller's. */
char *wdr_moving_logbook_file(const WdrMoving *m);
/* REFUSED: another move is under way. Held until the moving is closed. */
bool wdr_moving_lock(WdrMoving *m, GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* Closes all of it. A failure, which is taken over, goes into the logbook and to the caller;
 * returns whether there was none. */
bool wdr_moving_end(WdrMoving *m, GError *failure, GError **error);

/* ---- before anything is written (prepare.c) ---- */

/* Opens the source and compares it, and every part of it, with the itinerary; with_edits: the edits
 * must still fit its files. */
bool wdr_moving_open_source(
	WdrMoving *m, bool with_edits, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Opens the target for writing, which must be the disk that `expected` tells of. */
bool wdr_moving_open_target(
	WdrMoving *m, const WdrItineraryDisk *expected, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* REFUSED: what is on the target, which is open, is not what the itinerary tells. */
bool wdr_moving_check_occupants(const WdrMoving *m, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Opens it for going on with a move: it must be the itinerary's target, with its own table if the
 * logbook says that this was written. */
bool wdr_moving_reopen_target(WdrMoving *m, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* The edited files of one partition; number 0: all, only to see whether the edits still fit. */
bool wdr_moving_replacements(WdrMoving *m, unsigned number, WdrReplacements **ret,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
bool wdr_moving_has_source_edits(const WdrItinerary *it);

WdrSystemPart *wdr_moving_source_part(const WdrMoving *m, unsigned number);
/* The part whose start is written last: a half-done target must not be taken for a system. */
const WdrItineraryPart *wdr_moving_last(const WdrItinerary *it);
bool wdr_moving_is_fat(const WdrItineraryPart *p);
/* It has entries and a packing list. */
bool wdr_moving_is_volume(const WdrItineraryPart *p);
WdrLeave *wdr_moving_leave(const WdrMoving *m, const WdrItineraryPart *p);
char *wdr_moving_packing_file(const WdrMoving *m, const WdrItineraryPart *p);
char *wdr_moving_checkpoint_file(const WdrMoving *m, const WdrItineraryPart *p);
/* Notes in the logbook that the part is there, read back and checked; of the last part, what is
 * held goes into the state folder before. */
bool wdr_moving_note_carried(
	WdrMoving *m, const WdrItineraryPart *p, GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* Until it is noted as carried again, nothing of the part counts. */
bool wdr_moving_note_changing(
	WdrMoving *m, const WdrItineraryPart *p, GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* Notes what the medium failed to give of a path; see missing.h. */
bool wdr_moving_note_missing(WdrMoving *m, unsigned number, const char *path, const GArray *ranges,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Fails where something is missing that the user has not accepted. */
bool wdr_moving_check_missing(const WdrMoving *m, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* All is done: says so in the logbook. */
bool wdr_moving_end_well(WdrMoving *m, GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* ---- volumes (volumes.c): at offset of dev, which is the target or a part of it ---- */

/* Goes on from a checkpoint where the part has one. */
bool wdr_moving_fill(WdrMoving *m, const WdrItineraryPart *p, WdrBlockDev *dev, uint64_t offset,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Reads the volume back from the medium and compares it with the packing list. */
bool wdr_moving_compare(WdrMoving *m, const WdrItineraryPart *p, WdrBlockDev *dev, uint64_t offset,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
bool wdr_moving_open_volume(const WdrItineraryPart *p, WdrBlockDev *dev, uint64_t offset,
	WdrVolume **ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;
bool wdr_moving_check_fat(WdrMoving *m, WdrBlockDev *dev, uint64_t offset, uint64_t size,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
bool wdr_moving_check_ext(
	WdrMoving *m, const WdrItineraryPart *p, GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* ---- partitions without a volume that we build (blocks.c) ---- */

/* Carries and reads back. */
bool wdr_moving_carry_blocks(
	WdrMoving *m, const WdrItineraryPart *p, GError **error) G_GNUC_WARN_UNUSED_RESULT;
typedef struct {
	uint64_t from, to, size; /* bytes of the source and of the target */
	const char *what;
} WdrBlockRange;
bool wdr_moving_carry_range(
	WdrMoving *m, const WdrBlockRange *range, GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* ---- the part that comes last (hold.c) ---- */

/* Its first 64 KiB are kept in memory, and in the state folder for taking an interrupted move up; a
 * note stands on the medium in their place. */
typedef struct WdrHold {
	const WdrItineraryPart *part;
	WdrBlockDev *dev;  /* the part, for writing */
	WdrBlockDev *seen; /* the part as the medium has it, with what is held laid over */
} WdrHold;
void wdr_hold_clear(WdrHold *h);
G_DEFINE_AUTO_CLEANUP_CLEAR_FUNC(WdrHold, wdr_hold_clear)

/* The new table; with --into there is none to write. */
bool wdr_moving_write_table(
	WdrMoving *m, bool with_marks, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Of a target on whose last part the note stands already. */
void wdr_hold_begin(WdrMoving *m, WdrHold *ret);
/* Of a whole target: writes the table without boot marks, and the note. */
bool wdr_hold_take(WdrMoving *m, WdrHold *ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Of the target of an interrupted move: writes that table and the note again. has_head: what is
 * held comes from the state folder. */
bool wdr_hold_resume(
	WdrMoving *m, WdrHold *ret, bool has_head, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Takes what was held away from the state folder. */
void wdr_hold_forget(const WdrMoving *m);
/* Puts what is held into the state folder. */
bool wdr_hold_save(WdrMoving *m, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* `seen` shows what is held now. */
bool wdr_hold_look(WdrHold *h, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Where a part of the target is written, or (is_medium) read back: what is held lies over the last
 * one. *ret_offset: its start there. */
WdrBlockDev *wdr_hold_device(const WdrMoving *m, const WdrHold *h, const WdrItineraryPart *p,
	bool is_medium, uint64_t *ret_offset);
/* What differences brought onto an ext part is there, as the medium has it. */
bool wdr_hold_verify(WdrMoving *m, WdrHold *h, const WdrItineraryPart *p, GPtrArray *diffs,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Writes what was held, reads it back, checks the volume (a damaged one is taken back), and writes
 * the table with its boot marks. */
bool wdr_hold_release(WdrMoving *m, WdrHold *h, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Puts the note where the last part's start is. */
bool wdr_hold_put_note(WdrMoving *m, GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* ---- what changed meanwhile (catchup.c) ---- */

enum { WDR_PASSES_MAX = 3 };
/* Passes over the source until one finds nothing, at most WDR_PASSES_MAX. The target's last part is
 * held by `hold`; when that is empty, it is taken before the first change. */
bool wdr_catchup_passes(
	WdrMoving *m, WdrHold *hold, WdrCaughtUp *ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;
