/* fstab: see fstab(5). Fields between blanks and tabs, octal escapes, # starts a comment line. */
#include "boot/mention.h"

#include <string.h>

enum { FIELDS_NEEDED = 3 };

typedef struct {
	size_t at, len; /* in the file */
} Field;

static bool is_blank(char c)
{
	return c == ' ' || c == '\t' || c == '\r';
}

/* Blanks inside the quotes of a tag do not end the field: LABEL="heron data". */
static size_t field_end(const char *text, size_t at, size_t end)
{
	char quote = 0;

	for (; at < end && (quote || !is_blank(text[at])); at++) {
		if (quote && text[at] == quote)
			quote = 0;
		else if (!quote && text[at] == '"' && at > 0 && text[at - 1] == '=')
			quote = text[at];
	}
	return at;
}

static size_t split(const char *text, size_t at, size_t end, Field *fields, size_t most)
{
	size_t n = 0;

	while (n < most) {
		while (at < end && is_blank(text[at]))
			at++;
		if (at >= end)
			break;
		size_t stop = field_end(text, at, end);
		fields[n++] = (Field){ at, stop - at };
		at = stop;
	}
	return n;
}

/* \040 and the like. */
static char *unescape(const char *text, size_t len)
{
	g_autoptr(GString) out = g_string_new(NULL);

	for (size_t i = 0; i < len; i++) {
		bool is_octal =
			text[i] == '\\' && i + 3 < len && text[i + 1] >= '0' && text[i + 1] <= '3';
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

static WdrUse use_of(const char *point, const char *type)
{
	if (strcmp(point, "/") == 0)
		return WDR_USE_ROOT;
	if (strcmp(point, "/boot") == 0 || strcmp(point, "/boot/firmware") == 0)
		return WDR_USE_BOOT;
	return strcmp(type, "swap") == 0 ? WDR_USE_SWAP : WDR_USE_OTHER;
}

static void take_line(const char *file, const char *text, size_t start, size_t end, unsigned line,
	WdrMentions *mentions, WdrRemarks *remarks)
{
	Field f[FIELDS_NEEDED];
	size_t n = split(text, start, end, f, FIELDS_NEEDED);
	WdrAddress address;

	if (n == 0 || text[f[0].at] == '#')
		return;
	if (n < FIELDS_NEEDED) {
		g_ptr_array_add(
			remarks, g_strdup_printf("%s:%u: the line has too few fields; it is "
						 "kept as it is",
					 file, line));
		return;
	}
	g_autofree char *device = unescape(text + f[0].at, f[0].len);
	g_autofree char *point = unescape(text + f[1].at, f[1].len);
	g_autofree char *type = unescape(text + f[2].at, f[2].len);
	if (!wdr_address_parse(device, &address))
		return;
	WdrMention *m = g_new0(WdrMention, 1);
	m->file = g_strdup(file);
	m->line = line;
	m->column = (unsigned)(f[0].at - start) + 1;
	m->offset = f[0].at;
	m->len = f[0].len;
	m->text = g_strndup(text + f[0].at, f[0].len);
	m->address = address;
	m->use = use_of(point, type);
	m->what = g_steal_pointer(&point);
	m->is_escaped = true;
	g_ptr_array_add(mentions, m);
}

bool wdr_fstab_read(const char *file, const char *text, size_t len, WdrMentions *mentions,
	WdrRemarks *remarks, GError **error)
{
	unsigned line = 1;

	(void)error;
	for (size_t start = 0; start < len; line++) {
		const char *newline = memchr(text + start, '\n', len - start);
		size_t end = newline ? (size_t)(newline - text) : len;
		take_line(file, text, start, end, line, mentions, remarks);
		start = end + 1;
	}
	return true;
}
