/* Gathers small writes into large requests, carried out by a thread.
 *
 * The builders write files one after the other, in rising places. Flash is slow for small requests,
 * so adjoining writes are put together in a request of several buffers of memory, and a thread
 * writes full requests while the next one is filled. Small pieces are copied into a block; a block
 * that is full already is taken as it is, and the caller gets another. A failure is kept, and the
 * next call to write or drain reports it. `done` counts a request only after the write returned,
 * and past the page cache that is when the medium has taken it. */
#include "disk/stream.h"

#include <string.h>
#include <sys/uio.h>

enum {
	PAGE = 4096,
	REQUEST_BYTES = 1024 * 1024,
	/* Buffers of a request may be partly filled. Some must be left for the request that is
	 * being written. */
	REQUEST_BUFFERS = 3,
	BUFFERS = 7, /* with the one for reading back, two huge pages */
	/* Copying less is cheaper than a request with more pieces. */
	GIVE_BYTES_MIN = 64 * 1024,
};

/* Bytes that follow each other on the disk. */
typedef struct {
	uint64_t offset;
	size_t len;
	unsigned n;
	struct iovec pieces[REQUEST_BUFFERS]; /* what is filled of: */
	uint8_t *buffers[REQUEST_BUFFERS];
} Request;

struct WdrStream {
	WdrBlockDev *dev;
	WdrStreamDone done;
	void *data;
	uint64_t handed;    /* bytes */
	Request *filling;   /* NULL: none */
	GAsyncQueue *empty; /* buffers */
	GAsyncQueue *full;  /* Request; the stream itself as the end mark */
	GThread *thread;
	GMutex lock;
	GError *failure; /* under lock */
};

static void write_request(WdrStream *s, const Request *q)
{
	GError *error = NULL;

	g_mutex_lock(&s->lock);
	bool has_failed = s->failure != NULL;
	g_mutex_unlock(&s->lock);
	if (has_failed)
		return;
	if (wdr_blockdev_write_pieces(s->dev, q->pieces, q->n, q->offset, &error) &&
		wdr_blockdev_settle(s->dev, q->offset, q->len, &error)) {
		if (s->done)
			s->done(s->data, q->len);
		return;
	}
	g_mutex_lock(&s->lock);
	s->failure = error;
	g_mutex_unlock(&s->lock);
}

/* The memory that was used last is taken first: the processor still has it. */
static void end_request(WdrStream *s, Request *q)
{
	for (unsigned i = 0; i < q->n; i++)
		g_async_queue_push_front(s->empty, q->buffers[i]);
	g_free(q);
}

static void *write_thread(void *data)
{
	WdrStream *s = data;

	for (;;) {
		void *next = g_async_queue_pop(s->full);
		if (next == s)
			return NULL;
		write_request(s, next);
		end_request(s, next);
	}
}

WdrStream *wdr_stream_new(WdrBlockDev *dev, WdrStreamDone done, void *data)
{
	WdrStream *s = g_new0(WdrStream, 1);

	s->dev = dev;
	s->done = done;
	s->data = data;
	s->empty = g_async_queue_new();
	s->full = g_async_queue_new();
	g_mutex_init(&s->lock);
	for (unsigned i = 0; i < BUFFERS; i++)
		g_async_queue_push(s->empty, wdr_buffer_new());
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

/* Makes a request to which another buffer can be added whose bytes belong at `offset`. */
static Request *fit_request(WdrStream *s, uint64_t offset)
{
	const Request *q = s->filling;

	if (q && (q->offset + q->len != offset || q->n == REQUEST_BUFFERS ||
			 q->len >= REQUEST_BYTES))
		send_filling(s);
	if (!s->filling) {
		s->filling = g_new0(Request, 1);
		s->filling->offset = offset;
	}
	return s->filling;
}

/* In memory, the first byte is placed within its page as it is on the disk. */
static void add_buffer(Request *q, uint8_t *buffer, size_t len, uint64_t offset)
{
	q->buffers[q->n] = buffer;
	q->pieces[q->n] = (struct iovec){ buffer + offset % PAGE, len };
	q->n++;
	q->len += len;
}

/* What is left of the last buffer, where bytes for this offset can be put; 0: nothing. */
static size_t room_for(const Request *q, uint64_t offset, uint8_t **ret)
{
	if (!q || q->n == 0 || q->offset + q->len != offset)
		return 0;
	const struct iovec *last = &q->pieces[q->n - 1];
	*ret = (uint8_t *)last->iov_base + last->iov_len;
	return (size_t)(q->buffers[q->n - 1] + WDR_BUFFER_BYTES - *ret);
}

bool wdr_stream_write(WdrStream *s, const void *buf, size_t len, uint64_t offset, GError **error)
{
	const uint8_t *at = buf;

	s->handed += len;
	while (len > 0) {
		uint8_t *to = NULL;
		size_t part = MIN(len, room_for(s->filling, offset, &to));
		if (part == 0) {
			Request *q = fit_request(s, offset);
			add_buffer(q, g_async_queue_pop(s->empty), 0, offset);
			if (!check(s, error))
				return false;
			continue;
		}
		memcpy(to, at, part);
		s->filling->pieces[s->filling->n - 1].iov_len += part;
		s->filling->len += part;
		at += part;
		len -= part;
		offset += part;
	}
	return true;
}

bool wdr_stream_give(WdrStream *s, uint8_t **buffer, size_t len, uint64_t offset, GError **error)
{
	if (len < GIVE_BYTES_MIN || offset % PAGE != 0)
		return wdr_stream_write(s, *buffer, len, offset, error);
	Request *q = fit_request(s, offset);
	uint8_t *other = g_async_queue_pop(s->empty);
	s->handed += len;
	add_buffer(q, *buffer, len, offset);
	*buffer = other;
	return check(s, error);
}

uint64_t wdr_stream_handed(const WdrStream *s)
{
	return s->handed;
}

bool wdr_stream_drain(WdrStream *s, GError **error)
{
	void *buffers[BUFFERS];

	send_filling(s);
	/* With every buffer back in our hands nothing is under way. */
	for (unsigned i = 0; i < BUFFERS; i++)
		buffers[i] = g_async_queue_pop(s->empty);
	for (unsigned i = 0; i < BUFFERS; i++)
		g_async_queue_push(s->empty, buffers[i]);
	return check(s, error);
}

void wdr_stream_free(WdrStream *s)
{
	if (!s)
		return;
	g_async_queue_push(s->full, s);
	g_thread_join(s->thread);
	if (s->filling)
		end_request(s, s->filling);
	for (void *buffer; (buffer = g_async_queue_try_pop(s->empty));)
		wdr_buffer_free(buffer);
	g_async_queue_unref(s->empty);
	g_async_queue_unref(s->full);
	g_clear_error(&s->failure);
	g_mutex_clear(&s->lock);
	g_free(s);
}
