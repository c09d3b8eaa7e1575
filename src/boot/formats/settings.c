/* Files of settings: KEY=VALUE lines for a loader's script (values are taken as they are), and
 * shell-style ones with quoting, as under /etc/default. */
#include "boot/formats/mention.h"

#include <string.h>

static bool has_word(const char *key, const char *word)
{
	g_autofree char *low = g_ascii_strdown(key, -1);

	return strstr(low, word) != NULL;
}

static WdrUse use_of(const char *key)
{
	static const struct {
		const char *word;
		WdrUse use;
	} words[] = { { "root", WDR_USE_ROOT }, { "resume", WDR_USE_RESUME },
		{ "swap", WDR_USE_SWAP }, { "boot", WDR_USE_BOOT } };

	for (size_t i = 0; i < G_N_ELEMENTS(words); i++) {
		if (has_word(key, words[i].word))
			return words[i].use;
	}
	return WDR_USE_OTHER;
}

/* "rootuuid=6d1c…": the key is the tag. */
static WdrMention *take_bare(
	const WdrReading *r, const WdrLine *line, const char *key, WdrSpan span, WdrUse use)
{
	const char *tag = has_word(key, "partuuid") ? "PARTUUID="
			  : has_word(key, "uuid")   ? "UUID="
						    : NULL;
	size_t len = span.end - span.at;

	if (!tag || len < 8 || len > 36)
		return NULL;
	for (size_t i = span.at; i < span.end; i++) {
		if (!g_ascii_isxdigit(r->text[i]) && r->text[i] != '-')
			return NULL;
	}
	g_autofree char *value = g_strdup_printf("%s%.*s", tag, (int)len, r->text + span.at);
	WdrMention *m = wdr_reading_take(r, line, span, value, use, key);
	if (m)
		m->identifier.is_bare = true;
	return m;
}

void wdr_setting_take(const WdrReading *r, const WdrLine *line, const char *key, WdrSpan value,
	WdrWriting writing)
{
	WdrUse use = use_of(key);
	g_autofree char *text = g_strndup(r->text + value.at, value.end - value.at);
	WdrIdentifier a = { 0 };
	bool is_other_device = wdr_identifier_parse(text, &a) && !wdr_identifier_is_disk(&a);

	wdr_identifier_clear(&a);
	if (is_other_device)
		return;
	WdrMention *m = wdr_reading_take(r, line, value, NULL, use, key);
	if (!m)
		m = take_bare(r, line, key, value, use);
	if (m) {
		m->writing = writing;
		/* Settings for root= and resume= end up where tags are understood. */
		m->needs_path = use != WDR_USE_ROOT && use != WDR_USE_RESUME &&
				(m->identifier.kind == WDR_BY_PATH || m->identifier.is_link);
		return;
	}
	wdr_kernel_args_scan(r, line, value, writing == WDR_WRITE_LINE ? WDR_WRITE_WORD : writing);
}

/* The key of "KEY=…" at a line's start; *ret_value where its value starts. The caller's; NULL: the
 * line is no setting. */
static char *key_at(const WdrReading *r, size_t at, size_t end, size_t *ret_value)
{
	size_t key = at;

	while (key < end && (g_ascii_isalnum(r->text[key]) || strchr("_-.", r->text[key])))
		key++;
	size_t equals = key < end && r->text[key] == '+' ? key + 1 : key;
	if (key == at || equals >= end || r->text[equals] != '=')
		return NULL;
	*ret_value = equals + 1;
	return g_strndup(r->text + at, key - at);
}

static void check_doubled(
	const WdrReading *r, const WdrLine *line, size_t at, GHashTable *seen, const char *key)
{
	if (g_hash_table_contains(seen, key) && use_of(key) == WDR_USE_ROOT)
		wdr_reading_warn(r, line, at, "%s is set a second time; the last one counts", key);
	g_hash_table_add(seen, g_strdup(key));
}

bool wdr_settings_read(const WdrReading *r, GError **error)
{
	g_autoptr(GHashTable) seen = g_hash_table_new_full(g_str_hash, g_str_equal, g_free, NULL);

	(void)error;
	for (WdrLine line = wdr_lines(r->text, r->len); wdr_line_next(&line);) {
		size_t at = wdr_skip_blanks(r->text, line.at, line.end);
		size_t value = 0;
		if (at == line.end || r->text[at] == '#')
			continue;
		g_autofree char *key = key_at(r, at, line.end, &value);
		if (!key) {
			wdr_reading_warn(r, &line, at,
				"the line is no KEY=VALUE; the loader skips it, or gives up here");
			continue;
		}
		guint first = r->mentions->len;
		check_doubled(r, &line, at, seen, key);
		/* The loader keeps blanks at the end in the value; an identifier has none there. */
		wdr_setting_take(r, &line, key,
			(WdrSpan){ value, wdr_trim_blanks(r->text, value, line.end) },
			WDR_WRITE_LINE);
		for (guint i = first; i < r->mentions->len; i++) {
			WdrMention *m = r->mentions->pdata[i];
			m->is_kernel = m->use == WDR_USE_ROOT && !m->identifier.is_bare;
			m->is_default = m->is_kernel;
		}
	}
	return true;
}

/* ---- shell style ---- */

/* The end of a value that starts at `at`, and what of it is inside one pair of quotes. */
static size_t shell_value(const WdrReading *r, size_t at, size_t end, WdrSpan *ret, bool *ret_open)
{
	char quote = at < end && (r->text[at] == '"' || r->text[at] == '\'') ? r->text[at] : 0;
	size_t stop = at + (quote ? 1 : 0);

	*ret_open = false;
	ret->at = stop;
	if (!quote) {
		ret->end = wdr_word_end(r->text, at, end);
		return ret->end;
	}
	while (stop < end && r->text[stop] != quote)
		stop += r->text[stop] == '\\' && quote == '"' && stop + 1 < end ? 2 : 1;
	*ret_open = stop >= end;
	ret->end = MIN(stop, end);
	return MIN(stop + 1, end);
}

static void take_shell_line(const WdrReading *r, const WdrLine *line)
{
	static const char export_word[] = "export";
	size_t at = wdr_skip_blanks(r->text, line->at, line->end);
	size_t word = wdr_word_end(r->text, at, line->end);
	size_t value = 0;
	WdrSpan inner;
	bool is_open = false;

	if (wdr_word_is(r->text, at, word, export_word))
		at = wdr_skip_blanks(r->text, word, line->end);
	if (at == line->end || r->text[at] == '#')
		return;
	g_autofree char *key = key_at(r, at, line->end, &value);
	if (!key)
		return;
	shell_value(r, value, line->end, &inner, &is_open);
	if (is_open)
		wdr_reading_warn(r, line, value,
			"the quote is not closed on this line; the value is taken up to its end");
	guint first = r->mentions->len;
	if (strcmp(key, "GRUB_DEFAULT") == 0)
		wdr_grub_take_names(r, line, inner);
	else
		wdr_setting_take(
			r, line, key, inner, inner.at > value ? WDR_WRITE_QUOTED : WDR_WRITE_WORD);
	/* A boot file is made of these later: nothing starts from them. */
	for (guint i = first; i < r->mentions->len; i++)
		((WdrMention *)r->mentions->pdata[i])->is_default = false;
}

bool wdr_shell_read(const WdrReading *r, GError **error)
{
	(void)error;
	for (WdrLine line = wdr_lines(r->text, r->len); wdr_line_next(&line);)
		take_shell_line(r, &line);
	return true;
}
