/* What becomes of files whose contents are planned as a whole: shown first, written later by the
 * rooms that change disks. */
#pragma once

#include "base/hash.h"

#include <glib.h>
#include <stdbool.h>
#include <stdint.h>

/* What becomes of one file. */
typedef struct {
	unsigned number; /* of the partition */
	char *file;      /* path on its volume */
	bool is_new;
	WdrHash before;  /* of one that is there */
	GBytes *content; /* NULL: it is taken away */
	uint32_t mode;   /* of a new one */
	char *diff;      /* for people; NULL: it is no text */
	char *note;      /* what is done, for people; NULL: the diff tells */
} WdrFilePlan;
GPtrArray *wdr_file_plans_new(void);
/* Plans a file's new text, or a new file; returns it, borrowed. `before` NULL: there is none. */
WdrFilePlan *wdr_file_plans_add(GPtrArray *plans, unsigned number, const char *file,
	const char *before, size_t before_len, GBytes *content);
