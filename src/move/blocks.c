/* Partitions that no volume is built in: swap areas are made new, all others are carried block by
 * block, zeros left out. */
#include "move/moving.h"

#include "base/io.h"
#include "base/stop.h"
#include "volume/swap.h"

#include <string.h>

enum { CHUNK_BYTES = 1024 * 1024, REPORT_EVERY = 16 };

WdrWay wdr_itinerary_way(const WdrItineraryPart *p)
{
	if (strcmp(p->fs, "ext4") == 0)
		return WDR_WAY_EXT;
	if (strcmp(p->fs, "vfat") == 0)
		return WDR_WAY_FAT;
	return strcmp(p->fs, "swap") == 0 ? WDR_WAY_SWAP : WDR_WAY_BLOCKS;
}

/* ---- swap ---- */

static bool make_swap(WdrMoving *m, const WdrItineraryPart *p, GError **error)
{
	g_autofree uint8_t *head = g_malloc0(WDR_SWAP_HEAD_BYTES);
	g_autofree uint8_t *back = g_malloc0(WDR_SWAP_HEAD_BYTES);
	size_t len = (size_t)MIN(WDR_SWAP_HEAD_BYTES, MIN(p->from.size, p->to.size));
	WdrSwap swap;

	if (!wdr_logbook_step(
		    m->logbook, error, "making the swap area of partition %u", p->number) ||
		!wdr_blockdev_read(m->source->system->dev, head, len, p->from.start, error))
		return false;
	if (!wdr_swap_parse(head, len, &swap) || !wdr_swap_parse_uuid(p->to.uuid, swap.uuid))
		return wdr_error_set(error, WDR_ERROR_FORMAT,
			"partition %u holds no swap area that could be made again", p->number);
	memset(swap.label, 0, sizeof(swap.label));
	g_strlcpy(swap.label, p->to.label ? p->to.label : "", sizeof(swap.label));
	if (!wdr_swap_make(&swap, p->to.size, head))
		return wdr_error_set(error, WDR_ERROR_NO_SPACE,
			"partition %u is too small for a swap area", p->number);
	if (!wdr_blockdev_write(m->target, head, swap.page_bytes, p->to.start, error) ||
		!wdr_blockdev_flush(m->target, error) ||
		!wdr_blockdev_read(m->medium, back, swap.page_bytes, p->to.start, error))
		return false;
	return memcmp(head, back, swap.page_bytes) == 0 ||
	       wdr_error_set(error, WDR_ERROR_IO,
		       "the swap area of partition %u read back is not what was written",
		       p->number);
}

/* ---- blocks ---- */

/* Goes over a range in chunks; `to` NULL: only hashes it. With a damage, what cannot be read is
 * zeros. */
static bool go_over(const WdrMoving *m, WdrBlockDev *from, uint64_t at, WdrBlockDev *to,
	uint64_t to_at, uint64_t size, WdrDamage *damage, WdrHash *ret, GError **error)
{
	g_autoptr(WdrHasher) hasher = wdr_hasher_new();
	g_autofree uint8_t *raw = g_malloc(CHUNK_BYTES + 4096);
	uint8_t *buf = raw + (4096 - (uintptr_t)raw % 4096);
	unsigned chunks = 0;

	for (uint64_t done = 0; done < size; done += CHUNK_BYTES) {
		size_t len = (size_t)MIN(CHUNK_BYTES, size - done);
		WdrProgress progress = { .bytes_done = done, .bytes_total = size };
		if (chunks++ % REPORT_EVERY == 0)
			wdr_world_progress(m->world, &progress);
		if (!wdr_stop_check(error) || !wdr_damage_read(damage, wdr_read_device, from, buf,
						      len, at + done, done, error))
			return false;
		wdr_hasher_add(hasher, buf, len);
		if (to && !(wdr_is_zero(buf, len)
					  ? wdr_blockdev_zero(to, to_at + done, len, error)
					  : wdr_blockdev_write(to, buf, len, to_at + done, error)))
			return false;
	}
	*ret = wdr_hasher_result(hasher);
	return true;
}

/* damage NULL: all of it must be read. */
static bool carry_range(WdrMoving *m, const WdrBlockRange *r, WdrDamage *damage, GError **error)
{
	WdrHash carried;
	WdrHash back;

	if (!wdr_logbook_step(m->logbook, error, "carrying %s block by block", r->what) ||
		!go_over(m, m->source->system->dev, r->from, m->target, r->to, r->size, damage,
			&carried, error) ||
		!wdr_blockdev_flush(m->target, error) ||
		!wdr_logbook_step(m->logbook, error, "reading %s back from the medium", r->what) ||
		!go_over(m, m->medium, r->to, NULL, 0, r->size, NULL, &back, error))
		return false;
	return wdr_hash_equal(carried, back) ||
	       wdr_error_set(error, WDR_ERROR_IO, "%s read back is not what was carried", r->what);
}

bool wdr_moving_carry_range(WdrMoving *m, const WdrBlockRange *range, GError **error)
{
	return carry_range(m, range, NULL, error);
}

bool wdr_moving_carry_blocks(WdrMoving *m, const WdrItineraryPart *p, GError **error)
{
	g_autofree char *what = g_strdup_printf("partition %u", p->number);
	gint failures = 0;
	g_autoptr(WdrDamage) damage = wdr_damage_new(&failures);
	WdrBlockRange range = { p->from.start, p->to.start, p->from.size, what };

	if (wdr_itinerary_way(p) == WDR_WAY_SWAP)
		return make_swap(m, p, error);
	m->result->bytes += p->bytes;
	return carry_range(m, &range, damage, error) &&
	       (damage->ranges->len == 0 ||
		       wdr_moving_note_missing(m, p->number, NULL, damage->ranges, error));
}
