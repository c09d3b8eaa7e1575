/* Reads extlinux.conf as U-Boot does. */
#include "boot/formats/extlinux.h"

#include <string.h>

typedef enum {
	KEY_NONE,
	KEY_DEFAULT,
	KEY_ONTIMEOUT,
	KEY_TIMEOUT,
	KEY_PROMPT,
	KEY_MENU,
	KEY_LABEL,
	KEY_APPEND,
	KEY_INITRD,
	KEY_INCLUDE,
	KEY_TEXT,
	KEY_OTHER,
} Key;

static const struct {
	const char *word;
	Key key;
} keywords[] = { { "default", KEY_DEFAULT }, { "timeout", KEY_TIMEOUT }, { "prompt", KEY_PROMPT },
	{ "menu", KEY_MENU }, { "label", KEY_LABEL }, { "kernel", KEY_OTHER },
	{ "linux", KEY_OTHER }, { "fit", KEY_OTHER }, { "initrd", KEY_INITRD },
	{ "append", KEY_APPEND }, { "include", KEY_INCLUDE }, { "text", KEY_TEXT },
	{ "fdt", KEY_OTHER }, { "devicetree", KEY_OTHER }, { "fdtdir", KEY_OTHER },
	{ "devicetreedir", KEY_OTHER }, { "fdtoverlays", KEY_OTHER },
	{ "devicetree-overlay", KEY_OTHER }, { "localboot", KEY_OTHER }, { "ipappend", KEY_OTHER },
	{ "sysappend", KEY_OTHER }, { "ontimeout", KEY_ONTIMEOUT }, { "fallback", KEY_OTHER },
	{ "say", KEY_OTHER }, { "kaslrseed", KEY_OTHER }, { "ui", KEY_OTHER } };

/* One line, taken apart. */
typedef struct {
	const WdrReading *r;
	WdrLine line;
	Key key;
	WdrSpan word, value;
	WdrExtlinux *x;
	WdrExtlinuxEntry *entry; /* the one it belongs to; NULL: before the first */
	bool in_text;            /* between TEXT HELP and ENDTEXT */
} Parsing;

static void entry_free(void *data)
{
	WdrExtlinuxEntry *e = data;

	g_free(e->label);
	g_free(e);
}

void wdr_extlinux_free(WdrExtlinux *x)
{
	if (!x)
		return;
	g_ptr_array_unref(x->entries);
	g_ptr_array_unref(x->includes);
	g_free(x->default_name);
	g_free(x);
}

static char *value_text(const Parsing *p)
{
	return g_strndup(p->r->text + p->value.at, p->value.end - p->value.at);
}

static Key find_key(const Parsing *p)
{
	for (size_t i = 0; i < G_N_ELEMENTS(keywords); i++) {
		if (wdr_word_is(p->r->text, p->word.at, p->word.end, keywords[i].word))
			return keywords[i].key;
	}
	return KEY_NONE;
}

static bool next_line(Parsing *p)
{
	while (wdr_line_next(&p->line)) {
		const char *text = p->r->text;
		p->word.at = wdr_skip_blanks(text, p->line.at, p->line.end);
		p->word.end = wdr_word_end(text, p->word.at, p->line.end);
		p->value.at = wdr_skip_blanks(text, p->word.end, p->line.end);
		p->value.end = wdr_trim_blanks(text, p->value.at, p->line.end);
		if (p->in_text) {
			p->in_text = !wdr_word_is(text, p->word.at, p->word.end, "endtext");
			continue;
		}
		if (p->word.at == p->line.end || text[p->word.at] == '#')
			continue;
		p->key = find_key(p);
		return true;
	}
	return false;
}

static void take_label(Parsing *p)
{
	WdrExtlinuxEntry *e = g_new0(WdrExtlinuxEntry, 1);

	e->label = value_text(p);
	e->line = p->line.number;
	e->label_name = p->value;
	e->start = p->line.start;
	if (p->entry)
		p->entry->end = p->line.start;
	for (guint i = 0; i < p->x->entries->len; i++) {
		const WdrExtlinuxEntry *other = p->x->entries->pdata[i];
		if (strcmp(other->label, e->label) == 0)
			wdr_reading_warn(p->r, &p->line, p->value.at,
				"duplicate label '%s', also on line %u; as a default U-Boot takes the last",
				e->label, other->line);
	}
	g_ptr_array_add(p->x->entries, e);
	p->entry = e;
}

