/* A roster: the targets of one source, as a JSON file (docs/formats/roster.md). Each slot has rules
 * that must fit exactly one disk, and tells what the disk becomes. */
#pragma once

#include "disk/disks.h"

enum { WDR_ROSTER_SLOTS_MAX = 32, WDR_ROSTER_BYTES_MAX = 1024 * 1024 };

/* Patterns are shell patterns; NULL: any. */
typedef struct {
	char *name;
	unsigned line; /* of the file, from 1 */
	char *image;   /* a file, and no disk: then there are no other rules */
	char *port, *serial, *model, *medium;
	uint64_t at_least, at_most; /* bytes; 0: any */
	char *host_name; /* of the second machine that it becomes; NULL: it stays the first */
	char *label;     /* to be printed; NULL: none */
	WdrDisk *disk;   /* the one that fits; NULL before wdr_roster_match() */
} WdrRosterSlot;

typedef struct {
	char *path;
	char *from;                                     /* NULL: the running system's disk */
	char *table, *leave_free, *boot_size, *name_by; /* as the options of move; NULL: not told */
	char **leave_behind;
	GPtrArray *slots; /* WdrRosterSlot */
} WdrRoster;

void wdr_roster_free(WdrRoster *r);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(WdrRoster, wdr_roster_free)

/* FORMAT: with the line. */
bool wdr_roster_load(const char *path, WdrRoster **ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Finds the disk of each slot. REFUSED: a rule fits none, several, the source, or the disk of
 * another slot; with the line. `source` is the disk's word. */
bool wdr_roster_match(const WdrWorld *world, WdrRoster *r, const WdrDisk *source,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
WdrRosterSlot *wdr_roster_slot(const WdrRoster *r, const char *name); /* NULL: there is none */

/* A roster of these disks (WdrDisk), told apart by their ports, or by their serials. As text; the
 * caller's. */
char *wdr_roster_draw(const WdrWorld *world, const char *from, const GPtrArray *disks);

/* Where the states of a roster's moves are: beside its file. The caller's. */
char *wdr_roster_state(const WdrRoster *r);
char *wdr_roster_slot_state(const WdrRoster *r, const WdrRosterSlot *slot);
