/* Any bytes as each packed stream and as a zip file: no crash, no hang, no more taken or made than
 * there was. */
#include "packed/packed_stream.h"
#include "packed/zip_file.h"

#include <stdlib.h>
#include <sys/mman.h>
#include <unistd.h>

enum { OUT_BYTES = 4096, RUNS_MAX = 4096 };

/* In pieces of odd sizes. */
static void unpack(const char *kind, const uint8_t *data, size_t size)
{
	g_autoptr(WdrPackedStream) s = wdr_packed_stream_new(kind);
	uint8_t out[OUT_BYTES];
	WdrPackedState state = WDR_PACKED_MORE;
	size_t at = 0;

	for (int i = 0; s && state == WDR_PACKED_MORE && i < RUNS_MAX; i++) {
		size_t len = MIN(size - at, (size_t)(1 + i * 7));
		WdrPackedPiece piece = { data + at, len, out, OUT_BYTES, at + len == size };
		state = wdr_packed_stream_run(s, &piece);
		if (piece.in_len > len || piece.out_room > OUT_BYTES)
			abort();
		at += len - piece.in_len;
	}
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size);

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
	static const char *const kinds[] = { "xz", "gzip", "bzip2", "zstd", "deflate", "stored" };
	g_auto(WdrZipMember) member = { 0 };

	if (size == 0)
		return 0;
	unpack(kinds[*data % G_N_ELEMENTS(kinds)], data + 1, size - 1);
	int fd = memfd_create("zip", MFD_CLOEXEC);
	if (fd < 0 || write(fd, data + 1, size - 1) != (ssize_t)(size - 1))
		abort();
	if (wdr_zip_find_image(fd, size - 1, &member, NULL) &&
		(member.offset > size - 1 || member.packed_size > size - 1 - member.offset))
		abort();
	close(fd);
	return 0;
}