static void take_default(Parsing *p)
{
	g_autofree char *name = value_text(p);

	if (*name == '\0') {
		wdr_reading_warn(p->r, &p->line, p->word.at, "the line names no entry");
		return;
	}
	if (p->x->default_name && strcmp(p->x->default_name, name) != 0)
		wdr_reading_warn(p->r, &p->line, p->value.at,
			"a second default; U-Boot takes this one, others the first");
	g_free(p->x->default_name);
	p->x->default_name = g_steal_pointer(&name);
	/* U-Boot takes ONTIMEOUT for another word for DEFAULT. */
	*(p->key == KEY_ONTIMEOUT ? &p->x->ontimeout_value : &p->x->default_value) = p->value;
}

static void take_menu(Parsing *p)
{
	const char *text = p->r->text;
	WdrSpan word = { p->value.at, wdr_word_end(text, p->value.at, p->value.end) };

	if (wdr_word_is(text, word.at, word.end, "include")) {
		p->value.at = wdr_skip_blanks(text, word.end, p->value.end);
		g_ptr_array_add(p->x->includes, value_text(p));
	} else if (!p->entry && wdr_word_is(text, word.at, word.end, "title")) {
		p->x->has_title = true;
	} else if (p->entry && wdr_word_is(text, word.at, word.end, "label")) {
		p->entry->menu_label =
			(WdrSpan){ wdr_skip_blanks(text, word.end, p->value.end), p->value.end };
	} else if (p->entry && wdr_word_is(text, word.at, word.end, "default")) {
		p->entry->menu_default = (WdrSpan){ p->line.start, p->line.next };
		/* U-Boot lets a DEFAULT line win. */
		if (!p->x->default_name)
			p->x->default_name = g_strdup(p->entry->label);
		else if (strcmp(p->x->default_name, p->entry->label) != 0)
			wdr_reading_warn(p->r, &p->line, p->word.at,
				"a second default; U-Boot boots '%s', other loaders this one",
				p->x->default_name);
	}
}

static void take_number(Parsing *p)
{
	g_autofree char *text = value_text(p);
	guint64 value = 0;

	if (!g_ascii_string_to_unsigned(text, 10, 0, 36000, &value, NULL)) {
		wdr_reading_warn(p->r, &p->line, p->value.at, "'%s' is not a number", text);
		return;
	}
	if (p->key == KEY_TIMEOUT) {
		p->x->timeout = (unsigned)value;
		p->x->timeout_value = p->value;
	} else {
		p->x->has_prompt = value != 0;
		p->x->prompt_value = p->value;
	}
}

static void take_line(Parsing *p)
{
	switch (p->key) {
	case KEY_DEFAULT:
	case KEY_ONTIMEOUT:
		take_default(p);
		break;
	case KEY_TIMEOUT:
	case KEY_PROMPT:
		take_number(p);
		break;
	case KEY_MENU:
		take_menu(p);
		break;
	case KEY_LABEL:
		take_label(p);
		break;
	case KEY_INITRD:
		if (p->entry)
			p->entry->has_initrd = true;
		break;
	case KEY_INCLUDE:
		g_ptr_array_add(p->x->includes, value_text(p));
		break;
	case KEY_TEXT:
		p->in_text = true;
		wdr_reading_warn(p->r, &p->line, p->word.at,
			"U-Boot (2023.01) does not know TEXT and loses the entry's lines that follow");
		break;
	case KEY_NONE:
		wdr_reading_warn(p->r, &p->line, p->word.at, "'%.*s' is no keyword; U-Boot %s",
			(int)(p->word.end - p->word.at), p->r->text + p->word.at,
			p->entry ? "loses the rest of the entry" : "skips the line");
		break;
	case KEY_APPEND:
	case KEY_OTHER:
		break;
	}
}

WdrExtlinux *wdr_extlinux_parse(const WdrReading *r)
{
	WdrExtlinux *x = g_new0(WdrExtlinux, 1);
	Parsing p = { .r = r, .line = wdr_lines(r->text, r->len), .x = x };

	x->entries = g_ptr_array_new_with_free_func(entry_free);
	x->includes = g_ptr_array_new_with_free_func(g_free);
	while (next_line(&p))
		take_line(&p);
	if (p.entry)
		p.entry->end = r->len;
	return x;
}

