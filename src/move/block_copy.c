/* Partitions that no volume is built in: swap areas are made new, all others are copied block by
 * block, zeros left out. */
#include "move/move_run.h"

#include "base/io.h"
#include "base/stop.h"
#include "volume/swap.h"

#include <string.h>

enum {
	CHUNK_BYTES = 1024 * 1024,
	REPORT_EVERY = 16,
	/* Taken up again there after an interruption. */
	STRETCH_BYTES = 256 * 1024 * 1024,
};

/* ---- swap ---- */

static bool make_swap(WdrMoveRun *m, const WdrItineraryPart *p, GError **error)
{
	g_autofree uint8_t *head = g_malloc0(WDR_SWAP_HEAD_BYTES);
	g_autofree uint8_t *back = g_malloc0(WDR_SWAP_HEAD_BYTES);
	size_t len = (size_t)MIN(WDR_SWAP_HEAD_BYTES, MIN(p->from.size, p->to.size));
	WdrSwap swap;

	if (!wdr_move_run_step(m, error, "making the swap area of partition %u", p->number) ||
		!wdr_blockdev_read(m->disks.source->system->dev, head, len, p->from.start, error))
		return false;
	if (!wdr_swap_parse(head, len, &swap) || !wdr_swap_parse_uuid(p->to.uuid, swap.uuid))
		return wdr_error_set(error, WDR_ERROR_FORMAT,
			"partition %u holds no swap area that could be made again", p->number);
	memset(swap.label, 0, sizeof(swap.label));
	g_strlcpy(swap.label, p->to.label ? p->to.label : "", sizeof(swap.label));
	if (!wdr_swap_make(&swap, p->to.size, head))
		return wdr_error_set(error, WDR_ERROR_NO_SPACE,
			"partition %u is too small for a swap area", p->number);
	if (!wdr_blockdev_write(m->disks.target, head, swap.page_bytes, p->to.start, error) ||
		!wdr_blockdev_flush(m->disks.target, error) ||
		!wdr_blockdev_read(m->disks.medium, back, swap.page_bytes, p->to.start, error))
		return false;
	return memcmp(head, back, swap.page_bytes) == 0 ||
	       wdr_error_set(error, WDR_ERROR_IO,
		       "the swap area of partition %u read back is not what was written",
		       p->number);
}

/* ---- blocks ---- */

/* Progress of a range that is a stretch of something larger. */
typedef struct {
	uint64_t before, total;
} Stretch;

/* Going over a range in chunks. */
typedef struct {
	WdrBlockDev *from, *to; /* `to` NULL: it is only hashed */
	const WdrBlockRange *range;
	const Stretch *of;
	WdrDamage *damage; /* what cannot be read is zeros; NULL: it must be read */
} Pass;

static bool go_over(const WdrMoveRun *m, const Pass *pass, WdrHash *ret, GError **error)
{
	const WdrBlockRange *r = pass->range;
	const Stretch *of = pass->of;
	g_autoptr(WdrHasher) hasher = wdr_hasher_new();
	g_autofree uint8_t *raw = g_malloc(CHUNK_BYTES + WDR_DIRECT_BYTES);
	uint8_t *buf = wdr_blockdev_aligned(raw);
	unsigned chunks = 0;

	for (uint64_t done = 0; done < r->size; done += CHUNK_BYTES) {
		size_t len = (size_t)MIN(CHUNK_BYTES, r->size - done);
		WdrProgress progress = { .bytes_done = of->before + done,
			.bytes_total = of->total,
			.is_reading_back = !pass->to };
		if (chunks++ % REPORT_EVERY == 0)
			wdr_world_progress(m->world, &progress);
		WdrCarefulRead careful = { wdr_read_device, pass->from, pass->damage,
			r->from + done, of->before + done };
		if (!wdr_stop_check(error) || !wdr_damage_read(&careful, buf, len, error))
			return false;
		wdr_hasher_add(hasher, buf, len);
		if (pass->to && !(wdr_is_zero(buf, len) ? wdr_blockdev_zero(pass->to, r->to + done,
								  len, error)
							: wdr_blockdev_write(pass->to, buf, len,
								  r->to + done, error)))
			return false;
	}
	*ret = wdr_hasher_result(hasher);
	return true;
}

