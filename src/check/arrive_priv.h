/* What the parts of an arrival share. Private to this folder. */
#pragma once

#include "boot/rehearse/boot_entry.h"
#include "check/arrive.h"
#include "disk/mounts.h"

typedef struct {
	const WdrWorld *world;
	const WdrItinerary *it;
	const char *records;
	WdrDisk *disk;     /* that the system runs from */
	WdrSystem *system; /* as it runs */
	GPtrArray *fstab;  /* WdrFstabLine */
	char **swaps;      /* in use: see wdr_swaps() */
	WdrBoard *board;   /* NULL: the machine is none that is known */
	char *arguments;   /* of the kernel that runs; NULL: nobody says */
	GArray *old; /* WdrIdentity: identifiers of the old disk; strings are the itinerary's */
	bool all;
	GPtrArray *checks;
} WdrArriving;

#define WDR_ARRIVED_ROOT "root"
#define WDR_ARRIVED_START "start"
#define WDR_ARRIVED_BOOT_TIME "boot time"
#define WDR_ARRIVED_DISCARDS "discards"
#define WDR_ARRIVED_SIZES "sizes"
#define WDR_ARRIVED_MOUNTS "mounts"
#define WDR_ARRIVED_FILES "files"
#define WDR_ARRIVED_OLD "old disk"
#define WDR_ARRIVED_WHY "why"

/* The part of the running disk that a part of the itinerary became; NULL: it is not there. */
WdrSystemPart *wdr_arriving_part(const WdrArriving *a, const WdrItineraryPart *p);

/* The boot entry whose arguments the running kernel has; NULL: none. */
const WdrBootEntry *wdr_arriving_boot_entry(const WdrArriving *a, const WdrBootEntries *entries);

void wdr_arrive_start(WdrArriving *a); /* arrive_start.c: root, what started it, sizes, mounts */
/* arrive_boot_time.c */
void wdr_arrive_boot_time(const WdrArriving *a, WdrArrivalBootTimes *ret);
void wdr_arrive_files(WdrArriving *a);    /* arrive_files.c: the packing lists */
void wdr_arrive_discards(WdrArriving *a); /* arrive_discards.c */
void wdr_arrive_old(WdrArriving *a);      /* arrive_old.c: what still names or uses the old disk */
void wdr_arrive_why(WdrArriving *a);      /* arrive_old.c: the old disk came up after all */
