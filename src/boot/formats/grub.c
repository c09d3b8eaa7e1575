/* GRUB's grub.cfg, and its environment block, in which the names of menu entries are kept.
 *
 * grub-mkconfig puts the UUID of root into the names of entries ("gnulinux-simple-UUID"). Whoever
 * chooses an entry by such a name (grubenv, GRUB_DEFAULT) has to be edited along with the menu. */
#include "boot/formats/grub_words.h"

#include <string.h>

enum { UUID_CHARS = 36 };

typedef struct {
	const WdrReading *r;
	GArray *tokens;
	char *entry;                 /* the menu entry that is read; NULL: none */
	guint mentions;              /* where its mentions begin */
	unsigned depth, entry_depth; /* of { } */
	unsigned n_entries;
	bool has_initramfs;
} Menu;

/* ---- UUIDs inside names ---- */

static bool is_uuid(const char *text)
{
	for (size_t i = 0; i < UUID_CHARS; i++) {
		bool is_dash = i == 8 || i == 13 || i == 18 || i == 23;
		if (is_dash ? text[i] != '-' : !g_ascii_isxdigit(text[i]))
			return false;
	}
	return true;
}

void wdr_grub_take_names(const WdrReading *r, const WdrLine *line, WdrSpan span)
{
	for (size_t at = span.at; span.end - at >= UUID_CHARS && at < span.end; at++) {
		bool is_start = at == span.at || !g_ascii_isxdigit(r->text[at - 1]);
		if (!is_start || !is_uuid(r->text + at))
			continue;
		WdrSpan uuid = { at, at + UUID_CHARS };
		g_autofree char *value = g_strndup(r->text + at, UUID_CHARS);
		WdrIdentifier a = { .kind = WDR_BY_UUID, .is_bare = true, .value = NULL };
		a.value = g_steal_pointer(&value);
		(void)wdr_reading_add(r, line, uuid, &a, WDR_USE_OTHER, "name of a menu entry");
		at += UUID_CHARS - 1;
	}
}

/* ---- commands ---- */

static WdrLine line_of(const Menu *m, const WdrGrubToken *t)
{
	return wdr_line_at(m->r->text, m->r->len, t->span.at);
}

/* What is between the quotes, where all of the word is in one pair of them. */
static WdrSpan inside(const Menu *m, const WdrGrubToken *t, WdrWriting *ret)
{
	const char *text = m->r->text;
	WdrSpan s = t->span;
	char quote = text[s.at];
	bool is_quoted = s.end - s.at >= 2 && (quote == '"' || quote == '\'') &&
			 memchr(text + s.at + 1, quote, s.end - s.at - 1) == text + s.end - 1;

	*ret = is_quoted ? WDR_WRITE_QUOTED : WDR_WRITE_WORD;
	return is_quoted ? (WdrSpan){ s.at + 1, s.end - 1 } : s;
}

static void take_search(const Menu *m, const WdrGrubToken *t, char *const *words)
{
	WdrGrubSearch search;
	WdrWriting writing = WDR_WRITE_WORD;

	if (!wdr_grub_search_parse(words, &search))
		return;
	g_free(search.variable);
	if (search.name == 0 || (search.by != WDR_GRUB_BY_UUID && search.by != WDR_GRUB_BY_LABEL))
		return;
	WdrLine line = line_of(m, &t[search.name]);
	WdrSpan span = inside(m, &t[search.name], &writing);
	bool is_uuid_sought = search.by == WDR_GRUB_BY_UUID;
	/* A variable is filled in when it runs; a name has no 0 byte in it. */
	if (memchr(m->r->text + span.at, '$', span.end - span.at) ||
		memchr(m->r->text + span.at, '\0', span.end - span.at) || span.end == span.at)
		return;
	WdrIdentifier a = { .kind = is_uuid_sought ? WDR_BY_UUID : WDR_BY_LABEL,
		.is_bare = true,
		.value = g_strndup(m->r->text + span.at, span.end - span.at) };
	WdrMention *found = wdr_reading_add(m->r, &line, span, &a, WDR_USE_OTHER,
		is_uuid_sought ? "search --fs-uuid" : "search --label");
	found->writing = writing;
}

static void take_linux(const Menu *m, const WdrGrubToken *t, unsigned n)
{
	for (unsigned i = 2; i < n; i++) {
		WdrWriting writing = WDR_WRITE_WORD;
		WdrLine line = line_of(m, &t[i]);
		WdrSpan span = inside(m, &t[i], &writing);
		wdr_kernel_args_scan(m->r, &line, span, writing);
	}
}

