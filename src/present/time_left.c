/* Estimates the time left from the rates of copying and of reading back so far.
 *
 * A file costs time for its bytes, and more for being a file. How much more depends on the disks,
 * so it is learnt: of several costs, in bytes, that one counts which explains best what was seen.
 * Recent samples count for more, since a copy begins slowly: buffers fill before the first byte is
 * on the medium. Before anything was read back its rate is the one that the move measured on the
 * target, or that of copying. Before enough was copied, what was measured on another day counts, if
 * anything was. A step that was taken up in its middle counts from its first report
 * on. */
#include "present/time_left.h"

#include <math.h>
#include <string.h>

static const double known_after_s = 2, known_after_share = 0.01;
/* Another day's measurement is better than a copy's first moments. */
static const double expected_until_share = 0.05;
/* Bytes that an entry costs as much as, when nothing was learnt yet: a card between a slow and a
 * quick one. Another cost has to explain the samples better by this for each doubling, as a part of
 * what there is to be explained. */
static const double usual_cost = 4 * 1024, doubling_penalty = 0.001;
static const double first_every_s = 0.25;
/* What waits to be read back behind a writer, where the reading can follow. */
static const double group_bytes = 128.0 * 1024 * 1024;

void wdr_time_left_work(WdrTimeLeft *t, const WdrWork *work)
{
	if (!t->has_work || work->read_back_per_s <= 0)
		memset(t, 0, sizeof(*t));
	t->has_work = true;
	t->bytes = (double)work->bytes;
	t->entries = (double)work->entries;
	t->given_rate = work->read_back_per_s;
	t->expected_rate = work->copy_per_s;
}

void wdr_time_left_begin_step(WdrTimeLeft *t, double now)
{
	for (WdrWorkKind kind = WDR_WORK_COPY; kind < WDR_WORK_KINDS; kind++) {
		WdrTimeKind *k = &t->kinds[kind];
		if (k->is_open) {
			/* Ended, so all of it is done, whatever was reported last. */
			k->bytes += (double)MAX(k->last.bytes_done, k->last.bytes_total);
			k->entries += (double)MAX(k->last.entries_done, k->last.entries_total);
		}
		k->is_open = false;
	}
	t->now = now;
}

static void keep_sample(WdrTimeKind *k)
{
	double since =
		k->count ? k->counted.seconds - k->samples[k->count - 1].seconds : G_MAXDOUBLE;

	if (k->every <= 0)
		k->every = first_every_s;
	if (k->counted.bytes + k->counted.entries <= 0)
		k->count = 0;
	else if (since < k->every)
		return;
	if (k->count == WDR_TIME_SAMPLES) {
		for (unsigned i = 1; 2 * i < k->count; i++)
			k->samples[i] = k->samples[2 * i];
		k->count /= 2;
		k->every *= 2;
	}
	k->samples[k->count++] = k->counted;
}

void wdr_time_left_see(WdrTimeLeft *t, const WdrProgress *p, double now)
{
	WdrWorkKind kind = p->is_reading_back ? WDR_WORK_READ_BACK : WDR_WORK_COPY;
	WdrTimeKind *k = &t->kinds[kind];

	if (!k->is_open)
		k->first = k->last = *p;
	k->is_open = true;
	k->counted.bytes += (double)p->bytes_done - (double)k->last.bytes_done;
	k->counted.entries += (double)p->entries_done - (double)k->last.entries_done;
	k->counted.seconds += now - t->now;
	k->last = *p;
	t->kind = kind;
	t->now = now;
	keep_sample(k);
}

/* What is read back behind the writer is read while others are copied. What is left of it then: as
 * little as waits now, or, where reading cannot follow, as much more as there is more to copy. */
static double bytes_not_behind(const WdrProgress *p)
{
	double waiting = (double)p->bytes_waiting;
	double times = p->bytes_done ? (double)p->bytes_total / (double)p->bytes_done : 1;

	return MIN(waiting, group_bytes) + MAX(waiting - group_bytes, 0) * MAX(times, 1);
}

typedef struct {
	double bytes, entries;
} Left;

/* Of what is read behind the writer, the walk over the finished volume looks at the entries: they
 * cost little. */
static Left left_of(const WdrTimeLeft *t, WdrWorkKind kind)
{
	const WdrTimeKind *k = &t->kinds[kind];
	const WdrTimeKind *copy = &t->kinds[WDR_WORK_COPY];
	Left left = { t->bytes - k->bytes, t->entries - k->entries };

	if (k->is_open) {
		left.bytes -= (double)k->last.bytes_done;
		left.entries -= (double)k->last.entries_done;
	}
	if (kind == WDR_WORK_READ_BACK && copy->is_open && copy->last.reads_behind) {
		left.bytes = MAX(left.bytes - (double)copy->last.bytes_total, 0) +
			     bytes_not_behind(&copy->last);
		left.entries -= (double)copy->last.entries_total;
	}
	return (Left){ MAX(left.bytes, 0), MAX(left.entries, 0) };
}

