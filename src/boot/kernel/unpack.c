/* Unpacks what the kernel can unpack, within a limit.
 *
 * The libraries can do more than the kernel (lz4's modern frame, xz with other checks than CRC32).
 * What the kernel would refuse is refused here, too: the board would not boot with it. */
#include "boot/kernel/unpack.h"

#include "base/cursor.h"

#include <bzlib.h>
#include <lz4.h>
#include <lzma.h>
#include <string.h>
#include <zlib.h>
#include <zstd.h>

enum {
	CHUNK_BYTES = 256 * 1024,
	LZ4_BLOCK_BYTES = 8 * 1024 * 1024, /* of the legacy frame */
	LZ4_PACKED_MAX = LZ4_COMPRESSBOUND(LZ4_BLOCK_BYTES),
	XZ_CHECK_AT = 7,
};
/* A dictionary is as large as its header says: that much is never needed. */
#define LZMA_MEMORY_MAX (UINT64_C(192) * 1024 * 1024)

typedef struct {
	const uint8_t *bytes;
	size_t len;
	WdrUnpacked take;
	void *data;
	uint8_t *out; /* CHUNK_BYTES */
} Packed;

static bool damaged(GError **error, const char *kind, size_t at)
{
	return wdr_error_set(error, WDR_ERROR_FORMAT,
		"the %s data is damaged or cut short at byte %zu", kind, at);
}

static unsigned part(size_t len)
{
	return (unsigned)MIN(len, 1u << 30);
}

static bool unpack_gzip(const Packed *p, size_t *used, GError **error)
{
	z_stream z = { .next_in = (uint8_t *)p->bytes, .avail_in = part(p->len) };
	int code = inflateInit2(&z, 15 + 16);
	bool is_fine = true;

	while (code == Z_OK && is_fine) {
		z.next_out = p->out;
		z.avail_out = CHUNK_BYTES;
		code = inflate(&z, Z_NO_FLUSH);
		is_fine = (code != Z_OK && code != Z_STREAM_END) ||
			  p->take(p->data, p->out, CHUNK_BYTES - z.avail_out, error);
	}
	*used = z.total_in;
	inflateEnd(&z);
	return is_fine && (code == Z_STREAM_END || damaged(error, "gzip", *used));
}

static bool unpack_bzip2(const Packed *p, size_t *used, GError **error)
{
	bz_stream z = { .next_in = (char *)p->bytes, .avail_in = part(p->len) };
	int code = BZ2_bzDecompressInit(&z, 0, 0);
	bool is_fine = true;
	bool is_moving = true;

	while (code == BZ_OK && is_fine && is_moving) {
		unsigned before = z.avail_in;
		z.next_out = (char *)p->out;
		z.avail_out = CHUNK_BYTES;
		code = BZ2_bzDecompress(&z);
		is_moving = z.avail_in != before || z.avail_out < CHUNK_BYTES;
		is_fine = p->take(p->data, p->out, CHUNK_BYTES - z.avail_out, error);
	}
	*used = part(p->len) - z.avail_in;
	BZ2_bzDecompressEnd(&z);
	return is_fine && (code == BZ_STREAM_END || damaged(error, "bzip2", *used));
}

static bool run_lzma(
	const Packed *p, lzma_stream *z, const char *kind, size_t *used, GError **error)
{
	lzma_ret code = LZMA_OK;
	bool is_fine = true;

	z->next_in = p->bytes;
	z->avail_in = p->len;
	while (code == LZMA_OK && is_fine) {
		z->next_out = p->out;
		z->avail_out = CHUNK_BYTES;
		code = lzma_code(z, LZMA_FINISH);
		is_fine = (code != LZMA_OK && code != LZMA_STREAM_END) ||
			  p->take(p->data, p->out, CHUNK_BYTES - z->avail_out, error);
	}
	*used = (size_t)z->total_in;
	lzma_end(z);
	return is_fine && (code == LZMA_STREAM_END || damaged(error, kind, *used));
}

static bool unpack_xz(const Packed *p, size_t *used, GError **error)
{
	lzma_stream z = LZMA_STREAM_INIT;

	/* The kernel's own decoder knows no other checks. */
	if (p->len > XZ_CHECK_AT && p->bytes[XZ_CHECK_AT] != LZMA_CHECK_NONE &&
		p->bytes[XZ_CHECK_AT] != LZMA_CHECK_CRC32)
		return wdr_error_set(error, WDR_ERROR_FORMAT,
			"the xz data has a check that the kernel does not know (it takes CRC32 alone)");
	return lzma_stream_decoder(&z, LZMA_MEMORY_MAX, 0) == LZMA_OK
		       ? run_lzma(p, &z, "xz", used, error)
		       : damaged(error, "xz", 0);
}

