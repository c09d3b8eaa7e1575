/* Lists what is on a target, and compares it with what the itinerary shows.
 *
 * The user agrees to erase what was shown. Table, identifiers, space in use and a hash of each
 * partition's first MiB are kept in the itinerary, and the move asks again when one of them is
 * different. */
#include "plan/target_contents.h"

#include "base/json.h"
#include "base/text.h"
#include "disk/parttable.h"
#include "disk/probe.h"
#include "volume/ext/ext.h"
#include "volume/fat/fat.h"

#include <string.h>

enum { HEAD_BYTES = 1024 * 1024 };

static void occupant_free(void *data)
{
	WdrTargetContent *o = data;

	g_free(o->fs);
	g_free(o->uuid);
	g_free(o->label);
	g_free(o);
}

GPtrArray *wdr_target_contents_new(void)
{
	return g_ptr_array_new_with_free_func(occupant_free);
}

/* ---- finding them ---- */

static bool read_head(WdrBlockDev *dev, WdrTargetContent *o, GError **error)
{
	g_autofree uint8_t *head = g_malloc(HEAD_BYTES);
	size_t len = (size_t)MIN(o->size, HEAD_BYTES);
	size_t zeros = 0;

	if (!wdr_blockdev_read(dev, head, len, o->start, error))
		return false;
	while (zeros < len && head[zeros] == 0)
		zeros++;
	o->is_blank = zeros == len;
	o->head = wdr_hash(head, len);
	return true;
}

/* Where it can be told; a damaged volume may be erased like any other. */
static void count_used(WdrBlockDev *dev, WdrTargetContent *o)
{
	g_autoptr(WdrVolume) volume = NULL;
	g_auto(WdrExtInfo) ext = { 0 };
	WdrFatInfo fat;

	if (g_str_has_prefix(o->fs, "ext") &&
		wdr_ext_volume_open(dev, o->start, o->size, &volume, NULL)) {
		wdr_ext_volume_info(volume, &ext);
		o->used = ext.size_bytes - ext.free_bytes;
		o->has_used = true;
	} else if (strcmp(o->fs, "vfat") == 0 &&
		   wdr_fat_volume_open(dev, o->start, o->size, &volume, NULL) &&
		   wdr_fat_volume_info(volume, &fat, NULL)) {
		o->used = (fat.clusters - fat.free_clusters) * fat.cluster_bytes;
		o->has_used = true;
	}
}

static bool add(WdrBlockDev *dev, unsigned number, uint64_t start, uint64_t size, GPtrArray *to,
	GError **error)
{
	WdrTargetContent *o = g_new0(WdrTargetContent, 1);
	g_auto(WdrProbe) probe = { 0 };

	g_ptr_array_add(to, o);
	o->number = number;
	o->start = start;
	o->size = size;
	/* A table that reaches past the disk's end has nothing there. */
	if (start > wdr_blockdev_size(dev) || size > wdr_blockdev_size(dev) - start)
		return true;
	if (!wdr_probe_read(dev, start, size, &probe, error) || !read_head(dev, o, error))
		return false;
	o->fs = g_steal_pointer(&probe.type);
	o->uuid = g_steal_pointer(&probe.uuid);
	/* Text from disks is not always UTF-8; an itinerary is. */
	o->label = probe.label && !g_utf8_validate(probe.label, -1, NULL)
			   ? wdr_escape(probe.label)
			   : g_steal_pointer(&probe.label);
	if (o->fs)
		count_used(dev, o);
	return true;
}

bool wdr_target_contents_find(WdrBlockDev *dev, unsigned of, GPtrArray **ret, GError **error)
{
	g_autoptr(GPtrArray) list = wdr_target_contents_new();
	g_autoptr(WdrPartTable) table = NULL;

	if (!wdr_parttable_read(dev, &table, error) ||
		(table->kind == WDR_TABLE_NONE &&
			!add(dev, 0, 0, wdr_blockdev_size(dev), list, error)))
		return false;
	for (guint i = 0; i < table->partitions->len; i++) {
		const WdrPartition *p = table->partitions->pdata[i];
		bool is_wanted = of == 0 || p->number == of;
		if (is_wanted && !p->is_extended &&
			!add(dev, p->number, p->start, p->size, list, error))
			return false;
	}
	*ret = g_steal_pointer(&list);
	return true;
}

/* ---- comparing ---- */

const char *wdr_target_content_kind(const WdrTargetContent *o)
{
	return o->fs ? o->fs : o->is_blank ? "nothing" : "nothing that is known";
}

static char *holds(const WdrTargetContent *o)
{
	g_autofree char *label = o->label ? wdr_escape(o->label) : NULL;

	return g_strdup_printf(
		"%s%s%s", wdr_target_content_kind(o), label ? ", label " : "", label ? label : "");
}

