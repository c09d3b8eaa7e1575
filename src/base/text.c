/* Sizes, times, rates and untrusted bytes as text for people. */
#include "base/text.h"

#include <math.h>
#include <stdio.h>
#include <string.h>

char *wdr_format_size(uint64_t bytes)
{
	static const char *const units[] = { "B", "KiB", "MiB", "GiB", "TiB", "PiB", "EiB" };
	double value = (double)bytes;
	size_t unit = 0;

	/* 1023.95 would be printed as 1024.0: go on to the next unit before that. */
	while (value >= 1023.95 && unit + 1 < G_N_ELEMENTS(units)) {
		value /= 1024;
		unit++;
	}
	if (unit == 0 || value >= 99.95 || fabs(value - round(value)) < 0.05)
		return g_strdup_printf("%.0f %s", value, units[unit]);
	return g_strdup_printf("%.1f %s", value, units[unit]);
}

char *wdr_format_count(uint64_t count)
{
	GString *text = g_string_new(NULL);

	g_string_printf(text, "%" G_GUINT64_FORMAT, count);
	for (gssize at = (gssize)text->len - 3; at > 0; at -= 3)
		g_string_insert_c(text, at, ',');
	return g_string_free(text, FALSE);
}

char *wdr_format_duration(uint64_t seconds)
{
	if (seconds < 60)
		return g_strdup_printf("%" G_GUINT64_FORMAT " s", seconds);
	if (seconds < 3600)
		return g_strdup_printf(
			"%u min %u s", (unsigned)(seconds / 60), (unsigned)(seconds % 60));
	return g_strdup_printf(
		"%" G_GUINT64_FORMAT " h %u min", seconds / 3600, (unsigned)(seconds / 60 % 60));
}

int wdr_by_text(const void *a, const void *b)
{
	return strcmp(*(const char *const *)a, *(const char *const *)b);
}

char *wdr_format_time(int64_t seconds)
{
	g_autoptr(GDateTime) t = g_date_time_new_from_unix_utc(seconds);

	return t ? g_date_time_format(t, "%Y-%m-%d %H:%M:%SZ") : g_strdup("(no time)");
}

char *wdr_format_day(int64_t seconds)
{
	g_autoptr(GDateTime) t = g_date_time_new_from_unix_utc(seconds);

	return t ? g_date_time_format(t, "%Y-%m-%d") : g_strdup("(no day)");
}

static bool unit_of(const char *text, double *factor)
{
	static const struct {
		char letter;
		double factor;
	} units[] = { { 'K', 1024.0 }, { 'M', 1048576.0 }, { 'G', 1073741824.0 },
		{ 'T', 1099511627776.0 } };

	*factor = 1;
	if (*text == '\0' || strcmp(text, "B") == 0)
		return true;
	for (size_t i = 0; i < G_N_ELEMENTS(units); i++) {
		if (g_ascii_toupper(*text) != units[i].letter)
			continue;
		*factor = units[i].factor;
		return text[1] == '\0' || g_ascii_strcasecmp(text + 1, "iB") == 0;
	}
	return false;
}

bool wdr_parse_size(const char *text, uint64_t whole, uint64_t *ret, GError **error)
{
	char *end = NULL;
	double factor = 1;
	/* strtod would also take 0x10 and 1e3, which nobody means here. */
	bool is_plain = g_ascii_isdigit(*text) && !strpbrk(text, "xXeEpP");
	double value = is_plain ? g_ascii_strtod(text, &end) : -1;

	if (value >= 0 && end && strcmp(end, "%") == 0 && value <= 100) {
		*ret = (uint64_t)((double)whole * value / 100);
		return true;
	}
	/* 10 of what? Bytes are meant by nobody. */
	if (value > 0 && end && !*end) {
		wdr_error_set(error, WDR_ERROR_USAGE, "'%s' is a size without a unit", text);
		wdr_error_hint(error, "write it as %sM, %sGiB or %s%%", text, text, text);
		return false;
	}
	/* 2^63: far above any disk, far below what the conversion could overflow on. */
	if (value < 0 || !end || !unit_of(end, &factor) ||
		value * factor >= 9223372036854775808.0) {
		wdr_error_set(error, WDR_ERROR_USAGE, "'%s' is not a size", text);
		wdr_error_hint(error, "write a size as 512M, 4GiB or 10%%");
		return false;
	}
	*ret = (uint64_t)(value * factor);
	return true;
}

static char *escape(const char *text, size_t len, bool keep_tabs)
{
	GString *out = g_string_sized_new(len);
	const char *end = text + len;

	for (const char *p = text; p < end;) {
		gunichar c = g_utf8_get_char_validated(p, end - p);
		bool valid = c != (gunichar)-1 && c != (gunichar)-2;
		if (valid && c != '\\' && (g_unichar_isprint(c) || (keep_tabs && c == '\t'))) {
			const char *next = g_utf8_next_char(p);
			g_string_append_len(out, p, next - p);
			p = next;
		} else if (valid && c == '\\' && keep_tabs) {
			g_string_append_c(out, *p++);
		} else {
			g_string_append_printf(out, "\\x%02x", (unsigned)(unsigned char)*p++);
		}
	}
	return g_string_free(out, FALSE);
}

char *wdr_escape(const char *text)
{
	return escape(text, strlen(text), false);
}

char *wdr_unescape(const char *text)
{
	g_autoptr(GString) out = g_string_new(NULL);

	for (const char *p = text; *p;) {
		if (*p != '\\') {
			g_string_append_c(out, *p++);
			continue;
		}
		int high = p[1] == 'x' ? g_ascii_xdigit_value(p[2]) : -1;
		int low = high >= 0 ? g_ascii_xdigit_value(p[3]) : -1;
		if (low < 0 || high + low == 0)
			return NULL;
		g_string_append_c(out, (char)(high * 16 + low));
		p += 4;
	}
	return g_string_free(g_steal_pointer(&out), FALSE);
}

char *wdr_escape_line(const char *text, size_t len)
{
	return escape(text, len, true);
}

uint64_t wdr_round_down(uint64_t value, uint64_t unit)
{
	return value - value % unit;
}

uint64_t wdr_round_up(uint64_t value, uint64_t unit)
{
	uint64_t over = value % unit;

	if (over == 0)
		return value;
	return value > UINT64_MAX - (unit - over) ? UINT64_MAX - UINT64_MAX % unit
						  : value + (unit - over);
}

/* The end of the first line: behind as many whole words as fit, or within a word that does not. */
static const char *line_end(const char *text, size_t width)
{
	const char *blank = NULL;
	const char *p = text;

	for (size_t i = 0; *p && i < width; i++, p = g_utf8_next_char(p))
		blank = *p == ' ' && p > text ? p : blank;
	return *p == '\0' || *p == ' ' || !blank ? p : blank;
}

char *wdr_wrap_words(const char *text, size_t width)
{
	/* An indent is no place for a line to end. */
	size_t indent = strspn(text, " ");

	if (width == 0 || !g_utf8_validate(text, -1, NULL))
		return g_strdup(text);
	GString *out = g_string_new(NULL);
	g_string_append_len(out, text, (gssize)indent);
	text += indent;
	width = width > indent ? width - indent : width;
	while (*text) {
		const char *end = line_end(text, width);
		g_string_append_len(out, text, end - text);
		text = end + strspn(end, " ");
		if (*text)
			g_string_append_c(out, '\n');
	}
	return g_string_free(out, FALSE);
}

double wdr_seconds_since(int64_t moment)
{
	return (double)(g_get_monotonic_time() - moment) / G_USEC_PER_SEC;
}
