/* Writes that come in small pieces at rising offsets, gathered into large requests which a thread
 * of its own carries out while the caller makes the next ones. A piece that does not follow the one
 * before it starts a new request. */
#pragma once

#include "disk/blockdev.h"
#include "disk/buffers.h"

typedef struct WdrStream WdrStream;

/* Called by the writing thread once `bytes` more are with the medium. */
typedef void (*WdrStreamDone)(void *data, uint64_t bytes);

/* dev is borrowed. 3.5 MiB of memory. */
WdrStream *wdr_stream_new(WdrBlockDev *dev, WdrStreamDone done, void *data);
/* An error of an earlier request is reported by the next call, whichever that is. */
bool wdr_stream_write(WdrStream *s, const void *buf, size_t len, uint64_t offset,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* The same of `len` bytes at the start of a buffer (disk/buffers.h), without copying them where
 * that pays: *buffer is then exchanged for another. */
bool wdr_stream_give(WdrStream *s, uint8_t **buffer, size_t len, uint64_t offset,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Bytes that were handed over so far; `done` counts up to it. Only the caller of the writes may
 * ask. */
uint64_t wdr_stream_handed(const WdrStream *s);
/* Waits until all is written. Needed before what was written is read or changed by other ways. */
bool wdr_stream_drain(WdrStream *s, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Drops what was not drained. */
void wdr_stream_free(WdrStream *s);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(WdrStream, wdr_stream_free)
