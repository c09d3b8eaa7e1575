/* Reading files back while later ones are still being written, so that the end of a copy has little
 * left to read.
 *
 * A thread takes the files whose bytes were written, in groups; has the target flushed; reads them
 * from the medium, past the page cache; and compares the hash with that of what was read from the
 * source. What it vouches for is the content at certain places. The walk over the finished volume
 * (packing_list.h) shows that each file lies at these places; it reads what nobody vouches for. A
 * sample of blocks is read once more at the end, since later writes may have hit earlier ones. */
#pragma once

#include "base/hash.h"
#include "volume/volume.h"
#include "world/world.h"

typedef struct WdrReadBehind WdrReadBehind;

/* Both are borrowed; `medium` was opened with WDR_OPEN_MEDIUM. offset: where the volume begins.
 * first: what lies before this byte of the volume is not on the medium yet. */
WdrReadBehind *wdr_read_behind_new(
	WdrBlockDev *target, WdrBlockDev *medium, uint64_t offset, uint64_t first);
/* Ends the thread, whatever is left to do. */
void wdr_read_behind_free(WdrReadBehind *b);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(WdrReadBehind, wdr_read_behind_free)

/* `bytes` more are with the medium. From any thread. */
void wdr_read_behind_count(WdrReadBehind *b, uint64_t bytes);
/* A file that was ended, or (content NULL) one of which more is to come; no other comes in between.
 * `placed` with its runs is taken over. Where too many wait, nobody vouches for it. IO: an earlier
 * one was read back otherwise than it was written. */
bool wdr_read_behind_put(WdrReadBehind *b, const char *path, uint64_t size, const WdrHash *content,
	WdrPlaced *placed, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* All was written: reads what is left, telling the observer of it (total: what it counts up to). */
bool wdr_read_behind_finish(WdrReadBehind *b, const WdrWorld *world, const WdrProgress *total,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* Bytes of files that were read back; that wait for it. */
uint64_t wdr_read_behind_bytes(WdrReadBehind *b);
uint64_t wdr_read_behind_waiting(WdrReadBehind *b);
/* Whether somebody vouches for a node, before its places are looked at. After the finish. */
bool wdr_read_behind_knows(const WdrReadBehind *b, uint64_t id);
/* It has this content at these places. */
bool wdr_read_behind_holds(const WdrReadBehind *b, uint64_t id, uint64_t places, WdrHash content);
/* Reads the sample once more. After the finish. */
bool wdr_read_behind_check_sample(const WdrReadBehind *b, GError **error) G_GNUC_WARN_UNUSED_RESULT;