static const WdrExtlinuxEntry *named_default(const WdrExtlinux *x)
{
	for (guint i = x->entries->len; x->default_name && i-- > 0;) {
		const WdrExtlinuxEntry *e = x->entries->pdata[i];
		if (strcmp(e->label, x->default_name) == 0)
			return e;
	}
	return NULL;
}

const WdrExtlinuxEntry *wdr_extlinux_default(const WdrExtlinux *x)
{
	const WdrExtlinuxEntry *e = named_default(x);

	return e ? e : x->entries->len ? x->entries->pdata[0] : NULL;
}

/* ---- the reader ---- */

/* before: the entry's first mention. A second APPEND takes the place of the one before. */
static void take_append(const Parsing *p, const WdrExtlinuxEntry *entry, guint before)
{
	guint first = p->r->mentions->len;
	unsigned roots = 0;
	bool is_second = false;

	for (guint i = before; i < first; i++) {
		WdrMention *m = p->r->mentions->pdata[i];
		is_second |= m->is_default;
		m->is_default = false;
	}
	if (is_second)
		wdr_reading_warn(p->r, &p->line, p->word.at,
			"a second APPEND in the entry '%s'; only this one counts", entry->label);

	wdr_kernel_args_scan(p->r, &p->line, p->value, WDR_WRITE_WORD);
	for (guint i = first; i < p->r->mentions->len; i++) {
		WdrMention *m = p->r->mentions->pdata[i];
		m->entry = g_strdup(entry->label);
		m->has_initramfs = entry->has_initrd;
		m->is_default = m->is_kernel && entry == wdr_extlinux_default(p->x);
		if (m->use == WDR_USE_ROOT && ++roots > 1)
			wdr_reading_warn(p->r, &p->line, m->offset - p->r->base,
				"entry '%s' has %u root= words; the kernel takes the last",
				entry->label, roots);
	}
}

static void check_default(const WdrReading *r, const WdrExtlinux *x)
{
	WdrSpan value = x->default_value.end ? x->default_value : x->ontimeout_value;
	WdrLine line = wdr_line_at(r->text, r->len, value.at);

	if (x->entries->len == 0 && x->includes->len == 0)
		g_ptr_array_add(r->warnings,
			g_strdup_printf(
				"%s:1:1: there is no entry; nothing would boot from it", r->file));
	else if (value.end && !named_default(x) && x->includes->len == 0)
		wdr_reading_warn(r, &line, value.at,
			"the default '%s' is no label of an entry; the loader decides what boots",
			x->default_name);
}

/* What editors of other systems put in, and U-Boot (2023.01) stumbles over. */
static void check_line_ends(const WdrReading *r)
{
	WdrLine line = wdr_lines(r->text, r->len);

	while (wdr_line_next(&line)) {
		if (line.at > line.start)
			wdr_reading_warn(r, &line, line.start,
				"a byte order mark: U-Boot does not know the first line's word for it");
		if (line.end < line.len && r->text[line.end] == '\r') {
			wdr_reading_warn(r, &line, line.end,
				"a carriage return at the line's end: U-Boot takes it for a part "
				"of file names, and finds none of them");
			return;
		}
	}
}

bool wdr_extlinux_read(const WdrReading *r, GError **error)
{
	g_autoptr(WdrExtlinux) x = wdr_extlinux_parse(r);
	Parsing p = { .r = r, .line = wdr_lines(r->text, r->len), .x = x };
	guint next = 0;

	(void)error;
	/* Entries are known as wholes now: which of them has an initramfs, which is the default. */
	guint before = r->mentions->len;
	for (const WdrExtlinuxEntry *entry = NULL; next_line(&p);) {
		p.in_text = p.key == KEY_TEXT;
		if (p.key == KEY_LABEL) {
			entry = x->entries->pdata[next++];
			before = r->mentions->len;
		} else if (p.key == KEY_APPEND && entry) {
			take_append(&p, entry, before);
		}
	}
	check_default(r, x);
	check_line_ends(r);
	return true;
}
