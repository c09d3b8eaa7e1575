/* Sample boards: made-up systems of a bird observatory's field station, and the bench around them.
 */
#pragma once

#include "volume/memory.h"
#include "world/world.h"

/* heron-hide-3: a board with the firmware boot flow, run from an SD card. The same bytes every
 * time. */
#define WDR_HERON_DISK_ID "4c1fa2b0"
#define WDR_HERON_BOOT_UUID "F3A1-77C2"
#define WDR_HERON_ROOT_UUID "6d1c7a52-0b7e-4f5e-9a43-2f8f5d1b9c30"
WdrMemoryVolume *wdr_sample_heron_boot(void);
WdrMemoryVolume *wdr_sample_heron_root(void);

/* Makes a bench in `folder`, which must not exist or be empty (REFUSED otherwise). */
bool wdr_sample_make_bench(
	const WdrWorld *world, const char *folder, GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* A card image of `size` bytes with these two volumes: an MBR with FAT32 at 4 MiB and ext4 behind
 * it. */
bool wdr_sample_make_card(const WdrWorld *world, const char *path, uint64_t size, WdrVolume *boot,
	WdrVolume *root, const char *scratch, GError **error) G_GNUC_WARN_UNUSED_RESULT;
