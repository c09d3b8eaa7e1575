/* Whether a disk can be told which blocks are not needed any more (TRIM, unmap): solid-state drives
 * wear more evenly then, and stay quick. Only reads. */
#pragma once

#include "disk/disks.h"

typedef enum {
	WDR_DISCARDS_UNKNOWN, /* the kernel does not say, or it is none that needs them */
	WDR_DISCARDS_REACH_IT,
	WDR_DISCARDS_DO_NOT, /* it is a solid-state drive, and nothing between hands them on */
} WdrDiscards;

WdrDiscards wdr_disk_discards(const WdrWorld *world, const WdrDisk *disk);
