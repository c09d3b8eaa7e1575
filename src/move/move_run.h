/* A move, or a catching up, under way: what its steps share. Private to this folder. */
#pragma once

#include "copy/read_behind.h"
#include "copy/volume_copy.h"
#include "journal/move_progress.h"
#include "move/move_result.h"
#include "plan/itinerary.h"
#include "plan/source.h"
#include "world/pause.h"

/* The disks of a move, from when they are opened. */
typedef struct {
	WdrSource *source;
	WdrBlockDev *target;
	WdrBlockDev *medium; /* the target, read past the page cache */
	WdrPartTable *table; /* the new one */
} WdrMoveDisks;

/* What is kept of it in the state folder. */
typedef struct {
	const char *state; /* the folder */
	WdrLogbook *logbook;
	WdrMoveProgress logged; /* what an earlier run has done; `missing` is kept up to date */
	int lock; /* of the folder that moves of this machine keep their state in; -1: none */
} WdrMoveRecords;

typedef struct {
	const WdrWorld *world;
	const WdrItinerary *it;
	WdrMoveDisks disks;
	WdrMoveRecords records;
	uint64_t checkpoint_bytes;
	const char *ready; /* as in WdrMoveOptions, and: */
	const WdrSource *looked_at;
	bool is_resuming, accepts_damage;
	bool goes_on; /* a move is gone on with, or caught up: both disks were used for it before */
	WdrMoveResult *result;
	bool *has_begun;
	unsigned step; /* number of the present step; 0: before the first */
	WdrWork work;  /* as it was told; copy_per_s is the caller's, read_back_per_s is set once it
			* was  measured */
	WdrReadBehind *behind;         /* of the part that is being copied; NULL: none */
	struct WdrLastPart *last_part; /* of the last part, from when it is begun; borrowed */
	WdrPause *pause;               /* of services that are down; borrowed; NULL: none are */
} WdrMoveRun;

/* What a run over this state folder starts with. */
void wdr_move_run_init(WdrMoveRun *m, const WdrWorld *world, const WdrItinerary *it,
	const char *state, bool *has_begun, WdrMoveResult *result);