/* "set name=value", or "name=value". */
static void take_setting(const Menu *m, const WdrGrubToken *t, char *const *words, unsigned n)
{
	static const char *const own[] = { "root", "prefix", "cmdpath", NULL };
	unsigned at = n > 1 && strcmp(words[0], "set") == 0 ? 1 : 0;
	const char *equals =
		memchr(m->r->text + t[at].span.at, '=', t[at].span.end - t[at].span.at);

	if (!equals || at >= n)
		return;
	WdrGrubToken part = t[at];
	WdrWriting writing = WDR_WRITE_WORD;
	size_t value = (size_t)(equals - m->r->text) + 1;
	g_autofree char *key = g_strndup(m->r->text + part.span.at, value - 1 - part.span.at);
	part.span.at = value;
	if (value == part.span.end || strpbrk(key, "\"'[") || g_strv_contains(own, key))
		return;
	WdrLine line = line_of(m, &part);
	WdrSpan span = inside(m, &part, &writing);
	if (strcmp(key, "default") == 0)
		wdr_grub_take_names(m->r, &line, span);
	else
		wdr_setting_take(m->r, &line, key, span, writing);
}

static void take_names(const Menu *m, const WdrGrubToken *t, unsigned n)
{
	for (unsigned i = 1; i < n; i++) {
		WdrLine line = line_of(m, &t[i]);
		wdr_grub_take_names(m->r, &line, t[i].span);
	}
}

/* The words of one command; a block may follow. */
static void take_command(Menu *m, const WdrGrubToken *t, unsigned n, bool opens_block)
{
	g_auto(GStrv) words = g_new0(char *, n + 1);

	for (unsigned i = 0; i < n; i++)
		words[i] = wdr_grub_word(m->r->text, &t[i], NULL, NULL);
	if (strcmp(words[0], "menuentry") == 0 && opens_block) {
		g_free(m->entry);
		m->entry = g_strdup(n > 1 ? words[1] : "");
		m->entry_depth = m->depth;
		m->has_initramfs = false;
		take_names(m, t, n);
		m->mentions = m->r->mentions->len;
		return;
	}
	m->has_initramfs |= wdr_grub_is_initrd(words[0]) && n > 1;
	if (strcmp(words[0], "submenu") == 0)
		take_names(m, t, n);
	else if (wdr_grub_is_linux(words[0]))
		take_linux(m, t, n);
	else if (g_str_has_prefix(words[0], "search"))
		take_search(m, t, words);
	else
		take_setting(m, t, words, n);
}

static void end_entry(Menu *m)
{
	for (guint i = m->mentions; i < m->r->mentions->len; i++) {
		WdrMention *found = m->r->mentions->pdata[i];
		found->entry = g_strdup(m->entry);
		found->has_initramfs = m->has_initramfs;
		/* Which one starts is known when it runs; without a word of it, the first. */
		found->is_default = found->is_kernel && m->n_entries == 0;
	}
	m->n_entries++;
	g_clear_pointer(&m->entry, g_free);
}

static void count_block(Menu *m, WdrGrubKind kind)
{
	m->depth += kind == WDR_GRUB_OPEN ? 1 : 0;
	if (kind != WDR_GRUB_CLOSE || m->depth == 0)
		return;
	m->depth--;
	if (m->entry && m->depth == m->entry_depth)
		end_entry(m);
}

bool wdr_grub_read(const WdrReading *r, GError **error)
{
	g_autoptr(GArray) tokens = wdr_grub_tokens(r->text, r->len);
	Menu m = { .r = r, .tokens = tokens };
	const WdrGrubToken *t = (const WdrGrubToken *)(const void *)tokens->data;
	guint first = r->mentions->len;

	(void)error;
	for (guint i = 0; i < tokens->len;) {
		guint end = i;
		while (t[end].kind == WDR_GRUB_WORD)
			end++;
		if (end > i)
			take_command(&m, t + i, end - i, t[end].kind == WDR_GRUB_OPEN);
		count_block(&m, t[end].kind);
		i = end + 1;
	}
	if (m.entry)
		end_entry(&m);
	/* Outside of entries: settings that entries use. */
	for (guint i = first; i < r->mentions->len; i++) {
		WdrMention *found = r->mentions->pdata[i];
		found->is_kernel &= found->entry != NULL;
		found->is_default &= found->entry != NULL;
	}
	return true;
}

/* ---- the environment block ---- */

const char wdr_grub_env_begin[] = "# GRUB Environment Block\n";

bool wdr_grub_env_read(const WdrReading *r, GError **error)
{
	if (r->len < strlen(wdr_grub_env_begin) ||
		memcmp(r->text, wdr_grub_env_begin, strlen(wdr_grub_env_begin)) != 0)
		return wdr_error_set(error, WDR_ERROR_FORMAT,
			"%s: it does not begin as GRUB's environment does", r->file);
	for (WdrLine line = wdr_lines(r->text, r->len); wdr_line_next(&line);) {
		const char *equals = memchr(r->text + line.at, '=', line.end - line.at);
		if (r->text[line.at] == '#' || !equals)
			continue;
		WdrSpan value = { (size_t)(equals - r->text) + 1, line.end };
		g_autofree char *key = g_strndup(r->text + line.at, value.at - 1 - line.at);
		if (g_str_has_suffix(key, "_entry"))
			wdr_grub_take_names(r, &line, value);
		else
			wdr_setting_take(r, &line, key, value, WDR_WRITE_LINE);
	}
	return true;
}
