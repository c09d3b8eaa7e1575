/* Splits a text into lines, keeping offsets. */
#include "boot/formats/lines.h"

#include <string.h>
#include <strings.h>

WdrLine wdr_lines(const char *text, size_t len)
{
	return (WdrLine){ .text = text, .len = len };
}

bool wdr_line_next(WdrLine *line)
{
	static const char mark[] = "\xef\xbb\xbf";

	if (line->next >= line->len)
		return false;
	line->number++;
	line->start = line->at = line->next;
	const char *newline = memchr(line->text + line->start, '\n', line->len - line->start);
	line->end = newline ? (size_t)(newline - line->text) : line->len;
	line->next = newline ? line->end + 1 : line->len;
	if (line->end > line->start && line->text[line->end - 1] == '\r')
		line->end--;
	if (line->start == 0 && line->end >= 3 && memcmp(line->text, mark, 3) == 0)
		line->at = 3;
	return true;
}

WdrLine wdr_line_at(const char *text, size_t len, size_t at)
{
	WdrLine line = wdr_lines(text, len);

	while (wdr_line_next(&line) && line.next <= at)
		;
	return line;
}

bool wdr_is_blank(char c)
{
	return c == ' ' || c == '\t' || c == '\r' || c == '\f' || c == '\v';
}

size_t wdr_skip_blanks(const char *text, size_t at, size_t end)
{
	while (at < end && wdr_is_blank(text[at]))
		at++;
	return at;
}

size_t wdr_trim_blanks(const char *text, size_t at, size_t end)
{
	while (end > at && wdr_is_blank(text[end - 1]))
		end--;
	return end;
}

size_t wdr_word_end(const char *text, size_t at, size_t end)
{
	while (at < end && !wdr_is_blank(text[at]))
		at++;
	return at;
}

bool wdr_word_is(const char *text, size_t at, size_t end, const char *word)
{
	size_t len = strlen(word);

	return end - at == len && strncasecmp(text + at, word, len) == 0;
}

GBytes *wdr_text_with_line_behind(
	const char *text, size_t len, unsigned number, const char *line, const char *end)
{
	GString *out = g_string_new(NULL);

	for (WdrLine l = wdr_lines(text, len); wdr_line_next(&l);) {
		g_string_append_len(out, text + l.start, (gssize)(l.next - l.start));
		if (l.number != number)
			continue;
		if (l.next == l.end)
			g_string_append_c(out, '\n');
		g_string_append_printf(out, "%s%s", line, end);
	}
	return g_string_free_to_bytes(out);
}
