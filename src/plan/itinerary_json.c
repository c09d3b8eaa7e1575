/* The itinerary as JSON, and back. What comes back may have been changed by hand: it is checked
 * field by field before anything believes it. */
#include "plan/itinerary.h"

#include "base/command.h"
#include "base/io.h"
#include "base/json.h"
#include "base/text.h"
#include "plan/logical_partitions.h"

#include <string.h>

#define FORMAT_NAME "wanderitas-itinerary/1"
enum { PARTS_MAX = 128 };

/* ---- writing ---- */

static json_t *disk_to_json(const WdrItineraryDisk *d)
{
	return json_pack("{s:o, s:o, s:o, s:o, s:o, s:o, s:b, s:I, s:I, s:s, s:o}", "name",
		wdr_json_bytes(d->name), "path", wdr_json_bytes(d->path), "medium",
		wdr_json_bytes(d->medium), "link", wdr_json_bytes(d->link), "model",
		wdr_json_bytes(d->model), "serial", wdr_json_bytes(d->serial), "image", d->is_image,
		"size", (json_int_t)d->size, "sector_size", (json_int_t)d->sector_size, "table",
		wdr_table_kind_name(d->table), "table_id", wdr_json_bytes(d->table_id));
}

static json_t *volume_to_json(const WdrItineraryVolume *p)
{
	return json_pack("{s:I, s:I, s:o, s:o, s:o, s:o}", "start", (json_int_t)p->start, "size",
		(json_int_t)p->size, "uuid", wdr_json_bytes(p->uuid), "label",
		wdr_json_bytes(p->label), "partuuid", wdr_json_bytes(p->partuuid), "partlabel",
		wdr_json_bytes(p->partlabel));
}

static json_t *part_to_json(const WdrItineraryPart *p)
{
	json_t *json =
		json_pack("{s:i, s:s, s:s, s:o, s:o, s:o, s:o, s:b, s:I, s:I, s:I, s:I, s:I}",
			"number", (int)p->number, "role", wdr_role_name(p->role), "fs", p->fs,
			"from", volume_to_json(&p->from), "to", volume_to_json(&p->to), "type",
			wdr_json_text(p->type), "attributes", wdr_json_text(p->attributes),
			"active", p->is_active, "entries", (json_int_t)p->entries, "bytes",
			(json_int_t)p->bytes, "spare", (json_int_t)p->spare, "inodes",
			(json_int_t)p->inodes, "cluster_bytes", (json_int_t)p->cluster_bytes);

	if (p->unread)
		json_object_set_new(json, "unread", json_integer((json_int_t)p->unread));
	return json;
}

static json_t *edit_to_json(const WdrEdit *e, const char *diff)
{
	char hash[WDR_HASH_TEXT_LEN + 1];
	json_t *splices = json_array();

	for (guint i = 0; i < e->splices->len; i++) {
		const WdrSplice *s = e->splices->pdata[i];
		json_array_append_new(splices,
			json_pack("{s:I, s:i, s:i, s:o, s:o}", "offset", (json_int_t)s->offset,
				"line", (int)s->line, "column", (int)s->column, "old",
				wdr_json_bytes(s->old_text), "new", wdr_json_bytes(s->new_text)));
	}
	wdr_hash_to_text(e->before, hash);
	return json_pack("{s:s, s:i, s:o, s:b, s:s, s:o, s:o}", "on",
		e->is_on_source ? "source" : "target", "partition", (int)e->number, "file",
		wdr_json_bytes(e->file), "loader_image", e->is_image, "xxh128", hash, "changes",
		splices, "diff", wdr_json_text(diff));
}

static json_t *loader_to_json(const WdrLoaderArea *a)
{
	if (a->size == 0)
		return json_null();
	return json_pack("{s:I, s:I, s:b, s:o}", "start", (json_int_t)a->start, "size",
		(json_int_t)a->size, "boot_code", a->has_boot_code, "what", wdr_json_text(a->what));
}

/* NULL, which leaves the key out, where there are no logical partitions. */
static json_t *extended_to_json(const WdrExtended *e)
{
	if (e->number == 0)
		return NULL;
	return json_pack("{s:i, s:s, s:I, s:I}", "number", (int)e->number, "type", e->type, "start",
		(json_int_t)e->start, "size", (json_int_t)e->size);
}

