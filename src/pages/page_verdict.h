/* What came of a move in three verdicts, in the same words on every page. Private to the pages. */
#pragma once

#include "pages/page_html.h"

/* Constants. */
typedef struct {
	const char *text;  /* a statement of its own */
	const char *brief; /* below a heading that says what it is about */
	const char *mark;  /* a class of badge */
} WdrVerdictText;

WdrVerdictText wdr_verdict_copied(const char *state, bool has_damage);
/* NULL or "": it was not rehearsed. */
WdrVerdictText wdr_verdict_rehearsed(const char *verdict);
/* JSON booleans; NULL or null: nobody looked. */
WdrVerdictText wdr_verdict_arrived(const json_t *arrived, const json_t *as_planned);
