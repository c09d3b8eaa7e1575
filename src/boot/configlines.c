#include "boot/configlines.h"

#include "boot/lines.h"

#include <string.h>

GBytes *wdr_config_with_line(const char *text, size_t len, const char *line)
{
	GString *out = g_string_new_len(text, (gssize)len);
	bool is_all = true;
	bool has_cr = len > 0 && memmem(text, len, "\r\n", 2);
	const char *end = has_cr ? "\r\n" : "\n";

	for (WdrLine l = wdr_lines(text, len); wdr_line_next(&l);) {
		size_t at = wdr_skip_blanks(text, l.at, l.end);
		if (at < l.end && text[at] == '[')
			is_all = g_ascii_strncasecmp(text + at, "[all]", MIN(5, l.end - at)) == 0;
	}
	if (out->len > 0 && out->str[out->len - 1] != '\n')
		g_string_append(out, end);
	if (!is_all)
		g_string_append_printf(out, "[all]%s", end);
	g_string_append_printf(out, "%s%s", line, end);
	return g_string_free_to_bytes(out);
}

static bool is_line(const WdrLine *l, const char *line)
{
	size_t at = wdr_skip_blanks(l->text, l->at, l->end);
	size_t end = wdr_trim_blanks(l->text, at, l->end);

	return end - at == strlen(line) && memcmp(l->text + at, line, end - at) == 0;
}

bool wdr_config_has_line(const char *text, size_t len, const char *line)
{
	for (WdrLine l = wdr_lines(text, len); wdr_line_next(&l);) {
		if (is_line(&l, line))
			return true;
	}
	return false;
}

GBytes *wdr_config_without_line(const char *text, size_t len, const char *line)
{
	GString *out = NULL;

	if (!wdr_config_has_line(text, len, line))
		return NULL;
	out = g_string_new(NULL);
	for (WdrLine l = wdr_lines(text, len); wdr_line_next(&l);) {
		if (!is_line(&l, line))
			g_string_append_len(out, text + l.start, (gssize)(l.next - l.start));
	}
	return g_string_free_to_bytes(out);
}
