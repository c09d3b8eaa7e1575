/* fstab and crypttab: see fstab(5), crypttab(5). Fields between blanks and tabs, octal escapes,
 * # starts a comment line. */
#include "boot/formats/fstab.h"

#include "boot/formats/mention.h"

#include <string.h>

enum { DEVICE, POINT, TYPE, OPTIONS, FIELDS_MAX, FIELDS_NEEDED = 3 };

/* Blanks inside the quotes of a tag do not end the field: LABEL="heron data". */
static size_t field_end(const char *text, size_t at, size_t end)
{
	char quote = 0;

	for (; at < end && (quote || !wdr_is_blank(text[at])); at++) {
		if (quote && text[at] == quote)
			quote = 0;
		else if (!quote && text[at] == '"' && at > 0 && text[at - 1] == '=')
			quote = text[at];
	}
	return at;
}

static size_t split(const char *text, size_t at, size_t end, WdrSpan *fields, size_t most)
{
	size_t n = 0;

	while (n < most && (at = wdr_skip_blanks(text, at, end)) < end) {
		fields[n].at = at;
		fields[n++].end = at = field_end(text, at, end);
	}
	return n;
}

/* \040 and the like. */
static char *unescape(const char *text, WdrSpan span)
{
	g_autoptr(GString) out = g_string_new(NULL);

	for (size_t i = span.at; i < span.end; i++) {
		bool is_octal = text[i] == '\\' && i + 3 < span.end && text[i + 1] >= '0' &&
				text[i + 1] <= '3';
		for (size_t k = 2; is_octal && k <= 3; k++)
			is_octal = text[i + k] >= '0' && text[i + k] <= '7';
		if (is_octal && (text[i + 1] | text[i + 2] | text[i + 3]) != '0') {
			g_string_append_c(
				out, (char)((text[i + 1] - '0') << 6 | (text[i + 2] - '0') << 3 |
					     (text[i + 3] - '0')));
			i += 3;
		} else {
			g_string_append_c(out, text[i]);
		}
	}
	return g_string_free(g_steal_pointer(&out), FALSE);
}

static void freeze(const WdrReading *r, guint from, const char *why)
{
	for (guint i = from; why && i < r->mentions->len; i++)
		((WdrMention *)r->mentions->pdata[i])->frozen = why;
}

/* A comment is a line that was switched off when it reads as one and names a device. */
static void take_comment(const WdrReading *r, const WdrLine *line, size_t at)
{
	WdrSpan f[FIELDS_MAX];
	guint first = r->mentions->len;

	while (at < line->end && r->text[at] == '#')
		at++;
	if (split(r->text, at, line->end, f, FIELDS_MAX) < FIELDS_NEEDED)
		return;
	g_autofree char *device = unescape(r->text, f[DEVICE]);
	g_autofree char *point = unescape(r->text, f[POINT]);
	g_autofree char *type = unescape(r->text, f[TYPE]);
	if (*point != '/' && strcmp(point, "none") != 0 && strcmp(point, "swap") != 0)
		return;
	wdr_reading_take(r, line, f[DEVICE], device, wdr_use_of_mount(point, type), point);
	freeze(r, first, WDR_FROZEN_COMMENT);
}

/* Returns whether the line mounts the root. */
static bool take_line(const WdrReading *r, const WdrLine *line)
{
	WdrSpan f[FIELDS_MAX];
	size_t n = split(r->text, line->at, line->end, f, FIELDS_MAX);

	if (n == 0)
		return false;
	if (r->text[f[0].at] == '#') {
		take_comment(r, line, f[0].at);
		return false;
	}
	if (n < FIELDS_NEEDED) {
		wdr_reading_warn(r, line, f[0].at,
			"the line has too few fields; it is skipped at boot, and kept as it is");
		return false;
	}
	g_autofree char *device = unescape(r->text, f[DEVICE]);
	g_autofree char *point = unescape(r->text, f[POINT]);
	g_autofree char *type = unescape(r->text, f[TYPE]);
	WdrMention *m =
		wdr_reading_take(r, line, f[DEVICE], device, wdr_use_of_mount(point, type), point);
	if (m)
		m->writing = WDR_WRITE_ESCAPED;
	if (n > OPTIONS)
		wdr_options_take(r, line, f[OPTIONS], WDR_WRITE_ESCAPED);
	return strcmp(point, "/") == 0;
}

