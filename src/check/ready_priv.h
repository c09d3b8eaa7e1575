/* What the groups of checks share. Private to this folder. */
#pragma once

#include "check/machine.h"
#include "check/ready.h"

typedef struct {
	WdrMachine around;
	GPtrArray *checks;
} WdrReady;

/* The names of checks, in their order. */
#define WDR_CHECK_TARGET "target"
#define WDR_CHECK_ROOM "room"
#define WDR_CHECK_LINK "link"
#define WDR_CHECK_DISCARDS "discards"
#define WDR_CHECK_MEDIUM "medium"
#define WDR_CHECK_BOOT_FILES "boot-files"
#define WDR_CHECK_DRIVERS "drivers"
#define WDR_CHECK_ROOT "root"
#define WDR_CHECK_INIT "init"
#define WDR_CHECK_MOUNTS "mounts"
#define WDR_CHECK_SWAP "swap"
#define WDR_CHECK_IDENTIFIERS "identifiers"
#define WDR_CHECK_MENTIONS "mentions"
#define WDR_CHECK_FILES "files"
#define WDR_CHECK_WRITERS "writers"
#define WDR_CHECK_FIRST_BOOT "first-boot"
#define WDR_CHECK_POWER "power"
#define WDR_CHECK_ERRORS "errors"
#define WDR_CHECK_HEALTH "health"
#define WDR_CHECK_CLOCK "clock"
#define WDR_CHECK_SOURCE "source"

void wdr_ready_disks(WdrReady *r);   /* ready_disks.c: target, room, link */
void wdr_ready_start(WdrReady *r);   /* ready_start.c: the start, as it is planned */
void wdr_ready_system(WdrReady *r);  /* ready_system.c: what is on the source */
void wdr_ready_machine(WdrReady *r); /* ready_machine.c: power, errors, health, clock */
