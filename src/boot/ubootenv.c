#include "boot/ubootenv.h"

#include "base/cursor.h"
#include "base/io.h"
#include "disk/flash.h"

#include <string.h>
#include <zlib.h>

enum {
	CONFIG_BYTES_MAX = 65536,
	CRC_BYTES = 4,
	FLAG_BYTES = 1,
	ENV_BYTES_MIN = 64,
	ENV_BYTES_MAX = 1024 * 1024,
	COPIES_MAX = 2,
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

/* ---- where it is ---- */

typedef struct {
	char *device;
	int64_t offset; /* negative: from the end */
	uint64_t size;
} Copy;

typedef struct {
	Copy copies[COPIES_MAX];
	size_t n;
} Places;

static void places_clear(Places *p)
{
	for (size_t i = 0; i < p->n; i++)
		g_free(p->copies[i].device);
}
G_DEFINE_AUTO_CLEANUP_CLEAR_FUNC(Places, places_clear)

/* DEVICE OFFSET SIZE …: numbers as in C. */
static void take_line(Places *p, const char *line)
{
	g_auto(GStrv) words = g_strsplit_set(line, " \t", -1);
	const char *fields[FIELDS_NEEDED] = { NULL };
	size_t n = 0;

	for (size_t i = 0; words[i] && n < FIELDS_NEEDED; i++) {
		if (*words[i])
			fields[n++] = words[i];
	}
	if (n < FIELDS_NEEDED || *fields[0] == '#' || p->n == COPIES_MAX)
		return;
	p->copies[p->n++] = (Copy){ g_strdup(fields[0]), g_ascii_strtoll(fields[1], NULL, 0),
		g_ascii_strtoull(fields[2], NULL, 0) };
}

static bool read_places(const WdrWorld *world, Places *ret)
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

static bool read_copy(const WdrWorld *world, const Copy *c, bool is_double, GHashTable **ret,
	uint8_t *ret_flag, GError **error)
{
	g_autofree uint8_t *bytes = NULL;

	if (c->size < ENV_BYTES_MIN || c->size > ENV_BYTES_MAX)
		return wdr_error_set(error, WDR_ERROR_FORMAT,
			"/etc/fw_env.config tells of %" G_GUINT64_FORMAT " bytes", c->size);
	return wdr_flash_read_at(world, c->device, c->offset, (size_t)c->size, &bytes, error) &&
	       wdr_uboot_env_parse(bytes, (size_t)c->size, ret, is_double ? ret_flag : NULL, error);
}

/* Of two sound copies the one that was written last: the flag counts up, and 0 comes after 255. */
static bool is_newer(uint8_t a, uint8_t b)
{
	return (a == 0 && b == G_MAXUINT8) || (a > b && !(a == G_MAXUINT8 && b == 0));
}

bool wdr_uboot_env_read(const WdrWorld *world, GHashTable **ret, char **ret_place, GError **error)
{
	g_auto(Places) places = { 0 };
	g_autoptr(GError) failure = NULL;
	uint8_t best = 0;

	*ret = NULL;
	if (!read_places(world, &places))
		return true;
	for (size_t i = 0; i < places.n; i++) {
		const Copy *c = &places.copies[i];
		g_autoptr(GHashTable) found = NULL;
		uint8_t flag = 0;
		g_clear_error(&failure);
		if (!read_copy(world, c, places.n > 1, &found, &flag, &failure) ||
			(*ret && !is_newer(flag, best)))
			continue;
		g_clear_pointer(ret, g_hash_table_unref);
		g_free(*ret_place);
		*ret = g_steal_pointer(&found);
		*ret_place = g_strdup_printf("%s at %" G_GINT64_FORMAT, c->device, c->offset);
		best = flag;
	}
	if (*ret)
		return true;
	g_propagate_prefixed_error(
		error, g_steal_pointer(&failure), "%s: ", places.copies[0].device);
	return false;
}
