/* Reads the variables in which UEFI firmware keeps its boot entries. */
#include "boot/board/efi_settings.h"

#include "base/cursor.h"
#include "base/io.h"
#include "base/text.h"

#include <string.h>

/* The vendor of the firmware's own variables. */
#define GLOBAL "-8be4df61-93ca-11d2-aa0d-00e098032b8c"

enum {
	VARIABLE_BYTES_MAX = 64 * 1024,
	ATTRIBUTES_BYTES = 4,
	NODES_MAX = 64,
	NODE_MEDIA = 4,
	NODE_HARD_DRIVE = 1,
	NODE_FILE = 4,
	NODE_END = 0x7f,
	SIGNATURE_MBR = 1,
	SIGNATURE_GUID = 2,
	OPTIONS_MAX = 1024,
};

void wdr_efi_option_free(WdrEfiOption *o)
{
	if (!o)
		return;
	g_free(o->name);
	g_free(o->partuuid);
	g_free(o->file);
	g_free(o);
}

static void free_option(void *data)
{
	wdr_efi_option_free(data);
}

void wdr_efi_settings_free(WdrEfiSettings *e)
{
	if (!e)
		return;
	g_ptr_array_unref(e->options);
	g_array_unref(e->order);
	g_free(e->problem);
	g_free(e);
}

const WdrEfiOption *wdr_efi_option(const WdrEfiSettings *e, unsigned number)
{
	for (guint i = 0; i < e->options->len; i++) {
		const WdrEfiOption *o = e->options->pdata[i];
		if (o->number == number)
			return o;
	}
	return NULL;
}

/* ---- one entry ---- */

/* UTF-16 up to its end, or to a 0; bytes after that stay. Not escaped. The caller's. */
static char *read_text(WdrCursor *c, size_t end)
{
	g_autoptr(GArray) units = g_array_new(FALSE, FALSE, sizeof(gunichar2));

	while (c->pos + 2 <= end) {
		gunichar2 unit = wdr_cursor_le16(c);
		if (unit == 0)
			break;
		g_array_append_val(units, unit);
	}
	if (units->len == 0)
		return g_strdup("");
	g_autofree char *text = g_utf16_to_utf8(
		(const gunichar2 *)(const void *)units->data, (glong)units->len, NULL, NULL, NULL);
	return text ? g_steal_pointer(&text) : g_strdup("?");
}

/* The first three numbers of a GUID are little-endian. */
static char *guid_text(const uint8_t *b)
{
	return g_strdup_printf("%08x-%04x-%04x-%02x%02x-%02x%02x%02x%02x%02x%02x", wdr_get_le32(b),
		wdr_get_le16(b + 4), wdr_get_le16(b + 6), b[8], b[9], b[10], b[11], b[12], b[13],
		b[14], b[15]);
}

static void take_drive(WdrEfiOption *o, WdrCursor *c)
{
	uint32_t number = wdr_cursor_le32(c);

	wdr_cursor_skip(c, 16);
	const uint8_t *signature = wdr_cursor_bytes(c, 16);
	wdr_cursor_skip(c, 1);
	unsigned kind = wdr_cursor_u8(c);
	if (wdr_cursor_overrun(c))
		return;
	g_free(o->partuuid);
	o->partuuid = kind == SIGNATURE_GUID ? guid_text(signature)
		      : kind == SIGNATURE_MBR
			      ? g_strdup_printf("%08x-%02x", wdr_get_le32(signature), number)
			      : NULL;
}

static void take_file(WdrEfiOption *o, WdrCursor *c, size_t end)
{
	g_autofree char *text = read_text(c, end);

	g_strdelimit(text, "\\", '/');
	g_free(o->file);
	o->file = wdr_escape(text + strspn(text, "/"));
}

static void take_path(WdrEfiOption *o, WdrCursor *c, size_t end)
{
	for (unsigned i = 0; i < NODES_MAX && c->pos + 4 <= end; i++) {
		size_t start = c->pos;
		unsigned type = wdr_cursor_u8(c);
		unsigned subtype = wdr_cursor_u8(c);
		size_t len = wdr_cursor_le16(c);
		if (type == NODE_END || len < 4 || len > end - start)
			return;
		if (type == NODE_MEDIA && subtype == NODE_HARD_DRIVE)
			take_drive(o, c);
		else if (type == NODE_MEDIA && subtype == NODE_FILE)
			take_file(o, c, start + len);
		wdr_cursor_seek(c, start + len);
	}
}