static json_t *left_to_json(const GPtrArray *left)
{
	json_t *list = json_array();

	for (guint i = 0; i < left->len; i++) {
		const WdrLeft *l = left->pdata[i];
		json_array_append_new(list,
			json_pack("{s:o, s:I, s:I}", "pattern", wdr_json_bytes(l->pattern),
				"entries", (json_int_t)l->entries, "bytes", (json_int_t)l->bytes));
	}
	return list;
}

static json_t *pause_to_json(char *const *units)
{
	json_t *list = units ? json_array() : NULL;

	for (size_t i = 0; units && units[i]; i++)
		json_array_append_new(list, json_string(units[i]));
	return list;
}

char *wdr_itinerary_to_json(const WdrItinerary *it)
{
	json_t *parts = json_array();
	json_t *edits = json_array();

	for (guint i = 0; i < it->parts->len; i++)
		json_array_append_new(parts, part_to_json(it->parts->pdata[i]));
	for (guint i = 0; i < it->edits->len; i++)
		json_array_append_new(
			edits, edit_to_json(it->edits->pdata[i],
				       i < it->diffs->len ? it->diffs->pdata[i] : ""));
	g_autoptr(json_t) root = json_pack(
		"{s:s, s:s, s:s, s:I, s:o, s:o, s:s, s:s, s:o, s:o*, s:o*, s:o, s:o, s:o, s:o, s:o*, s:o}",
		"format", FORMAT_NAME, "what", wdr_what_name(it->what), "made_by", it->made_by,
		"made_at", (json_int_t)it->made_at, "source", disk_to_json(&it->source), "target",
		disk_to_json(&it->target), "table", wdr_table_kind_name(it->table), "table_id",
		it->table_id, "on_target_now", wdr_target_contents_to_json(it->target_contents),
		"into", it->into ? json_integer(it->into) : NULL, "extended",
		extended_to_json(&it->extended), "partitions", parts, "edits", edits, "loader_area",
		loader_to_json(&it->loader), "left_behind", left_to_json(it->left), "pause",
		pause_to_json(it->pause), "notes", wdr_json_texts(it->notes));
	char *dumped = json_dumps(root, JSON_INDENT(2) | JSON_REAL_PRECISION(17));
	g_autofree char *owned = dumped;
	return g_strconcat(owned, "\n", NULL);
}

/* ---- reading ---- */

static void hint_at_draft(GError **error)
{
	g_autofree char *draw = wdr_command("draft", "--to", "DISK", "-o", "FILE");

	wdr_error_hint(error, "to draw a new one: %s", draw);
}

static bool bad(GError **error, const char *what)
{
	wdr_error_set(error, WDR_ERROR_FORMAT, "the itinerary is damaged: %s", what);
	hint_at_draft(error);
	return false;
}

static bool unpack_failed(GError **error, const char *where, const json_error_t *e)
{
	g_autofree char *problem = wdr_json_unpack_problem(e);
	g_autofree char *what = g_strdup_printf("%s: %s", where, problem);

	return bad(error, what);
}

static bool parse_table(const char *name, WdrTableKind *ret)
{
	for (WdrTableKind k = WDR_TABLE_NONE; k <= WDR_TABLE_GPT; k++) {
		if (strcmp(name, wdr_table_kind_name(k)) == 0) {
			*ret = k;
			return true;
		}
	}
	return false;
}

static bool parse_role(const char *name, WdrRole *ret)
{
	for (WdrRole r = WDR_ROLE_NONE; r <= WDR_ROLE_DATA; r++) {
		if (strcmp(name, wdr_role_name(r)) == 0) {
			*ret = r;
			return true;
		}
	}
	return false;
}

static bool disk_from_json(json_t *json, const char *which, WdrItineraryDisk *ret, GError **error)
{
	const char *table = NULL;
	json_int_t size = 0, sector = 0;
	int is_image = 0;
	json_error_t e;

	if (json_unpack_ex(json, &e, 0, "{s:b, s:I, s:I, s:s}", "image", &is_image, "size", &size,
		    "sector_size", &sector, "table", &table) != 0)
		return unpack_failed(error, which, &e);
	ret->name = wdr_json_optional(json, "name");
	ret->path = wdr_json_optional(json, "path");
	ret->medium = wdr_json_optional(json, "medium");
	if (!ret->name || !ret->path || !ret->medium || size <= 0 ||
		(sector != 512 && sector != 1024 && sector != 2048 && sector != 4096) ||
		!parse_table(table, &ret->table))
		return bad(error, which);
	ret->link = wdr_json_optional(json, "link");
	ret->model = wdr_json_optional(json, "model");
	ret->serial = wdr_json_optional(json, "serial");
	ret->is_image = is_image != 0;
	ret->size = (uint64_t)size;
	ret->sector_size = (uint32_t)sector;
	ret->table_id = wdr_json_optional(json, "table_id");
	return true;
}

