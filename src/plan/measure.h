/* What there is to copy of a volume, counted by walking it. */
#pragma once

#include "copy/exclude.h"

typedef struct {
	uint64_t entries;
	uint64_t bytes;  /* contents, holes not counted */
	uint64_t unread; /* folders and entries that the medium fails to give; not counted */
	uint64_t room;   /* what they and their folders take in blocks of block_size bytes */
} WdrMeasure;

/* `exclude` may be NULL; `left` (WdrLeft, may be NULL) is added to. */
bool wdr_measure(WdrVolume *v, const WdrExclude *exclude, GPtrArray *left, uint32_t block_size,
	WdrMeasure *ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;
