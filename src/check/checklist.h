/* What was looked at before or after a move: each with what was seen and what to do. */
#pragma once

#include "base/state.h"

#include <glib.h>
#include <stdbool.h>

typedef struct {
	const char *name; /* "drivers": static */
	WdrState state;
	bool is_final; /* a stop that nobody can wave through: the move itself would refuse */
	char *text;    /* escaped */
	char *hint;    /* NULL: there is nothing to do */
} WdrCheck;

/* A list of WdrCheck, which owns them. */
GPtrArray *wdr_checks_new(void);
/* Adds one, and returns it, borrowed; `hint` may be NULL. One name may have several. `text`
 * is fit to be shown. */
WdrCheck *wdr_checks_add(
	GPtrArray *checks, const char *name, WdrState state, const char *hint, const char *text);
/* The same with text that may have anything in it, which is escaped. */
WdrCheck *wdr_checks_say(GPtrArray *checks, const char *name, WdrState state, const char *hint,
	const char *format, ...) G_GNUC_PRINTF(5, 6);
unsigned wdr_checks_count(const GPtrArray *checks, WdrState state);
