/* XXH3 with 128 bits over streams and buffers: what `xxh128sum` prints for the same bytes, where
 * these are less than a GiB and hold no long run of zeros.
 *
 * Zeros cost nothing, whether they lie in a hole or were written: a block of 64 KiB, counted from
 * the start, that is all zeros is left out. Where any was, the hash is that of two things behind
 * each other: the sixteen bytes (high half first, big-endian) of the hash of what is left, and a
 * map of 2,048 bytes with a bit for each block of the GiB, the lowest first, 1 where one was left
 * out. Behind each whole GiB a hasher begins anew with the sixteen bytes of the hash so far, so
 * that hashing can be taken up again there. */
#pragma once

#include <glib.h>
#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

typedef struct {
	uint64_t high, low;
} WdrHash;

enum { WDR_HASH_TEXT_LEN = 32 };

typedef struct WdrHasher WdrHasher;
WdrHasher *wdr_hasher_new(void);
void wdr_hasher_reset(WdrHasher *h);
void wdr_hasher_add(WdrHasher *h, const void *data, size_t len);
/* As if `len` zero bytes had been added: a hole. */
void wdr_hasher_add_zeros(WdrHasher *h, uint64_t len);
WdrHash wdr_hasher_result(const WdrHasher *h);
/* Where it can be taken up again: the last whole GiB that was added. */
typedef struct {
	uint64_t at; /* bytes; 0: there is none yet */
	WdrHash hash;
} WdrHashMark;
WdrHashMark wdr_hasher_mark(const WdrHasher *h);
/* As after a reset, and after the bytes before the mark were added. */
void wdr_hasher_take_up(WdrHasher *h, const WdrHashMark *mark);
void wdr_hasher_free(WdrHasher *h);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(WdrHasher, wdr_hasher_free)

WdrHash wdr_hash(const void *data, size_t len);
bool wdr_hash_equal(WdrHash a, WdrHash b);
/* 32 lower-case hex digits and a 0. */
void wdr_hash_to_text(WdrHash hash, char ret[WDR_HASH_TEXT_LEN + 1]);
/* The other way, from the start of a text: what comes behind the digits; NULL: they are none. */
const char *wdr_hash_scan(const char *hex, WdrHash *ret);
/* The same of a whole text; false: it is none. */
bool wdr_hash_from_text(const char *hex, WdrHash *ret);