bool wdr_fstab_read(const WdrReading *r, GError **error)
{
	unsigned roots = 0;

	(void)error;
	for (WdrLine line = wdr_lines(r->text, r->len); wdr_line_next(&line);) {
		if (take_line(r, &line) && ++roots > 1)
			wdr_reading_warn(r, &line, line.at,
				"a second line for /: what is mounted depends on who reads the file");
	}
	return true;
}

/* ---- crypttab: name, device, key file, options ---- */

/* "/path/on/it:DEVICE": a key file or header on a device of its own. */
static void take_behind_colon(const WdrReading *r, const WdrLine *line, WdrSpan span)
{
	const char *colon = memchr(r->text + span.at, ':', span.end - span.at);

	if (!colon || r->text[span.at] != '/')
		return;
	WdrSpan device = { (size_t)(colon - r->text) + 1, span.end };
	WdrMention *m = wdr_reading_take(r, line, device, NULL, WDR_USE_OTHER, "key file");
	if (m)
		m->writing = WDR_WRITE_WORD;
}

static void take_crypt_line(const WdrReading *r, const WdrLine *line)
{
	WdrSpan f[FIELDS_MAX];
	size_t n = split(r->text, line->at, line->end, f, FIELDS_MAX);
	guint first = r->mentions->len;
	bool is_comment = n > 0 && r->text[f[0].at] == '#';

	if (is_comment)
		n = split(r->text, f[0].at + 1, line->end, f, FIELDS_MAX);
	if (n == 0)
		return;
	if (n < 2) {
		if (!is_comment)
			wdr_reading_warn(r, line, f[0].at,
				"the line names no device; it is skipped at boot");
		return;
	}
	g_autofree char *name = g_strndup(r->text + f[0].at, f[0].end - f[0].at);
	g_autofree char *device = unescape(r->text, f[1]);
	WdrMention *m = wdr_reading_take(r, line, f[1], device, WDR_USE_OTHER, name);
	if (m)
		m->writing = WDR_WRITE_ESCAPED;
	if (n > 2)
		take_behind_colon(r, line, f[2]);
	if (is_comment)
		freeze(r, first, WDR_FROZEN_COMMENT);
}

bool wdr_crypttab_read(const WdrReading *r, GError **error)
{
	(void)error;
	for (WdrLine line = wdr_lines(r->text, r->len); wdr_line_next(&line);)
		take_crypt_line(r, &line);
	return true;
}

static void line_free(void *data)
{
	WdrFstabLine *l = data;

	g_free(l->device);
	g_free(l->point);
	g_free(l->type);
	g_free(l->options);
	g_free(l);
}

GPtrArray *wdr_fstab_lines(const char *text, size_t len)
{
	GPtrArray *lines = g_ptr_array_new_with_free_func(line_free);

	for (WdrLine line = wdr_lines(text, len); wdr_line_next(&line);) {
		WdrSpan f[FIELDS_MAX];
		size_t at = wdr_skip_blanks(text, line.at, line.end);
		size_t n = split(text, at, wdr_trim_blanks(text, at, line.end), f, FIELDS_MAX);
		if (n < FIELDS_NEEDED || text[at] == '#')
			continue;
		WdrFstabLine *l = g_new0(WdrFstabLine, 1);
		l->line = line.number;
		l->device = unescape(text, f[DEVICE]);
		l->point = unescape(text, f[POINT]);
		l->type = unescape(text, f[TYPE]);
		l->options = n > OPTIONS ? unescape(text, f[OPTIONS]) : g_strdup("");
		g_ptr_array_add(lines, l);
	}
	return lines;
}

bool wdr_fstab_has_option(const WdrFstabLine *l, const char *name)
{
	g_auto(GStrv) list = g_strsplit(l->options, ",", -1);

	return g_strv_contains((const char *const *)list, name);
}