static char *name_of(const WdrTargetContent *o)
{
	return o->number ? g_strdup_printf("partition %u", o->number) : g_strdup("the disk");
}

char *wdr_target_content_text(const WdrTargetContent *o)
{
	g_autofree char *name = name_of(o);
	g_autofree char *what = holds(o);
	g_autofree char *size = wdr_format_size(o->size);

	return g_strdup_printf("%s (%s, %s)", name, what, size);
}

static const WdrTargetContent *find(const GPtrArray *list, unsigned number)
{
	for (guint i = 0; i < list->len; i++) {
		const WdrTargetContent *o = list->pdata[i];
		if (o->number == number)
			return o;
	}
	return NULL;
}

/* NULL: nothing. */
static char *what_changed(const WdrTargetContent *then, const WdrTargetContent *now)
{
	g_autofree char *was = wdr_target_content_text(then);

	if (then->start != now->start || then->size != now->size)
		return g_strdup_printf("%s lies elsewhere, or has another size", was);
	if (g_strcmp0(then->fs, now->fs) != 0 || g_strcmp0(then->uuid, now->uuid) != 0 ||
		g_strcmp0(then->label, now->label) != 0) {
		g_autofree char *is = holds(now);
		return g_strdup_printf("%s was created again: %s", was, is);
	}
	if (then->has_used && now->has_used && then->used != now->used) {
		g_autofree char *before = wdr_format_size(then->used);
		g_autofree char *after = wdr_format_size(now->used);
		return strcmp(before, after) == 0 ? g_strdup_printf("%s was written to", was)
						  : g_strdup_printf("%s had %s in use, and has %s",
							    was, before, after);
	}
	return wdr_hash_equal(then->head, now->head) ? NULL
						     : g_strdup_printf("%s was written to", was);
}

GPtrArray *wdr_target_contents_compare(const GPtrArray *then, const GPtrArray *now)
{
	GPtrArray *lines = g_ptr_array_new_with_free_func(g_free);

	for (guint i = 0; i < then->len; i++) {
		const WdrTargetContent *was = then->pdata[i];
		const WdrTargetContent *is = find(now, was->number);
		g_autofree char *text = wdr_target_content_text(was);
		char *line = is ? what_changed(was, is) : g_strdup_printf("%s is gone", text);
		if (line)
			g_ptr_array_add(lines, line);
	}
	for (guint i = 0; i < now->len; i++) {
		const WdrTargetContent *is = now->pdata[i];
		g_autofree char *text = wdr_target_content_text(is);
		if (!find(then, is->number))
			g_ptr_array_add(lines, g_strdup_printf("%s was not there", text));
	}
	return lines;
}

/* ---- as JSON ---- */

json_t *wdr_target_contents_to_json(const GPtrArray *list)
{
	json_t *json = json_array();

	for (guint i = 0; i < list->len; i++) {
		const WdrTargetContent *o = list->pdata[i];
		char head[WDR_HASH_TEXT_LEN + 1];
		wdr_hash_to_text(o->head, head);
		json_array_append_new(json,
			json_pack("{s:i, s:I, s:I, s:o, s:o, s:o, s:o*, s:b, s:s}", "number",
				(int)o->number, "start", (json_int_t)o->start, "size",
				(json_int_t)o->size, "fs", wdr_json_bytes(o->fs), "uuid",
				wdr_json_bytes(o->uuid), "label", wdr_json_bytes(o->label), "used",
				o->has_used ? json_integer((json_int_t)o->used) : NULL, "blank",
				o->is_blank, "first_mib_xxh128", head));
	}
	return json;
}

bool wdr_target_contents_from_json(json_t *json, GPtrArray *ret)
{
	json_t *item = NULL;
	size_t i = 0;

	if (!json_is_array(json))
		return false;
	json_array_foreach(json, i, item)
	{
		json_int_t start = 0, size = 0, used = 0;
		const char *head = NULL;
		int number = 0, is_blank = 0;
		WdrTargetContent *o = g_new0(WdrTargetContent, 1);
		g_ptr_array_add(ret, o);
		if (json_unpack(item, "{s:i, s:I, s:I, s:b, s:s}", "number", &number, "start",
			    &start, "size", &size, "blank", &is_blank, "first_mib_xxh128",
			    &head) != 0 ||
			number < 0 || start < 0 || size < 0 || !wdr_hash_from_text(head, &o->head))
			return false;
		o->has_used = json_unpack(item, "{s:I}", "used", &used) == 0 && used >= 0;
		o->used = o->has_used ? (uint64_t)used : 0;
		o->number = (unsigned)number;
		o->start = (uint64_t)start;
		o->size = (uint64_t)size;
		o->is_blank = is_blank != 0;
		o->fs = wdr_json_optional(item, "fs");
		o->uuid = wdr_json_optional(item, "uuid");
		o->label = wdr_json_optional(item, "label");
	}
	return true;
}
