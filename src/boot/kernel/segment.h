/* One more segment for an initramfs: an archive (newc, plain) with modules, the indexes that name
 * them, and the list of what is loaded at the start. What comes later takes the place of what came
 * before, so it comes last and everything before it stays as it is. */
#pragma once

#include "boot/kernel/initramfs.h"
#include "boot/kernel/modules.h"
#include "volume/volume.h"

typedef struct {
	const WdrInitramfs *initramfs; /* that it is for */
	const char *release;           /* of the kernel */
	const WdrModules *modules;     /* of that kernel */
	WdrVolume *root;               /* that has the modules */
	int64_t now;                   /* for the times of its entries */
} WdrSegmentFrom;

typedef struct {
	GBytes *bytes;
	unsigned firmware; /* files of firmware that came along with the modules */
} WdrSegment;
void wdr_segment_clear(WdrSegment *s);
G_DEFINE_AUTO_CLEANUP_CLEAR_FUNC(WdrSegment, wdr_segment_clear)

/* `names`: the modules that are put in, with the firmware they load as far as root has it; `load`:
 * those that are loaded by name. Entries have only paths whose folders the initramfs has, or new
 * ones below these. UNSUPPORTED: it is of a kind
 * whose load list we do not know, or it has no modules of that kernel at all; FORMAT: a module is
 * none, or of another kernel. */
bool wdr_segment_make(const WdrSegmentFrom *from, const GPtrArray *names, const GPtrArray *load,
	WdrSegment *ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* The initramfs with the segment behind it, at a multiple of four and after zeros, as the kernel
 * wants it; one in a loader image gets its header anew. Read back as a whole: FORMAT when that
 * fails, or when anything is missing of what was in it or in the segment. The caller's. */
bool wdr_segment_append(const void *bytes, size_t len, GBytes *segment, GBytes **ret,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
