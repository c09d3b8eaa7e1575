/* Measuring, over a medium whose speed is known and whose clock is its own: nothing here takes
 * time, and how busy the machine is does not matter. */
#include "support.h"

#include "base/stop.h"
#include "pace/pace.h"

#include <errno.h>
#include <signal.h>
#include <string.h>

Suite *suite_pace(void);

/* A request waits for the channel that is free first, then takes its latency there; its bytes go
 * over one link, which all channels share. */
typedef struct {
	double bytes_per_s, latency_s;
	unsigned channels;
	double flush_s;
	double slow_from_s; /* from then on half as fast; 0: never */
	uint64_t fails_at;  /* the request over this byte; 0: none */
	bool has_zeros;

	double now, link_free, channel_free[WDR_PACE_AT_ONCE_MAX];
	WdrPaceRequest *under_way[WDR_PACE_AT_ONCE_MAX];
	double ends[WDR_PACE_AT_ONCE_MAX];
	unsigned count, most;
	uint64_t requests, flushes, lowest, highest;
	bool is_misaligned;
} Medium;

static void submit(void *self, WdrPaceRequest *r)
{
	Medium *m = self;
	unsigned best = 0;

	for (unsigned i = 1; i < m->channels; i++)
		best = m->channel_free[i] < m->channel_free[best] ? i : best;
	double half = m->slow_from_s > 0 && m->now >= m->slow_from_s ? 2 : 1;
	double ready = MAX(m->now, m->channel_free[best]) + m->latency_s * half;
	m->link_free = MAX(m->link_free, ready) + (double)r->len / m->bytes_per_s * half;
	m->channel_free[best] = m->link_free;
	r->begun = (uint64_t)(m->now * 1e9);
	r->failed = m->fails_at && r->offset <= m->fails_at && m->fails_at < r->offset + r->len
			    ? EIO
			    : 0;
	if (!r->is_write)
		memset(r->buf, m->has_zeros ? 0 : 0x5a, r->len);
	m->is_misaligned |= r->offset % r->len != 0 || (uintptr_t)r->buf % 4096 != 0;
	m->lowest = MIN(m->lowest, r->offset);
	m->highest = MAX(m->highest, r->offset + r->len);
	m->requests++;
	m->under_way[m->count] = r;
	m->ends[m->count++] = m->link_free;
	m->most = MAX(m->most, m->count);
}

static WdrPaceRequest *reap(void *self)
{
	Medium *m = self;
	unsigned next = 0;

	for (unsigned i = 1; i < m->count; i++)
		next = m->ends[i] < m->ends[next] ? i : next;
	WdrPaceRequest *r = m->under_way[next];
	m->now = MAX(m->now, m->ends[next]);
	r->ended = (uint64_t)(m->now * 1e9);
	m->count--;
	m->under_way[next] = m->under_way[m->count];
	m->ends[next] = m->ends[m->count];
	return r;
}

static int flush(void *self)
{
	Medium *m = self;

	m->now += m->flush_s;
	m->flushes++;
	return 0;
}

static uint64_t now(void *self)
{
	return (uint64_t)(((const Medium *)self)->now * 1e9);
}

static const WdrPaceOps ops = { submit, reap, flush, now };

static bool measure(Medium *m, WdrPaceKind kind, uint64_t size, WdrPaceFigure *ret, GError **error)
{
	g_autoptr(GArray) runs = g_array_new(FALSE, FALSE, sizeof(WdrPaceRun));
	WdrPaceRun run = { 64 * 1024 * 1024, size };
	WdrPaceMedium medium = { &ops, m, "medium", runs };

	m->lowest = UINT64_MAX;
	g_array_append_val(runs, run);
	return wdr_pace_measure(sup_world(), &medium, kind, 5, ret, error);
}

static void assert_near(double is, double want, double share, const char *what)
{
	ck_assert_msg(is > want * (1 - share) && is < want * (1 + share), "%s: %g instead of %g",
		what, is, want);
}

