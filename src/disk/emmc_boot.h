/* Which boot partition an eMMC starts from. Format: JEDEC JESD84-B51, 7.4.69 PARTITION_CONFIG
 * [179]; the kernel shows the extended CSD below /sys/kernel/debug, to root. Not tried on a board.
 */
#pragma once

#include "world/world.h"

enum { WDR_EMMC_BOOT_USER = 7 };

typedef struct {
	unsigned enabled; /* 0: none; 1, 2: boot0, boot1; WDR_EMMC_BOOT_USER: the main area */
	bool has_ack;     /* the eMMC acknowledges the start, as some chips demand */
} WdrEmmcBoot;

/* name: of the eMMC or of one of its boot partitions, "mmcblk0boot0". False: nothing tells. */
bool wdr_emmc_boot_read(const WdrWorld *world, const char *name, WdrEmmcBoot *ret);
