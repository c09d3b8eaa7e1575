/* Remembers single blocks and reads them once more at the end.
 *
 * Some sold disks claim more bytes than they have, and writes beyond begin anew at the start. A
 * volume that was read back well is then overwritten by a later one. The blocks remembered here lie
 * closer to each other than the data of any later part is long, so at least one of them is hit. */
#include "disk/spot_checks.h"

#include "base/hash.h"
#include "base/stop.h"
#include "base/text.h"
#include "disk/true_size.h"

/* Of a range. */
enum { SPOT_BYTES = 4096, SPOTS_MAX = 8192, OFFERS_BEFORE_DOUBLING = 16384 };
#define OFFERED_APART (UINT64_C(4) * 1024 * 1024)

typedef struct {
	uint64_t at;
	WdrHash hash;
} Spot;

struct WdrSpots {
	WdrBlockDev *medium;
	GArray *list; /* Spot */
};

WdrSpots *wdr_spots_new(WdrBlockDev *medium)
{
	WdrSpots *s = g_new0(WdrSpots, 1);

	s->medium = medium;
	s->list = g_array_new(FALSE, FALSE, sizeof(Spot));
	return s;
}

void wdr_spots_free(WdrSpots *s)
{
	if (!s)
		return;
	g_array_unref(s->list);
	g_free(s);
}

static bool look(const WdrSpots *s, uint64_t at, WdrHash *ret, GError **error)
{
	uint8_t block[SPOT_BYTES];

	if (!wdr_stop_check(error) ||
		!wdr_blockdev_read(s->medium, block, sizeof(block), at, error))
		return false;
	*ret = wdr_hash(block, sizeof(block));
	return true;
}

bool wdr_spots_take(WdrSpots *s, uint64_t start, uint64_t len, uint64_t distance, GError **error)
{
	uint64_t step = wdr_round_up(MAX(distance, len / SPOTS_MAX + 1), SPOT_BYTES);

	for (uint64_t at = 0; len >= SPOT_BYTES && at <= len - SPOT_BYTES; at += step) {
		Spot spot = { .at = start + at };
		if (!look(s, spot.at, &spot.hash, error))
			return false;
		g_array_append_val(s->list, spot);
	}
	return true;
}

void wdr_spots_offer(WdrSpots *s, uint64_t at, const void *block)
{
	const Spot *last = s->list->len ? &g_array_index(s->list, Spot, s->list->len - 1) : NULL;
	uint64_t distance = OFFERED_APART << MIN(s->list->len / OFFERS_BEFORE_DOUBLING, 32U);

	if (last && at < last->at + distance)
		return;
	const Spot spot = { at, wdr_hash(block, SPOT_BYTES) };
	g_array_append_val(s->list, spot);
}

bool wdr_spots_check(const WdrSpots *s, GError **error)
{
	for (guint i = 0; i < s->list->len; i++) {
		const Spot *spot = &g_array_index(s->list, Spot, i);
		WdrHash now;
		if (!look(s, spot->at, &now, error))
			return false;
		if (wdr_hash_equal(now, spot->hash))
			continue;
		g_autofree char *place = wdr_format_size(spot->at);
		g_autofree char *size = wdr_format_size(wdr_blockdev_size(s->medium));
		wdr_error_set(error, WDR_ERROR_IO,
			"%s: what was written and read back %s into it was changed by later writes "
			"elsewhere; it is probably smaller than the %s that it says",
			wdr_blockdev_name(s->medium), place, size);
		return wdr_truesize_advise(error);
	}
	return true;
}