static const struct {
	const char *name;
	Medium medium;
	WdrPaceKind kind;
	double want_per_s; /* requests */
	double latency_s;  /* median */
} media[] = {
	{ "a card, in sequence", { .bytes_per_s = 22e6, .latency_s = 0.0012, .channels = 1 },
		WDR_PACE_READ_IN_SEQUENCE, 1 / (0.0012 + 1048576 / 22e6), 0.0012 + 1048576 / 22e6 },
	{ "a drive, in sequence", { .bytes_per_s = 900e6, .latency_s = 0.00008, .channels = 8 },
		WDR_PACE_READ_IN_SEQUENCE, 1 / (0.00008 + 1048576 / 900e6),
		0.00008 + 1048576 / 900e6 },
	{ "a very slow one", { .bytes_per_s = 0.9e6, .latency_s = 0.01, .channels = 1 },
		WDR_PACE_READ_IN_SEQUENCE, 1 / (0.01 + 1048576 / 0.9e6), 0.01 + 1048576 / 0.9e6 },
	{ "a card, at random", { .bytes_per_s = 22e6, .latency_s = 0.0008, .channels = 1 },
		WDR_PACE_READ_AT_RANDOM, 1 / (0.0008 + 4096 / 22e6), 0.0008 + 4096 / 22e6 },
	{ "a card has one channel", { .bytes_per_s = 22e6, .latency_s = 0.0008, .channels = 1 },
		WDR_PACE_READ_MANY, 1 / (0.0008 + 4096 / 22e6), 8 * (0.0008 + 4096 / 22e6) },
	{ "a drive has many", { .bytes_per_s = 100e6, .latency_s = 0.00008, .channels = 8 },
		WDR_PACE_READ_MANY, 100e6 / 4096, 8 * 4096 / 100e6 },
	{ "eight channels", { .bytes_per_s = 1e12, .latency_s = 0.0001, .channels = 8 },
		WDR_PACE_READ_MANY, 8 / 0.0001, 0.0001 },
	{ "writes in sequence, flushed each round",
		{ .bytes_per_s = 100e6, .latency_s = 0, .channels = 1, .flush_s = 1 },
		WDR_PACE_WRITE_IN_SEQUENCE, 100e6 / 1048576 * 5 / 12, 1048576 / 100e6 },
	{ "commits", { .bytes_per_s = 10e6, .latency_s = 0.002, .channels = 1, .flush_s = 0.01 },
		WDR_PACE_COMMIT, 1 / (0.012 + 4096 / 10e6), 0.012 + 4096 / 10e6 },
	{ "small files", { .bytes_per_s = 10e6, .latency_s = 0.002, .channels = 1 },
		WDR_PACE_SMALL_FILES, 1 / (0.002 + 16384 / 10e6), 0.002 + 16384 / 10e6 },
};

START_TEST(finds_the_known_speed)
{
	Medium m = media[_i].medium;
	const WdrPaceKindInfo *kind = wdr_pace_kind(media[_i].kind);
	WdrPaceFigure f;

	sup_ok(measure(&m, media[_i].kind, 512 * 1024 * 1024, &f, &error));
	assert_near(f.median / kind->request_bytes, media[_i].want_per_s, 0.05, media[_i].name);
	assert_near((double)f.latency_median / 1e9, media[_i].latency_s, 0.05, media[_i].name);
	ck_assert(f.latency_p99 >= f.latency_median && f.latency_max >= f.latency_p99);
	ck_assert(!wdr_pace_is_unsteady(&f));
	ck_assert(f.is_there && f.requests > 0 && f.moved > f.bytes);
	ck_assert_uint_eq(m.most, kind->at_once);
	/* The warm-up's, each round's, and each commit's. */
	uint64_t commits = kind->is_flushed ? f.moved / kind->request_bytes : 0;
	ck_assert_uint_eq(m.flushes, kind->is_write ? 1 + WDR_PACE_ROUNDS + commits : 0);
}
END_TEST

START_TEST(stays_within_its_runs)
{
	for (unsigned kind = 0; kind < WDR_PACE_KINDS; kind++) {
		Medium m = { .bytes_per_s = 200e6, .channels = 1 };
		WdrPaceFigure f;
		sup_ok(measure(&m, (WdrPaceKind)kind, 16 * 1024 * 1024, &f, &error));
		ck_assert_uint_ge(m.lowest, 64 * 1024 * 1024);
		ck_assert_uint_le(m.highest, 80 * 1024 * 1024);
		/* All of it is used: of 4096 places the first and the last are hit by chance only.
		 */
		ck_assert_uint_lt(m.lowest, 65 * 1024 * 1024);
		ck_assert_uint_gt(m.highest, 79 * 1024 * 1024);
		ck_assert(!m.is_misaligned);
	}
}
END_TEST