WdrEfiOption *wdr_efi_option_parse(unsigned number, const void *bytes, size_t len)
{
	WdrCursor c = wdr_cursor(bytes, len);
	WdrEfiOption *o = g_new0(WdrEfiOption, 1);

	o->number = number;
	wdr_cursor_skip(&c, ATTRIBUTES_BYTES);
	o->is_active = (wdr_cursor_le32(&c) & 1) != 0;
	size_t path_bytes = wdr_cursor_le16(&c);
	g_autofree char *name = read_text(&c, len);
	o->name = wdr_escape(name);
	if (wdr_cursor_overrun(&c) || path_bytes > wdr_cursor_left(&c)) {
		wdr_efi_option_free(o);
		return NULL;
	}
	take_path(o, &c, c.pos + path_bytes);
	return o;
}

/* ---- the variables ---- */

static char *read_variable(const WdrWorld *world, const char *name, size_t *ret_len, GError **error)
{
	g_autofree char *path = g_strdup_printf("/sys/firmware/efi/efivars/%s" GLOBAL, name);
	g_autofree char *real = wdr_world_path(world, path);
	char *bytes = NULL;

	*ret_len = 0;
	return wdr_read_file(real, VARIABLE_BYTES_MAX, &bytes, ret_len, error) ? bytes : NULL;
}

static int read_number(const WdrWorld *world, const char *name)
{
	size_t len = 0;
	g_autofree char *bytes = read_variable(world, name, &len, NULL);

	return bytes && len >= ATTRIBUTES_BYTES + 2
		       ? wdr_get_le16((const uint8_t *)bytes + ATTRIBUTES_BYTES)
		       : -1;
}

static void read_order(const WdrWorld *world, WdrEfiSettings *e)
{
	size_t len = 0;
	g_autofree char *bytes = read_variable(world, "BootOrder", &len, NULL);

	for (size_t at = ATTRIBUTES_BYTES; bytes && at + 2 <= len; at += 2) {
		unsigned number = wdr_get_le16((const uint8_t *)bytes + at);
		g_array_append_val(e->order, number);
	}
}

/* "Boot0001-8be4…" */
static bool is_option(const char *name, unsigned *ret)
{
	char *end = NULL;

	if (strlen(name) != 8 + strlen(GLOBAL) || !g_str_has_prefix(name, "Boot") ||
		g_ascii_strcasecmp(name + 8, GLOBAL) != 0)
		return false;
	*ret = (unsigned)g_ascii_strtoull(name + 4, &end, 16);
	return end == name + 8;
}

static int by_number(const void *a, const void *b)
{
	unsigned x = (*(WdrEfiOption *const *)a)->number;
	unsigned y = (*(WdrEfiOption *const *)b)->number;

	return x < y ? -1 : x > y;
}

static void read_options(const WdrWorld *world, WdrEfiSettings *e)
{
	g_autofree char *folder = wdr_world_path(world, "/sys/firmware/efi/efivars");
	g_autoptr(GError) error = NULL;
	g_autoptr(GDir) dir = g_dir_open(folder, 0, &error);

	if (!dir)
		e->problem = g_strdup("the firmware's variables cannot be read: nothing is mounted "
				      "at /sys/firmware/efi/efivars");
	for (const char *name; dir && (name = g_dir_read_name(dir));) {
		unsigned number = 0;
		size_t len = 0;
		if (!is_option(name, &number) || e->options->len == OPTIONS_MAX)
			continue;
		g_autofree char *variable = g_strndup(name, 8);
		g_autoptr(GError) unread = NULL;
		g_autofree char *bytes = read_variable(world, variable, &len, &unread);
		WdrEfiOption *o = bytes ? wdr_efi_option_parse(number, bytes, len) : NULL;
		if (o)
			g_ptr_array_add(e->options, o);
		else if (!e->problem)
			e->problem = g_strdup_printf("%s: %s", variable,
				unread ? unread->message : "the variable is damaged");
	}
	g_ptr_array_sort(e->options, by_number);
}

WdrEfiSettings *wdr_efi_settings_read(const WdrWorld *world)
{
	g_autofree char *folder = wdr_world_path(world, "/sys/firmware/efi");
	size_t len = 0;

	if (!g_file_test(folder, G_FILE_TEST_IS_DIR))
		return NULL;
	WdrEfiSettings *e = g_new0(WdrEfiSettings, 1);
	e->options = g_ptr_array_new_with_free_func(free_option);
	e->order = g_array_new(FALSE, FALSE, sizeof(unsigned));
	read_options(world, e);
	read_order(world, e);
	e->current = read_number(world, "BootCurrent");
	e->next = read_number(world, "BootNext");
	g_autofree char *secure = read_variable(world, "SecureBoot", &len, NULL);
	e->checks_signatures = secure && len > ATTRIBUTES_BYTES && secure[ATTRIBUTES_BYTES] == 1;
	return e;
}
