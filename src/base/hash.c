#include "base/hash.h"

#include <stdio.h>
#include <xxhash.h>

struct WdrHasher {
	XXH3_state_t *state;
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
}

void wdr_hasher_add(WdrHasher *h, const void *data, size_t len)
{
	XXH3_128bits_update(h->state, data, len);
}

void wdr_hasher_add_zeros(WdrHasher *h, uint64_t len)
{
	static const uint8_t zeros[65536];

	while (len > 0) {
		size_t part = len < sizeof(zeros) ? (size_t)len : sizeof(zeros);
		XXH3_128bits_update(h->state, zeros, part);
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

bool wdr_hash_from_text(const char *hex, WdrHash *ret)
{
	if (strlen(hex) != WDR_HASH_TEXT_LEN ||
		strspn(hex, "0123456789abcdef") != WDR_HASH_TEXT_LEN)
		return false;
	g_autofree char *high = g_strndup(hex, 16);
	ret->high = g_ascii_strtoull(high, NULL, 16);
	ret->low = g_ascii_strtoull(hex + 16, NULL, 16);
	return true;
}
