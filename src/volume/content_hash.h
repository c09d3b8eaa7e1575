/* Hashing contents as they are read: holes count as zeros. */
#pragma once

#include "base/hash.h"
#include "volume/volume.h"

/* Hashes pieces as they are copied: what lies between them, and unwritten ones, count as zeros. */
void wdr_hash_piece(WdrHasher *hasher, const WdrPiece *piece, const void *data, uint64_t *pos);
/* All of a content of `size` bytes. */
bool wdr_content_hash(WdrContent *content, uint64_t size, WdrHasher *hasher, WdrHash *ret,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
