/* Real requests: one at a time, or several through io_uring. */
#include "pace/pace_queue.h"

#include "base/io.h"

#include <errno.h>
#include <liburing.h>
#include <time.h>

struct WdrPaceQueue {
	int fd;
	const WdrPaceOps *ops;
	WdrPaceRequest *done; /* at_once 1 */
	struct io_uring ring;
	bool has_ring;
	GThreadPool *threads; /* where there is no ring */
	GAsyncQueue *ended;
};

uint64_t wdr_pace_clock(void *self)
{
	struct timespec t;

	(void)self;
	clock_gettime(CLOCK_MONOTONIC, &t);
	return (uint64_t)t.tv_sec * 1000000000 + (uint64_t)t.tv_nsec;
}

static int flush(void *self)
{
	const WdrPaceQueue *q = self;

	return fdatasync(q->fd) == 0 ? 0 : errno;
}

/* ---- one at a time ---- */

static void carry_out(const WdrPaceQueue *q, WdrPaceRequest *r)
{
	g_autoptr(GError) error = NULL;

	r->begun = wdr_pace_clock(NULL);
	bool is_fine = r->is_write ? wdr_pwrite_all(q->fd, r->buf, r->len, r->offset, &error)
				   : wdr_pread_all(q->fd, r->buf, r->len, r->offset, &error);
	r->ended = wdr_pace_clock(NULL);
	int failed = is_fine ? 0 : wdr_error_get_errno(error);
	/* A short read has none: the end came sooner than it should. */
	r->failed = is_fine || failed ? failed : EIO;
}

static void submit_one(void *self, WdrPaceRequest *r)
{
	WdrPaceQueue *q = self;

	carry_out(q, r);
	q->done = r;
}

static WdrPaceRequest *reap_one(void *self)
{
	return ((WdrPaceQueue *)self)->done;
}

static const WdrPaceOps one_ops = { submit_one, reap_one, flush, wdr_pace_clock };

/* ---- through io_uring ---- */

static void submit_to_ring(void *self, WdrPaceRequest *r)
{
	WdrPaceQueue *q = self;
	/* There are as many entries as requests. */
	struct io_uring_sqe *sqe = io_uring_get_sqe(&q->ring);

	if (r->is_write)
		io_uring_prep_write(sqe, q->fd, r->buf, (unsigned)r->len, r->offset);
	else
		io_uring_prep_read(sqe, q->fd, r->buf, (unsigned)r->len, r->offset);
	io_uring_sqe_set_data(sqe, r);
	r->begun = wdr_pace_clock(NULL);
}

/* What was submitted since goes to the kernel with the wait for the next one. */
static WdrPaceRequest *reap_from_ring(void *self)
{
	WdrPaceQueue *q = self;
	struct io_uring_cqe *cqe = NULL;

	while (io_uring_peek_cqe(&q->ring, &cqe) != 0)
		io_uring_submit_and_wait(&q->ring, 1);
	WdrPaceRequest *r = io_uring_cqe_get_data(cqe);
	r->ended = wdr_pace_clock(NULL);
	r->failed = cqe->res < 0 ? -cqe->res : (size_t)cqe->res == r->len ? 0 : EIO;
	io_uring_cqe_seen(&q->ring, cqe);
	return r;
}

static const WdrPaceOps ring_ops = { submit_to_ring, reap_from_ring, flush, wdr_pace_clock };

/* ---- through threads ---- */

static void work(void *data, void *user_data)
{
	WdrPaceQueue *q = user_data;

	carry_out(q, data);
	g_async_queue_push(q->ended, data);
}

static void submit_to_threads(void *self, WdrPaceRequest *r)
{
	g_thread_pool_push(((WdrPaceQueue *)self)->threads, r, NULL);
}

static WdrPaceRequest *reap_from_threads(void *self)
{
	return g_async_queue_pop(((WdrPaceQueue *)self)->ended);
}

static const WdrPaceOps thread_ops = { submit_to_threads, reap_from_threads, flush,
	wdr_pace_clock };

/* Kernels before 5.6 have rings that know no plain reads and writes. */
static bool make_ring(struct io_uring *ring, unsigned entries)
{
	if (io_uring_queue_init(entries, ring, 0) != 0)
		return false;
	struct io_uring_probe *probe = io_uring_get_probe_ring(ring);
	bool is_able = probe && io_uring_opcode_supported(probe, IORING_OP_READ) &&
		       io_uring_opcode_supported(probe, IORING_OP_WRITE);
	io_uring_free_probe(probe);
	if (!is_able)
		io_uring_queue_exit(ring);
	return is_able;
}

WdrPaceQueue *wdr_pace_queue_new(int fd, unsigned at_once)
{
	WdrPaceQueue *q = g_new0(WdrPaceQueue, 1);

	q->fd = fd;
	if (at_once == 1) {
		q->ops = &one_ops;
	} else if (make_ring(&q->ring, at_once)) {
		q->has_ring = true;
		q->ops = &ring_ops;
	} else {
		q->ended = g_async_queue_new();
		q->threads = g_thread_pool_new(work, q, (int)at_once, FALSE, NULL);
		q->ops = &thread_ops;
	}
	return q;
}

void wdr_pace_queue_free(WdrPaceQueue *q)
{
	if (!q)
		return;
	if (q->has_ring)
		io_uring_queue_exit(&q->ring);
	if (q->threads)
		g_thread_pool_free(q->threads, FALSE, TRUE);
	if (q->ended)
		g_async_queue_unref(q->ended);
	g_free(q);
}

const WdrPaceOps *wdr_pace_queue_ops(const WdrPaceQueue *q)
{
	return q->ops;
}
