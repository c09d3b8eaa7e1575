/* Pieces that the sections of a page are made of. Private to the page. */
#pragma once

#include "base/cleanup.h"

#include <stdbool.h>

typedef struct {
	GString *html;
	const json_t *report; /* its strings are fit to be shown once they are escaped */
} WdrPage;

/* A deep copy in which control characters, and those that turn the direction of writing, are
 * replaced in every string. The caller's. */
json_t *wdr_page_clean(json_t *json);

/* A member of a member, by names with dots between them; NULL: it is not there. */
const json_t *wdr_page_at(const json_t *json, const char *path);
const char *wdr_page_text(const json_t *json, const char *path); /* "" for none */
json_int_t wdr_page_number(const json_t *json, const char *path);
/* "29.7 GiB". The caller's. */
char *wdr_page_size(const json_t *json, const char *path);

/* Markup; what comes in by %s is escaped. */
void wdr_page_add(WdrPage *p, const char *format, ...) G_GNUC_PRINTF(2, 3);

/* The head of a page, up to where <main> begins, and its end. */
void wdr_page_begin(WdrPage *p, const char *title);
/* By whom and when the document was made; a sentence may follow. */
void wdr_page_begin_footer(WdrPage *p);
void wdr_page_end(WdrPage *p);

void wdr_page_section(WdrPage *p, const char *id, const char *title);
void wdr_page_section_end(WdrPage *p);
/* In the place of what is not there. */
void wdr_page_absent(WdrPage *p, const char *why);

typedef struct {
	const char *text; /* NULL: nothing */
	const char
		*mark; /* a class of badge: "good", "warning", "bad", "plain"; NULL: plain text */
	bool is_number, is_code;
	const char *link; /* where its text leads; NULL: nowhere */
	double bar;       /* 0 to 1: a bar of this length under it; 0: none */
} WdrPageCell;
/* headers: NULL-ended. */
void wdr_page_table(WdrPage *p, const char *class, const char *const *headers);
/* As many cells as there are headers. */
void wdr_page_row(WdrPage *p, const char *const *headers, const WdrPageCell *cells);
void wdr_page_table_end(WdrPage *p);
/* A list of names and what they are; rows without a value are left out. */
void wdr_page_facts(WdrPage *p);
void wdr_page_fact(WdrPage *p, const char *name, const char *value);
void wdr_page_facts_end(WdrPage *p);
