/* Lists of mentions, and adding one with its exact columns. */
#include "boot/formats/mention.h"

#include "base/text.h"

#include <string.h>

enum { TEXT_BYTES_MAX = 1024 * 1024 };

const WdrFormat wdr_formats[] = {
	{ "kernel-arguments", "kernel arguments", wdr_kernel_args_read, false, TEXT_BYTES_MAX },
	{ "extlinux", "extlinux menu", wdr_extlinux_read, false, TEXT_BYTES_MAX },
	{ "fstab", "fstab", wdr_fstab_read, false, TEXT_BYTES_MAX },
	{ "crypttab", "crypttab", wdr_crypttab_read, false, TEXT_BYTES_MAX },
	{ "config", "firmware configuration", wdr_config_read, false, TEXT_BYTES_MAX },
	{ "autoboot", "firmware partition choice", wdr_autoboot_read, false, TEXT_BYTES_MAX },
	{ "settings", "settings of a loader script", wdr_settings_read, false, TEXT_BYTES_MAX },
	{ "shell", "shell-style settings", wdr_shell_read, false, TEXT_BYTES_MAX },
	{ "unit", "systemd unit", wdr_unit_read, false, TEXT_BYTES_MAX },
	{ "loader-entry", "boot loader entry", wdr_loader_entry_read, false, TEXT_BYTES_MAX },
	{ "script", "loader script", wdr_script_read, false, TEXT_BYTES_MAX },
	{ "image", "loader image", wdr_image_read, true, WDR_EDITED_BYTES_MAX },
	{ "grub", "GRUB menu", wdr_grub_read, false, TEXT_BYTES_MAX },
	{ "grub-environment", "GRUB's environment", wdr_grub_env_read, false, TEXT_BYTES_MAX },
	{ "efi-program", "UEFI program", wdr_efi_program_read, true, WDR_EDITED_BYTES_MAX },
	{ "text", "text", wdr_text_read, false, TEXT_BYTES_MAX },
};
const size_t wdr_n_formats = G_N_ELEMENTS(wdr_formats);

const WdrFormat *wdr_format_find(const char *name)
{
	for (size_t i = 0; i < wdr_n_formats; i++) {
		if (strcmp(wdr_formats[i].name, name) == 0)
			return &wdr_formats[i];
	}
	return NULL;
}

static void mention_free(void *data)
{
	WdrMention *m = data;

	g_free(m->file);
	g_free(m->text);
	g_free(m->what);
	g_free(m->entry);
	wdr_identifier_clear(&m->identifier);
	g_free(m);
}

WdrMentions *wdr_mentions_new(void)
{
	return g_ptr_array_new_with_free_func(mention_free);
}

WdrWarnings *wdr_warnings_new(void)
{
	return g_ptr_array_new_with_free_func(g_free);
}

const char *wdr_use_name(WdrUse use)
{
	static const char *const names[] = { "root", "boot", "swap", "resume", "other" };

	return names[use];
}

WdrMention *wdr_reading_add(const WdrReading *r, const WdrLine *line, WdrSpan span,
	const WdrIdentifier *identifier, WdrUse use, const char *what)
{
	WdrMention *m = g_new0(WdrMention, 1);

	m->file = g_strdup(r->file);
	m->line = line->number;
	m->column = (unsigned)(span.at - line->start) + 1;
	m->offset = r->base + span.at;
	m->len = span.end - span.at;
	m->text = g_strndup(r->text + span.at, m->len);
	m->identifier = *identifier;
	m->use = use;
	m->what = g_strdup(what);
	g_ptr_array_add(r->mentions, m);
	return m;
}

WdrMention *wdr_reading_take(const WdrReading *r, const WdrLine *line, WdrSpan span,
	const char *value, WdrUse use, const char *what)
{
	g_autofree char *text = g_strndup(r->text + span.at, span.end - span.at);
	WdrIdentifier identifier;

	/* An identifier has no 0 byte in it. */
	if (strlen(text) != span.end - span.at ||
		!wdr_identifier_parse(value ? value : text, &identifier))
		return NULL;
	return wdr_reading_add(r, line, span, &identifier, use, what);
}

void wdr_reading_warn(const WdrReading *r, const WdrLine *line, size_t at, const char *format, ...)
{
	va_list args;

	va_start(args, format);
	g_autofree char *what = g_strdup_vprintf(format, args);
	va_end(args);
	g_autofree char *shown = wdr_escape(what);
	g_ptr_array_add(r->warnings, g_strdup_printf("%s:%u:%u: %s", r->file, line->number,
					     (unsigned)(at - line->start) + 1, shown));
}

WdrUse wdr_use_of_mount(const char *point, const char *type)
{
	if (strcmp(point, "/") == 0)
		return WDR_USE_ROOT;
	/* With UEFI its system partition may be mounted at /efi. */
	if (strcmp(point, "/boot") == 0 || g_str_has_prefix(point, "/boot/") ||
		strcmp(point, "/efi") == 0)
		return WDR_USE_BOOT;
	return strcmp(type, "swap") == 0 ? WDR_USE_SWAP : WDR_USE_OTHER;
}

void wdr_options_take(const WdrReading *r, const WdrLine *line, WdrSpan span, WdrWriting writing)
{
	for (size_t at = span.at; at < span.end;) {
		const char *comma = memchr(r->text + at, ',', span.end - at);
		size_t end = comma ? (size_t)(comma - r->text) : span.end;
		const char *equals = memchr(r->text + at, '=', end - at);
		size_t value = equals ? (size_t)(equals - r->text) + 1 : end;
		if (value < end) {
			g_autofree char *key = g_strndup(r->text + at, value - at);
			WdrMention *m = wdr_reading_take(
				r, line, (WdrSpan){ value, end }, NULL, WDR_USE_OTHER, key);
			if (m) {
				m->writing = writing;
				m->needs_path =
					m->identifier.kind == WDR_BY_PATH || m->identifier.is_link;
			}
		}
		at = end + 1;
	}
}