/* The caller's. */
char *wdr_move_records_logbook_file(const WdrMoveRecords *records);
/* REFUSED: another move is under way. Held until the moving is closed. */
bool wdr_move_run_lock(WdrMoveRun *m, GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* Closes all of it. A failure, which is taken over, goes into the logbook and to the caller;
 * returns whether there was none. */
bool wdr_move_run_end(WdrMoveRun *m, GError *failure, GError **error);

/* ---- what is to do, and how far it is (work.c) ---- */

/* Tells the observer how many steps and bytes are left. Before the first step. */
void wdr_move_run_tell_work(WdrMoveRun *m);
/* Begins the next of these steps: the logbook and the observer get it. */
bool wdr_move_run_step(WdrMoveRun *m, GError **error, const char *format, ...)
	G_GNUC_PRINTF(3, 4) G_GNUC_WARN_UNUSED_RESULT;
/* Measures, once a move, how fast the target gives back what was written up to `bytes` of the part:
 * so the time left can count reading back before it begins. Called by the thread that writes. */
void wdr_move_run_try_read_back(WdrMoveRun *m, const WdrItineraryPart *p, uint64_t bytes);

/* ---- before anything is written (prepare.c) ---- */

/* Opens the source and compares it, and every part of it, with the itinerary; with_edits: the edits
 * must still fit its files. */
bool wdr_move_run_open_source(
	WdrMoveRun *m, bool with_edits, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Opens the target for writing, which must be the disk that `expected` describes. */
bool wdr_move_run_open_target(
	WdrMoveRun *m, const WdrItineraryDisk *expected, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* REFUSED: what is on the target, which is open, is not what the itinerary tells. */
bool wdr_move_run_check_target_contents(
	const WdrMoveRun *m, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Opens it for going on with a move: it must be the itinerary's target, with its own table if the
 * logbook says that this was written. */
bool wdr_move_run_reopen_target(WdrMoveRun *m, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* The edited files of one partition; number 0: all, only to see whether the edits still fit. */
bool wdr_move_run_replacements(WdrMoveRun *m, unsigned number, WdrReplacements **ret,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
bool wdr_move_run_has_source_edits(const WdrItinerary *it);

WdrSystemPart *wdr_move_run_source_part(const WdrMoveRun *m, unsigned number);
/* The part whose start is written last: a half-done target must not be taken for a system. */
const WdrItineraryPart *wdr_move_run_last(const WdrItinerary *it);
bool wdr_move_run_is_fat(const WdrItineraryPart *p);
/* It has entries and a packing list. */
bool wdr_move_run_is_volume(const WdrItineraryPart *p);
WdrExclude *wdr_move_run_exclude(const WdrMoveRun *m, const WdrItineraryPart *p);
char *wdr_move_records_packing_file(const WdrMoveRecords *records, const WdrItineraryPart *p);
char *wdr_move_records_checkpoint_file(const WdrMoveRecords *records, const WdrItineraryPart *p);
/* Notes in the logbook that the part is there, read back and checked; of the last part, what is
 * held goes into the state folder before. */
bool wdr_move_run_note_copied(
	WdrMoveRun *m, const WdrItineraryPart *p, GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* Until it is noted as copied again, nothing of the part counts. */
bool wdr_move_run_note_changing(
	WdrMoveRun *m, const WdrItineraryPart *p, GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* Notes what the medium failed to give of a path; see unreadable.h. */
bool wdr_move_records_note_unreadable(WdrMoveRecords *records, unsigned number, const char *path,
	const GArray *ranges, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Fails where something is missing that the user has not accepted. */
bool wdr_move_run_check_unreadable(const WdrMoveRun *m, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* All is done: says so in the logbook. */
bool wdr_move_run_end_well(WdrMoveRun *m, GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* ---- volumes (volume_build.c): at offset of dev, which is the target or a part of it ---- */

/* Goes on from a checkpoint where the part has one. */
bool wdr_move_run_fill(WdrMoveRun *m, const WdrItineraryPart *p, WdrBlockDev *dev, uint64_t offset,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Reads the volume back from the medium and compares it with the packing list. */
bool wdr_move_run_compare(WdrMoveRun *m, const WdrItineraryPart *p, WdrBlockDev *dev,
	uint64_t offset, GError **error) G_GNUC_WARN_UNUSED_RESULT;
bool wdr_move_run_open_volume(const WdrItineraryPart *p, WdrBlockDev *dev, uint64_t offset,
	WdrVolume **ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;
bool wdr_move_run_check_fat(WdrMoveRun *m, WdrBlockDev *dev, uint64_t offset, uint64_t size,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
bool wdr_move_run_check_ext(
	WdrMoveRun *m, const WdrItineraryPart *p, GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* ---- partitions without a volume that we build (block_copy.c) ---- */

/* Copies and reads back. */
bool wdr_move_run_copy_blocks(
	WdrMoveRun *m, const WdrItineraryPart *p, GError **error) G_GNUC_WARN_UNUSED_RESULT;
typedef struct {
	uint64_t from, to, size; /* bytes of the source and of the target */
	const char *what;
} WdrBlockRange;
bool wdr_move_run_copy_range(
	WdrMoveRun *m, const WdrBlockRange *range, GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* ---- the part that comes last (last_part.c) ---- */

enum { WDR_HELD_BYTES = 64 * 1024 };
/* Its first 64 KiB are kept in memory, and in the state folder for taking an interrupted move up; a
 * note is on the medium in their place. */
typedef struct WdrLastPart {
	const WdrItineraryPart *part;
	WdrBlockDev *dev;  /* the part, for writing */
	WdrBlockDev *seen; /* the part as the medium has it, with what is held laid over */
} WdrLastPart;
void wdr_last_part_clear(WdrLastPart *h);
G_DEFINE_AUTO_CLEANUP_CLEAR_FUNC(WdrLastPart, wdr_last_part_clear)

/* The new table; with --into there is none to write. */
bool wdr_move_run_write_table(
	WdrMoveRun *m, bool with_marks, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Of a target whose last part has the note already. */
void wdr_last_part_begin(WdrMoveRun *m, WdrLastPart *ret);
/* Of a whole target: writes the table without boot marks, and the note. */
bool wdr_last_part_take(WdrMoveRun *m, WdrLastPart *ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Of the target of an interrupted move: writes that table and the note again. has_head: what is
 * held comes from the state folder. */
bool wdr_last_part_resume(
	WdrMoveRun *m, WdrLastPart *ret, bool has_head, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Takes what was held away from the state folder. */
void wdr_last_part_forget(const WdrMoveRun *m);
/* Puts what is held into the state folder. */
bool wdr_last_part_save(WdrMoveRun *m, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* `seen` shows what is held now. */
bool wdr_last_part_look(WdrLastPart *h, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Where a part of the target is written, or (is_medium) read back: what is held lies over the last
 * one. *ret_offset: its start there. */
WdrBlockDev *wdr_last_part_device(const WdrMoveRun *m, const WdrLastPart *h,
	const WdrItineraryPart *p, bool is_medium, uint64_t *ret_offset);
/* What differences brought onto an ext part is there, as the medium has it. */
bool wdr_last_part_verify(WdrMoveRun *m, WdrLastPart *h, const WdrItineraryPart *p,
	GPtrArray *diffs, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Writes what was held, reads it back, checks the volume (a damaged one is taken back), and writes
 * the table with its boot marks. */
bool wdr_last_part_release(WdrMoveRun *m, WdrLastPart *h, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Puts the note where the last part's start is. */
bool wdr_last_part_put_note(WdrMoveRun *m, GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* ---- what changed meanwhile (catchup.c) ---- */

enum { WDR_PASSES_MAX = 3 };
/* Passes over the source until one finds nothing, at most WDR_PASSES_MAX. The target's last part is
 * held by `last_part`; when that is empty, it is taken before the first change. */
bool wdr_catchup_passes(WdrMoveRun *m, WdrLastPart *last_part, WdrCaughtUp *ret,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