START_TEST(goes_from_run_to_run)
{
	g_autoptr(GArray) runs = g_array_new(FALSE, FALSE, sizeof(WdrPaceRun));
	const WdrPaceRun three[] = { { 0, 1048576 }, { 5 * 1048576, 2097152 },
		{ 1048576 * 90, 1048576 } };
	Medium m = { .bytes_per_s = 10e6, .channels = 1, .lowest = UINT64_MAX };
	WdrPaceMedium medium = { &ops, &m, "medium", runs };
	WdrPaceFigure f;

	g_array_append_vals(runs, three, 3);
	sup_ok(wdr_pace_measure(sup_world(), &medium, WDR_PACE_READ_IN_SEQUENCE, 5, &f, &error));
	ck_assert_uint_eq(m.lowest, 0);
	ck_assert_uint_eq(m.highest, 91 * 1048576);
	ck_assert_uint_eq(f.reached, 4 * 1048576);
}
END_TEST

START_TEST(tells_what_is_unsteady)
{
	/* Half as fast from the third round on. */
	Medium m = { .bytes_per_s = 50e6, .channels = 1, .slow_from_s = 2.5 };
	WdrPaceFigure f;

	sup_ok(measure(&m, WDR_PACE_READ_IN_SEQUENCE, 512 * 1024 * 1024, &f, &error));
	ck_assert(wdr_pace_is_unsteady(&f));
	assert_near(f.max, 50e6, 0.05, "the fastest round");
	assert_near(f.min, 25e6, 0.05, "the slowest round");
	assert_near(f.median, 25e6, 0.05, "the median");
}
END_TEST

START_TEST(sees_zeros)
{
	Medium m = { .bytes_per_s = 50e6, .channels = 1, .has_zeros = true };
	WdrPaceFigure f;

	sup_ok(measure(&m, WDR_PACE_READ_IN_SEQUENCE, 512 * 1024 * 1024, &f, &error));
	ck_assert(f.zeros == 1.0);
	m.has_zeros = false;
	sup_ok(measure(&m, WDR_PACE_READ_AT_RANDOM, 512 * 1024 * 1024, &f, &error));
	ck_assert(f.zeros == 0.0);
}
END_TEST

START_TEST(tells_where_it_failed)
{
	Medium m = { .bytes_per_s = 50e6, .channels = 4, .fails_at = 70 * 1048576 + 5 };
	WdrPaceFigure f = { .median = 7 };

	sup_fails(WDR_ERROR_IO, "reading medium at byte 73400320",
		measure(&m, WDR_PACE_READ_IN_SEQUENCE, 512 * 1024 * 1024, &f, &error));
	ck_assert(f.median == 7);
	/* Whatever was under way has come back. */
	sup_fails(WDR_ERROR_IO, "writing to medium at byte",
		measure(&m, WDR_PACE_COMMIT, 16 * 1048576, &f, &error));
	ck_assert_uint_eq(m.count, 0);
}
END_TEST

START_TEST(stops_when_asked)
{
	Medium m = { .bytes_per_s = 50e6, .channels = 8 };
	WdrPaceFigure f;

	wdr_stop_request(SIGTERM);
	sup_fails(WDR_ERROR_STOPPED, "SIGTERM",
		measure(&m, WDR_PACE_READ_MANY, 512 * 1024 * 1024, &f, &error));
	ck_assert_uint_eq(m.count, 0);
	wdr_stop_clear();
}
END_TEST

START_TEST(needs_room_for_a_request)
{
	Medium m = { .bytes_per_s = 50e6, .channels = 1 };
	WdrPaceFigure f;

	sup_fails(WDR_ERROR_REFUSED, "too small to be measured",
		measure(&m, WDR_PACE_READ_IN_SEQUENCE, 65536, &f, &error));
	ck_assert_uint_eq(m.requests, 0);
}
END_TEST

Suite *suite_pace(void)
{
	Suite *s = suite_create("pace/pace");
	TCase *tc = tcase_create("pace");

	tcase_add_checked_fixture(tc, sup_setup, sup_teardown);
	tcase_add_loop_test(tc, finds_the_known_speed, 0, G_N_ELEMENTS(media));
	tcase_add_test(tc, stays_within_its_runs);
	tcase_add_test(tc, goes_from_run_to_run);
	tcase_add_test(tc, tells_what_is_unsteady);
	tcase_add_test(tc, sees_zeros);
	tcase_add_test(tc, tells_where_it_failed);
	tcase_add_test(tc, stops_when_asked);
	tcase_add_test(tc, needs_room_for_a_request);
	suite_add_tcase(s, tc);
	return s;
}
