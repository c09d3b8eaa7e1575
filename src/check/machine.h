/* The disks that an itinerary is about as they are now, and what else the machine has. */
#pragma once

#include "boot/rehearse/rehearse.h"
#include "plan/itinerary.h"

typedef struct {
	const WdrWorld *world;
	const WdrItinerary *it;
	WdrDisk *source, *target; /* NULL: it is not there any more */
	WdrSystem *system;  /* of the source, as it is read in a move; NULL: it cannot be read */
	GPtrArray *others;  /* WdrSystem: the machine's other disks; NULL: only images take part, or
			     * it boots elsewhere */
	const char *medium; /* as what a target image will be attached; NULL: unknown. Borrowed */
} WdrMachine;

/* Where the target is going to boot. */
typedef enum {
	WDR_BOOTS_HERE,     /* beside this machine's other disks */
	WDR_BOOTS_ELSEWHERE /* on another board of this kind: what it will be beside is unknown */
} WdrBootsWhere;

/* Never fails: what cannot be had is not there. World and itinerary are borrowed. */
void wdr_machine_look(
	const WdrWorld *world, const WdrItinerary *it, WdrBootsWhere where, WdrMachine *ret);
void wdr_machine_clear(WdrMachine *a);
G_DEFINE_AUTO_CLEANUP_CLEAR_FUNC(WdrMachine, wdr_machine_clear)

/* Whether the source is the disk that the machine runs from. */
bool wdr_machine_runs_source(const WdrMachine *a);

/* Rehearses the system that starts once an itinerary was carried out, on its board, with the
 * machine's other disks: of a whole move the target (the source unplugged), of a root alone the
 * source, beside which `root` is, the target. is_planned: advice is about the source. */
WdrRehearsal *wdr_machine_rehearse(
	const WdrMachine *a, WdrSystem *starts, WdrSystem *root, bool is_planned);
