/* Estimates the time left from the rates of finished steps and of the present one.
 *
 * Before anything was read back its rate is the one that the move measured on the target, or that
 * of copying. A step that was taken up in its middle counts from its first report on. */
#include "present/time_left.h"

#include <string.h>

/* What a request costs that could have read as many bytes in sequence, on a card. */
enum { ENTRY_UNITS = 16 * 1024 };

static const double known_after_s = 2, known_after_share = 0.01;

static double units_of(uint64_t bytes, uint64_t entries)
{
	return (double)bytes + (double)entries * ENTRY_UNITS;
}

void wdr_time_left_work(WdrTimeLeft *t, const WdrWork *work)
{
	double total = units_of(work->bytes, work->entries);

	if (!t->has_work || work->read_back_per_s <= 0)
		memset(t, 0, sizeof(*t));
	t->has_work = true;
	t->total[WDR_WORK_COPY] = t->total[WDR_WORK_READ_BACK] = total;
	t->given_rate = work->read_back_per_s;
}

void wdr_time_left_begin_step(WdrTimeLeft *t, double now)
{
	for (WdrWorkKind kind = WDR_WORK_COPY; kind < WDR_WORK_KINDS; kind++) {
		if (t->is_open[kind]) {
			/* Ended, so all of it is done, whatever was reported last. */
			t->done[kind] += MAX(t->last[kind], t->whole[kind]);
			t->counted[kind] += t->last[kind] - t->first[kind];
		}
		t->is_open[kind] = false;
	}
	t->now = now;
}

void wdr_time_left_see(WdrTimeLeft *t, const WdrProgress *p, double now)
{
	double units = units_of(p->bytes_done, p->entries_done);
	WdrWorkKind kind = p->is_reading_back ? WDR_WORK_READ_BACK : WDR_WORK_COPY;

	if (!t->is_open[kind])
		t->first[kind] = units;
	t->is_open[kind] = true;
	t->last[kind] = units;
	t->whole[kind] = units_of(p->bytes_total, p->entries_total);
	t->seconds[kind] += now - t->now;
	t->kind = kind;
	t->now = now;
}

static double done_of(const WdrTimeLeft *t, WdrWorkKind kind)
{
	double done = t->done[kind] + (t->is_open[kind] ? t->last[kind] : 0);

	return MIN(done, t->total[kind]);
}

double wdr_time_left_share(const WdrTimeLeft *t)
{
	double total = t->total[WDR_WORK_COPY] + t->total[WDR_WORK_READ_BACK];

	if (!t->has_work || total <= 0)
		return -1;
	return (done_of(t, WDR_WORK_COPY) + done_of(t, WDR_WORK_READ_BACK)) / total;
}

/* Units a second; 0: unknown. What passed since the last report belongs to the same kind. */
static double rate_of(const WdrTimeLeft *t, WdrWorkKind kind, double now)
{
	double units = t->counted[kind] + (t->is_open[kind] ? t->last[kind] - t->first[kind] : 0);
	double seconds =
		t->seconds[kind] + (t->is_open[kind] && t->kind == kind ? now - t->now : 0);

	return seconds > 0 ? units / seconds : 0;
}

double wdr_time_left_s(const WdrTimeLeft *t, double now)
{
	double left = 0;
	double copy_rate = rate_of(t, WDR_WORK_COPY, now);
	double elapsed = t->seconds[WDR_WORK_COPY] + t->seconds[WDR_WORK_READ_BACK];

	if (wdr_time_left_share(t) < known_after_share || elapsed < known_after_s)
		return -1;
	for (WdrWorkKind kind = WDR_WORK_COPY; kind < WDR_WORK_KINDS; kind++) {
		double rate = rate_of(t, kind, now);
		double units = t->total[kind] - done_of(t, kind);
		if (rate <= 0)
			rate = t->given_rate > 0 ? t->given_rate : copy_rate;
		if (units > 0 && rate <= 0)
			return -1;
		left += units > 0 ? units / rate : 0;
	}
	return left;
}
