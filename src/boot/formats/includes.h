/* A bound for files that include each other. A file may include itself, or two each other twice:
 * the number of visits doubles with each level, so depth is no bound. All files of one tree count,
 * and all their bytes. */
#pragma once

#include <stdbool.h>
#include <stddef.h>

typedef struct {
	unsigned files;
	size_t bytes;
	bool has_ended; /* one was not taken */
} WdrIncludes;

enum { WDR_INCLUDES_MAX = 64, WDR_INCLUDED_BYTES_MAX = 1024 * 1024 };

/* The warning when one was not read. */
extern const char wdr_includes_ended[];

/* One more file of this size may be read; false: there were too many, or the program is to stop. */
bool wdr_includes_take(WdrIncludes *i, size_t bytes);
