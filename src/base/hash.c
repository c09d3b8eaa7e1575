/* XXH3 hashes, and hashes of long files that can be taken up again at each GiB.
 *
 * A library's hash state cannot be stored. So behind each whole GiB hashing begins anew, and the
 * first thing that goes in is the hash so far. A checkpoint needs these 16 bytes only. Blocks of
 * zeros are left out, and a map of them goes in instead, so holes cost no time. What exactly is
 * hashed: see hash.h. */
#include "base/hash.h"

#include "base/io.h"

#include <string.h>
#ifdef WDR_XXHASH_DISPATCH
#include <xxh_x86dispatch.h>
#else
#include <xxhash.h>
#endif

#define SEGMENT_BYTES (UINT64_C(1024) * 1024 * 1024)

enum {
	BLOCK_BYTES = 65536,
	MAP_BYTES = (int)(SEGMENT_BYTES / BLOCK_BYTES / 8),
	DIGEST_BYTES = 16,
};

struct WdrHasher {
	XXH3_state_t *state;
	uint64_t in_segment; /* bytes added since the mark */
	WdrHashMark mark;
	size_t pending; /* zeros that the block being added began with, not yet hashed */
	bool has_data;  /* something else was in that block */
	bool has_left_out;
	uint8_t left_out[MAP_BYTES];
};

static const uint8_t zeros[BLOCK_BYTES];

WdrHasher *wdr_hasher_new(void)
{
	WdrHasher *h = g_new0(WdrHasher, 1);

	h->state = XXH3_createState();
	if (!h->state)
		g_error("out of memory");
	wdr_hasher_reset(h);
	return h;
}

static void begin_segment(WdrHasher *h)
{
	XXH3_128bits_reset(h->state);
	h->in_segment = 0;
	h->pending = 0;
	h->has_data = false;
	if (h->has_left_out)
		memset(h->left_out, 0, sizeof(h->left_out));
	h->has_left_out = false;
}

void wdr_hasher_reset(WdrHasher *h)
{
	begin_segment(h);
	h->mark = (WdrHashMark){ 0 };
}

static void to_bytes(WdrHash hash, uint8_t ret[DIGEST_BYTES])
{
	XXH128_canonical_t bytes;

	XXH128_canonicalFromHash(&bytes, (XXH128_hash_t){ .high64 = hash.high, .low64 = hash.low });
	memcpy(ret, bytes.digest, DIGEST_BYTES);
}

void wdr_hasher_take_up(WdrHasher *h, const WdrHashMark *mark)
{
	uint8_t bytes[DIGEST_BYTES];

	begin_segment(h);
	h->mark = *mark;
	if (mark->at == 0)
		return;
	to_bytes(mark->hash, bytes);
	XXH3_128bits_update(h->state, bytes, sizeof(bytes));
}

WdrHashMark wdr_hasher_mark(const WdrHasher *h)
{
	return h->mark;
}

static void end_segment(WdrHasher *h)
{
	WdrHashMark mark = { h->mark.at + SEGMENT_BYTES, wdr_hasher_result(h) };

	wdr_hasher_take_up(h, &mark);
}

static void end_block(WdrHasher *h)
{
	uint64_t block = (h->in_segment - 1) / BLOCK_BYTES;

	if (!h->has_data) {
		h->left_out[block / 8] |= (uint8_t)(1u << block % 8);
		h->has_left_out = true;
	}
	h->pending = 0;
	h->has_data = false;
	if (h->in_segment == SEGMENT_BYTES)
		end_segment(h);
}

/* Of one block; data NULL: zeros. */
static void add_to_block(WdrHasher *h, const uint8_t *data, size_t len)
{
	bool is_zero = !data || (!h->has_data && wdr_is_zero(data, len));

	if (is_zero && !h->has_data) {
		h->pending += len;
	} else {
		if (h->pending > 0)
			XXH3_128bits_update(h->state, zeros, h->pending);
		XXH3_128bits_update(h->state, data ? data : zeros, len);
		h->pending = 0;
		h->has_data = true;
	}
	h->in_segment += len;
	if (h->in_segment % BLOCK_BYTES == 0)
		end_block(h);
}

void wdr_hasher_add(WdrHasher *h, const void *data, size_t len)
{
	const uint8_t *at = data;

	while (len > 0) {
		size_t part = MIN(len, BLOCK_BYTES - (size_t)(h->in_segment % BLOCK_BYTES));
		add_to_block(h, at, part);
		at += part;
		len -= part;
	}
}

void wdr_hasher_add_zeros(WdrHasher *h, uint64_t len)
{
	while (len > 0) {
		/* By the gigabyte: a file of a thousand of them may be one hole. */
		if (h->in_segment == 0 && len >= SEGMENT_BYTES) {
			memset(h->left_out, 0xff, sizeof(h->left_out));
			h->has_left_out = true;
			end_segment(h);
			len -= SEGMENT_BYTES;
			continue;
		}
		uint64_t part = MIN(len, BLOCK_BYTES - h->in_segment % BLOCK_BYTES);
		add_to_block(h, NULL, (size_t)part);
		len -= part;
	}
}

static WdrHash of(XXH128_hash_t hash)
{
	return (WdrHash){ .high = hash.high64, .low = hash.low64 };
}

/* With the zeros at the end, which may yet become a block to leave out. */
static WdrHash digest(const WdrHasher *h)
{
	if (h->pending == 0)
		return of(XXH3_128bits_digest(h->state));
	XXH3_state_t *all = XXH3_createState();
	if (!all)
		g_error("out of memory");
	XXH3_copyState(all, h->state);
	XXH3_128bits_update(all, zeros, h->pending);
	WdrHash hash = of(XXH3_128bits_digest(all));
	XXH3_freeState(all);
	return hash;
}

WdrHash wdr_hasher_result(const WdrHasher *h)
{
	uint8_t both[DIGEST_BYTES + MAP_BYTES];

	if (!h->has_left_out)
		return digest(h);
	to_bytes(digest(h), both);
	memcpy(both + DIGEST_BYTES, h->left_out, MAP_BYTES);
	return of(XXH3_128bits(both, sizeof(both)));
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
	if (len < BLOCK_BYTES)
		return of(XXH3_128bits(data, len));
	g_autoptr(WdrHasher) h = wdr_hasher_new();
	wdr_hasher_add(h, data, len);
	return wdr_hasher_result(h);
}

bool wdr_hash_equal(WdrHash a, WdrHash b)
{
	return a.high == b.high && a.low == b.low;
}

/* Sixteen digits, here and below. A packing list has sixty million of them for a million files: no
 * calls. */
static void put_half(uint64_t half, char *to)
{
	for (size_t i = 0; i < WDR_HASH_TEXT_LEN / 2; i++)
		to[i] = "0123456789abcdef"[half >> (60 - 4 * i) & 0xf];
}

void wdr_hash_to_text(WdrHash hash, char ret[WDR_HASH_TEXT_LEN + 1])
{
	put_half(hash.high, ret);
	put_half(hash.low, ret + WDR_HASH_TEXT_LEN / 2);
	ret[WDR_HASH_TEXT_LEN] = '\0';
}

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