/* Copies, flushes, reads back, compares. damage NULL: all of it must be read. */
static bool copy_range(WdrMoveRun *m, const WdrBlockRange *r, const Stretch *of, WdrDamage *damage,
	WdrHash *ret, GError **error)
{
	WdrBlockRange there = { r->to, 0, r->size, r->what };
	const Pass copying = { m->disks.source->system->dev, m->disks.target, r, of, damage };
	const Pass reading_back = { m->disks.medium, NULL, &there, of, NULL };
	WdrHash back;

	if (!go_over(m, &copying, ret, error) || !wdr_blockdev_flush(m->disks.target, error) ||
		!go_over(m, &reading_back, &back, error))
		return false;
	return wdr_hash_equal(*ret, back) ||
	       wdr_error_set(error, WDR_ERROR_IO, "%s read back is not what was copied", r->what);
}

static bool announce(WdrMoveRun *m, const char *what, GError **error)
{
	return wdr_move_run_step(m, error, "copying %s block by block, and reading it back", what);
}

bool wdr_move_run_copy_range(WdrMoveRun *m, const WdrBlockRange *range, GError **error)
{
	Stretch whole = { 0, range->size };
	WdrHash hash;

	return announce(m, range->what, error) && copy_range(m, range, &whole, NULL, &hash, error);
}

/* ---- a partition, stretch by stretch ---- */

typedef struct {
	WdrMoveRun *m;
	const WdrItineraryPart *part;
	const char *what;
	GArray *missing; /* WdrRange */
	gint failures;
} Blocks;

/* An earlier run copied it, and the source is still what it was then. */
static bool is_there(
	Blocks *b, const WdrBlockRange *r, const Stretch *of, bool *ret, GError **error)
{
	const WdrMoveProgress *logged = &b->m->records.logged;
	const WdrMoveProgressRange *then =
		wdr_move_progress_range(logged, b->part->number, of->before);
	g_autoptr(WdrDamage) damage = wdr_damage_new(&b->failures);
	WdrHash now;

	/* A damaged one is not recorded, but what is missing of it is. */
	*ret = !then && wdr_move_progress_is_copied(logged, b->part->number);
	if (!then || then->size != r->size)
		return true;
	const Pass reading = { b->m->disks.source->system->dev, NULL, r, of, damage };
	if (!go_over(b->m, &reading, &now, error))
		return false;
	*ret = damage->ranges->len > 0 || wdr_hash_equal(now, then->hash);
	return true;
}

static bool copy_stretch(Blocks *b, uint64_t start, GError **error)
{
	const WdrItineraryPart *p = b->part;
	g_autoptr(WdrDamage) damage = wdr_damage_new(&b->failures);
	Stretch of = { start, p->from.size };
	WdrBlockRange r = { p->from.start + start, p->to.start + start,
		MIN(STRETCH_BYTES, p->from.size - start), b->what };
	WdrRange done = { start, r.size };
	bool was_there = false;
	WdrHash hash;

	if (!is_there(b, &r, &of, &was_there, error))
		return false;
	if (was_there) {
		b->m->result->bytes_before += r.size;
		return true;
	}
	if (!copy_range(b->m, &r, &of, damage, &hash, error))
		return false;
	g_array_append_vals(b->missing, damage->ranges->data, damage->ranges->len);
	return damage->ranges->len > 0 ||
	       wdr_logbook_range(b->m->records.logbook, p->number, &done, hash, error);
}

/* What was said before of one that is begun does not count. */
static bool begin(Blocks *b, GError **error)
{
	const WdrMoveProgress *logged = &b->m->records.logged;

	if (wdr_move_progress_range(logged, b->part->number, 0) ||
		wdr_move_progress_is_copied(logged, b->part->number))
		return true;
	wdr_unreadable_forget_partition(logged->missing, b->part->number);
	return wdr_logbook_part(b->m->records.logbook, b->part->number, WDR_PART_BEGUN, error);
}

bool wdr_move_run_copy_blocks(WdrMoveRun *m, const WdrItineraryPart *p, GError **error)
{
	g_autofree char *what = g_strdup_printf("partition %u", p->number);
	g_autoptr(GArray) missing = g_array_new(FALSE, FALSE, sizeof(WdrRange));
	Blocks b = { m, p, what, missing, 0 };

	if (wdr_itinerary_method(p) == WDR_METHOD_SWAP)
		return make_swap(m, p, error);
	m->result->bytes += p->bytes;
	if (!begin(&b, error) || !announce(m, what, error))
		return false;
	for (uint64_t start = 0; start < p->from.size; start += STRETCH_BYTES) {
		if (!copy_stretch(&b, start, error))
			return false;
	}
	/* Of one that was copied already what is missing was said then. */
	bool is_news = missing->len > 0 ||
		       (!wdr_move_progress_is_copied(&m->records.logged, p->number) &&
			       wdr_unreadable_find(m->records.logged.missing, p->number, NULL));
	return !is_news ||
	       wdr_move_records_note_unreadable(&m->records, p->number, NULL, missing, error);
}
