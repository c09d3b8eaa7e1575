/* Unpacks a stream piece by piece, in any form that its format allows: several members one after
 * the other, padding behind them, any check. (boot/kernel/unpack.h is about what a kernel takes.)
 */
#pragma once

#include "base/error.h"

#include <stddef.h>
#include <stdint.h>

typedef struct WdrPackedStream WdrPackedStream;

typedef enum {
	WDR_PACKED_MORE,    /* goes on: give it more, or make room */
	WDR_PACKED_END,     /* the last member has ended */
	WDR_PACKED_SHORT,   /* the input ended within a member */
	WDR_PACKED_DAMAGED, /* or something else behind the last member */
	WDR_PACKED_MEMORY,  /* needs more memory than it may have */
} WdrPackedState;

/* What a run was given, and has left. */
typedef struct {
	const uint8_t *in;
	size_t in_len;
	uint8_t *out;
	size_t out_room;
	bool is_last; /* nothing comes behind `in` */
} WdrPackedPiece;

/* kind: as wdr_packed_kind() tells, or a member of a zip file: "deflate", "stored". NULL: out of
 * memory. */
WdrPackedStream *wdr_packed_stream_new(const char *kind);
/* Takes from `in` and fills `out`, and moves both on. */
WdrPackedState wdr_packed_stream_run(WdrPackedStream *s, WdrPackedPiece *piece);
void wdr_packed_stream_free(WdrPackedStream *s);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(WdrPackedStream, wdr_packed_stream_free)
