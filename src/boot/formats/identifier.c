/* Parses, compares and writes identifiers in all their forms. */
#include "boot/formats/identifier.h"

#include <string.h>

static const struct {
	WdrIdentifierKind kind;
	const char *tag;    /* before the value */
	const char *folder; /* of the links that udev makes */
	const char *name;
} forms[] = {
	{ WDR_BY_UUID, "UUID=", "/dev/disk/by-uuid/", "uuid" },
	{ WDR_BY_LABEL, "LABEL=", "/dev/disk/by-label/", "label" },
	{ WDR_BY_PARTUUID, "PARTUUID=", "/dev/disk/by-partuuid/", "partuuid" },
	{ WDR_BY_PARTLABEL, "PARTLABEL=", "/dev/disk/by-partlabel/", "partlabel" },
	{ WDR_BY_PATH, NULL, NULL, "path" },
	{ WDR_BY_NUMBER, NULL, NULL, "number" },
};

static const char unit_suffix[] = ".device";
static const char offset_mark[] = "/PARTNROFF=";

void wdr_identifier_clear(WdrIdentifier *a)
{
	g_clear_pointer(&a->value, g_free);
	g_clear_pointer(&a->node, g_free);
}

/* udev writes blanks and the like in link names as \x20; systemd does the same in unit names. */
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

/* dev-disk-by\x2duuid-F3A1\x2d77C2.device: see systemd.unit(5) on escaping. */
static char *unit_to_path(const char *text)
{
	g_autofree char *name = g_strndup(text, strlen(text) - strlen(unit_suffix));

	for (char *c = name; *c; c++) {
		if (*c == '-')
			*c = '/';
	}
	g_autofree char *path = unescape_link(name);
	return g_strconcat("/", path, NULL);
}

static char *path_to_unit(const char *path)
{
	g_autoptr(GString) out = g_string_new(NULL);

	for (const char *p = path + 1; *p; p++) {
		if (*p == '/')
			g_string_append_c(out, '-');
		else if (g_ascii_isalnum(*p) || *p == ':' || *p == '_' || *p == '.')
			g_string_append_c(out, *p);
		else
			g_string_append_printf(out, "\\x%02x", (unsigned)(unsigned char)*p);
	}
	g_string_append(out, unit_suffix);
	return g_string_free(g_steal_pointer(&out), FALSE);
}

static void take_offset(WdrIdentifier *a)
{
	char *mark = a->kind == WDR_BY_PARTUUID ? strstr(a->value, offset_mark) : NULL;
	guint64 on = 0;

	if (!mark || !g_ascii_string_to_unsigned(mark + strlen(offset_mark), 10, 0, 128, &on, NULL))
		return;
	*mark = '\0';
	a->partitions_on = (unsigned)on;
}

static bool parse_tagged(const char *text, WdrIdentifier *ret)
{
	for (size_t i = 0; i < G_N_ELEMENTS(forms) && forms[i].tag; i++) {
		*ret = (WdrIdentifier){ .kind = forms[i].kind };
		if (g_str_has_prefix(text, forms[i].tag)) {
			ret->value = unquote(text + strlen(forms[i].tag));
			take_offset(ret);
			return true;
		}
		if (g_str_has_prefix(text, forms[i].folder)) {
			ret->is_link = true;
			ret->value = unescape_link(text + strlen(forms[i].folder));
			return true;
		}
	}
	return false;
}

bool wdr_identifier_parse(const char *text, WdrIdentifier *ret)
{
	if (g_str_has_prefix(text, "dev-") && g_str_has_suffix(text, unit_suffix)) {
		g_autofree char *path = unit_to_path(text);
		if (!wdr_identifier_parse(path, ret))
			return false;
		ret->is_unit = true;
		return true;
	}
	if (parse_tagged(text, ret))
		return true;
	if (!g_str_has_prefix(text, "/dev/") || text[5] == '\0')
		return false;
	*ret = (WdrIdentifier){ .kind = WDR_BY_PATH, .value = g_strdup(text) };
	return true;
}

static char *as_link(const WdrIdentifier *a)
{
	if (a->kind >= WDR_BY_PATH)
		return g_strdup(a->value);
	g_autofree char *escaped = escape_link(a->value);
	return g_strconcat(forms[a->kind].folder, escaped, NULL);
}

char *wdr_identifier_tagged(const WdrIdentifier *a)
{
	return a->kind < WDR_BY_PATH ? g_strconcat(forms[a->kind].tag, a->value, NULL)
				     : g_strdup(a->value);
}

