/* Unpacks xz, gzip, bzip2, zstd, and the members of zip files, each with its library.
 *
 * Of what the libraries report, three states are left that a user can act on: the file ends too
 * early, is damaged, or wants too much memory. */
#include "packed/packed_stream.h"

#include <bzlib.h>
#include <limits.h>
#include <lzma.h>
#include <string.h>
#include <zlib.h>
#include <zstd.h>
#include <zstd_errors.h>

typedef struct {
	const char *kind;
	bool (*begin)(WdrPackedStream *s);
	WdrPackedState (*run)(WdrPackedStream *s, WdrPackedPiece *p);
	void (*end)(WdrPackedStream *s);
	bool is_of_members; /* behind one there may be another one */
} Format;

struct WdrPackedStream {
	const Format *format;
	union {
		z_stream z;
		bz_stream bz;
		lzma_stream xz;
		ZSTD_DStream *zstd;
	} lib;
	bool is_between; /* a member has ended: another one, padding, or the end comes next */
};

/* A packed image may want a dictionary of that much; a decoder with threads takes more where the
 * machine has it. */
#define MEMORY_MAX (UINT64_C(320) * 1024 * 1024)

static unsigned part(size_t len)
{
	return (unsigned)MIN(len, (size_t)INT_MAX);
}

static void took(WdrPackedPiece *p, size_t in, size_t out)
{
	p->in += in;
	p->in_len -= in;
	p->out += out;
	p->out_room -= out;
}

/* What a run that made no headway means. */
static WdrPackedState stuck(const WdrPackedPiece *p)
{
	return p->in_len == 0 && p->is_last && p->out_room > 0 ? WDR_PACKED_SHORT : WDR_PACKED_MORE;
}

/* ---- gzip, and deflate without a header ---- */

static WdrPackedState run_z(WdrPackedStream *s, WdrPackedPiece *p)
{
	z_stream *z = &s->lib.z;

	z->next_in = (uint8_t *)p->in;
	z->avail_in = part(p->in_len);
	z->next_out = p->out;
	z->avail_out = part(p->out_room);
	unsigned in = z->avail_in;
	unsigned out = z->avail_out;
	int code = inflate(z, Z_NO_FLUSH);
	took(p, in - z->avail_in, out - z->avail_out);
	switch (code) {
	case Z_STREAM_END:
		return WDR_PACKED_END;
	case Z_OK:
	case Z_BUF_ERROR:
		return stuck(p);
	default:
		return code == Z_MEM_ERROR ? WDR_PACKED_MEMORY : WDR_PACKED_DAMAGED;
	}
}

static void end_z(WdrPackedStream *s)
{
	inflateEnd(&s->lib.z);
}

/* ---- bzip2 ---- */

static WdrPackedState run_bz(WdrPackedStream *s, WdrPackedPiece *p)
{
	bz_stream *z = &s->lib.bz;

	z->next_in = (char *)p->in;
	z->avail_in = part(p->in_len);
	z->next_out = (char *)p->out;
	z->avail_out = part(p->out_room);
	unsigned in = z->avail_in;
	unsigned out = z->avail_out;
	int code = BZ2_bzDecompress(z);
	took(p, in - z->avail_in, out - z->avail_out);
	if (code == BZ_STREAM_END)
		return WDR_PACKED_END;
	if (code == BZ_OK)
		return stuck(p);
	return code == BZ_MEM_ERROR ? WDR_PACKED_MEMORY : WDR_PACKED_DAMAGED;
}

static void end_bz(WdrPackedStream *s)
{
	BZ2_bzDecompressEnd(&s->lib.bz);
}

/* ---- xz: the library itself goes through members and padding ---- */

static WdrPackedState run_xz(WdrPackedStream *s, WdrPackedPiece *p)
{
	lzma_stream *z = &s->lib.xz;

	z->next_in = p->in;
	z->avail_in = p->in_len;
	z->next_out = p->out;
	z->avail_out = p->out_room;
	lzma_ret code = lzma_code(z, p->is_last ? LZMA_FINISH : LZMA_RUN);
	took(p, p->in_len - z->avail_in, p->out_room - z->avail_out);
	switch (code) {
	case LZMA_OK:
		return WDR_PACKED_MORE;
	case LZMA_STREAM_END:
		return WDR_PACKED_END;
	case LZMA_BUF_ERROR:
		return stuck(p);
	case LZMA_MEM_ERROR:
	case LZMA_MEMLIMIT_ERROR:
		return WDR_PACKED_MEMORY;
	default:
		return WDR_PACKED_DAMAGED;
	}
}

static void end_xz(WdrPackedStream *s)
{
	lzma_end(&s->lib.xz);
}

