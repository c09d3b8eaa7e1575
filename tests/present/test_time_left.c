/* The time left of a whole move, on a clock of its own. */
#include "suite.h"

#include "present/time_left.h"

#include <math.h>

Suite *suite_time_left(void);

#define GIB (UINT64_C(1) << 30)

/* A disk takes a time for each entry and for each byte. An entry takes about a third of a request:
 * inodes and folders lie side by side, and a volume that was just made is read back nearly in
 * sequence. A volume is copied and read back by two of these; its small files come in the first
 * part of the way. */
typedef struct {
	double bytes_per_s, entries_per_s;
} Medium;

static const struct {
	const char *name;
	uint64_t bytes, entries;
	double small_first; /* share of the files that come in the first tenth of the bytes */
	Medium copy, read_back;
	double share_before; /* that an earlier run has copied */
	bool is_measured;    /* the target's rate of reading back is known after some seconds */
	double lag_s;        /* before the first byte is on the medium */
} moves[] = {
	{ "card to drive", 3 * GIB, 78000, 0.1, { 45e6, 6800 }, { 400e6, 80000 }, 0, true, 0 },
	{ "small files first", 3 * GIB, 78000, 0.25, { 45e6, 6800 }, { 400e6, 80000 }, 0, true, 0 },
	{ "quick source, slow target", 20 * GIB, 200000, 0.1, { 90e6, 15000 }, { 200e6, 40000 }, 0,
		true, 0 },
	{ "both alike", 8 * GIB, 50000, 0.1, { 80e6, 5000 }, { 80e6, 5000 }, 0, false, 0 },
	{ "taken up in the middle", 8 * GIB, 50000, 0.1, { 45e6, 6800 }, { 200e6, 40000 }, 0.5,
		true, 0 },
	{ "large files first, cheap entries", 2 * GIB, 46000, 0.002, { 25e6, 8000 },
		{ 80e6, 30000 }, 0, true, 6 },
	{ "a slow begin", 3 * GIB, 20000, 0.1, { 25e6, 2500 }, { 80e6, 8000 }, 0, true, 8 },
	{ "a quick copy that begins slowly", 8 * GIB, 80000, 0.1, { 400e6, 9000 }, { 500e6, 20000 },
		0, true, 2 },
};

static double seconds_of(const Medium *m, double bytes, double entries)
{
	return bytes / m->bytes_per_s + entries / m->entries_per_s;
}

/* Entries that are done with a share of the bytes. */
static double entries_at(int i, double share)
{
	double early = moves[i].small_first;
	double at = share < 0.1 ? early * share / 0.1 : early + (1 - early) * (share - 0.1) / 0.9;

	return at * (double)moves[i].entries;
}

typedef struct {
	WdrTimeLeft left;
	double now, all; /* seconds */
	double worst;    /* deviation of an estimate from the truth, of the truth */
	unsigned judged;
} Run;

static void pass(Run *r, int i, const Medium *m, double from, bool is_reading_back)
{
	const double bytes = (double)moves[i].bytes;
	double begun = r->now;

	wdr_time_left_begin_step(&r->left, begun);
	if (!is_reading_back)
		begun += moves[i].lag_s;
	for (double share = from; share < 1; share += 0.005) {
		double entries = entries_at(i, share);
		WdrProgress p = { .bytes_done = (uint64_t)(bytes * share),
			.entries_done = (uint64_t)entries,
			.bytes_total = moves[i].bytes,
			.entries_total = moves[i].entries,
			.is_reading_back = is_reading_back };
		r->now = begun +
			 seconds_of(m, bytes * (share - from), entries - entries_at(i, from));
		if (moves[i].is_measured && r->now > 3 && r->left.given_rate <= 0) {
			WdrWork work = { 6, moves[i].bytes, moves[i].entries,
				moves[i].read_back.bytes_per_s, 0 };
			wdr_time_left_work(&r->left, &work);
		}
		wdr_time_left_see(&r->left, &p, r->now);
		double said = wdr_time_left_s(&r->left, r->now);
		double truth = r->all - r->now;
		if (r->now < r->all / 10 || truth < 2)
			continue;
		ck_assert_msg(
			said >= 0, "%s: nothing is known after %.0f s", moves[i].name, r->now);
		r->worst = fmax(r->worst, fabs(said - truth) / truth);
		r->judged++;
	}
	r->now = begun +
		 seconds_of(m, bytes * (1 - from), (double)moves[i].entries - entries_at(i, from));
}

