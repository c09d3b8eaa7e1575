#include "base/hash.h"

#include <stdio.h>
#include <xxhash.h>

#define SEGMENT_BYTES (UINT64_C(1024) * 1024 * 1024)

struct WdrHasher {
	XXH3_state_t *state;
	uint64_t in_segment; /* bytes added since the mark */
	WdrHashMark mark;
};

WdrHasher *wdr_hasher_new(void)
{
	WdrHasher *h = g_new0(WdrHasher, 1);

	h->state = XXH3_createState();
	if (!h->state)
		g_error("out of memory");
	wdr_hasher_reset(h);
	return h;
}

void wdr_hasher_reset(WdrHasher *h)
{
	XXH3_128bits_reset(h->state);
	h->in_segment = 0;
	h->mark = (WdrHashMark){ 0 };
}

void wdr_hasher_take_up(WdrHasher *h, const WdrHashMark *mark)
{
	wdr_hasher_reset(h);
	h->mark = *mark;
	if (mark->at == 0)
		return;
	XXH128_canonical_t bytes;
	XXH128_hash_t hash = { .high64 = mark->hash.high, .low64 = mark->hash.low };
	XXH128_canonicalFromHash(&bytes, hash);
	XXH3_128bits_update(h->state, bytes.digest, sizeof(bytes.digest));
}

WdrHashMark wdr_hasher_mark(const WdrHasher *h)
{
	return h->mark;
}

void wdr_hasher_add(WdrHasher *h, const void *data, size_t len)
{
	const uint8_t *at = data;

	while (len > 0) {
		size_t part = (size_t)MIN(len, SEGMENT_BYTES - h->in_segment);
		XXH3_128bits_update(h->state, at, part);
		h->in_segment += part;
		at += part;
		len -= part;
		if (h->in_segment == SEGMENT_BYTES) {
			WdrHashMark mark = { h->mark.at + SEGMENT_BYTES, wdr_hasher_result(h) };
			wdr_hasher_take_up(h, &mark);
		}
	}
}

void wdr_hasher_add_zeros(WdrHasher *h, uint64_t len)
{
	static const uint8_t zeros[65536];

	while (len > 0) {
		size_t part = len < sizeof(zeros) ? (size_t)len : sizeof(zeros);
		wdr_hasher_add(h, zeros, part);
		len -= part;
	}
}

WdrHash wdr_hasher_result(const WdrHasher *h)
{
	XXH128_hash_t hash = XXH3_128bits_digest(h->state);

	return (WdrHash){ .high = hash.high64, .low = hash.low64 };
}

void wdr_hasher_free(WdrHasher *h)
{
	if (!h)
		return;
	XXH3_freeState(h->state);
	g_free(h);
}

WdrHash wdr_hash(const void *data, size_t len)
{
	XXH128_hash_t hash = XXH3_128bits(data, len);

	return (WdrHash){ .high = hash.high64, .low = hash.low64 };
}

bool wdr_hash_equal(WdrHash a, WdrHash b)
{
	return a.high == b.high && a.low == b.low;
}

void wdr_hash_to_text(WdrHash hash, char ret[WDR_HASH_TEXT_LEN + 1])
{
	snprintf(ret, WDR_HASH_TEXT_LEN + 1, "%016" G_GINT64_MODIFIER "x%016" G_GINT64_MODIFIER "x",
		hash.high, hash.low);
}

/* Sixteen digits. A packing list has two hundred million of them for a million files: no calls. */
static bool scan_half(const char *hex, uint64_t *ret)
{
	*ret = 0;
	for (size_t i = 0; i < WDR_HASH_TEXT_LEN / 2; i++) {
		bool is_decimal = hex[i] >= '0' && hex[i] <= '9';
		if (!is_decimal && (hex[i] < 'a' || hex[i] > 'f'))
			return false;
		*ret = *ret << 4 | (uint64_t)(is_decimal ? hex[i] - '0' : hex[i] - 'a' + 10);
	}
	return true;
}

const char *wdr_hash_scan(const char *hex, WdrHash *ret)
{
	const char *middle = hex + WDR_HASH_TEXT_LEN / 2;

	return scan_half(hex, &ret->high) && scan_half(middle, &ret->low) ? hex + WDR_HASH_TEXT_LEN
									  : NULL;
}

bool wdr_hash_from_text(const char *hex, WdrHash *ret)
{
	const char *end = wdr_hash_scan(hex, ret);

	return end && *end == '\0';
}
