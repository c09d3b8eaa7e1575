/* A second entry in an extlinux.conf.
 *
 * The old entry keeps its label, so that a person can choose it again; the new one is a copy of it
 * with another root=, and becomes the default. All of it is a list of splices, like any edit. */
#include "boot/formats/extlinux.h"

#include "base/command.h"
#include "base/text.h"

#include <string.h>

/* Five seconds, in U-Boot's tenths: time to see the menu and press a key. */
enum { TIMEOUT_MIN = 50 };

typedef struct {
	const char *text;
	size_t len;
	WdrExtlinux *x;
	const WdrExtlinuxEntry *entry;
	WdrMentions *mentions;
	const WdrExtlinuxChoice *choice;
	WdrEdit *edit;
	const char *newline;
} Choosing;

static unsigned line_of(const Choosing *c, size_t at)
{
	unsigned line = 1;

	for (size_t i = 0; i < at; i++)
		line += c->text[i] == '\n' ? 1 : 0;
	return line;
}

static void splice(const Choosing *c, WdrSpan span, const char *instead)
{
	g_autofree char *old_text = g_strndup(c->text + span.at, span.end - span.at);
	size_t start = span.at;

	while (start > 0 && c->text[start - 1] != '\n')
		start--;
	wdr_edit_add(c->edit, span.at, line_of(c, span.at), (unsigned)(span.at - start) + 1,
		old_text, instead);
}

/* "rootfs-l0" on NVMe: "l0-nvme"; made unlike every label that is there. */
static char *new_label(const Choosing *c)
{
	g_autofree char *medium = g_ascii_strdown(c->choice->new_medium, -1);

	g_strcanon(medium, "abcdefghijklmnopqrstuvwxyz0123456789", '-');
	g_autofree char *label = g_strdup_printf("%s-on-%s", c->entry->label, medium);
	for (unsigned n = 2;; n++) {
		bool is_taken = false;
		for (guint i = 0; i < c->x->entries->len; i++)
			is_taken |= strcmp(((WdrExtlinuxEntry *)c->x->entries->pdata[i])->label,
					    label) == 0;
		if (!is_taken)
			return g_steal_pointer(&label);
		g_free(label);
		label = g_strdup_printf("%s-on-%s-%u", c->entry->label, medium, n);
	}
}

/* What the menu shows for the entry, without the medium that an earlier choice put there. */
static char *shown_name(const Choosing *c, const char *medium)
{
	WdrSpan s = c->entry->menu_label;
	g_autofree char *name =
		s.end > s.at ? g_strndup(c->text + s.at, s.end - s.at) : g_strdup(c->entry->label);
	g_autofree char *suffix = g_strdup_printf(" (%s)", c->choice->old_medium);

	if (g_str_has_suffix(name, suffix))
		name[strlen(name) - strlen(suffix)] = '\0';
	return g_strdup_printf("%s (%s)", name, medium);
}

/* The blanks before the entry's second line. */
static char *indent_of(const Choosing *c)
{
	const char *newline =
		memchr(c->text + c->entry->start, '\n', c->entry->end - c->entry->start);
	size_t at = newline ? (size_t)(newline - c->text) + 1 : c->entry->end;
	size_t end = wdr_skip_blanks(c->text, at, c->entry->end);

	return end > at && c->text[at] != '\r' ? g_strndup(c->text + at, end - at) : g_strdup("\t");
}

static int by_place(const void *a, const void *b)
{
	size_t x = ((const WdrSplice *)a)->offset;
	size_t y = ((const WdrSplice *)b)->offset;

	return x < y ? -1 : x > y;
}

static void replace(GArray *changes, WdrSpan span, const char *instead)
{
	WdrSplice s = { .offset = span.at, .len = span.end - span.at, .new_text = (char *)instead };

	g_array_append_val(changes, s);
}

