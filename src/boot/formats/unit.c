/* systemd's *.mount and *.swap units (systemd.mount(5), systemd.swap(5)), and boot loader entries
 * with `options` lines (the UAPI group's Boot Loader Specification). */
#include "boot/formats/mention.h"

#include <string.h>

/* KEY=VALUE at the line's start, in any section: no two sections share these keys. */
static bool setting_at(const WdrReading *r, const WdrLine *line, const char *key, WdrSpan *ret)
{
	size_t at = wdr_skip_blanks(r->text, line->at, line->end);
	const char *equals = memchr(r->text + at, '=', line->end - at);
	size_t split = equals ? (size_t)(equals - r->text) : at;

	if (!equals || strlen(key) != wdr_trim_blanks(r->text, at, split) - at ||
		memcmp(r->text + at, key, strlen(key)) != 0)
		return false;
	ret->at = wdr_skip_blanks(r->text, split + 1, line->end);
	ret->end = wdr_trim_blanks(r->text, ret->at, line->end);
	return true;
}

static char *find_where(const WdrReading *r)
{
	WdrSpan value;

	for (WdrLine line = wdr_lines(r->text, r->len); wdr_line_next(&line);) {
		if (setting_at(r, &line, "Where", &value))
			return g_strndup(r->text + value.at, value.end - value.at);
	}
	return NULL;
}

/* Dependencies: units of devices among the words. */
static void take_dependencies(
	const WdrReading *r, const WdrLine *line, WdrSpan value, const char *key)
{
	for (size_t at = value.at; (at = wdr_skip_blanks(r->text, at, value.end)) < value.end;) {
		WdrSpan word = { at, wdr_word_end(r->text, at, value.end) };
		g_autofree char *text = g_strndup(r->text + word.at, word.end - word.at);
		if (g_str_has_suffix(text, ".device"))
			(void)wdr_reading_take(r, line, word, NULL, WDR_USE_OTHER, key);
		at = word.end;
	}
}

bool wdr_unit_read(const WdrReading *r, GError **error)
{
	static const char *const dependencies[] = { "After", "Before", "Requires", "Wants",
		"BindsTo", "Requisite", "PartOf" };
	g_autofree char *where = find_where(r);
	bool is_swap = g_str_has_suffix(r->file, ".swap");
	const char *what = where ? where : is_swap ? "swap" : "What=";
	WdrSpan value;

	(void)error;
	for (WdrLine line = wdr_lines(r->text, r->len); wdr_line_next(&line);) {
		size_t at = wdr_skip_blanks(r->text, line.at, line.end);
		if (at < line.end && (r->text[at] == '#' || r->text[at] == ';'))
			continue;
		if (setting_at(r, &line, "What", &value)) {
			WdrMention *m = wdr_reading_take(r, &line, value, NULL,
				wdr_use_of_mount(what, is_swap ? "swap" : ""), what);
			if (m)
				m->writing = WDR_WRITE_LINE;
		}
		if (setting_at(r, &line, "Options", &value))
			wdr_options_take(r, &line, value, WDR_WRITE_WORD);
		for (size_t i = 0; i < G_N_ELEMENTS(dependencies); i++) {
			if (setting_at(r, &line, dependencies[i], &value))
				take_dependencies(r, &line, value, dependencies[i]);
		}
	}
	if (!where && g_str_has_suffix(r->file, ".mount"))
		g_ptr_array_add(r->warnings,
			g_strdup_printf(
				"%s:1:1: there is no Where=; systemd refuses the unit", r->file));
	return true;
}

/* ---- loader entries ---- */

static bool is_key(const WdrReading *r, const WdrLine *line, const char *key, WdrSpan *ret)
{
	size_t at = wdr_skip_blanks(r->text, line->at, line->end);
	size_t end = wdr_word_end(r->text, at, line->end);

	ret->at = wdr_skip_blanks(r->text, end, line->end);
	ret->end = wdr_trim_blanks(r->text, ret->at, line->end);
	return wdr_word_is(r->text, at, end, key);
}

bool wdr_loader_entry_read(const WdrReading *r, GError **error)
{
	guint first = r->mentions->len;
	bool has_initramfs = false;
	bool has_options = false;
	WdrSpan value;

	(void)error;
	for (WdrLine line = wdr_lines(r->text, r->len); wdr_line_next(&line);) {
		has_initramfs |= is_key(r, &line, "initrd", &value);
		if (!is_key(r, &line, "options", &value))
			continue;
		has_options = true;
		wdr_kernel_args_scan(r, &line, value, WDR_WRITE_WORD);
	}
	g_autofree char *name = g_path_get_basename(r->file);
	for (guint i = first; i < r->mentions->len; i++) {
		WdrMention *m = r->mentions->pdata[i];
		m->entry = g_strdup(name);
		m->has_initramfs = has_initramfs;
		m->is_default = false;
	}
	if (!has_options)
		g_ptr_array_add(r->warnings,
			g_strdup_printf(
				"%s:1:1: the entry has no options line: the kernel gets no root=",
				r->file));
	return true;
}
