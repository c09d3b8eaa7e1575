/* Measures one kind of request in rounds. */
#include "pace/pace.h"

#include "base/cursor.h"
#include "base/io.h"
#include "base/stop.h"
#include "base/text.h"

#include <errno.h>
#include <stdlib.h>
#include <string.h>
#include <sys/resource.h>

#define NS_PER_S 1e9

enum {
	/* A latency is counted by its highest bits: to 1 part in 128. */
	FINE_BITS = 7,
	FINE = 1 << FINE_BITS,
	CELLS = (64 - FINE_BITS + 1) * FINE,
	WARM_UP_PARTS = 2, /* of a round */
	PROGRESS_NS = 100000000,
	PROBES = 16, /* places of a big request that are looked at for zeros */
	PROBE_BYTES = 64,
	ALIGNMENT = 4096,
};
#define UNSTEADY 0.15
#define WARM_UP_MAX_NS 500000000.0

static const WdrPaceKindInfo kinds[] = {
	[WDR_PACE_READ_IN_SEQUENCE] = { "read-in-sequence", "reads in sequence, 1 MiB", false,
		false, false, WDR_PACE_BIG, 1 },
	[WDR_PACE_WRITE_IN_SEQUENCE] = { "write-in-sequence", "writes in sequence, 1 MiB", true,
		false, false, WDR_PACE_BIG, 1 },
	[WDR_PACE_READ_AT_RANDOM] = { "read-at-random", "reads at random, 4 KiB, one at a time",
		false, true, false, WDR_PACE_SMALL, 1 },
	[WDR_PACE_READ_MANY] = { "read-many", "reads at random, 4 KiB, 8 at once", false, true,
		false, WDR_PACE_SMALL, WDR_PACE_AT_ONCE_MAX },
	[WDR_PACE_COMMIT] = { "commit", "commits: 4 KiB written and flushed, one at a time", true,
		true, true, WDR_PACE_SMALL, 1 },
	[WDR_PACE_SMALL_FILES] = { "small-files",
		"small files: 16 KiB written, flushed, read back and removed", true, true, false,
		WDR_PACE_FILE, 1 },
};

typedef struct {
	const WdrWorld *world;
	const WdrPaceMedium *medium;
	const WdrPaceKindInfo *kind;
	uint64_t places; /* requests that fit into the runs */
	uint64_t next;   /* in sequence: the next of these */
	uint64_t stamp;  /* makes every block that is written another one */
	GRand *dice;
	uint8_t *buffers;
	WdrPaceRequest requests[WDR_PACE_AT_ONCE_MAX];
	WdrPaceRequest *idle[WDR_PACE_AT_ONCE_MAX];
	unsigned idle_count;
	bool is_counting; /* the warm-up is over */
	uint64_t *latencies;
	uint64_t read_requests, zero_requests;
	uint64_t begun, expected, told; /* for progress */
	WdrPaceFigure *figure;
} Run;

const WdrPaceKindInfo *wdr_pace_kind(WdrPaceKind kind)
{
	return &kinds[kind];
}

double wdr_pace_spread(const WdrPaceFigure *f)
{
	return f->median > 0 ? (f->max - f->min) / 2 / f->median : 0;
}

bool wdr_pace_is_unsteady(const WdrPaceFigure *f)
{
	return wdr_pace_spread(f) > UNSTEADY;
}

/* ---- latencies ---- */

static size_t cell_of(uint64_t ns)
{
	if (ns < FINE)
		return (size_t)ns;
	unsigned top = 63 - (unsigned)__builtin_clzll(ns);
	unsigned shift = top - FINE_BITS;
	return (size_t)(shift + 1) * FINE + (size_t)((ns >> shift) - FINE);
}

/* The middle of what a cell counts. */
static uint64_t value_of(size_t cell)
{
	if (cell < FINE)
		return cell;
	unsigned shift = (unsigned)(cell / FINE) - 1;
	uint64_t low = (uint64_t)(cell % FINE + FINE) << shift;
	return low + ((UINT64_C(1) << shift) >> 1);
}

static uint64_t quantile(const uint64_t *cells, uint64_t total, double share)
{
	uint64_t want = (uint64_t)((double)total * share);
	uint64_t seen = 0;

	for (size_t i = 0; i < CELLS; i++) {
		seen += cells[i];
		if (seen > want)
			return value_of(i);
	}
	return 0;
}

/* ---- requests ---- */

static uint64_t now(const Run *r)
{
	return r->medium->ops->now(r->medium->self);
}

uint64_t wdr_pace_runs_size(const GArray *runs)
{
	uint64_t total = 0;

	for (guint i = 0; i < runs->len; i++)
		total += g_array_index(runs, WdrPaceRun, i).size;
	return total;
}