/* The entry's lines once more, with these changes, which lie within it. */
static char *copy_entry(const Choosing *c, GArray *changes)
{
	GString *out = g_string_new(NULL);
	size_t at = c->entry->start;

	g_array_sort(changes, by_place);
	for (guint i = 0; i < changes->len; i++) {
		const WdrSplice *s = &g_array_index(changes, WdrSplice, i);
		g_string_append_len(out, c->text + at, (gssize)(s->offset - at));
		g_string_append(out, s->new_text);
		at = s->offset + s->len;
	}
	g_string_append_len(out, c->text + at, (gssize)(c->entry->end - at));
	if (out->len == 0 || out->str[out->len - 1] != '\n')
		g_string_append(out, c->newline);
	return g_string_free(out, FALSE);
}

static char *new_entry(const Choosing *c, const char *label)
{
	g_autoptr(GArray) changes = g_array_new(FALSE, FALSE, sizeof(WdrSplice));
	g_autofree char *shown = shown_name(c, c->choice->new_medium);
	g_autofree char *indent = indent_of(c);
	g_autofree char *named =
		g_strdup_printf("%s%s%sMENU LABEL %s", label, c->newline, indent, shown);
	bool has_menu_label = c->entry->menu_label.end > c->entry->menu_label.at;

	replace(changes, c->entry->label_name, has_menu_label ? label : named);
	if (has_menu_label)
		replace(changes, c->entry->menu_label, shown);
	for (guint i = 0; i < c->mentions->len; i++) {
		const WdrMention *m = c->mentions->pdata[i];
		if (m->is_default && m->use == WDR_USE_ROOT)
			replace(changes, (WdrSpan){ m->offset, m->offset + m->len },
				c->choice->new_root);
	}
	return copy_entry(c, changes);
}

/* The old entry keeps its label and gets its medium's name; the default mark moves on. */
static void name_old_entry(const Choosing *c)
{
	g_autofree char *shown = shown_name(c, c->choice->old_medium);
	g_autofree char *indent = indent_of(c);
	WdrSpan behind = { c->entry->label_name.end, c->entry->label_name.end };
	g_autofree char *line = g_strdup_printf("%s%sMENU LABEL %s", c->newline, indent, shown);

	if (c->entry->menu_label.end == c->entry->menu_label.at)
		splice(c, behind, line);
	else
		splice(c, c->entry->menu_label, shown);
	if (c->entry->menu_default.end > c->entry->menu_default.at)
		splice(c, c->entry->menu_default, "");
}

/* DEFAULT, TIMEOUT and PROMPT, in the file's head. */
static void set_head(const Choosing *c, const char *label)
{
	g_autoptr(GString) more = g_string_new(NULL);
	/* The offset 0 may hold a byte order mark. */
	bool has_mark = c->len >= 3 && memcmp(c->text, "\xef\xbb\xbf", 3) == 0;
	WdrSpan top = { has_mark ? 3 : 0, has_mark ? 3 : 0 };

	if (c->x->default_value.end > c->x->default_value.at)
		splice(c, c->x->default_value, label);
	else if (c->x->ontimeout_value.end == 0)
		g_string_append_printf(more, "DEFAULT %s%s", label, c->newline);
	if (c->x->ontimeout_value.end > c->x->ontimeout_value.at)
		splice(c, c->x->ontimeout_value, label);
	/* U-Boot (2023.01) shows a menu that has a title, whatever PROMPT says; others go by
	 * PROMPT. */
	if (!c->x->has_title)
		g_string_append_printf(more, "MENU TITLE Which root to start%s", c->newline);
	if (c->x->timeout_value.end == c->x->timeout_value.at)
		g_string_append_printf(more, "TIMEOUT %d%s", TIMEOUT_MIN, c->newline);
	else if (c->x->timeout < TIMEOUT_MIN)
		splice(c, c->x->timeout_value, G_STRINGIFY(50));
	if (c->x->prompt_value.end == c->x->prompt_value.at)
		g_string_append_printf(more, "PROMPT 1%s", c->newline);
	else if (!c->x->has_prompt)
		splice(c, c->x->prompt_value, "1");
	if (more->len)
		splice(c, top, more->str);
}

