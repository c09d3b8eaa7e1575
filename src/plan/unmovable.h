/* What cannot be moved, by name: file systems and their layers that a system or its data lies on.
 */
#pragma once

#include <stdbool.h>

typedef struct {
	const char *type;  /* as libblkid names it */
	const char *name;  /* "a btrfs volume" */
	const char *first; /* what has to be done first; one sentence's part */
	/* It is found by its own UUID, so that a copy by blocks would clash with it. */
	bool clashes;
} WdrUnmovable;

/* NULL: it is none, or it is not known. */
const WdrUnmovable *wdr_unmovable(const char *type);
