/* Decides which identifier replaces another, and in which form.
 *
 * A UUID or label as root= needs an initramfs; a PARTUUID does not. A label that two volumes have
 * while the old disk is in is no identifier. So a mention by UUID, PARTUUID or path keeps its form
 * where that works at its place, and one by label becomes a UUID or PARTUUID. */
#include "boot/formats/rewrite.h"

#include "base/command.h"
#include "base/error.h"

#include <string.h>

bool wdr_needs_initramfs(WdrIdentifierKind kind, bool is_link)
{
	return kind == WDR_BY_UUID || kind == WDR_BY_LABEL || is_link;
}

static WdrIdentifierKind usual_kind(const WdrMention *m, const WdrNaming *naming)
{
	bool has_initramfs = m->is_kernel ? m->has_initramfs : naming->has_initramfs;

	if (naming->keeps_forms && m->identifier.kind != WDR_BY_PATH)
		return m->identifier.kind;
	switch (m->identifier.kind) {
	case WDR_BY_PATH:
		return WDR_BY_PARTUUID;
	case WDR_BY_LABEL:
	case WDR_BY_PARTLABEL:
		/* Two volumes would have the same label while the old disk is in. */
		return has_initramfs ? WDR_BY_UUID : WDR_BY_PARTUUID;
	default:
		return m->identifier.kind;
	}
}

static bool choose_kind(const WdrMention *m, const WdrNaming *naming, WdrIdentifierKind *ret,
	char **ret_note, GError **error)
{
	bool is_fixed = m->identifier.is_bare || m->identifier.kind == WDR_BY_NUMBER;

	*ret = is_fixed              ? m->identifier.kind
	       : naming->has_name_by ? naming->name_by
				     : usual_kind(m, naming);
	if (!m->is_kernel || m->has_initramfs)
		return true;
	bool needed_one = wdr_needs_initramfs(m->identifier.kind, m->identifier.is_link);
	if (!naming->has_name_by && needed_one) {
		*ret_note = g_strdup_printf(
			"%s:%u: %s%s needs an initramfs, and none is loaded: it becomes PARTUUID=",
			m->file, m->line, m->what, m->text);
		*ret = WDR_BY_PARTUUID;
	}
	if (!wdr_needs_initramfs(*ret, false))
		return true;
	g_autofree char *form = g_ascii_strup(wdr_identifier_kind_name(*ret), -1);
	wdr_error_set(error, WDR_ERROR_REFUSED,
		"%s:%u: the kernel alone cannot find its root by %s, and no initramfs is loaded",
		m->file, m->line, form);
	g_autofree char *by = wdr_command_again("--name-by", "partuuid");
	wdr_error_hint(error, "to name it by PARTUUID: %s", by);
	return false;
}

static char *value_of(const WdrIdentity *id, WdrIdentifierKind kind)
{
	switch (kind) {
	case WDR_BY_UUID:
		return g_strdup(id->uuid);
	case WDR_BY_LABEL:
		return g_strdup(id->label);
	case WDR_BY_PARTUUID:
		return g_strdup(id->partuuid);
	case WDR_BY_PARTLABEL:
		return g_strdup(id->partlabel);
	case WDR_BY_PATH:
		return id->disk_name ? wdr_identifier_path(id->disk_name, id->number) : NULL;
	case WDR_BY_NUMBER:
		return g_strdup_printf("%u", id->number);
	}
	return NULL;
}

static char *escape(const char *text, bool is_link)
{
	GString *out = g_string_new(NULL);

	for (const char *p = text; *p; p++) {
		if (strchr(" \t\n\\", *p) && !(is_link && *p == '\\'))
			g_string_append_printf(out, "\\%03o", (unsigned)(unsigned char)*p);
		else
			g_string_append_c(out, *p);
	}
	return g_string_free(out, FALSE);
}

/* The identifier as the place can hold it. */
static bool put(const WdrMention *m, const WdrIdentifier *a, char **ret, GError **error)
{
	static const char *const forbidden[] = { " \t\r\n\"'", "\t\r\n\"'", "", "\r\n" };
	g_autofree char *text = wdr_identifier_format(a);

	if (m->writing == WDR_WRITE_ESCAPED) {
		*ret = escape(text, a->is_link || a->is_unit);
		return true;
	}
	if (strpbrk(text, forbidden[m->writing])) {
		wdr_error_set(error, WDR_ERROR_REFUSED,
			"%s:%u:%u: '%s' cannot be written at this place", m->file, m->line,
			m->column, text);
		wdr_error_hint(error, "name the partition by something else than its label");
		return false;
	}
	*ret = g_steal_pointer(&text);
	return true;
}

bool wdr_rewrite(const WdrMention *m, const WdrIdentity *to, const WdrNaming *naming, char **ret,
	char **ret_note, GError **error)
{
	WdrIdentifierKind kind = WDR_BY_UUID;

	if (!choose_kind(m, naming, &kind, ret_note, error))
		return false;
	g_autofree char *value = value_of(to, kind);
	if (!value || !*value)
		return wdr_error_set(error, WDR_ERROR_REFUSED,
			"%s:%u: the new partition %u has no %s to be named by", m->file, m->line,
			to->number, wdr_identifier_kind_name(kind));
	/* A link form is kept where it still works: everywhere but for the kernel alone. A device
	 * path in a unit's name can only become another path: the link. */
	bool keeps_link = kind < WDR_BY_PATH &&
			  (m->identifier.is_unit || m->needs_path ||
				  (m->identifier.is_link && !(m->is_kernel && !m->has_initramfs)));
	WdrIdentifier a = { .kind = kind,
		.is_link = keeps_link,
		.is_unit = m->identifier.is_unit,
		.is_bare = m->identifier.is_bare,
		.value = value };
	return put(m, &a, ret, error);
}
