/* Which board the system on a disk is for, as far as the disk itself tells: for disks that are
 * prepared on another machine. */
#pragma once

#include "boot/system/system.h"

typedef struct {
	char **names;     /* as a device tree has them, NULL-ended; NULL: only the model is known */
	char *model;      /* "Pine64 RockPro64"; NULL: only the names are known */
	const char *said; /* what tells it: "its boot loader"; static */
} WdrDiskBoard;
void wdr_disk_board_clear(WdrDiskBoard *b);
G_DEFINE_AUTO_CLEANUP_CLEAR_FUNC(WdrDiskBoard, wdr_disk_board_clear)

/* False: nothing on the disk tells. The system was looked through. */
bool wdr_disk_board_find(WdrSystem *s, WdrDiskBoard *ret);
