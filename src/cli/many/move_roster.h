/* move --roster: one source to the disk of each slot. */
#pragma once

#include "cli/common/cli.h"

typedef struct {
	const char *path;  /* of the roster */
	const char *slot;  /* that one alone, anew; NULL: all */
	const char *erase; /* serials, or images, with commas; NULL: the question is asked */
	const char *const *despite; /* checks; NULL: none */
	bool is_resuming;
} WdrMoveRoster;

int wdr_move_roster(const WdrGlobals *globals, const WdrMoveRoster *o);
