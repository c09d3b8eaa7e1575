/* What a disk says of its own health: wear of an eMMC, speed classes of a card, the health log of
 * an NVMe drive, SMART of a SATA disk, requests that a SCSI disk failed. Only reads. */
#pragma once

#include "disk/disks.h"

typedef struct {
	bool is_bad;
	char *text; /* "10 to 20 % of its life is used" */
} WdrHealth;

/* WdrHealth; empty: it says nothing. */
GPtrArray *wdr_disk_health(const WdrWorld *world, const WdrDisk *disk);
