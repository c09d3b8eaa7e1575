/* Single blocks of a disk that are remembered and read once more later. What was read back well can
 * still be lost: a disk of a false size writes later data over it. That data lies in one piece, so
 * blocks at distances shorter than it cannot all be missed. */
#pragma once

#include "disk/blockdev.h"

typedef struct WdrSpots WdrSpots;

/* `medium` was opened with WDR_OPEN_MEDIUM; borrowed. */
WdrSpots *wdr_spots_new(WdrBlockDev *medium);
void wdr_spots_free(WdrSpots *s);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(WdrSpots, wdr_spots_free)

/* Remembers one block at each `distance` (bytes) of the range; at greater distances where that
 * would be too many. */
bool wdr_spots_take(WdrSpots *s, uint64_t start, uint64_t len, uint64_t distance,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* A block of 4 KiB that was read already. It is remembered where it is 4 MiB behind the last one,
 * or further: twice as far after each 16,384 of them. */
void wdr_spots_offer(WdrSpots *s, uint64_t at, const void *block);
/* IO: a block is another now, and nothing of ours wrote to it. */
bool wdr_spots_check(const WdrSpots *s, GError **error) G_GNUC_WARN_UNUSED_RESULT;