static bool check(const Choosing *c, GError **error)
{
	unsigned roots = 0;
	unsigned defaults = 0;

	if (!c->entry)
		return wdr_error_set(error, WDR_ERROR_REFUSED,
			"/%s has no entry that a second one could be made of", c->edit->file);
	if (*c->entry->label == '\0')
		return wdr_error_set(error, WDR_ERROR_REFUSED,
			"/%s:%u: the default entry has no label, so a second entry cannot be added",
			c->edit->file, c->entry->line);
	for (guint i = 0; i < c->x->entries->len; i++) {
		const WdrExtlinuxEntry *e = c->x->entries->pdata[i];
		defaults += e->menu_default.end > e->menu_default.at && e != c->entry ? 1 : 0;
	}
	if (defaults > 0)
		return wdr_error_set(error, WDR_ERROR_REFUSED,
			"/%s has two defaults: DEFAULT or another entry, and a MENU DEFAULT line",
			c->edit->file);
	for (guint i = 0; i < c->mentions->len; i++) {
		const WdrMention *m = c->mentions->pdata[i];
		roots += m->is_default && m->use == WDR_USE_ROOT ? 1 : 0;
	}
	return roots > 0 ? true
			 : wdr_error_set(error, WDR_ERROR_REFUSED,
				   "/%s:%u: the default entry '%s' has no root= that names a disk",
				   c->edit->file, c->entry->line, c->entry->label);
}

static bool spoiled(const Choosing *c, GError **error)
{
	wdr_error_set(error, WDR_ERROR_REFUSED,
		"/%s cannot get a second entry: it is not certain which entry would boot",
		c->edit->file);
	g_autofree char *look = wdr_command("survey", "--mentions");
	wdr_error_hint(error, "correct the file first; to see what is wrong: %s", look);
	return false;
}

/* Read once more: what starts has the new root and nothing else, and the old entry is still there.
 * A menu that is broken enough can swallow what is put into it. */
static bool check_result(const Choosing *c, GError **error)
{
	g_autoptr(GPtrArray) mentions = wdr_mentions_new();
	g_autoptr(GPtrArray) warnings = wdr_warnings_new();
	g_autoptr(GBytes) bytes = NULL;
	size_t len = 0;
	bool starts = false;
	bool has_old = false;

	if (!wdr_edit_apply(c->edit, c->text, c->len, &bytes, error))
		return false;
	const char *data = g_bytes_get_data(bytes, &len);
	g_autofree char *copy = g_malloc0(len + 1);
	memcpy(copy, data, len);
	WdrReading r = { c->edit->file, copy, len, 0, mentions, warnings };
	if (!wdr_extlinux_read(&r, error))
		return false;
	for (guint i = 0; i < mentions->len; i++) {
		const WdrMention *m = mentions->pdata[i];
		bool is_new = strcmp(m->text, c->choice->new_root) == 0;
		if (m->is_default && m->use == WDR_USE_ROOT && !is_new)
			return spoiled(c, error);
		starts |= m->is_default && is_new;
		has_old |= !is_new && strcmp(m->entry, c->entry->label) == 0;
	}
	return (starts && has_old) || spoiled(c, error);
}

bool wdr_extlinux_add_choice(const char *text, size_t len, const WdrExtlinuxChoice *choice,
	WdrEdit *edit, GError **error)
{
	g_autoptr(GPtrArray) mentions = wdr_mentions_new();
	g_autoptr(GPtrArray) warnings = wdr_warnings_new();
	WdrReading r = { edit->file, text, len, 0, mentions, warnings };
	g_autoptr(WdrExtlinux) x = wdr_extlinux_parse(&r);
	Choosing c = { text, len, x, wdr_extlinux_default(x), mentions, choice, edit,
		memchr(text, '\r', len) ? "\r\n" : "\n" };

	if (!wdr_extlinux_read(&r, error) || !check(&c, error))
		return false;
	g_autofree char *label = new_label(&c);
	g_autofree char *entry = new_entry(&c, label);
	g_autofree char *with_gap = g_strconcat(entry, c.newline, NULL);
	bool has_gap = c.entry->end < len || g_str_has_suffix(entry, "\n\n");
	set_head(&c, label);
	/* Before the old entry: when the new one fails, U-Boot goes on to the next. */
	splice(&c, (WdrSpan){ c.entry->start, c.entry->start }, has_gap ? entry : with_gap);
	name_old_entry(&c);
	return check_result(&c, error);
}
