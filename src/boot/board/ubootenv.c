/* Reads and makes U-Boot environments.
 *
 * CRC32, on redundant copies a byte that says which one counts, then NAME=VALUE strings, each ended
 * by a 0. With two copies the other one is written, and becomes the active one in its last step: a
 * power cut leaves the old environment. */
#include "boot/board/ubootenv.h"

#include "base/cursor.h"
#include "base/io.h"
#include "base/text.h"
#include "disk/flash.h"

#include <stdlib.h>
#include <string.h>
#include <zlib.h>

enum {
	CONFIG_BYTES_MAX = 65536,
	CRC_BYTES = 4,
	FLAG_BYTES = 1,
	ENV_BYTES_MIN = 64,
	ENV_BYTES_MAX = 1024 * 1024,
	FIELDS_NEEDED = 3,
};

bool wdr_uboot_env_parse(
	const uint8_t *bytes, size_t len, GHashTable **ret, uint8_t *ret_flag, GError **error)
{
	size_t head = CRC_BYTES + (ret_flag ? FLAG_BYTES : 0);

	if (len < ENV_BYTES_MIN || len > ENV_BYTES_MAX)
		return wdr_error_set(
			error, WDR_ERROR_FORMAT, "an environment of %zu bytes makes no sense", len);
	WdrCursor c = wdr_cursor(bytes, len);
	uint32_t want = wdr_cursor_le32(&c);
	if (crc32(0, bytes + head, (uInt)(len - head)) != want)
		return wdr_error_set(error, WDR_ERROR_FORMAT, "its checksum is wrong");
	if (ret_flag)
		*ret_flag = bytes[CRC_BYTES];
	*ret = g_hash_table_new_full(g_str_hash, g_str_equal, g_free, g_free);
	for (size_t at = head; at < len && bytes[at];) {
		size_t room = strnlen((const char *)bytes + at, len - at);
		const uint8_t *equals = memchr(bytes + at, '=', room);
		size_t name = equals ? (size_t)(equals - bytes) - at : room;
		if (equals)
			g_hash_table_replace(*ret, g_strndup((const char *)bytes + at, name),
				g_strndup((const char *)equals + 1, room - name - 1));
		at += room + 1;
	}
	return true;
}

bool wdr_uboot_env_build(GHashTable *values, size_t size, int flag, GBytes **ret, GError **error)
{
	size_t head = CRC_BYTES + (flag >= 0 ? FLAG_BYTES : 0);
	guint n = 0;
	g_autofree void **names = g_hash_table_get_keys_as_array(values, &n);
	g_autoptr(GByteArray) text = g_byte_array_new();
	static const uint8_t end = 0;

	qsort(names, n, sizeof(*names), wdr_by_text);
	for (guint i = 0; i < n; i++) {
		g_autofree char *line = g_strdup_printf(
			"%s=%s", (char *)names[i], (char *)g_hash_table_lookup(values, names[i]));
		g_byte_array_append(text, (const uint8_t *)line, (guint)strlen(line) + 1);
	}
	g_byte_array_append(text, &end, 1);
	if (size < head || text->len > size - head)
		return wdr_error_set(error, WDR_ERROR_NO_SPACE,
			"the environment's %u bytes do not fit into %zu", text->len, size);
	uint8_t *bytes = g_malloc0(size);
	memcpy(bytes + head, text->data, text->len);
	wdr_put_le32(bytes, (uint32_t)crc32(0, bytes + head, (uInt)(size - head)));
	if (flag >= 0)
		bytes[CRC_BYTES] = (uint8_t)flag;
	*ret = g_bytes_new_take(bytes, size);
	return true;
}

GHashTable *wdr_uboot_env_from_text(const char *text)
{
	GHashTable *values = g_hash_table_new_full(g_str_hash, g_str_equal, g_free, g_free);
	g_auto(GStrv) lines = g_strsplit(text, "\n", -1);

	for (size_t i = 0; lines[i]; i++) {
		char *line = g_strchomp(lines[i]);
		const char *equals = strchr(line, '=');
		if (equals && equals > line && *line != '#')
			g_hash_table_replace(values, g_strndup(line, (size_t)(equals - line)),
				g_strdup(equals + 1));
	}
	return values;
}

