/* How much a move has to do: steps and bytes, for whoever waits for it.
 *
 * The number of steps is worked out from the itinerary and the logbook, as move.c goes through
 * them. Passes over a source that changed have no numbers: how many there are is not known before.
 */
#include "move/target_records.h"

enum { TRY_BYTES = 1024 * 1024, TRIES = 8 };

/* What copy_part() and copy_last() of move.c do with it. */
static unsigned steps_of(const WdrMoveRun *m, const WdrItineraryPart *p)
{
	bool is_last = p == wdr_move_run_last(m->it);

	if (!wdr_move_run_is_volume(p))
		return 1;
	/* The last ext volume is checked without a step of its own, after its start was written,
	 * and that with the records once these are there. */
	return (is_last && !wdr_move_run_is_fat(p)) || wdr_records_belong_on(m, p) ? 2 : 3;
}

static bool is_to_copy(const WdrMoveRun *m, const WdrItineraryPart *p)
{
	return !wdr_move_progress_is_copied(&m->records.logged, p->number) ||
	       wdr_itinerary_method(p) == WDR_METHOD_BLOCKS;
}

void wdr_move_run_tell_work(WdrMoveRun *m)
{
	/* Making it bootable, and the table; see wdr_last_part_release(). */
	m->work = (WdrWork){ .steps = m->it->into ? 1 : 2, .copy_per_s = m->work.copy_per_s };
	m->work.steps += m->records.logged.is_cleared ? 0 : 1;
	m->work.steps += m->it->loader.size > 0 ? 1 : 0;
	for (guint i = 0; i < m->it->parts->len; i++) {
		const WdrItineraryPart *p = m->it->parts->pdata[i];
		m->work.steps += wdr_records_belong_on(m, p) ? 1 : 0;
		if (!is_to_copy(m, p))
			continue;
		m->work.steps += steps_of(m, p);
		m->work.bytes += p->bytes;
		m->work.entries += p->entries;
	}
	m->step = 0;
	wdr_world_work(m->world, &m->work);
}

bool wdr_move_run_step(WdrMoveRun *m, GError **error, const char *format, ...)
{
	va_list args;

	va_start(args, format);
	g_autofree char *what = g_strdup_vprintf(format, args);
	va_end(args);
	m->step++;
	return wdr_logbook_numbered_step(
		m->records.logbook, m->step <= m->work.steps ? m->step : 0, what, error);
}

void wdr_move_run_try_read_back(WdrMoveRun *m, const WdrItineraryPart *p, uint64_t bytes)
{
	g_autofree uint8_t *raw = g_malloc(TRY_BYTES + WDR_DIRECT_BYTES);
	uint8_t *buf = wdr_blockdev_aligned(raw);
	uint64_t apart = bytes / TRIES / TRY_BYTES * TRY_BYTES;
	int64_t begun = g_get_monotonic_time();

	if (m->work.read_back_per_s > 0 || m->work.steps == 0 || apart < TRY_BYTES)
		return;
	for (unsigned i = 0; i < TRIES; i++) {
		uint64_t at = p->to.start + i * apart;
		if (!wdr_blockdev_read(m->disks.medium, buf, TRY_BYTES, at, NULL))
			return;
	}
	double seconds = (double)MAX(g_get_monotonic_time() - begun, 1) / G_USEC_PER_SEC;
	m->work.read_back_per_s = (double)TRIES * TRY_BYTES / seconds;
	wdr_world_work(m->world, &m->work);
}
