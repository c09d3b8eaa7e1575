#include "boot/address.h"

#include <string.h>

static const struct {
	WdrAddressKind kind;
	const char *tag;    /* before the value */
	const char *folder; /* of the links that udev makes */
	const char *name;
} forms[] = {
	{ WDR_BY_UUID, "UUID=", "/dev/disk/by-uuid/", "uuid" },
	{ WDR_BY_LABEL, "LABEL=", "/dev/disk/by-label/", "label" },
	{ WDR_BY_PARTUUID, "PARTUUID=", "/dev/disk/by-partuuid/", "partuuid" },
	{ WDR_BY_PARTLABEL, "PARTLABEL=", "/dev/disk/by-partlabel/", "partlabel" },
	{ WDR_BY_PATH, NULL, NULL, "path" },
};

void wdr_address_clear(WdrAddress *a)
{
	g_clear_pointer(&a->value, g_free);
}

/* udev writes blanks and the like in link names as \x20. */
static char *unescape_link(const char *text)
{
	g_autoptr(GString) out = g_string_new(NULL);

	for (const char *p = text; *p; p++) {
		if (p[0] == '\\' && p[1] == 'x' && g_ascii_isxdigit(p[2]) &&
			g_ascii_isxdigit(p[3])) {
			g_string_append_c(out, (char)(g_ascii_xdigit_value(p[2]) << 4 |
						       g_ascii_xdigit_value(p[3])));
			p += 3;
		} else {
			g_string_append_c(out, *p);
		}
	}
	return g_string_free(g_steal_pointer(&out), FALSE);
}

static char *escape_link(const char *text)
{
	g_autoptr(GString) out = g_string_new(NULL);

	for (const char *p = text; *p; p++) {
		if (g_ascii_isalnum(*p) || strchr("#+-.:=@_", *p) || (unsigned char)*p >= 0x80)
			g_string_append_c(out, *p);
		else
			g_string_append_printf(out, "\\x%02x", (unsigned)(unsigned char)*p);
	}
	return g_string_free(g_steal_pointer(&out), FALSE);
}

static char *unquote(const char *text)
{
	size_t len = strlen(text);

	if (len >= 2 && (*text == '"' || *text == '\'') && text[len - 1] == *text)
		return g_strndup(text + 1, len - 2);
	return g_strdup(text);
}

bool wdr_address_parse(const char *text, WdrAddress *ret)
{
	for (size_t i = 0; i < G_N_ELEMENTS(forms); i++) {
		if (forms[i].tag && g_str_has_prefix(text, forms[i].tag)) {
			*ret = (WdrAddress){ forms[i].kind, false,
				unquote(text + strlen(forms[i].tag)) };
			return true;
		}
		if (forms[i].folder && g_str_has_prefix(text, forms[i].folder)) {
			*ret = (WdrAddress){ forms[i].kind, true,
				unescape_link(text + strlen(forms[i].folder)) };
			return true;
		}
	}
	if (!g_str_has_prefix(text, "/dev/") || text[5] == '\0')
		return false;
	*ret = (WdrAddress){ WDR_BY_PATH, false, g_strdup(text) };
	return true;
}

char *wdr_address_format(const WdrAddress *a)
{
	for (size_t i = 0; i < G_N_ELEMENTS(forms); i++) {
		if (forms[i].kind != a->kind || !forms[i].tag)
			continue;
		if (!a->is_link)
			return g_strconcat(forms[i].tag, a->value, NULL);
		g_autofree char *escaped = escape_link(a->value);
		return g_strconcat(forms[i].folder, escaped, NULL);
	}
	return g_strdup(a->value);
}

const char *wdr_address_kind_name(WdrAddressKind kind)
{
	return forms[kind].name;
}

bool wdr_address_kind_parse(const char *text, WdrAddressKind *ret)
{
	for (size_t i = 0; i < G_N_ELEMENTS(forms); i++) {
		if (strcmp(text, forms[i].name) == 0) {
			*ret = forms[i].kind;
			return true;
		}
	}
	return false;
}

bool wdr_address_split_path(const char *path, char **ret_disk, unsigned *ret_number)
{
	const char *name = g_str_has_prefix(path, "/dev/") ? path + 5 : path;
	size_t len = strlen(name);
	size_t digits = len;

	while (digits > 0 && g_ascii_isdigit(name[digits - 1]))
		digits--;
	if (digits == 0 || digits == len || len - digits > 4 || strchr(name, '/'))
		return false;
	unsigned number = (unsigned)g_ascii_strtoull(name + digits, NULL, 10);
	/* mmcblk0p2, nvme0n1p2: a p between two digits; sda2: none. mmcblk0 alone is a disk. */
	bool has_p = digits >= 2 && name[digits - 1] == 'p' && g_ascii_isdigit(name[digits - 2]);
	bool is_letters = g_str_has_prefix(name, "sd") || g_str_has_prefix(name, "vd") ||
			  g_str_has_prefix(name, "hd") || g_str_has_prefix(name, "xvd");
	if (number == 0 || (!has_p && !is_letters))
		return false;
	*ret_disk = g_strndup(name, has_p ? digits - 1 : digits);
	*ret_number = number;
	return true;
}

static bool same(const char *a, const char *b)
{
	return b && g_ascii_strcasecmp(a, b) == 0;
}

bool wdr_address_matches(const WdrAddress *a, const WdrIdentity *id)
{
	g_autofree char *disk = NULL;
	unsigned number = 0;

	switch (a->kind) {
	case WDR_BY_UUID:
		return same(a->value, id->uuid);
	case WDR_BY_LABEL:
		return g_strcmp0(a->value, id->label) == 0;
	case WDR_BY_PARTUUID:
		return same(a->value, id->partuuid);
	case WDR_BY_PARTLABEL:
		return g_strcmp0(a->value, id->partlabel) == 0;
	case WDR_BY_PATH:
		return id->disk_name && wdr_address_split_path(a->value, &disk, &number) &&
		       number == id->number && strcmp(disk, id->disk_name) == 0;
	}
	return false;
}
