/* Lines of a text file in memory. Line ends are "\n" or "\r\n"; the last line may have none; a byte
 * order mark before the first line belongs to no line. All numbers are offsets in the text. */
#pragma once

#include <glib.h>
#include <stdbool.h>
#include <stddef.h>

typedef struct {
	const char *text; /* borrowed */
	size_t len;
	unsigned number; /* from 1 */
	size_t start;    /* columns count from here */
	size_t at, end;  /* without byte order mark and line end */
	size_t next;     /* where the next line starts */
} WdrLine;

/* Before the first line. */
WdrLine wdr_lines(const char *text, size_t len);
bool wdr_line_next(WdrLine *line); /* false: there are no more */
/* The line that holds the byte at this offset; the last one for any offset behind it. */
WdrLine wdr_line_at(const char *text, size_t len, size_t at);

/* Blank or tab, and whatever else no word can hold in these formats. */
bool wdr_is_blank(char c);
/* The first byte at or after `at` that is no blank; `end` when there is none. */
size_t wdr_skip_blanks(const char *text, size_t at, size_t end);
/* The end without the blanks before it. */
size_t wdr_trim_blanks(const char *text, size_t at, size_t end);
/* The end of the word at `at`. */
size_t wdr_word_end(const char *text, size_t at, size_t end);
/* The word [at, end) is this one, in any case. */
bool wdr_word_is(const char *text, size_t at, size_t end, const char *word);

/* The text with another behind the line of this number, each as a whole line. */
GBytes *wdr_text_with_line_behind(
	const char *text, size_t len, unsigned number, const char *line, const char *end);
