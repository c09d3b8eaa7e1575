#include "boot/edit.h"

#include "base/text.h"

#include <stdlib.h>
#include <string.h>

enum { CONTEXT = 3 };

static void splice_free(void *data)
{
	WdrSplice *s = data;

	g_free(s->old_text);
	g_free(s->new_text);
	g_free(s);
}

WdrEdit *wdr_edit_new(unsigned number, const char *file, WdrHash before)
{
	WdrEdit *e = g_new0(WdrEdit, 1);

	e->number = number;
	e->file = g_strdup(file);
	e->before = before;
	e->splices = g_ptr_array_new_with_free_func(splice_free);
	return e;
}

void wdr_edit_free(WdrEdit *edit)
{
	if (!edit)
		return;
	g_ptr_array_unref(edit->splices);
	g_free(edit->file);
	g_free(edit);
}

static int by_offset(const void *a, const void *b)
{
	const WdrSplice *x = *(WdrSplice *const *)a;
	const WdrSplice *y = *(WdrSplice *const *)b;

	return x->offset < y->offset ? -1 : x->offset > y->offset;
}

void wdr_edit_add(WdrEdit *edit, size_t offset, unsigned line, unsigned column,
	const char *old_text, const char *new_text)
{
	WdrSplice *s = g_new0(WdrSplice, 1);

	s->offset = offset;
	s->len = strlen(old_text);
	s->line = line;
	s->column = column;
	s->old_text = g_strdup(old_text);
	s->new_text = g_strdup(new_text);
	g_ptr_array_add(edit->splices, s);
	g_ptr_array_sort(edit->splices, by_offset);
}

char *wdr_edit_text_for(const WdrMention *m, const WdrAddress *address)
{
	g_autofree char *text = wdr_address_format(address);
	g_autoptr(GString) out = g_string_new(NULL);

	if (!m->is_escaped)
		return g_steal_pointer(&text);
	for (const char *p = text; *p; p++) {
		if (strchr(" \t\n\\", *p) && !(address->is_link && *p == '\\'))
			g_string_append_printf(out, "\\%03o", (unsigned)(unsigned char)*p);
		else
			g_string_append_c(out, *p);
	}
	return g_string_free(g_steal_pointer(&out), FALSE);
}

bool wdr_edit_apply(const WdrEdit *edit, const char *text, size_t len, GBytes **ret, GError **error)
{
	g_autoptr(GByteArray) out = g_byte_array_new();
	size_t at = 0;

	if (!wdr_hash_equal(wdr_hash(text, len), edit->before)) {
		wdr_error_set(error, WDR_ERROR_REFUSED,
			"/%s on partition %u has changed since the itinerary was drawn", edit->file,
			edit->number);
		wdr_error_hint(error, "draw it again: wanderitas draft");
		return false;
	}
	for (guint i = 0; i < edit->splices->len; i++) {
		const WdrSplice *s = edit->splices->pdata[i];
		if (s->offset < at || s->len > len || s->offset > len - s->len ||
			memcmp(text + s->offset, s->old_text, s->len) != 0)
			return wdr_error_set(error, WDR_ERROR_FORMAT,
				"the edit of /%s at line %u does not fit the file", edit->file,
				s->line);
		g_byte_array_append(out, (const uint8_t *)text + at, (guint)(s->offset - at));
		g_byte_array_append(out, (const uint8_t *)s->new_text, (guint)strlen(s->new_text));
		at = s->offset + s->len;
	}
	g_byte_array_append(out, (const uint8_t *)text + at, (guint)(len - at));
	*ret = g_byte_array_free_to_bytes(g_steal_pointer(&out));
	return true;
}

/* ---- diff ---- */

typedef struct {
	const char *text;
	size_t len; /* without the line end */
} Line;

static GArray *lines_of(const char *text, size_t len)
{
	GArray *lines = g_array_new(FALSE, FALSE, sizeof(Line));

	for (size_t at = 0; at < len;) {
		const char *newline = memchr(text + at, '\n', len - at);
		size_t end = newline ? (size_t)(newline - text) : len;
		Line line = { text + at, end - at };
		g_array_append_val(lines, line);
		at = end + 1;
	}
	return lines;
}

static bool same_line(const GArray *a, const GArray *b, guint i)
{
	const Line *x = &g_array_index(a, Line, i);
	const Line *y = &g_array_index(b, Line, i);

	return x->len == y->len && memcmp(x->text, y->text, x->len) == 0;
}

static void put_line(GString *out, char mark, const Line *line)
{
	g_autofree char *shown = wdr_escape_line(line->text, line->len);

	g_string_append_printf(out, "%c%s\n", mark, shown);
}

/* Changed lines of a run: all old ones, then all new ones. */
static void put_hunk(GString *out, const GArray *a, const GArray *b, guint from, guint to)
{
	g_string_append_printf(
		out, "@@ -%u,%u +%u,%u @@\n", from + 1, to - from, from + 1, to - from);
	for (guint i = from; i < to;) {
		guint end = i;
		while (end < to && !same_line(a, b, end))
			end++;
		for (guint k = i; k < end; k++)
			put_line(out, '-', &g_array_index(a, Line, k));
		for (guint k = i; k < end; k++)
			put_line(out, '+', &g_array_index(b, Line, k));
		if (end < to)
			put_line(out, ' ', &g_array_index(a, Line, end));
		i = end + 1;
	}
}

char *wdr_diff(const char *name, const char *old_text, size_t old_len, const char *new_text,
	size_t new_len)
{
	g_autoptr(GArray) a = lines_of(old_text, old_len);
	g_autoptr(GArray) b = lines_of(new_text, new_len);
	guint n = MIN(a->len, b->len);
	GString *out = g_string_new(NULL);

	g_string_append_printf(out, "--- %s\n+++ %s\n", name, name);
	for (guint i = 0; i < n; i++) {
		if (same_line(a, b, i))
			continue;
		guint from = i > CONTEXT ? i - CONTEXT : 0;
		guint last = i;
		for (guint k = i; k < n && k <= last + 2 * CONTEXT; k++)
			last = same_line(a, b, k) ? last : k;
		guint to = MIN(last + CONTEXT + 1, n);
		put_hunk(out, a, b, from, to);
		i = to - 1;
	}
	return g_string_free(out, FALSE);
}