static bool unpack_lzma(const Packed *p, size_t *used, GError **error)
{
	lzma_stream z = LZMA_STREAM_INIT;

	return lzma_alone_decoder(&z, LZMA_MEMORY_MAX) == LZMA_OK
		       ? run_lzma(p, &z, "lzma", used, error)
		       : damaged(error, "lzma", 0);
}

/* Blocks, each behind its length; another magic number begins another frame, and 0 ends it. */
static bool unpack_lz4(const Packed *p, size_t *used, GError **error)
{
	g_autofree uint8_t *out = g_malloc(LZ4_BLOCK_BYTES);
	size_t at = 4;

	while (at + 4 <= p->len) {
		uint32_t len = wdr_get_le32(p->bytes + at);
		if (len == 0)
			break;
		if (len == 0x184c2102) {
			at += 4;
			continue;
		}
		int got = len > LZ4_PACKED_MAX || len > p->len - at - 4
				  ? -1
				  : LZ4_decompress_safe((const char *)p->bytes + at + 4,
					    (char *)out, (int)len, LZ4_BLOCK_BYTES);
		if (got < 0)
			return damaged(error, "lz4", at);
		if (!p->take(p->data, out, (size_t)got, error))
			return false;
		at += 4 + len;
	}
	*used = at;
	return true;
}

static bool unpack_zstd(const Packed *p, size_t *used, GError **error)
{
	ZSTD_DStream *z = ZSTD_createDStream();
	ZSTD_inBuffer in = { p->bytes, p->len, 0 };
	size_t code = 1;
	bool is_fine = true;

	while (is_fine && code != 0 && !ZSTD_isError(code)) {
		ZSTD_outBuffer out = { p->out, CHUNK_BYTES, 0 };
		size_t before = in.pos;
		code = ZSTD_decompressStream(z, &out, &in);
		if (ZSTD_isError(code) || (in.pos == before && out.pos == 0 && code != 0))
			break;
		is_fine = p->take(p->data, p->out, out.pos, error);
	}
	*used = in.pos;
	ZSTD_freeDStream(z);
	return is_fine && (code == 0 || damaged(error, "zstd", *used));
}

static bool refuse_new_lz4(const Packed *p, size_t *used, GError **error)
{
	(void)p;
	(void)used;
	return wdr_error_set(error, WDR_ERROR_FORMAT,
		"it is packed in lz4's modern frame; the kernel takes the legacy one (lz4 -l)");
}

typedef struct {
	const char *kind, *magic;
	size_t magic_len;
	bool (*unpack)(const Packed *p, size_t *used, GError **error);
} Kind;

static const Kind kinds[] = {
	{ "gzip", "\x1f\x8b", 2, unpack_gzip },
	{ "gzip", "\x1f\x9e", 2, unpack_gzip },
	{ "bzip2", "BZh", 3, unpack_bzip2 },
	{ "xz",
		"\xfd"
		"7zXZ",
		5, unpack_xz },
	{ "lz4", "\x02\x21\x4c\x18", 4, unpack_lz4 },
	{ "lz4 (modern frame)", "\x04\x22\x4d\x18", 4, refuse_new_lz4 },
	{ "zstd", "\x28\xb5\x2f\xfd", 4, unpack_zstd },
	{ "lzma", "\x5d\x00\x00", 3, unpack_lzma },
};

static const Kind *find_kind(const uint8_t *bytes, size_t len)
{
	for (size_t i = 0; i < G_N_ELEMENTS(kinds); i++) {
		if (len >= kinds[i].magic_len &&
			memcmp(bytes, kinds[i].magic, kinds[i].magic_len) == 0)
			return &kinds[i];
	}
	return NULL;
}

const char *wdr_unpack_kind(const uint8_t *bytes, size_t len)
{
	const Kind *kind = find_kind(bytes, len);

	return kind ? kind->kind : NULL;
}

bool wdr_unpack(const uint8_t *bytes, size_t len, WdrUnpacked take, void *data, size_t *ret_used,
	GError **error)
{
	const Kind *kind = find_kind(bytes, len);
	g_autofree uint8_t *out = g_malloc(CHUNK_BYTES);
	Packed p = { bytes, len, take, data, out };

	*ret_used = 0;
	return kind ? kind->unpack(&p, ret_used, error)
		    : wdr_error_set(error, WDR_ERROR_FORMAT,
			      "it is packed in no way that the kernel knows");
}
