/* Splits GRUB's configuration into words. */
#include "boot/formats/grub_words.h"

#include <string.h>

/* ---- words ---- */

static bool ends_word(const char *text, size_t at, size_t len)
{
	return at >= len || strchr(" \t\r\n;", text[at]) != NULL || text[at] == '\0';
}

/* The end of what a quote opens. */
static size_t quote_end(const char *text, size_t at, size_t len)
{
	char quote = text[at++];

	while (at < len && text[at] != quote)
		at += quote == '"' && text[at] == '\\' && at + 1 < len ? 2 : 1;
	return MIN(at + 1, len);
}

static size_t word_end(const char *text, size_t at, size_t len)
{
	while (!ends_word(text, at, len)) {
		if (text[at] == '"' || text[at] == '\'')
			at = quote_end(text, at, len);
		else
			at += text[at] == '\\' && at + 1 < len ? 2 : 1;
	}
	return at;
}

static void add(GArray *all, WdrGrubKind kind, size_t at, size_t end, unsigned line)
{
	WdrGrubToken t = { kind, { at, end }, line };

	g_array_append_val(all, t);
}

static unsigned count_lines(const char *text, size_t at, size_t end)
{
	unsigned n = 0;

	for (; at < end; at++)
		n += text[at] == '\n' ? 1 : 0;
	return n;
}

/* One token that begins at `at`, which is no blank; returns where it ends. */
static size_t take(GArray *all, const char *text, size_t at, size_t len, unsigned *line)
{
	char c = text[at];

	if (c == '\n' || c == ';') {
		add(all, WDR_GRUB_END, at, at + 1, *line);
		*line += c == '\n' ? 1 : 0;
		return at + 1;
	}
	if (c == '#') {
		const char *end = memchr(text + at, '\n', len - at);
		return end ? (size_t)(end - text) : len;
	}
	/* A backslash at a line's end joins it with the next. */
	if (c == '\\' && at + 1 < len && text[at + 1] == '\n') {
		(*line)++;
		return at + 2;
	}
	size_t end = word_end(text, at, len);
	bool is_brace = (c == '{' || c == '}') && end == at + 1;
	add(all,
		!is_brace  ? WDR_GRUB_WORD
		: c == '{' ? WDR_GRUB_OPEN
			   : WDR_GRUB_CLOSE,
		at, end, *line);
	*line += count_lines(text, at, end);
	return end;
}

GArray *wdr_grub_tokens(const char *text, size_t len)
{
	GArray *all = g_array_new(FALSE, FALSE, sizeof(WdrGrubToken));
	unsigned line = 1;

	for (size_t at = 0; at < len;) {
		if (text[at] == ' ' || text[at] == '\t' || text[at] == '\r' || text[at] == '\0')
			at++;
		else
			at = take(all, text, at, len, &line);
	}
	add(all, WDR_GRUB_END, len, len, line);
	return all;
}

/* ---- what a word means ---- */

/* "$name" or "${name}" at `at`; returns where it ends, and `at` itself where it is none. */
static size_t fill_in(
	GString *out, const char *text, WdrSpan s, size_t at, WdrGrubValue value, void *data)
{
	bool has_brace = at + 1 < s.end && text[at + 1] == '{';
	size_t name = at + (has_brace ? 2 : 1);
	size_t end = name;

	while (end < s.end && (g_ascii_isalnum(text[end]) || text[end] == '_'))
		end++;
	if (end == name && end < s.end && (text[end] == '?' || text[end] == '#'))
		end++;
	size_t after = end + (has_brace ? 1 : 0);
	if (end == name || after > s.end || (has_brace && text[end] != '}'))
		return at;
	if (!value) {
		g_string_append_len(out, text + at, (gssize)(after - at));
		return after;
	}
	g_autofree char *key = g_strndup(text + name, end - name);
	g_autofree char *filled = value(data, key);
	g_string_append(out, filled ? filled : "");
	return after;
}

char *wdr_grub_word(const char *text, const WdrGrubToken *token, WdrGrubValue value, void *data)
{
	GString *out = g_string_new(NULL);
	WdrSpan s = token->span;
	char quote = 0;

	for (size_t at = s.at; at < s.end;) {
		char c = text[at];
		size_t after =
			c == '$' && quote != '\'' ? fill_in(out, text, s, at, value, data) : at;
		if (after > at) {
			at = after;
			continue;
		}
		if ((c == '"' || c == '\'') && (quote == 0 || quote == c)) {
			quote = quote ? 0 : c;
			at++;
			continue;
		}
		/* Between double quotes a backslash is one but before these. */
		bool is_escape = c == '\\' && quote != '\'' && at + 1 < s.end &&
				 (quote == 0 || strchr("$\"\\\n", text[at + 1]));
		at += is_escape ? 1 : 0;
		g_string_append_c(out, text[at]);
		at++;
	}
	return g_string_free(out, FALSE);
}

/* ---- commands that name disks and kernels ---- */

static const struct {
	const char *option, *command;
	WdrGrubBy by;
} ways[] = { { "--fs-uuid", "search.fs_uuid", WDR_GRUB_BY_UUID },
	{ "-u", "search.fs_uuid", WDR_GRUB_BY_UUID },
	{ "--label", "search.fs_label", WDR_GRUB_BY_LABEL },
	{ "-l", "search.fs_label", WDR_GRUB_BY_LABEL },
	{ "--file", "search.file", WDR_GRUB_BY_FILE }, { "-f", "search.file", WDR_GRUB_BY_FILE } };

/* The short commands: what is sought, then the variable, then hints. */
static bool parse_short(char *const *words, WdrGrubSearch *ret)
{
	for (size_t i = 0; i < G_N_ELEMENTS(ways); i++) {
		if (strcmp(words[0], ways[i].command) != 0)
			continue;
		ret->by = ways[i].by;
		ret->name = words[1] ? 1 : 0;
		ret->variable = g_strdup(words[1] ? words[2] : NULL);
		return true;
	}
	return false;
}

static bool take_option(const char *word, WdrGrubSearch *ret)
{
	static const char set[] = "--set";

	for (size_t i = 0; i < G_N_ELEMENTS(ways); i++) {
		if (strcmp(word, ways[i].option) == 0)
			ret->by = ways[i].by;
	}
	if (g_str_has_prefix(word, set)) {
		g_free(ret->variable);
		ret->variable =
			g_strdup(word[strlen(set)] == '=' ? word + strlen(set) + 1 : "root");
	}
	return *word == '-';
}

bool wdr_grub_search_parse(char *const *words, WdrGrubSearch *ret)
{
	*ret = (WdrGrubSearch){ .by = WDR_GRUB_BY_NONE };
	if (!words[0] || parse_short(words, ret))
		return words[0] != NULL;
	if (strcmp(words[0], "search") != 0)
		return false;
	for (size_t i = 1; words[i]; i++) {
		if (!take_option(words[i], ret))
			ret->name = i;
	}
	return true;
}

bool wdr_grub_is_linux(const char *word)
{
	return g_str_equal(word, "linux") || g_str_equal(word, "linuxefi") ||
	       g_str_equal(word, "linux16");
}

bool wdr_grub_is_initrd(const char *word)
{
	return g_str_equal(word, "initrd") || g_str_equal(word, "initrdefi") ||
	       g_str_equal(word, "initrd16");
}
