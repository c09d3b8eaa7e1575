/* What was looked at before or after a move: each with what was seen and what to do. */
#pragma once

#include <glib.h>
#include <stdbool.h>

typedef enum {
	WDR_CHECK_PASS,
	WDR_CHECK_REMARK,
	WDR_CHECK_STOP, /* before a move: it is refused, unless the user names the check; after:
			   something is not as it was to be */
} WdrCheckResult;

typedef struct {
	const char *name; /* "drivers": static */
	WdrCheckResult result;
	bool is_final;  /* a stop that nobody can wave through: the move itself would refuse */
	char *evidence; /* escaped */
	char *remedy;   /* NULL: there is nothing to do */
} WdrCheck;

/* A list of WdrCheck, which owns them. */
GPtrArray *wdr_checks_new(void);
/* Adds one, and returns it, borrowed; `remedy` may be NULL. One name may have several. `evidence`
 * is fit to be shown. */
WdrCheck *wdr_checks_add(GPtrArray *checks, const char *name, WdrCheckResult result,
	const char *remedy, const char *evidence);
/* The same with text that may have anything in it, which is escaped. */
WdrCheck *wdr_checks_say(GPtrArray *checks, const char *name, WdrCheckResult result,
	const char *remedy, const char *format, ...) G_GNUC_PRINTF(5, 6);
unsigned wdr_checks_count(const GPtrArray *checks, WdrCheckResult result);