/* ---- where it is ---- */

/* DEVICE OFFSET SIZE …: numbers as in C. */
static void take_line(WdrUbootEnv *p, const char *line)
{
	g_auto(GStrv) words = g_strsplit_set(line, " \t", -1);
	const char *fields[FIELDS_NEEDED] = { NULL };
	size_t n = 0;

	for (size_t i = 0; words[i] && n < FIELDS_NEEDED; i++) {
		if (*words[i])
			fields[n++] = words[i];
	}
	if (n < FIELDS_NEEDED || *fields[0] == '#' || p->n == WDR_ENV_COPIES_MAX)
		return;
	p->copies[p->n++] = (WdrEnvCopy){ .device = g_strdup(fields[0]),
		.offset = g_ascii_strtoll(fields[1], NULL, 0),
		.size = g_ascii_strtoull(fields[2], NULL, 0) };
}

static bool read_places(const WdrWorld *world, WdrUbootEnv *ret)
{
	g_autofree char *path = wdr_world_path(world, "/etc/fw_env.config");
	g_autofree char *text = NULL;
	size_t len = 0;

	if (!wdr_read_file(path, CONFIG_BYTES_MAX, &text, &len, NULL))
		return false;
	g_auto(GStrv) lines = g_strsplit(text, "\n", -1);
	for (size_t i = 0; lines[i]; i++)
		take_line(ret, lines[i]);
	return ret->n > 0;
}

static bool read_copy(
	const WdrWorld *world, WdrEnvCopy *c, bool is_double, GHashTable **ret, GError **error)
{
	g_autofree uint8_t *bytes = NULL;

	if (c->size < ENV_BYTES_MIN || c->size > ENV_BYTES_MAX)
		return wdr_error_set(error, WDR_ERROR_FORMAT,
			"/etc/fw_env.config tells of %" G_GUINT64_FORMAT " bytes", c->size);
	return wdr_flash_read_at(world, c->device, c->offset, (size_t)c->size, &bytes, error) &&
	       wdr_uboot_env_parse(bytes, (size_t)c->size, ret, is_double ? &c->flag : NULL, error);
}

/* Of two sound copies the one that was written last: the flag counts up, and 0 comes after 255. */
static bool is_newer(uint8_t a, uint8_t b)
{
	return (a == 0 && b == G_MAXUINT8) || (a > b && !(a == G_MAXUINT8 && b == 0));
}

static void look_at_copy(const WdrWorld *world, WdrUbootEnv *e, WdrEnvCopy *c)
{
	g_autoptr(GHashTable) found = NULL;
	g_autoptr(GError) error = NULL;

	c->is_sound = read_copy(world, c, e->n > 1, &found, &error);
	if (!c->is_sound) {
		c->problem = g_strdup(error->message);
		return;
	}
	if (e->current && !is_newer(c->flag, e->current->flag))
		return;
	g_clear_pointer(&e->values, g_hash_table_unref);
	e->values = g_steal_pointer(&found);
	e->current = c;
}

WdrUbootEnv *wdr_uboot_env_find(const WdrWorld *world)
{
	g_autoptr(WdrUbootEnv) e = g_new0(WdrUbootEnv, 1);

	if (!read_places(world, e))
		return NULL;
	for (size_t i = 0; i < e->n; i++)
		look_at_copy(world, e, &e->copies[i]);
	return g_steal_pointer(&e);
}

void wdr_uboot_env_free(WdrUbootEnv *e)
{
	if (!e)
		return;
	for (size_t i = 0; i < e->n; i++) {
		g_free(e->copies[i].device);
		g_free(e->copies[i].problem);
	}
	if (e->values)
		g_hash_table_unref(e->values);
	g_free(e);
}

char *wdr_uboot_env_location(const WdrEnvCopy *copy)
{
	return g_strdup_printf("%s at %" G_GINT64_FORMAT, copy->device, copy->offset);
}

bool wdr_uboot_env_is_usual(const WdrUbootEnv *e)
{
	const char *bootcmd = e->values ? g_hash_table_lookup(e->values, "bootcmd") : NULL;

	return !bootcmd || strstr(bootcmd, "distro_bootcmd") || strstr(bootcmd, "bootflow scan");
}
