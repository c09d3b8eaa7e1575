/* XXH3 with 128 bits over streams and buffers: what `xxh128sum` prints for the same bytes. */
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
void wdr_hasher_free(WdrHasher *h);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(WdrHasher, wdr_hasher_free)

WdrHash wdr_hash(const void *data, size_t len);
bool wdr_hash_equal(WdrHash a, WdrHash b);
/* 32 lower-case hex digits and a 0. */
void wdr_hash_to_text(WdrHash hash, char ret[WDR_HASH_TEXT_LEN + 1]);
/* The other way; false: that is not what the text is. */
bool wdr_hash_from_text(const char *hex, WdrHash *ret);