static bool volume_from_json(
	json_t *json, const char *which, WdrItineraryVolume *ret, GError **error)
{
	const char *partuuid = NULL;
	json_int_t start = 0, size = 0;
	json_error_t e;

	if (json_unpack_ex(json, &e, 0, "{s:I, s:I, s:s}", "start", &start, "size", &size,
		    "partuuid", &partuuid) != 0)
		return unpack_failed(error, which, &e);
	if (start <= 0 || size <= 0)
		return bad(error, "a partition has no start or size");
	*ret = (WdrItineraryVolume){ (uint64_t)start, (uint64_t)size,
		wdr_json_optional(json, "uuid"), wdr_json_optional(json, "label"),
		g_strdup(partuuid), wdr_json_optional(json, "partlabel") };
	return true;
}

static bool part_from_json(WdrItinerary *it, json_t *json, GError **error)
{
	const char *role = NULL, *fs = NULL, *type = NULL;
	json_t *from = NULL, *to = NULL;
	json_int_t entries = 0, bytes = 0, spare = 0, inodes = 0, cluster = 0, unread = 0;
	int number = 0, is_active = 0;
	json_error_t e;

	if (json_unpack_ex(json, &e, 0,
		    "{s:i, s:s, s:s, s:o, s:o, s:s, s:b, s:I, s:I, s:I, s:I, s:I, s?I}", "number",
		    &number, "role", &role, "fs", &fs, "from", &from, "to", &to, "type", &type,
		    "active", &is_active, "entries", &entries, "bytes", &bytes, "spare", &spare,
		    "inodes", &inodes, "cluster_bytes", &cluster, "unread", &unread) != 0)
		return unpack_failed(error, "a partition", &e);
	if (number < 1 || number > PARTS_MAX || wdr_itinerary_part(it, (unsigned)number) ||
		entries < 0 || bytes < 0 || spare < 0 || unread < 0 || inodes < 0 ||
		inodes > G_MAXUINT32 || cluster < 0 || cluster > 65536 || *fs == '\0' ||
		strspn(fs, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_-") !=
			strlen(fs))
		return bad(error, "a partition's numbers make no sense");
	WdrItineraryPart *p = g_new0(WdrItineraryPart, 1);
	g_ptr_array_add(it->parts, p);
	p->number = (unsigned)number;
	p->fs = g_strdup(fs);
	p->type = g_strdup(type);
	p->attributes = wdr_json_optional(json, "attributes");
	p->is_active = is_active != 0;
	p->entries = (uint64_t)entries;
	p->bytes = (uint64_t)bytes;
	p->spare = (uint64_t)spare;
	p->unread = (uint64_t)unread;
	p->inodes = (uint64_t)inodes;
	p->cluster_bytes = (uint32_t)cluster;
	if (!parse_role(role, &p->role))
		return bad(error, "a partition's role is unknown");
	return volume_from_json(from, "from", &p->from, error) &&
	       volume_from_json(to, "to", &p->to, error);
}

static bool splice_from_json(WdrEdit *edit, json_t *json, GError **error)
{
	g_autofree char *old_text = wdr_json_optional(json, "old");
	g_autofree char *new_text = wdr_json_optional(json, "new");
	json_int_t offset = 0;
	int line = 0, column = 0;
	json_error_t e;

	if (json_unpack_ex(json, &e, 0, "{s:I, s:i, s:i}", "offset", &offset, "line", &line,
		    "column", &column) != 0)
		return unpack_failed(error, "a change", &e);
	if (!old_text || !new_text)
		return bad(error, "a change without its texts");
	/* An identifier has no line end: one would make two lines of one. Whole lines are put in,
	 * or taken out, from a file's start also one without an end. */
	bool is_within = *old_text && !strchr(old_text, '\n');
	bool is_removed = *old_text && strchr(old_text, '\n') && *new_text == '\0';
	if (offset < 0 || line < 1 || column < 1 || (*old_text == '\0' && *new_text == '\0') ||
		(is_within && (strpbrk(new_text, "\r\n") || (*new_text == '\0' && offset > 0))) ||
		(*old_text && !is_within && !is_removed))
		return bad(error, "a change makes no sense");
	wdr_edit_add(edit, (size_t)offset, (unsigned)line, (unsigned)column, old_text, new_text);
	return true;
}

static bool edit_from_json(WdrItinerary *it, json_t *json, GError **error)
{
	const char *hex = NULL, *diff = NULL, *on = NULL;
	g_autofree char *file = wdr_json_optional(json, "file");
	json_t *changes = NULL, *change = NULL;
	int is_image = 0;
	WdrHash hash;
	int number = 0;
	size_t i = 0;
	json_error_t e;

	if (json_unpack_ex(json, &e, 0, "{s:s, s:i, s:b, s:s, s:o, s:s}", "on", &on, "partition",
		    &number, "loader_image", &is_image, "xxh128", &hex, "changes", &changes, "diff",
		    &diff) != 0)
		return unpack_failed(error, "an edit", &e);
	bool is_on_source = strcmp(on, "source") == 0;
	bool is_place = is_on_source ? it->what == WDR_MOVE_ROOT
				     : strcmp(on, "target") == 0 &&
					       wdr_itinerary_part(it, (unsigned)number) != NULL;
	if (!file || number < 1 || number > PARTS_MAX || !is_place ||
		!wdr_hash_from_text(hex, &hash) || !json_is_array(changes))
		return bad(error, "an edit makes no sense");
	WdrEdit *edit = wdr_edit_new((unsigned)number, file, hash);
	edit->is_image = is_image != 0;
	edit->is_on_source = is_on_source;
	g_ptr_array_add(it->edits, edit);
	g_ptr_array_add(it->diffs, g_strdup(diff));
	json_array_foreach(changes, i, change)
	{
		if (!splice_from_json(edit, change, error))
			return false;
	}
	return true;
}

static int by_start(const void *a, const void *b)
{
	const WdrItineraryPart *x = *(WdrItineraryPart *const *)a;
	const WdrItineraryPart *y = *(WdrItineraryPart *const *)b;

	return x->to.start < y->to.start ? -1 : x->to.start > y->to.start;
}

static bool check_identifier(const WdrItinerary *it)
{
	if (it->table == WDR_TABLE_GPT)
		return g_uuid_string_is_valid(it->table_id);
	return strlen(it->table_id) == 8 && strspn(it->table_id, "0123456789abcdef") == 8;
}

static bool check_identifiers(const WdrItineraryPart *p)
{
	WdrPartMethod method = wdr_itinerary_method(p);

	if (method == WDR_METHOD_BLOCKS)
		return p->to.size >= p->from.size;
	if (!p->to.uuid || method != WDR_METHOD_FAT)
		return p->to.uuid && g_uuid_string_is_valid(p->to.uuid);
	return strlen(p->to.uuid) == 9 && p->to.uuid[4] == '-' &&
	       strspn(p->to.uuid, "0123456789ABCDEF-") == 9;
}

/* What must hold between the fields. */
static bool check_whole(WdrItinerary *it, GError **error)
{
	uint64_t end = it->target.sector_size;
	uint64_t usable = wdr_table_usable_end(it->table, it->target.size, it->target.sector_size);
	unsigned roots = 0;

	if (it->parts->len == 0 || it->table == WDR_TABLE_NONE || !check_identifier(it))
		return bad(error, "its partition table");
	g_ptr_array_sort(it->parts, by_start);
	const WdrItineraryPart *first = it->parts->pdata[0];
	uint64_t used =
		it->extended.number ? MIN(first->to.start, it->extended.start) : first->to.start;
	if (it->loader.size > 0 &&
		(it->loader.start < wdr_table_end(it->table, it->target.sector_size) ||
			it->loader.start > used || it->loader.size > used - it->loader.start))
		return bad(error, "the loader area does not lie before the first partition");
	for (guint i = 0; i < it->parts->len; i++) {
		const WdrItineraryPart *p = it->parts->pdata[i];
		if (p->to.start < end || p->to.size > usable || p->to.start > usable - p->to.size ||
			p->to.start % it->target.sector_size || p->to.size % it->target.sector_size)
			return bad(error, "its partitions overlap, or do not lie on the target");
		if (!check_identifiers(p))
			return bad(error, "an identifier of a partition");
		end = p->to.start + p->to.size;
		bool has_files = wdr_itinerary_method(p) == WDR_METHOD_EXT ||
				 wdr_itinerary_method(p) == WDR_METHOD_FAT;
		if (!has_files && (p->role == WDR_ROLE_ROOT || p->role == WDR_ROLE_BOOT))
			return bad(error, "root or boot is on no file system that we build");
		roots += p->role == WDR_ROLE_ROOT ? 1 : 0;
	}
	if (!wdr_logical_is_sound(it))
		return bad(error, "its logical partitions, and the extended one around them");
	return roots == 1 ? true : bad(error, "it has no root partition, or several");
}

static bool left_from_json(WdrItinerary *it, json_t *json, GError **error)
{
	g_autofree char *pattern = wdr_json_optional(json, "pattern");
	json_int_t entries = 0, bytes = 0;
	json_error_t e;

	if (json_unpack_ex(json, &e, 0, "{s:I, s:I}", "entries", &entries, "bytes", &bytes) != 0)
		return unpack_failed(error, "what is left behind", &e);
	char *patterns[] = { pattern, NULL };
	if (!pattern || entries < 0 || bytes < 0 || !wdr_exclude_check(patterns, NULL))
		return bad(error, "what is left behind");
	WdrLeft *left = g_new0(WdrLeft, 1);
	*left = (WdrLeft){ g_steal_pointer(&pattern), (uint64_t)entries, (uint64_t)bytes };
	g_ptr_array_add(it->left, left);
	return true;
}

static bool loader_from_json(WdrItinerary *it, json_t *json, GError **error)
{
	json_int_t start = 0, size = 0;
	int has_boot_code = 0;
	const char *what = NULL;
	json_error_t e;

	if (!json || json_is_null(json))
		return true;
	if (json_unpack_ex(json, &e, 0, "{s:I, s:I, s:b, s:s}", "start", &start, "size", &size,
		    "boot_code", &has_boot_code, "what", &what) != 0)
		return unpack_failed(error, "the loader area", &e);
	if (start <= 0 || size <= 0)
		return bad(error, "the loader area");
	it->loader = (WdrLoaderArea){ (uint64_t)start, (uint64_t)size, has_boot_code != 0,
		g_strdup(what) };
	return true;
}

static bool extended_from_json(WdrItinerary *it, json_t *json, GError **error)
{
	json_int_t start = 0, size = 0;
	const char *type = NULL;
	json_error_t e;
	int number = 0;

	if (!json)
		return true;
	if (json_unpack_ex(json, &e, 0, "{s:i, s:s, s:I, s:I}", "number", &number, "type", &type,
		    "start", &start, "size", &size) != 0)
		return unpack_failed(error, "the extended partition", &e);
	if (number < 1 || start <= 0 || size <= 0 ||
		(strcmp(type, "05") != 0 && strcmp(type, "0f") != 0 && strcmp(type, "85") != 0))
		return bad(error, "the extended partition");
	it->extended =
		(WdrExtended){ (unsigned)number, g_strdup(type), (uint64_t)start, (uint64_t)size };
	return true;
}

static bool each_from_json(WdrItinerary *it, json_t *list,
	bool (*take)(WdrItinerary *it, json_t *item, GError **error), GError **error)
{
	json_t *item = NULL;
	size_t i = 0;

	if (!json_is_array(list))
		return bad(error, "a list is missing");
	json_array_foreach(list, i, item)
	{
		if (!take(it, item, error))
			return false;
	}
	return true;
}

static bool note_from_json(WdrItinerary *it, json_t *item, GError **error)
{
	if (!json_is_string(item))
		return bad(error, "a note is no text");
	g_ptr_array_add(it->notes, g_strdup(json_string_value(item)));
	return true;
}

/* What the names are worth is asked when they are stopped. */
static bool pause_from_json(WdrItinerary *it, json_t *list, GError **error)
{
	g_autoptr(GStrvBuilder) units = g_strv_builder_new();
	json_t *item = NULL;
	size_t i = 0;

	if (!list)
		return true;
	if (!json_is_array(list) || json_array_size(list) == 0)
		return bad(error, "pause is no list of units");
	json_array_foreach(list, i, item)
	{
		if (!json_is_string(item))
			return bad(error, "a unit to pause is no text");
		g_strv_builder_add(units, json_string_value(item));
	}
	it->pause = g_strv_builder_end(units);
	return true;
}

static bool lists_from_json(WdrItinerary *it, json_t *root, GError **error)
{
	return each_from_json(it, json_object_get(root, "partitions"), part_from_json, error) &&
	       each_from_json(it, json_object_get(root, "edits"), edit_from_json, error) &&
	       each_from_json(it, json_object_get(root, "left_behind"), left_from_json, error) &&
	       pause_from_json(it, json_object_get(root, "pause"), error) &&
	       each_from_json(it, json_object_get(root, "notes"), note_from_json, error);
}

static bool check_format(json_t *root, GError **error)
{
	const char *format = json_string_value(json_object_get(root, "format"));

	if (!format || !g_str_has_prefix(format, "wanderitas-itinerary/"))
		return wdr_error_set(error, WDR_ERROR_FORMAT, "this is not an itinerary");
	if (strcmp(format, FORMAT_NAME) == 0)
		return true;
	wdr_error_set(error, WDR_ERROR_REFUSED,
		"the itinerary is in format '%s'; this program knows '%s'", format, FORMAT_NAME);
	hint_at_draft(error);
	return false;
}

bool wdr_itinerary_from_json(const char *json_text, size_t len, WdrItinerary **ret, GError **error)
{
	const char *made_by = NULL, *table = NULL, *table_id = NULL, *what = NULL;
	json_t *source = NULL, *target = NULL;
	json_int_t made_at = 0;
	int into = 0;
	json_error_t e;
	g_autoptr(WdrItinerary) it = wdr_itinerary_new();
	g_autoptr(json_t) root = json_loadb(json_text, len, JSON_REJECT_DUPLICATES, &e);

	if (!root) {
		g_autofree char *problem = wdr_json_load_problem(&e);
		wdr_error_set(error, WDR_ERROR_FORMAT, "the itinerary cannot be read: %s", problem);
		hint_at_draft(error);
		return false;
	}
	if (!check_format(root, error))
		return false;
	if (json_unpack_ex(root, &e, 0, "{s:s, s:s, s:I, s:o, s:o, s:s, s:s, s?i}", "what", &what,
		    "made_by", &made_by, "made_at", &made_at, "source", &source, "target", &target,
		    "table", &table, "table_id", &table_id, "into", &into) != 0)
		return unpack_failed(error, "the outermost object", &e);
	if (into < 0 || into > PARTS_MAX)
		return bad(error, "the partition that it moves into");
	it->into = (unsigned)into;
	it->made_by = g_strdup(made_by);
	it->made_at = made_at;
	it->table_id = g_strdup(table_id);
	if (!parse_table(table, &it->table))
		return bad(error, "the kind of its table");
	if (!wdr_what_parse(what, &it->what) || it->what == WDR_MOVE_NOTHING)
		return bad(error, "what it moves");
	if (!disk_from_json(source, "source", &it->source, error) ||
		!disk_from_json(target, "target", &it->target, error) ||
		!loader_from_json(it, json_object_get(root, "loader_area"), error) ||
		!extended_from_json(it, json_object_get(root, "extended"), error) ||
		!(wdr_target_contents_from_json(
			  json_object_get(root, "on_target_now"), it->target_contents) ||
			bad(error, "what is on the target")) ||
		!lists_from_json(it, root, error) || !check_whole(it, error))
		return false;
	if (it->into && (it->what != WDR_MOVE_ROOT || it->parts->len != 1))
		return bad(error, "a partition to move into, but not a root alone");
	*ret = g_steal_pointer(&it);
	return true;
}

bool wdr_itinerary_load(const char *path, WdrItinerary **ret, GError **error)
{
	g_autofree char *json_text = NULL;
	size_t len = 0;

	if (!wdr_read_file(path, WDR_ITINERARY_BYTES_MAX, &json_text, &len, error))
		return false;
	if (wdr_itinerary_from_json(json_text, len, ret, error))
		return true;
	g_prefix_error(error, "%s: ", path);
	return false;
}
