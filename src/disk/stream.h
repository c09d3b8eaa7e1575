/* Writes that come in small pieces at rising offsets, gathered into large requests which a thread
 * of its own carries out while the caller makes the next ones. A piece that does not follow the one
 * before it starts a new request. Memory: `buffers` times `buffer_bytes`. */
#pragma once

#include "disk/blockdev.h"

typedef struct WdrStream WdrStream;

/* Called by the writing thread once `bytes` more are with the medium. */
typedef void (*WdrStreamDone)(void *data, uint64_t bytes);

/* dev is borrowed. */
WdrStream *wdr_stream_new(
	WdrBlockDev *dev, size_t buffer_bytes, unsigned buffers, WdrStreamDone done, void *data);
/* An error of an earlier request is reported by the next call, whichever that is. */
bool wdr_stream_write(WdrStream *s, const void *buf, size_t len, uint64_t offset,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Bytes that were handed over so far; `done` counts up to it. Only the caller of the writes may
 * ask. */
uint64_t wdr_stream_handed(const WdrStream *s);
/* Waits until all is written. Needed before what was written is read or changed by other ways. */
bool wdr_stream_drain(WdrStream *s, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Drops what was not drained. */
void wdr_stream_free(WdrStream *s);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(WdrStream, wdr_stream_free)
