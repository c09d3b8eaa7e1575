/* Loader scripts: U-Boot's shell. A script is a program, and what it does cannot always be known
 * without running it; words that name a device literally can be found and corrected. */
#include "boot/formats/mention.h"

#include <string.h>

/* `setenv NAME VALUE…`: the value is the rest of the command, or what is in quotes. */
static bool take_setenv(const WdrReading *r, const WdrLine *line, size_t at, size_t end)
{
	const char *text = r->text;
	WdrSpan name = { wdr_skip_blanks(text, wdr_word_end(text, at, end), end), 0 };

	name.end = wdr_word_end(text, name.at, end);
	WdrSpan value = { wdr_skip_blanks(text, name.end, end),
		wdr_trim_blanks(text, name.end, end) };
	if (name.at == name.end || value.at >= value.end)
		return false;
	char quote = text[value.at] == '"' || text[value.at] == '\'' ? text[value.at] : 0;
	const char *close =
		quote ? memchr(text + value.at + 1, quote, value.end - value.at - 1) : NULL;
	if (quote && !close)
		wdr_reading_warn(r, line, value.at, "the quote is not closed on this line");
	if (quote)
		value = (WdrSpan){ value.at + 1, close ? (size_t)(close - text) : value.end };
	g_autofree char *key = g_strndup(text + name.at, name.end - name.at);
	wdr_setting_take(r, line, key, value, quote ? WDR_WRITE_QUOTED : WDR_WRITE_WORD);
	return true;
}

/* One command of a line; several are separated by `;`, or follow `then` and the like. */
static void take_command(const WdrReading *r, const WdrLine *line, size_t at, size_t end)
{
	static const char *const before[] = { "then", "else", "do", "if", "elif" };

	at = wdr_skip_blanks(r->text, at, end);
	for (size_t i = 0; i < G_N_ELEMENTS(before); i++) {
		size_t word = wdr_word_end(r->text, at, end);
		if (wdr_word_is(r->text, at, word, before[i]))
			at = wdr_skip_blanks(r->text, word, end);
	}
	size_t word = wdr_word_end(r->text, at, end);
	if ((wdr_word_is(r->text, at, word, "setenv") || wdr_word_is(r->text, at, word, "env")) &&
		take_setenv(r, line, at, end))
		return;
	wdr_kernel_args_scan(r, line, (WdrSpan){ at, end }, WDR_WRITE_WORD);
}

static void take_line(const WdrReading *r, const WdrLine *line)
{
	size_t start = line->at;
	char quote = 0;

	for (size_t i = line->at; i <= line->end; i++) {
		char c = i < line->end ? r->text[i] : ';';
		if (quote && c == quote)
			quote = 0;
		else if (!quote && (c == '"' || c == '\''))
			quote = c;
		bool ends = i == line->end || (!quote && (c == ';' || c == '&' || c == '|'));
		if (!ends)
			continue;
		if (i > start)
			take_command(r, line, start, i);
		start = i + 1;
	}
}

bool wdr_script_read(const WdrReading *r, GError **error)
{
	guint first = r->mentions->len;

	(void)error;
	for (WdrLine line = wdr_lines(r->text, r->len); wdr_line_next(&line);) {
		size_t at = wdr_skip_blanks(r->text, line.at, line.end);
		if (at < line.end && r->text[at] != '#')
			take_line(r, &line);
	}
	for (guint i = first; i < r->mentions->len; i++) {
		WdrMention *m = r->mentions->pdata[i];
		m->is_kernel = m->use == WDR_USE_ROOT && !m->identifier.is_bare;
		/* Settings read from a file take the place of what a script sets. */
		m->is_default = false;
	}
	return true;
}
