/* Reading many small contents of a disk in large requests: those that are expected soon and lie
 * close together are read at once, past the page cache, and kept until they are asked for. All
 * functions may be called from several threads at a time. */
#pragma once

#include "disk/blockdev.h"

typedef struct WdrSweep WdrSweep;

/* dev is borrowed; it should read from the medium (WDR_OPEN_MEDIUM). */
WdrSweep *wdr_sweep_new(WdrBlockDev *dev);
void wdr_sweep_free(WdrSweep *s);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(WdrSweep, wdr_sweep_free)

/* A moment: what was read from the disk before it does not count for whoever reads since then. */
uint64_t wdr_sweep_moment(WdrSweep *s);
/* Bytes that will be asked for. Runs longer than WDR_SWEPT_BYTES_MAX are read by requests of their
 * own, and need not be told; nor all of a content that lies in many. */
typedef struct {
	uint64_t at, len;
} WdrSweptRun;
enum { WDR_SWEPT_BYTES_MAX = 256 * 1024, WDR_SWEPT_RUNS_MAX = 32 };
/* Contents that are told one after the other, and will be read so, share a group. The caller has a
 * part in it until it forgets it. NULL when n is 0. */
typedef struct WdrSweepGroup WdrSweepGroup;
WdrSweepGroup *wdr_sweep_expect(WdrSweep *s, const WdrSweptRun *runs, size_t n);
void wdr_sweep_forget(WdrSweep *s, WdrSweepGroup *group);
bool wdr_sweep_read(WdrSweep *s, WdrSweepGroup *group, void *buf, WdrSweptRun run, uint64_t since,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