double wdr_time_left_share(const WdrTimeLeft *t)
{
	double done = 0;
	double left = 0;

	for (WdrWorkKind kind = WDR_WORK_COPY; kind < WDR_WORK_KINDS; kind++) {
		const WdrTimeKind *k = &t->kinds[kind];
		const WdrProgress *p = &k->last;
		done += k->bytes + k->entries * usual_cost;
		if (k->is_open)
			done += (double)p->bytes_done + (double)p->entries_done * usual_cost;
		const Left l = left_of(t, kind);
		left += l.bytes + l.entries * usual_cost;
	}
	return t->has_work && done + left > 0 ? done / (done + left) : -1;
}

/* What passed since the last report belongs to its kind. */
static WdrTimeSample present(const WdrTimeLeft *t, WdrWorkKind kind, double now)
{
	const WdrTimeKind *k = &t->kinds[kind];
	WdrTimeSample s = k->counted;

	if (k->is_open && t->kind == kind)
		s.seconds += now - t->now;
	return s;
}

typedef struct {
	double bytes_per_s, entry_bytes, deviation;
} Fit;

/* Bytes a second if an entry costs as much as so many bytes, and how badly that explains the
 * samples. */
static void fit(const WdrTimeKind *k, const WdrTimeSample *last, Fit *f)
{
	double seconds = 0, bytes = 0, off = 0, all = 0;

	for (unsigned pass = 0; pass < 2; pass++) {
		for (unsigned i = 0; i < k->count; i++) {
			const WdrTimeSample *a = &k->samples[i];
			const WdrTimeSample *b = i + 1 < k->count ? &k->samples[i + 1] : last;
			/* What is long ago counts little: a drive may stand still at first. */
			double age = b->seconds / last->seconds;
			double weight = age * age;
			double s = weight * weight * (b->seconds - a->seconds);
			double n =
				weight * weight *
				(b->bytes - a->bytes + (b->entries - a->entries) * f->entry_bytes);
			if (pass == 0) {
				seconds += s;
				bytes += n;
			} else {
				double d = s - n * seconds / bytes;
				off += d * d;
				all += s * s;
			}
		}
	}
	f->bytes_per_s = seconds > 0 ? bytes / seconds : 0;
	double doublings = log2(f->entry_bytes / usual_cost);
	f->deviation = (all > 0 ? off / all : 0) + doubling_penalty * doublings * doublings;
}

/* false: nothing is known yet. */
static bool best_fit(const WdrTimeLeft *t, WdrWorkKind kind, double now, Fit *ret)
{
	const WdrTimeKind *k = &t->kinds[kind];
	const WdrTimeSample last = present(t, kind, now);

	*ret = (Fit){ 0, usual_cost, G_MAXDOUBLE };
	if (k->count == 0 || last.seconds <= 0 || last.bytes + last.entries <= 0)
		return false;
	for (double cost = usual_cost / 16; cost <= usual_cost * 16; cost *= 2) {
		Fit f = { 0, cost, 0 };
		fit(k, &last, &f);
		if (f.bytes_per_s > 0 && f.deviation < ret->deviation)
			*ret = f;
	}
	return ret->bytes_per_s > 0;
}

/* Before anything was read back: by the rate that was measured, or as copying went. In the order of
 * places, entries cost little. */
static bool expect_read_back(const WdrTimeLeft *t, const Fit *copy, Fit *ret)
{
	*ret = *copy;
	if (t->given_rate > 0)
		*ret = (Fit){ t->given_rate, MIN(copy->entry_bytes, usual_cost), 0 };
	return ret->bytes_per_s > 0;
}

double wdr_time_expected_work(uint64_t bytes, uint64_t entries)
{
	return (double)bytes + (double)entries * usual_cost;
}

/* Only reading costs more for each file: what is written lies side by side. */
double wdr_time_expected_s(uint64_t bytes, uint64_t entries, double read_per_s, double write_per_s)
{
	double reading = wdr_time_expected_work(bytes, entries);

	return MAX(read_per_s > 0 ? reading / read_per_s : 0,
		write_per_s > 0 ? (double)bytes / write_per_s : 0);
}

double wdr_time_left_s(const WdrTimeLeft *t, double now)
{
	double seconds = 0;
	double elapsed = present(t, WDR_WORK_COPY, now).seconds +
			 present(t, WDR_WORK_READ_BACK, now).seconds;
	Fit fits[WDR_WORK_KINDS];

	double share = wdr_time_left_share(t);
	bool is_early = share < expected_until_share && t->expected_rate > 0 &&
			t->kinds[WDR_WORK_COPY].is_open;
	if (!is_early && (share < known_after_share || elapsed < known_after_s))
		return -1;
	for (WdrWorkKind kind = WDR_WORK_COPY; kind < WDR_WORK_KINDS; kind++) {
		Fit *f = &fits[kind];
		const Left left = left_of(t, kind);
		bool is_known = best_fit(t, kind, now, f) ||
				(kind == WDR_WORK_READ_BACK &&
					expect_read_back(t, &fits[WDR_WORK_COPY], f));
		if (is_early && kind == WDR_WORK_COPY) {
			*f = (Fit){ t->expected_rate, usual_cost, 0 };
			is_known = true;
		}
		if (left.bytes + left.entries <= 0)
			continue;
		if (!is_known)
			return -1;
		seconds += (left.bytes + left.entries * f->entry_bytes) / f->bytes_per_s;
	}
	return seconds;
}
