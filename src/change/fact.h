/* What was found out, one thing a line. */
#pragma once

#include <glib.h>
#include <stdbool.h>

typedef struct {
	const char *name; /* "order": static; the same for several that belong together */
	char *text;       /* escaped */
	bool is_warning;
} WdrFact;
/* A list of WdrFact, which owns them. */
GPtrArray *wdr_facts_new(void);
void wdr_facts_add(GPtrArray *facts, const char *name, bool is_warning, const char *format, ...)
	G_GNUC_PRINTF(4, 5);
