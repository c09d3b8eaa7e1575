/* Gathers small writes into large requests, carried out by a thread.
 *
 * The builders write files one after the other, in rising places. Flash is slow for small requests,
 * so adjoining writes are put together in a buffer, and a thread writes full buffers while the next
 * one is filled. A failure is kept, and the next call to write or drain reports it. `done` counts a
 * buffer only after the write returned, and past the page cache that is when the medium has taken
 * it. */
#include "disk/stream.h"

#include <stdlib.h>
#include <string.h>

typedef struct {
	uint8_t *bytes; /* the allocation: one page longer than the stream's buffer size */
	size_t lead;    /* where data starts, so that memory is aligned as the disk offset is */
	size_t len;
	uint64_t offset;
} Buffer;

struct WdrStream {
	WdrBlockDev *dev;
	size_t buffer_bytes;
	WdrStreamDone done;
	void *data;
	uint64_t handed;    /* bytes */
	Buffer *filling;    /* NULL: none taken */
	GAsyncQueue *empty; /* Buffer */
	GAsyncQueue *full;  /* Buffer; the stream itself as the end mark */
	GThread *thread;
	GPtrArray *all;
	GMutex lock;
	GError *failure; /* under lock */
};

enum { PAGE = 4096 };

static void write_buffer(WdrStream *s, const Buffer *b)
{
	GError *error = NULL;

	g_mutex_lock(&s->lock);
	bool has_failed = s->failure != NULL;
	g_mutex_unlock(&s->lock);
	if (has_failed)
		return;
	if (wdr_blockdev_write(s->dev, b->bytes + b->lead, b->len, b->offset, &error) &&
		wdr_blockdev_settle(s->dev, b->offset, b->len, &error)) {
		if (s->done)
			s->done(s->data, b->len);
		return;
	}
	g_mutex_lock(&s->lock);
	s->failure = error;
	g_mutex_unlock(&s->lock);
}

static void *write_thread(void *data)
{
	WdrStream *s = data;

	for (;;) {
		void *next = g_async_queue_pop(s->full);
		if (next == s)
			return NULL;
		write_buffer(s, next);
		g_async_queue_push(s->empty, next);
	}
}

static void buffer_free(void *data)
{
	Buffer *b = data;

	free(b->bytes);
	g_free(b);
}

WdrStream *wdr_stream_new(
	WdrBlockDev *dev, size_t buffer_bytes, unsigned buffers, WdrStreamDone done, void *data)
{
	WdrStream *s = g_new0(WdrStream, 1);

	s->dev = dev;
	s->buffer_bytes = buffer_bytes;
	s->done = done;
	s->data = data;
	s->empty = g_async_queue_new();
	s->full = g_async_queue_new();
	s->all = g_ptr_array_new_with_free_func(buffer_free);
	g_mutex_init(&s->lock);
	for (unsigned i = 0; i < buffers; i++) {
		Buffer *b = g_new0(Buffer, 1);
		if (posix_memalign((void **)&b->bytes, PAGE, buffer_bytes + PAGE) != 0)
			g_error("out of memory");
		g_ptr_array_add(s->all, b);
		g_async_queue_push(s->empty, b);
	}
	s->thread = g_thread_new("stream", write_thread, s);
	return s;
}

static bool check(WdrStream *s, GError **error)
{
	g_mutex_lock(&s->lock);
	bool has_failed = s->failure != NULL;
	if (has_failed)
		g_propagate_error(error, g_error_copy(s->failure));
	g_mutex_unlock(&s->lock);
	return !has_failed;
}

static void send_filling(WdrStream *s)
{
	if (s->filling)
		g_async_queue_push(s->full, s->filling);
	s->filling = NULL;
}

static Buffer *take_empty(WdrStream *s, uint64_t offset)
{
	Buffer *b = g_async_queue_pop(s->empty);

	b->offset = offset;
	b->lead = (size_t)(offset % PAGE);
	b->len = 0;
	return b;
}

bool wdr_stream_write(WdrStream *s, const void *buf, size_t len, uint64_t offset, GError **error)
{
	const uint8_t *at = buf;

	s->handed += len;
	while (len > 0) {
		Buffer *b = s->filling;
		if (b && (b->offset + b->len != offset || b->lead + b->len >= s->buffer_bytes)) {
			send_filling(s);
			b = NULL;
		}
		if (!b) {
			b = s->filling = take_empty(s, offset);
			if (!check(s, error))
				return false;
		}
		size_t part = MIN(len, s->buffer_bytes - b->lead - b->len);
		memcpy(b->bytes + b->lead + b->len, at, part);
		b->len += part;
		at += part;
		len -= part;
		offset += part;
	}
	return true;
}

uint64_t wdr_stream_handed(const WdrStream *s)
{
	return s->handed;
}

bool wdr_stream_drain(WdrStream *s, GError **error)
{
	send_filling(s);
	/* With every buffer back in our hands nothing is under way. */
	for (unsigned i = 0; i < s->all->len; i++)
		(void)g_async_queue_pop(s->empty);
	for (unsigned i = 0; i < s->all->len; i++)
		g_async_queue_push(s->empty, s->all->pdata[i]);
	return check(s, error);
}

void wdr_stream_free(WdrStream *s)
{
	if (!s)
		return;
	g_async_queue_push(s->full, s);
	g_thread_join(s->thread);
	g_async_queue_unref(s->empty);
	g_async_queue_unref(s->full);
	g_ptr_array_unref(s->all);
	g_clear_error(&s->failure);
	g_mutex_clear(&s->lock);
	g_free(s);
}