char *wdr_identifier_format(const WdrIdentifier *a)
{
	if (a->is_unit) {
		g_autofree char *path = as_link(a);
		return path_to_unit(path);
	}
	if (a->is_bare)
		return g_strdup(a->value);
	return a->is_link ? as_link(a) : wdr_identifier_tagged(a);
}

const char *wdr_identifier_kind_name(WdrIdentifierKind kind)
{
	return forms[kind].name;
}

bool wdr_identifier_kind_parse(const char *text, WdrIdentifierKind *ret)
{
	/* A number is no way to name a partition from outside of its disk. */
	for (size_t i = 0; i <= WDR_BY_PATH; i++) {
		if (strcmp(text, forms[i].name) == 0) {
			*ret = forms[i].kind;
			return true;
		}
	}
	return false;
}

bool wdr_identifier_split_path(const char *path, char **ret_disk, unsigned *ret_number)
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

bool wdr_identifier_is_disk(const WdrIdentifier *a)
{
	static const char *const names[] = { "disk/by-", "mapper/", "mmcblk", "nvme", "sd", "vd",
		"hd", "xvd", "loop", "md", "dm-", "mtdblock", "nbd" };

	if (a->kind != WDR_BY_PATH)
		return true;
	for (size_t i = 0; i < G_N_ELEMENTS(names); i++) {
		if (g_str_has_prefix(a->value, "/dev/") &&
			g_str_has_prefix(a->value + strlen("/dev/"), names[i]))
			return true;
	}
	return false;
}

char *wdr_identifier_path(const char *disk, unsigned number)
{
	size_t len = strlen(disk);
	bool needs_p = len > 0 && g_ascii_isdigit(disk[len - 1]);

	return number == 0 ? g_strconcat("/dev/", disk, NULL)
			   : g_strdup_printf("/dev/%s%s%u", disk, needs_p ? "p" : "", number);
}

static bool same(const char *a, const char *b)
{
	return b && g_ascii_strcasecmp(a, b) == 0;
}

/* The partition itself, or the one that lies some numbers before it (on an MBR, whose PARTUUIDs
 * have the number in them). */
static bool is_partuuid(const WdrIdentifier *a, const WdrIdentity *id)
{
	const char *dash = strrchr(a->value, '-');

	if (a->partitions_on == 0 || !dash || strlen(a->value) != 11)
		return a->partitions_on == 0 && same(a->value, id->partuuid);
	unsigned number = (unsigned)g_ascii_strtoull(dash + 1, NULL, 16) + a->partitions_on;
	g_autofree char *meant =
		g_strdup_printf("%.*s-%02x", (int)(dash - a->value), a->value, number);
	return same(meant, id->partuuid);
}

/* /dev/disk/by-id/mmc-RB600_0x2f41c7aa-part2: made of the disk's model and serial. */
static bool is_by_id(const char *path, const WdrIdentity *id)
{
	enum { SERIAL_MIN = 4 };
	g_autofree char *suffix = g_strdup_printf("-part%u", id->number);

	if (!g_str_has_prefix(path, "/dev/disk/by-id/") || !g_str_has_suffix(path, suffix) ||
		!id->serial || strlen(id->serial) < SERIAL_MIN)
		return false;
	g_autofree char *serial = g_strdelimit(g_strdup(id->serial), " ", '_');
	return strstr(path, serial) != NULL;
}

static bool is_path(const char *path, const WdrIdentity *id)
{
	g_autofree char *disk = NULL;
	unsigned number = 0;

	if (is_by_id(path, id))
		return true;
	return id->disk_name && wdr_identifier_split_path(path, &disk, &number) &&
	       number == id->number && strcmp(disk, id->disk_name) == 0;
}

bool wdr_identifier_matches(const WdrIdentifier *a, const WdrIdentity *id)
{
	switch (a->kind) {
	case WDR_BY_UUID:
		return same(a->value, id->uuid);
	case WDR_BY_LABEL:
		return g_strcmp0(a->value, id->label) == 0;
	case WDR_BY_PARTUUID:
		return is_partuuid(a, id);
	case WDR_BY_PARTLABEL:
		return g_strcmp0(a->value, id->partlabel) == 0;
	case WDR_BY_PATH:
		return is_path(a->node ? a->node : a->value, id);
	case WDR_BY_NUMBER:
		return g_ascii_strtoull(a->value, NULL, 10) == id->number;
	}
	return false;
}

bool wdr_identifier_is_case_off(const WdrIdentifier *a, const WdrIdentity *id)
{
	const char *real = a->kind == WDR_BY_UUID       ? id->uuid
			   : a->kind == WDR_BY_PARTUUID ? id->partuuid
							: NULL;

	return real && strcmp(a->value, real) != 0 && same(a->value, real);
}