static bool begin_xz(WdrPackedStream *s)
{
	s->lib.xz = (lzma_stream)LZMA_STREAM_INIT;
#if LZMA_VERSION >= 50040002 /* 5.4.0 */
	lzma_mt mt = {
		.flags = LZMA_CONCATENATED,
		.threads = CLAMP(lzma_cputhreads(), 1, 16),
		.memlimit_threading = lzma_physmem() / 8,
		.memlimit_stop = MEMORY_MAX,
	};
	return lzma_stream_decoder_mt(&s->lib.xz, &mt) == LZMA_OK;
#else
	return lzma_stream_decoder(&s->lib.xz, MEMORY_MAX, LZMA_CONCATENATED) == LZMA_OK;
#endif
}

/* ---- zstd: the library goes from one frame to the next ---- */

static WdrPackedState run_zstd(WdrPackedStream *s, WdrPackedPiece *p)
{
	ZSTD_inBuffer in = { p->in, p->in_len, 0 };
	ZSTD_outBuffer out = { p->out, p->out_room, 0 };
	size_t code = ZSTD_decompressStream(s->lib.zstd, &out, &in);

	took(p, in.pos, out.pos);
	if (ZSTD_isError(code)) {
		ZSTD_ErrorCode what = ZSTD_getErrorCode(code);
		return what == ZSTD_error_frameParameter_windowTooLarge ||
				       what == ZSTD_error_memory_allocation
			       ? WDR_PACKED_MEMORY
			       : WDR_PACKED_DAMAGED;
	}
	if (code == 0)
		return WDR_PACKED_END;
	return stuck(p);
}

static void end_zstd(WdrPackedStream *s)
{
	ZSTD_freeDStream(s->lib.zstd);
}

/* ---- stored ---- */

static WdrPackedState run_stored(WdrPackedStream *s, WdrPackedPiece *p)
{
	size_t len = MIN(p->in_len, p->out_room);

	(void)s;
	memcpy(p->out, p->in, len);
	took(p, len, len);
	return p->is_last && p->in_len == 0 ? WDR_PACKED_END : WDR_PACKED_MORE;
}

static void end_stored(WdrPackedStream *s)
{
	(void)s;
}

/* ---- all of them ---- */

static bool begin_gzip(WdrPackedStream *s)
{
	s->lib.z = (z_stream){ 0 };
	return inflateInit2(&s->lib.z, 15 + 16) == Z_OK;
}

static bool begin_deflate(WdrPackedStream *s)
{
	s->lib.z = (z_stream){ 0 };
	return inflateInit2(&s->lib.z, -15) == Z_OK;
}

static bool begin_bz(WdrPackedStream *s)
{
	s->lib.bz = (bz_stream){ 0 };
	return BZ2_bzDecompressInit(&s->lib.bz, 0, 0) == BZ_OK;
}

static bool begin_zstd(WdrPackedStream *s)
{
	s->lib.zstd = ZSTD_createDStream();
	return s->lib.zstd != NULL;
}

static bool begin_stored(WdrPackedStream *s)
{
	(void)s;
	return true;
}

static const Format formats[] = {
	{ "xz", begin_xz, run_xz, end_xz, false },
	{ "gzip", begin_gzip, run_z, end_z, true },
	{ "bzip2", begin_bz, run_bz, end_bz, true },
	{ "zstd", begin_zstd, run_zstd, end_zstd, true },
	{ "deflate", begin_deflate, run_z, end_z, false },
	{ "stored", begin_stored, run_stored, end_stored, false },
};

WdrPackedStream *wdr_packed_stream_new(const char *kind)
{
	for (size_t i = 0; i < G_N_ELEMENTS(formats); i++) {
		if (strcmp(formats[i].kind, kind) != 0)
			continue;
		WdrPackedStream *s = g_new0(WdrPackedStream, 1);
		s->format = &formats[i];
		if (s->format->begin(s))
			return s;
		g_free(s);
		return NULL;
	}
	g_return_val_if_reached(NULL);
}

/* Zeros behind a member are padding, as tapes and some programs leave it. */
static void pass_padding(WdrPackedPiece *p)
{
	while (p->in_len > 0 && *p->in == 0)
		took(p, 1, 0);
}

WdrPackedState wdr_packed_stream_run(WdrPackedStream *s, WdrPackedPiece *p)
{
	if (s->is_between) {
		pass_padding(p);
		if (p->in_len == 0)
			return p->is_last ? WDR_PACKED_END : WDR_PACKED_MORE;
		s->format->end(s);
		s->is_between = false;
		if (!s->format->begin(s)) {
			/* Nothing is left that the end would have to free. */
			s->format = &formats[G_N_ELEMENTS(formats) - 1];
			return WDR_PACKED_MEMORY;
		}
	}
	WdrPackedState state = s->format->run(s, p);
	if (state != WDR_PACKED_END || !s->format->is_of_members)
		return state;
	s->is_between = true;
	return p->in_len == 0 && p->is_last ? WDR_PACKED_END : WDR_PACKED_MORE;
}

void wdr_packed_stream_free(WdrPackedStream *s)
{
	if (!s)
		return;
	s->format->end(s);
	g_free(s);
}