/* Where byte `at` of all runs put together lies. */
static uint64_t place_of(const GArray *runs, uint64_t at)
{
	guint i = 0;

	for (; i + 1 < runs->len && at >= g_array_index(runs, WdrPaceRun, i).size; i++)
		at -= g_array_index(runs, WdrPaceRun, i).size;
	return g_array_index(runs, WdrPaceRun, i).start + at;
}

static uint64_t choose_place(Run *r)
{
	uint64_t place = r->kind->is_random ? (uint64_t)(g_rand_double(r->dice) * (double)r->places)
					    : r->next++;

	if (!r->kind->is_random)
		r->figure->reached =
			MAX(r->figure->reached, MIN(r->next, r->places) * r->kind->request_bytes);
	return place_of(r->medium->runs, place % r->places * r->kind->request_bytes);
}

/* What was written before must not be found again by a medium that looks for it. */
static void stamp(Run *r, WdrPaceRequest *request)
{
	for (size_t at = 0; at < request->len; at += WDR_PACE_SMALL)
		wdr_put_le64(request->buf + at, r->stamp++);
}

static void submit(Run *r)
{
	WdrPaceRequest *request = r->idle[--r->idle_count];

	request->is_write = r->kind->is_write;
	request->len = r->kind->request_bytes;
	request->offset = choose_place(r);
	request->failed = 0;
	if (request->is_write)
		stamp(r, request);
	r->medium->ops->submit(r->medium->self, request);
}

/* Of a big request only some places are looked at, since this is time that counts. */
static bool is_zero(const WdrPaceRequest *request)
{
	size_t step = request->len / PROBES;

	for (size_t at = 0; at < request->len; at += step) {
		if (!wdr_is_zero(request->buf + at, PROBE_BYTES))
			return false;
	}
	return true;
}

static bool reap(Run *r, uint64_t *bytes, GError **error)
{
	WdrPaceRequest *request = r->medium->ops->reap(r->medium->self);

	r->idle[r->idle_count++] = request;
	if (r->kind->is_flushed && !request->failed) {
		request->failed = r->medium->ops->flush(r->medium->self);
		request->ended = now(r);
	}
	if (request->failed)
		return wdr_error_set_errno(error, request->failed,
			"%s %s at byte %" G_GUINT64_FORMAT,
			request->is_write ? "writing to" : "reading", r->medium->name,
			request->offset);
	*bytes += request->len;
	r->figure->moved += request->len;
	if (!r->is_counting)
		return true;
	uint64_t latency = request->ended - request->begun;
	r->latencies[cell_of(latency)]++;
	r->figure->latency_max = MAX(r->figure->latency_max, latency);
	r->figure->requests++;
	r->read_requests += !request->is_write;
	r->zero_requests += !request->is_write && is_zero(request);
	return true;
}

static void tell(Run *r, uint64_t at)
{
	if (at - r->told < PROGRESS_NS)
		return;
	r->told = at;
	double share = (double)(at - r->begun) / (double)r->expected;
	WdrProgress progress = { .share = MIN(share, 1), .bytes_done = r->figure->bytes };
	if (r->figure->duration > 0)
		progress.bytes_per_s =
			(double)r->figure->bytes / (double)r->figure->duration * NS_PER_S;
	wdr_world_progress(r->world, &progress);
}

/* Those that are under way have to end before the buffers go. */
static void drain(Run *r)
{
	while (r->idle_count < r->kind->at_once)
		r->idle[r->idle_count++] = r->medium->ops->reap(r->medium->self);
}

/* What is written counts when the medium has it: the flush belongs to the round. */
static bool do_round(Run *r, uint64_t length, uint64_t *ret_bytes, uint64_t *ret_ns, GError **error)
{
	uint64_t begun = now(r);
	uint64_t at = begun;
	uint64_t bytes = 0;

	while (at - begun < length || r->idle_count < r->kind->at_once) {
		while (at - begun < length && r->idle_count > 0)
			submit(r);
		if (!reap(r, &bytes, error) || !wdr_stop_check(error))
			return false;
		at = now(r);
		tell(r, at);
	}
	int failed = r->kind->is_write ? r->medium->ops->flush(r->medium->self) : 0;
	if (failed)
		return wdr_error_set_errno(error, failed, "flushing %s", r->medium->name);
	*ret_bytes = bytes;
	*ret_ns = MAX(now(r) - begun, 1);
	return true;
}

