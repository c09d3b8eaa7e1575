/* The kernel command line: words between blanks; a blank inside double quotes does not end a word.
 */
#include "boot/mention.h"

#include <string.h>

static const struct {
	const char *key;
	WdrUse use;
} keys[] = { { "root=", WDR_USE_ROOT }, { "resume=", WDR_USE_RESUME } };

static bool is_blank(char c)
{
	return c == ' ' || c == '\t' || c == '\r' || c == '\f' || c == '\v';
}

static void take_word(
	const char *file, const char *text, size_t start, size_t end, WdrMentions *mentions)
{
	for (size_t i = 0; i < G_N_ELEMENTS(keys); i++) {
		size_t key = strlen(keys[i].key);
		/* The kernel takes quotes around a whole word, or around a value, for nothing. */
		size_t lead = text[start] == '"' ? 1 : 0;
		if (end - start - lead < key || memcmp(text + start + lead, keys[i].key, key) != 0)
			continue;
		size_t from = start + lead + key;
		size_t to = end;
		if (from < to && text[from] == '"')
			from++;
		if (to > from && text[to - 1] == '"')
			to--;
		g_autofree char *value = g_strndup(text + from, to - from);
		WdrAddress address;
		if (!wdr_address_parse(value, &address))
			continue;
		WdrMention *m = g_new0(WdrMention, 1);
		m->file = g_strdup(file);
		m->line = 1;
		m->column = (unsigned)from + 1;
		m->offset = from;
		m->len = to - from;
		m->text = g_steal_pointer(&value);
		m->address = address;
		m->use = keys[i].use;
		m->what = g_strdup(keys[i].key);
		g_ptr_array_add(mentions, m);
	}
}

static void check_roots(
	const char *file, const WdrMentions *mentions, guint first, WdrRemarks *remarks)
{
	unsigned roots = 0;

	for (guint i = first; i < mentions->len; i++)
		roots += ((WdrMention *)mentions->pdata[i])->use == WDR_USE_ROOT ? 1 : 0;
	if (roots > 1)
		g_ptr_array_add(
			remarks, g_strdup_printf("%s has %u root= words; the kernel takes the last",
					 file, roots));
}

bool wdr_kernel_args_read(const char *file, const char *text, size_t len, WdrMentions *mentions,
	WdrRemarks *remarks, GError **error)
{
	const char *newline = memchr(text, '\n', len);
	size_t end = newline ? (size_t)(newline - text) : len;
	guint first = mentions->len;
	bool has_word = false;

	for (size_t at = 0; at < end;) {
		bool is_quoted = false;
		size_t start = at;
		for (; at < end && (is_quoted || !is_blank(text[at])); at++)
			is_quoted ^= text[at] == '"';
		if (at > start) {
			has_word = true;
			take_word(file, text, start, at, mentions);
		} else {
			at++;
		}
	}
	if (!has_word)
		return wdr_error_set(
			error, WDR_ERROR_FORMAT, "%s:1: the kernel command line is empty", file);
	check_roots(file, mentions, first, remarks);
	for (size_t i = end; i < len; i++) {
		if (text[i] != '\n' && !is_blank(text[i])) {
			g_ptr_array_add(remarks,
				g_strdup_printf(
					"%s:2: the firmware reads the first line only; what follows "
					"has no effect",
					file));
			break;
		}
	}
	return true;
}
