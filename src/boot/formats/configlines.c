/* Adds lines to config.txt and removes them. */
#include "boot/formats/configlines.h"

#include "boot/formats/config.h"
#include "boot/formats/lines.h"

#include <string.h>

GBytes *wdr_config_with_line(const char *text, size_t len, const char *line)
{
	static const char all[] = "[all]";
	GString *out = g_string_new_len(text, (gssize)len);
	bool is_all = true;
	bool has_cr = len > 0 && memmem(text, len, "\r\n", 2);
	const char *end = has_cr ? "\r\n" : "\n";

	for (WdrLine l = wdr_lines(text, len); wdr_line_next(&l);) {
		size_t at = wdr_skip_blanks(text, l.at, l.end);
		bool is_header =
			at < l.end && text[at] == '[' && memchr(text + at, ']', l.end - at);
		if (is_header)
			is_all = l.end - at >= strlen(all) &&
				 g_ascii_strncasecmp(text + at, all, strlen(all)) == 0;
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

/* ---- settings ---- */

/* An item of a list, "pciex1" or "pciex1=on". */
static bool is_item(const char *text, const WdrConfigSetting *s, bool *ret_is_on)
{
	size_t len = strlen(s->item);

	if (strncmp(text, s->item, len) != 0 || (text[len] != '\0' && text[len] != '='))
		return false;
	const char *value = text[len] == '=' ? text + len + 1 : NULL;
	*ret_is_on = s->value ? g_strcmp0(value, s->value) == 0
			      : !value || strcmp(value, "on") == 0 || strcmp(value, "1") == 0;
	return true;
}

/* What a line says of the setting; false: nothing. */
static bool says(const WdrConfigLine *l, const WdrConfigSetting *s, bool *ret_is_on)
{
	bool is_found = false;

	if (strcmp(l->key, s->key) != 0)
		return false;
	if (!s->item) {
		*ret_is_on = g_strcmp0(l->value, s->value) == 0;
		return true;
	}
	g_auto(GStrv) items = g_strsplit(l->value, ",", -1);
	for (size_t i = 0; items[i]; i++)
		is_found |= is_item(items[i], s, ret_is_on);
	return is_found;
}

static WdrConfig *parse(const char *text, size_t len, const char *const *board)
{
	g_autoptr(GPtrArray) mentions = wdr_mentions_new();
	g_autoptr(GPtrArray) warnings = wdr_warnings_new();
	WdrReading r = { "config.txt", text, len, 0, mentions, warnings };
	WdrConfig *config = wdr_config_new();

	wdr_config_parse(&r, board, config);
	return config;
}

WdrSettingState wdr_config_state(const char *text, size_t len, const char *const *board,
	const WdrConfigSetting *s, unsigned *ret_line)
{
	g_autoptr(GPtrArray) config = parse(text, len, board);
	WdrSettingState state = WDR_SETTING_OFF;

	*ret_line = 0;
	for (guint i = 0; i < config->len; i++) {
		const WdrConfigLine *l = config->pdata[i];
		bool is_on = false;
		if (l->applies == WDR_APPLIES_NEVER || !says(l, s, &is_on))
			continue;
		*ret_line = l->line;
		if (l->applies == WDR_APPLIES_ALWAYS)
			state = is_on ? WDR_SETTING_ON : WDR_SETTING_OFF;
		else if (is_on && state == WDR_SETTING_OFF)
			state = WDR_SETTING_ELSEWHERE;
	}
	return state;
}

/* The line without what it says of the setting; "": nothing is left of it. */
static char *without_item(const char *value, const WdrConfigSetting *s)
{
	g_auto(GStrv) items = g_strsplit(value, ",", -1);
	GString *left = g_string_new(NULL);
	bool is_on = false;

	for (size_t i = 0; s->item && items[i]; i++) {
		if (!is_item(items[i], s, &is_on))
			g_string_append_printf(left, "%s%s", left->len ? "," : "", items[i]);
	}
	return g_string_free(left, FALSE);
}

static const WdrConfigLine *said_in_line(
	const WdrConfig *config, unsigned number, const WdrConfigSetting *s)
{
	for (guint i = 0; i < config->len; i++) {
		const WdrConfigLine *l = config->pdata[i];
		bool is_on = false;
		if (l->line == number && l->applies == WDR_APPLIES_ALWAYS && says(l, s, &is_on))
			return l;
	}
	return NULL;
}

static GString *without(
	const char *text, size_t len, const char *const *board, const WdrConfigSetting *s)
{
	g_autoptr(GPtrArray) config = parse(text, len, board);
	GString *out = g_string_new(NULL);

	for (WdrLine l = wdr_lines(text, len); wdr_line_next(&l);) {
		const WdrConfigLine *said = said_in_line(config, l.number, s);
		g_autofree char *left = said ? without_item(said->value, s) : NULL;
		if (!said)
			g_string_append_len(out, text + l.start, (gssize)(l.next - l.start));
		else if (*left)
			g_string_append_printf(out, "%s=%s%.*s", said->key, left,
				(int)(l.next - l.end), text + l.end);
	}
	return out;
}

static bool is_header_of(const WdrLine *l, const char *const *board)
{
	size_t at = wdr_skip_blanks(l->text, l->at, l->end);

	for (size_t i = 0; board && board[i]; i++) {
		g_autofree char *header = g_strdup_printf("[%s]", board[i]);
		if (l->end - at >= strlen(header) &&
			g_ascii_strncasecmp(l->text + at, header, strlen(header)) == 0)
			return true;
	}
	return false;
}

/* The last line that says something in the section of this header; its own number: none does. */
static unsigned last_said(const WdrLine *header)
{
	unsigned number = header->number;

	for (WdrLine l = *header; wdr_line_next(&l);) {
		size_t at = wdr_skip_blanks(l.text, l.at, l.end);
		if (at < l.end && l.text[at] == '[')
			break;
		if (at < l.end && l.text[at] != '#')
			number = l.number;
	}
	return number;
}

/* At the end of the first section that is this board's and where a line holds: a [none] before it
 * may still be in force, since filters of different kinds add up. */
static GBytes *with_setting(const char *text, size_t len, const char *const *board,
	const WdrConfigSetting *s, const char *line)
{
	enum { TRIES_MAX = 16 };
	unsigned tries = 0;

	for (WdrLine l = wdr_lines(text, len); tries < TRIES_MAX && wdr_line_next(&l);) {
		if (!is_header_of(&l, board))
			continue;
		tries++;
		g_autofree char *end = g_strndup(text + l.end, l.next - l.end);
		g_autoptr(GBytes) with =
			wdr_text_with_line_behind(text, len, last_said(&l), line, end);
		size_t with_len = 0;
		const char *bytes = g_bytes_get_data(with, &with_len);
		unsigned decides = 0;
		if (wdr_config_state(bytes, with_len, board, s, &decides) == WDR_SETTING_ON)
			return g_steal_pointer(&with);
	}
	return wdr_config_with_line(text, len, line);
}

GBytes *wdr_config_set(const char *text, size_t len, const char *const *board,
	const WdrConfigSetting *s, bool is_on)
{
	unsigned line = 0;

	if ((wdr_config_state(text, len, board, s, &line) == WDR_SETTING_ON) == is_on)
		return g_bytes_new(text, len);
	GString *rest = without(text, len, board, s);
	if (!is_on)
		return g_string_free_to_bytes(rest);
	g_autofree char *added = g_strconcat(s->key, "=", s->item ? s->item : "",
		s->item && s->value ? "=" : "", s->value ? s->value : "", NULL);
	GBytes *with = with_setting(rest->str, rest->len, board, s, added);
	g_string_free(rest, TRUE);
	return with;
}
