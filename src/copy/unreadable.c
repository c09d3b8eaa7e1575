/* The list of what the medium failed to give. */
#include "copy/unreadable.h"

#include "base/text.h"

#include <string.h>

enum { RANGES_MAX = 1024 * 1024 };

static void missing_free(void *data)
{
	WdrUnreadable *m = data;

	g_free(m->path);
	g_clear_pointer(&m->ranges, g_array_unref);
	g_free(m);
}

GPtrArray *wdr_unreadable_list_new(void)
{
	return g_ptr_array_new_with_free_func(missing_free);
}

static void set_escaped(GPtrArray *list, unsigned partition, char *escaped, const GArray *ranges)
{
	for (guint i = 0; i < list->len; i++) {
		const WdrUnreadable *m = list->pdata[i];
		if (m->partition == partition && g_strcmp0(m->path, escaped) == 0) {
			g_ptr_array_remove_index(list, i);
			break;
		}
	}
	if (ranges && ranges->len == 0) {
		g_free(escaped);
		return;
	}
	WdrUnreadable *m = g_new0(WdrUnreadable, 1);
	m->partition = partition;
	m->path = escaped;
	if (ranges) {
		m->ranges = g_array_new(FALSE, FALSE, sizeof(WdrRange));
		g_array_append_vals(m->ranges, ranges->data, ranges->len);
	}
	g_ptr_array_add(list, m);
}

void wdr_unreadable_set(GPtrArray *list, unsigned partition, const char *path, const GArray *ranges)
{
	set_escaped(list, partition, path ? wdr_escape(path) : NULL, ranges);
}

void wdr_unreadable_forget_partition(GPtrArray *list, unsigned partition)
{
	for (guint i = list->len; i > 0; i--) {
		if (((const WdrUnreadable *)list->pdata[i - 1])->partition == partition)
			g_ptr_array_remove_index(list, i - 1);
	}
}

WdrUnreadable *wdr_unreadable_find(const GPtrArray *list, unsigned partition, const char *path)
{
	g_autofree char *escaped = path && list->len ? wdr_escape(path) : NULL;

	for (guint i = 0; i < list->len; i++) {
		WdrUnreadable *m = list->pdata[i];
		if (m->partition == partition && g_strcmp0(m->path, escaped) == 0)
			return m;
	}
	return NULL;
}

uint64_t wdr_unreadable_bytes(const WdrUnreadable *m)
{
	uint64_t bytes = 0;

	for (guint i = 0; m->ranges && i < m->ranges->len; i++)
		bytes += g_array_index(m->ranges, WdrRange, i).len;
	return bytes;
}

void wdr_unreadable_accept_all(GPtrArray *list)
{
	for (guint i = 0; i < list->len; i++)
		((WdrUnreadable *)list->pdata[i])->is_accepted = true;
}

unsigned wdr_unreadable_count_open(const GPtrArray *list)
{
	unsigned count = 0;

	for (guint i = 0; i < list->len; i++)
		count += ((const WdrUnreadable *)list->pdata[i])->is_accepted ? 0 : 1;
	return count;
}

/* ---- in the logbook ---- */

static json_t *ranges_to_json(const GArray *ranges)
{
	json_t *all = ranges ? json_array() : json_null();

	for (guint i = 0; ranges && i < ranges->len; i++) {
		const WdrRange *r = &g_array_index(ranges, WdrRange, i);
		json_array_append_new(
			all, json_pack("[I, I]", (json_int_t)r->offset, (json_int_t)r->len));
	}
	return all;
}

json_t *wdr_unreadable_to_json(unsigned partition, const char *path, const GArray *ranges)
{
	g_autofree char *escaped = path ? wdr_escape(path) : NULL;

	return json_pack("{s:i, s:s?, s:o}", "number", (int)partition, "path", escaped, "ranges",
		ranges_to_json(ranges));
}

static bool ranges_from_json(json_t *json, GArray **ret)
{
	g_autoptr(GArray) ranges = g_array_new(FALSE, FALSE, sizeof(WdrRange));

	*ret = NULL;
	if (json_is_null(json))
		return true;
	if (!json_is_array(json) || json_array_size(json) > RANGES_MAX)
		return false;
	for (size_t i = 0; i < json_array_size(json); i++) {
		json_int_t offset = 0;
		json_int_t len = 0;
		if (json_unpack(json_array_get(json, i), "[I, I]", &offset, &len) != 0 ||
			offset < 0 || len <= 0)
			return false;
		WdrRange r = { (uint64_t)offset, (uint64_t)len };
		g_array_append_val(ranges, r);
	}
	*ret = g_steal_pointer(&ranges);
	return true;
}

bool wdr_unreadable_take_json(GPtrArray *list, json_t *line)
{
	json_int_t number = json_integer_value(json_object_get(line, "number"));
	json_t *path = json_object_get(line, "path");
	g_autoptr(GArray) ranges = NULL;

	if (number < 1 || number > G_MAXUINT16 || !(json_is_string(path) || json_is_null(path)) ||
		!ranges_from_json(json_object_get(line, "ranges"), &ranges))
		return false;
	set_escaped(list, (unsigned)number, g_strdup(json_string_value(path)), ranges);
	return true;
}
