/* What lies at a place of a disk, as libblkid tells it. */
#pragma once

#include "disk/blockdev.h"

/* All strings belong to the struct; NULL: not there. */
typedef struct {
	char *type; /* "ext4", "vfat", "swap", …; NULL: nothing known */
	char *uuid; /* as written in UUID=: FAT "ABCD-1234", ext lower case */
	char *label;
	bool is_ambiguous; /* signatures of two kinds: an old one was not wiped */
} WdrProbe;

void wdr_probe_clear(WdrProbe *probe);
G_DEFINE_AUTO_CLEANUP_CLEAR_FUNC(WdrProbe, wdr_probe_clear)

/* Looks at [offset, offset + size) for a file system, swap, RAID, …. */
bool wdr_probe_read(WdrBlockDev *dev, uint64_t offset, uint64_t size, WdrProbe *ret,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* The note at the start of a boot partition while a move to it is under way. */
#define WDR_UNFINISHED_NOTE "Wanderitas: this disk is the target of an unfinished move.\n"
bool wdr_probe_is_unfinished(WdrBlockDev *dev, uint64_t offset);