static bool do_rounds(Run *r, double seconds, GError **error)
{
	uint64_t length = (uint64_t)(seconds * NS_PER_S / WDR_PACE_ROUNDS);
	uint64_t warm_up = (uint64_t)MIN((double)(length / WARM_UP_PARTS), WARM_UP_MAX_NS);
	WdrPaceFigure *f = r->figure;
	uint64_t bytes = 0;
	uint64_t ns = 0;

	r->begun = now(r);
	r->expected = MAX(warm_up + WDR_PACE_ROUNDS * length, 1);
	if (!do_round(r, warm_up, &bytes, &ns, error))
		return false;
	r->is_counting = true;
	for (unsigned i = 0; i < WDR_PACE_ROUNDS; i++) {
		if (!do_round(r, length, &bytes, &ns, error))
			return false;
		f->bytes_per_s[i] = (double)bytes / (double)ns * NS_PER_S;
		f->bytes += bytes;
		f->duration += ns;
	}
	return true;
}

static int by_size(const void *a, const void *b)
{
	double x = *(const double *)a;
	double y = *(const double *)b;

	return (x > y) - (x < y);
}

static void conclude(Run *r)
{
	WdrPaceFigure *f = r->figure;
	double sorted[WDR_PACE_ROUNDS];

	memcpy(sorted, f->bytes_per_s, sizeof(sorted));
	qsort(sorted, WDR_PACE_ROUNDS, sizeof(*sorted), by_size);
	f->min = sorted[0];
	f->median = sorted[WDR_PACE_ROUNDS / 2];
	f->max = sorted[WDR_PACE_ROUNDS - 1];
	/* The middle of a cell may lie above all that it counts. */
	f->latency_median = MIN(quantile(r->latencies, f->requests, 0.5), f->latency_max);
	f->latency_p99 = MIN(quantile(r->latencies, f->requests, 0.99), f->latency_max);
	f->zeros = r->read_requests ? (double)r->zero_requests / (double)r->read_requests : 0;
	f->is_there = true;
}

void wdr_pace_scramble(GRand *dice, uint8_t *buf, size_t len)
{
	for (size_t at = 0; at < len; at += sizeof(guint32)) {
		guint32 word = g_rand_int(dice);
		memcpy(buf + at, &word, sizeof(word));
	}
}

static void fill_buffers(Run *r, size_t each)
{
	wdr_pace_scramble(r->dice, r->buffers, each * r->kind->at_once);
	r->stamp = (uint64_t)g_rand_int(r->dice) << 32;
	for (unsigned i = 0; i < r->kind->at_once; i++) {
		r->requests[i].buf = r->buffers + i * each;
		r->idle[r->idle_count++] = &r->requests[i];
	}
}

static double processor_seconds(void)
{
	struct rusage u;

	if (getrusage(RUSAGE_SELF, &u) != 0)
		return 0;
	return (double)(u.ru_utime.tv_sec + u.ru_stime.tv_sec) +
	       (double)(u.ru_utime.tv_usec + u.ru_stime.tv_usec) / 1e6;
}

static bool measure(Run *r, double seconds, GError **error)
{
	size_t each = r->kind->request_bytes;
	void *buffers = NULL;

	/* In plain pages: large ones make requests cheaper than those of other programs are. */
	if (posix_memalign(&buffers, ALIGNMENT, each * r->kind->at_once) != 0)
		return wdr_error_set(error, WDR_ERROR_IO, "out of memory");
	r->buffers = buffers;
	r->dice = g_rand_new();
	r->latencies = g_new0(uint64_t, CELLS);
	fill_buffers(r, each);
	double before = processor_seconds();
	uint64_t begun = now(r);
	bool is_fine = do_rounds(r, seconds, error);
	if (!is_fine)
		drain(r);
	r->figure->cpu =
		(processor_seconds() - before) / ((double)MAX(now(r) - begun, 1) / NS_PER_S);
	if (is_fine)
		conclude(r);
	g_free(r->latencies);
	g_rand_free(r->dice);
	free(buffers);
	return is_fine;
}

bool wdr_pace_measure(const WdrWorld *world, const WdrPaceMedium *medium, WdrPaceKind kind,
	double seconds, WdrPaceFigure *ret, GError **error)
{
	WdrPaceFigure figure = { 0 };
	Run r = { .world = world, .medium = medium, .kind = &kinds[kind], .figure = &figure };

	r.places = wdr_pace_runs_size(medium->runs) / r.kind->request_bytes;
	if (r.places == 0)
		return wdr_error_set(error, WDR_ERROR_REFUSED,
			"%s is too small to be measured: there is less than one request of 1 MiB",
			medium->name);
	if (!measure(&r, seconds, error))
		return false;
	*ret = figure;
	return true;
}
