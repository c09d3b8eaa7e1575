/* Hashing contents with their holes.
 *
 * A hole and a range of zeros are the same content, and so have the same hash. Holes are not read.
 */
#include "volume/content_hash.h"

#include "base/stop.h"

enum { CHUNK_BYTES = 512 * 1024 };

void wdr_hash_piece(WdrHasher *hasher, const WdrPiece *piece, const void *data, uint64_t *pos)
{
	wdr_hasher_add_zeros(hasher, piece->offset - *pos);
	if (piece->is_unwritten)
		wdr_hasher_add_zeros(hasher, piece->len);
	else
		wdr_hasher_add(hasher, data, (size_t)piece->len);
	*pos = piece->offset + piece->len;
}

bool wdr_content_hash(
	WdrContent *content, uint64_t size, WdrHasher *hasher, WdrHash *ret, GError **error)
{
	g_autofree uint8_t *buf = g_malloc(CHUNK_BYTES);
	uint64_t pos = 0;

	wdr_hasher_reset(hasher);
	for (;;) {
		WdrPiece piece;
		if (!wdr_stop_check(error) ||
			!wdr_content_next(content, buf, CHUNK_BYTES, &piece, error))
			return false;
		if (piece.len == 0)
			break;
		wdr_hash_piece(hasher, &piece, buf, &pos);
	}
	wdr_hasher_add_zeros(hasher, size - pos);
	*ret = wdr_hasher_result(hasher);
	return true;
}