START_TEST(after_a_tenth_it_is_right_to_a_fifth)
{
	Run r = { 0 };
	WdrWork work = { 6, moves[_i].bytes, moves[_i].entries, 0, 0 };
	double from = moves[_i].share_before;

	r.all = moves[_i].lag_s +
		seconds_of(&moves[_i].copy, (double)moves[_i].bytes * (1 - from),
			(double)moves[_i].entries - entries_at(_i, from)) +
		seconds_of(
			&moves[_i].read_back, (double)moves[_i].bytes, (double)moves[_i].entries);
	wdr_time_left_work(&r.left, &work);
	ck_assert(wdr_time_left_s(&r.left, 0) < 0);
	pass(&r, _i, &moves[_i].copy, from, false);
	pass(&r, _i, &moves[_i].read_back, 0, true);
	ck_assert_uint_gt(r.judged, 100);
	ck_assert_msg(r.worst < 0.2, "%s: %.0f %% off", moves[_i].name, r.worst * 100);
}
END_TEST

/* Said from the first report on; what is seen takes over. */
START_TEST(what_was_measured_on_another_day)
{
	WdrTimeLeft left = { 0 };
	WdrWork work = { .steps = 6, .bytes = 4 * GIB, .copy_per_s = 50e6 };
	WdrProgress p = { .bytes_total = 4 * GIB, .reads_behind = true };

	wdr_time_left_work(&left, &work);
	wdr_time_left_begin_step(&left, 0);
	ck_assert(wdr_time_left_s(&left, 0) < 0);
	wdr_time_left_see(&left, &p, 0.2);
	ck_assert_double_eq_tol(wdr_time_left_s(&left, 0.2), 4.0 * GIB / 50e6, 1);
	for (double now = 1; now < 30; now++) {
		p.bytes_done = (uint64_t)(25e6 * now);
		wdr_time_left_see(&left, &p, now);
	}
	ck_assert_double_eq_tol(wdr_time_left_s(&left, 29), (4.0 * GIB - 25e6 * 29) / 25e6, 8);
}
END_TEST

START_TEST(expected_by_both_disks)
{
	ck_assert_double_eq_tol(wdr_time_expected_s(1000000000, 0, 50e6, 90e6), 20, 0.01);
	ck_assert_double_eq_tol(wdr_time_expected_s(1000000000, 0, 90e6, 50e6), 20, 0.01);
	ck_assert_double_eq_tol(wdr_time_expected_s(1000000000, 0, 0, 50e6), 20, 0.01);
	ck_assert_double_eq_tol(wdr_time_expected_s(1000000000, 100000, 50e6, 0), 28.19, 0.01);
	ck_assert_double_eq_tol(wdr_time_expected_s(1000000000, 100000, 0, 0), 0, 0.01);
}
END_TEST

/* A partition that is copied block by block changes between both kinds within one step. */
START_TEST(by_turns)
{
	WdrTimeLeft left = { 0 };
	WdrWork work = { .steps = 2, .bytes = 4 * GIB };
	double now = 0;

	wdr_time_left_work(&left, &work);
	wdr_time_left_begin_step(&left, now);
	for (uint64_t done = 0; done < 4 * GIB; done += GIB / 4) {
		for (unsigned k = 0; k < 2; k++) {
			WdrProgress p = { .bytes_done = done, .is_reading_back = k == 1 };
			wdr_time_left_see(&left, &p, now);
			now += 1;
			p.bytes_done += GIB / 4;
			wdr_time_left_see(&left, &p, now);
		}
	}
	ck_assert_double_ge(wdr_time_left_share(&left), 0.99);
}
END_TEST

Suite *suite_time_left(void)
{
	Suite *s = suite_create("present/time_left");
	TCase *t = tcase_create("time left");

	tcase_add_loop_test(t, after_a_tenth_it_is_right_to_a_fifth, 0, (int)G_N_ELEMENTS(moves));
	tcase_add_test(t, by_turns);
	tcase_add_test(t, what_was_measured_on_another_day);
	tcase_add_test(t, expected_by_both_disks);
	suite_add_tcase(s, t);
	return s;
}
