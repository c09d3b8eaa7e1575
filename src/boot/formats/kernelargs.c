/* The kernel command line: words between blanks; a blank inside double quotes does not end a word.
 */
#include "boot/formats/mention.h"

#include <string.h>

/* The smallest of the kernels' limits (arm: 1024, arm64: 2048), the closing 0 included. */
enum { LINE_BYTES_SAFE = 1024 };

static const struct {
	const char *key;
	WdrUse use;
	char ends_at; /* 0: the whole value is an identifier */
} keys[] = { { "root=", WDR_USE_ROOT, 0 }, { "resume=", WDR_USE_RESUME, 0 },
	{ "cryptdevice=", WDR_USE_OTHER, ':' }, { "noresume=", WDR_USE_RESUME, 0 } };

static void take_identifier(
	const WdrReading *r, const WdrLine *line, size_t key, WdrSpan value, WdrWriting writing)
{
	char stop = keys[key].ends_at;
	const char *found = stop ? memchr(r->text + value.at, stop, value.end - value.at) : NULL;

	if (found)
		value.end = (size_t)(found - r->text);
	WdrMention *m = wdr_reading_take(r, line, value, NULL, keys[key].use, keys[key].key);
	if (!m) {
		bool is_filled_in = memchr(r->text + value.at, '$', value.end - value.at) != NULL;
		if (keys[key].use == WDR_USE_ROOT && value.end > value.at && !is_filled_in)
			wdr_reading_warn(r, line, value.at,
				"root=%.*s is no identifier: it is unknown which partition it means",
				(int)(value.end - value.at), r->text + value.at);
		return;
	}
	m->writing = writing;
	m->is_kernel = true;
	m->is_default = true;
}

static void take_word(const WdrReading *r, const WdrLine *line, WdrSpan word, WdrWriting writing)
{
	static const char offset_key[] = "resume_offset=";
	static const char flags_key[] = "rootflags=";
	const char *text = r->text;
	bool is_quoted = text[word.at] == '"';
	size_t at = word.at + (is_quoted ? 1 : 0);

	/* The kernel takes quotes around a whole word, or around a value, for nothing. */
	const char *equals = memchr(text + at, '=', word.end - at);
	if (!equals)
		return;
	WdrSpan value = { (size_t)(equals - text) + 1, word.end };
	if (value.at < value.end && text[value.at] == '"') {
		is_quoted = true;
		value.at++;
	}
	if (is_quoted && value.end > value.at && text[value.end - 1] == '"')
		value.end--;
	writing = is_quoted ? WDR_WRITE_QUOTED : writing;
	size_t key_len = (size_t)(equals - text) + 1 - at;
	for (size_t i = 0; i < G_N_ELEMENTS(keys); i++) {
		if (key_len == strlen(keys[i].key) && memcmp(text + at, keys[i].key, key_len) == 0)
			take_identifier(r, line, i, value, writing);
	}
	if (key_len == strlen(offset_key) && memcmp(text + at, offset_key, key_len) == 0)
		wdr_reading_warn(r, line, value.at,
			"resume_offset=%.*s is an offset in the old swap file: it must be "
			"computed again after a move, or waking from hibernation reads wrong data",
			(int)(value.end - value.at), text + value.at);
	if (key_len == strlen(flags_key) && memcmp(text + at, flags_key, key_len) == 0)
		wdr_options_take(r, line, value, writing);
}

void wdr_kernel_args_scan(
	const WdrReading *r, const WdrLine *line, WdrSpan span, WdrWriting writing)
{
	for (size_t at = span.at; at < span.end;) {
		bool is_quoted = false;
		size_t start = at;
		for (; at < span.end && (is_quoted || !wdr_is_blank(r->text[at])); at++)
			is_quoted ^= r->text[at] == '"';
		if (at > start)
			take_word(r, line, (WdrSpan){ start, at }, writing);
		else
			at++;
	}
}

static void check_roots(const WdrReading *r, const WdrLine *line, guint first)
{
	WdrMention *last = NULL;
	unsigned roots = 0;

	for (guint i = first; i < r->mentions->len; i++) {
		WdrMention *m = r->mentions->pdata[i];
		if (m->use != WDR_USE_ROOT)
			continue;
		roots++;
		last = m;
	}
	if (roots > 1)
		wdr_reading_warn(r, line, last->offset - r->base,
			"there are %u root= words; the kernel takes the last", roots);
}

bool wdr_kernel_args_read(const WdrReading *r, GError **error)
{
	WdrLine line = wdr_lines(r->text, r->len);
	guint first = r->mentions->len;

	if (!wdr_line_next(&line) || wdr_skip_blanks(r->text, line.at, line.end) == line.end)
		return wdr_error_set(error, WDR_ERROR_FORMAT,
			"%s:1:1: the kernel command line is empty: nothing would be mounted as root",
			r->file);
	wdr_kernel_args_scan(r, &line, (WdrSpan){ line.at, line.end }, WDR_WRITE_WORD);
	check_roots(r, &line, first);
	if (line.end - line.at >= LINE_BYTES_SAFE)
		wdr_reading_warn(r, &line, line.at + LINE_BYTES_SAFE - 1,
			"the line has %zu characters; 32-bit ARM kernels cut it off here",
			line.end - line.at);
	while (wdr_line_next(&line)) {
		size_t at = wdr_skip_blanks(r->text, line.at, line.end);
		if (at == line.end)
			continue;
		wdr_reading_warn(
			r, &line, at, "the firmware reads the first line only; this has no effect");
		break;
	}
	return true;
}
