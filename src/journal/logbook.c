/* Writes the logbook, one flushed line before each step, and reads it back.
 *
 * The rule: a line is on the medium before the step that it announces begins, so that after a power
 * cut the logbook never knows less than what happened. A last line without an end was cut short;
 * its step did not begin. A line in the middle that makes no sense is an error: going on would mean
 * guessing. The format: docs/formats/logbook.md. */
#include "journal/logbook.h"

#include "base/io.h"
#include "base/json.h"
#include "base/record.h"
#include "base/stat.h"
#include "base/stop.h"
#include "boot/formats/mention.h"

#include <stdio.h>
#include <string.h>
#include <sys/stat.h>

#define FORMAT_NAME "wanderitas-logbook/2"

struct WdrLogbook {
	const WdrWorld *world;
	char *path;
	int fd;
	uint64_t size;
};

/* entry is taken over. */
static bool append(WdrLogbook *l, json_t *entry, GError **error)
{
	g_autoptr(json_t) owned = entry;
	g_autofree char *dumped = owned ? json_dumps(owned, 0) : NULL;
	g_autofree char *line = g_strconcat(dumped ? dumped : "", "\n", NULL);
	size_t len = strlen(line);

	/* What is not told is not done: an entry that is missing would be missed by rewind. */
	if (!dumped)
		return wdr_error_set(error, WDR_ERROR_FORMAT,
			"the logbook %s: an entry cannot be written as JSON", l->path);
	if (!wdr_pwrite_all(l->fd, line, len, l->size, error) || fdatasync(l->fd) != 0) {
		if (error && !*error)
			wdr_error_set_errno(error, errno, "flushing");
		g_prefix_error(error, "the logbook %s: ", l->path);
		wdr_error_hint(error, "a move needs a folder for its state: see --state DIR");
		return false;
	}
	l->size += len;
	return true;
}

/* A logbook with changes that are still in force is the only way back to what was. */
static bool keep_old(const char *path, GError **error)
{
	g_autoptr(GPtrArray) changes = NULL;
	g_autoptr(GError) unreadable = NULL;
	bool has_changes = false;
	WdrStat st;

	if (wdr_stat(path, &st) != 0)
		return true;
	if (!wdr_logbook_read(path, &changes, &unreadable))
		has_changes = st.stx_size > 0;
	for (guint i = 0; changes && i < changes->len; i++)
		has_changes |= !((WdrChange *)changes->pdata[i])->is_rewound;
	g_autofree char *folder = g_path_get_dirname(path);
	for (unsigned n = 1; has_changes; n++) {
		g_autofree char *kept = g_strdup_printf("%s/logbook-%u.jsonl", folder, n);
		if (wdr_stat(kept, &st) == 0)
			continue;
		return wdr_record_rename(path, kept, error);
	}
	return true;
}

bool wdr_logbook_begin(const WdrWorld *world, const char *path, const char *itinerary_file,
	WdrLogbook **ret, GError **error)
{
	g_autoptr(WdrLogbook) l = g_new0(WdrLogbook, 1);

	wdr_stop_needs_care();
	l->world = world;
	l->path = g_strdup(path);
	l->fd = -1;
	if (!keep_old(path, error))
		return false;
	l->fd = wdr_record_open(path, WDR_RECORD_NEW, error);
	if (l->fd < 0 ||
		!append(l,
			json_pack("{s:s, s:I, s:s, s:s?}", "format", FORMAT_NAME, "at",
				(json_int_t)wdr_world_now(world), "event", "begun", "itinerary",
				itinerary_file),
			error) ||
		!wdr_sync_folder_of(path, error))
		return false;
	*ret = g_steal_pointer(&l);
	return true;
}

bool wdr_logbook_open(const WdrWorld *world, const char *path, WdrLogbook **ret, GError **error)
{
	g_autoptr(WdrLogbook) l = g_new0(WdrLogbook, 1);
	g_autofree char *text = NULL;
	size_t len = 0;

	wdr_stop_needs_care();
	l->world = world;
	l->path = g_strdup(path);
	l->fd = wdr_record_open(path, WDR_RECORD_APPEND, error);
	if (l->fd < 0 || !wdr_read_whole(l->fd, path, WDR_LOGBOOK_BYTES_MAX, &text, &len, error))
		return false;
	while (len > 0 && text[len - 1] != '\n')
		len--;
	if (ftruncate(l->fd, (off_t)len) != 0)
		return wdr_error_set_errno(error, errno, "going on with the logbook %s", path);
	l->size = len;
	*ret = g_steal_pointer(&l);
	return true;
}

bool wdr_logbook_change(WdrLogbook *l, const WdrChange *c, GError **error)
{
	char before[WDR_HASH_TEXT_LEN + 1];
	char after[WDR_HASH_TEXT_LEN + 1];
	json_t *identifiers = c->identifiers ? json_loads(c->identifiers, 0, NULL) : json_null();
	json_t *region = c->region
				 ? json_pack("{s:o, s:I, s:I}", "device", wdr_json_bytes(c->region),
					   "offset", (json_int_t)c->region_at, "size",
					   (json_int_t)c->region_size)
				 : json_null();

	wdr_hash_to_text(c->before, before);
	wdr_hash_to_text(c->after, after);
	return append(l,
		json_pack(
			"{s:I, s:s, s:i, s:o, s:o, s:o, s:i, s:o, s:o, s:o, s:b, s:s, s:s, s:i, s:I, s:I, "
			"s:I, s:I, s:o, s:o, s:b}",
			"at", (json_int_t)wdr_world_now(l->world), "event", "change", "number",
			(int)c->number, "disk", wdr_json_bytes(c->disk), "disk_name",
			wdr_json_bytes(c->disk_name), "table_id", wdr_json_bytes(c->table_id),
			"partition", (int)c->partition, "tree", wdr_json_bytes(c->tree), "file",
			wdr_json_bytes(c->file), "original", wdr_json_bytes(c->original), "removal",
			(int)c->is_removal, "before", before, "after", after, "mode", (int)c->mode,
			"uid", (json_int_t)c->uid, "gid", (json_int_t)c->gid, "mtime",
			(json_int_t)c->mtime.sec, "mtime_nsec", (json_int_t)c->mtime.nsec,
			"identifiers", identifiers, "region", region, "settings",
			(int)c->is_settings),
		error);
}

static bool append_number(WdrLogbook *l, const char *event, unsigned number, GError **error)
{
	return append(l,
		json_pack("{s:I, s:s, s:i}", "at", (json_int_t)wdr_world_now(l->world), "event",
			event, "number", (int)number),
		error);
}

bool wdr_logbook_changed(WdrLogbook *l, unsigned number, GError **error)
{
	return append_number(l, "changed", number, error);
}

bool wdr_logbook_rewound(WdrLogbook *l, unsigned number, GError **error)
{
	return append_number(l, "rewound", number, error);
}

bool wdr_logbook_step(WdrLogbook *l, GError **error, const char *format, ...)
{
	va_list args;

	va_start(args, format);
	g_autofree char *what = g_strdup_vprintf(format, args);
	va_end(args);
	return wdr_logbook_numbered_step(l, 0, what, error);
}

bool wdr_logbook_numbered_step(WdrLogbook *l, unsigned number, const char *what, GError **error)
{
	wdr_world_numbered_step(l->world, number, what);
	return append(l,
		json_pack("{s:I, s:s, s:o}", "at", (json_int_t)wdr_world_now(l->world), "event",
			"step", "what", wdr_json_text(what)),
		error);
}

bool wdr_logbook_mark(WdrLogbook *l, const char *what, GError **error)
{
	return append(l,
		json_pack("{s:I, s:s, s:s}", "at", (json_int_t)wdr_world_now(l->world), "event",
			"mark", "what", what),
		error);
}

bool wdr_logbook_sealed(
	WdrLogbook *l, unsigned number, const char *what, const WdrPartSeal *seal, GError **error)
{
	char head[WDR_HASH_TEXT_LEN + 1];

	wdr_hash_to_text(seal->head, head);
	return append(l,
		json_pack("{s:I, s:s, s:i, s:s, s:I, s:s?}", "at",
			(json_int_t)wdr_world_now(l->world), "event", "part", "number", (int)number,
			"what", what, "list_bytes", (json_int_t)seal->list_bytes, "head_xxh128",
			seal->has_head ? head : NULL),
		error);
}

bool wdr_logbook_part(WdrLogbook *l, unsigned number, const char *what, GError **error)
{
	return append(l,
		json_pack("{s:I, s:s, s:i, s:s}", "at", (json_int_t)wdr_world_now(l->world),
			"event", "part", "number", (int)number, "what", what),
		error);
}

bool wdr_logbook_range(
	WdrLogbook *l, unsigned number, const WdrRange *range, WdrHash hash, GError **error)
{
	char hex[WDR_HASH_TEXT_LEN + 1];

	wdr_hash_to_text(hash, hex);
	return append(l,
		json_pack("{s:I, s:s, s:i, s:I, s:I, s:s}", "at",
			(json_int_t)wdr_world_now(l->world), "event", "range", "number",
			(int)number, "start", (json_int_t)range->offset, "size",
			(json_int_t)range->len, "xxh128", hex),
		error);
}

bool wdr_logbook_unreadable(
	WdrLogbook *l, unsigned partition, const char *path, const GArray *ranges, GError **error)
{
	json_t *line = wdr_unreadable_to_json(partition, path, ranges);

	json_object_set_new(line, "at", json_integer((json_int_t)wdr_world_now(l->world)));
	json_object_set_new(line, "event", json_string("unreadable"));
	return append(l, line, error);
}

bool wdr_logbook_figures(WdrLogbook *l, const WdrLogbookFigures *f, GError **error)
{
	return append(l,
		json_pack("{s:I, s:s, s:I, s:I, s:I, s:I, s:I, s:I, s:I}", "at",
			(json_int_t)wdr_world_now(l->world), "event", "figures", "entries",
			(json_int_t)f->entries, "bytes", (json_int_t)f->bytes, "bytes_before",
			(json_int_t)f->bytes_before, "copy_ms", (json_int_t)(f->copy_s * 1000),
			"read_back_while_copying_bytes", (json_int_t)f->behind_bytes,
			"read_back_bytes", (json_int_t)f->read_back_bytes, "read_back_ms",
			(json_int_t)(f->read_back_s * 1000)),
		error);
}

bool wdr_logbook_boot_time(WdrLogbook *l, const WdrBootTime *t, GError **error)
{
	json_t *line = json_pack(
		"{s:I, s:s}", "at", (json_int_t)wdr_world_now(l->world), "event", "boot-time");

	for (unsigned i = 0; i < WDR_BOOT_PARTS; i++)
		json_object_set_new(line, wdr_boot_part_key(i), json_integer(t->us[i]));
	return append(l, line, error);
}

bool wdr_logbook_done(WdrLogbook *l, GError **error)
{
	return append(l,
		json_pack("{s:I, s:s}", "at", (json_int_t)wdr_world_now(l->world), "event", "done"),
		error);
}

void wdr_logbook_stopped(WdrLogbook *l, const char *why)
{
	(void)append(l,
		json_pack("{s:I, s:s, s:o}", "at", (json_int_t)wdr_world_now(l->world), "event",
			"stopped", "what", wdr_json_text(why)),
		NULL);
}

void wdr_logbook_free(WdrLogbook *l)
{
	if (!l)
		return;
	if (l->fd >= 0)
		close(l->fd);
	g_free(l->path);
	g_free(l);
}

/* ---- reading ---- */

void wdr_change_free(WdrChange *c)
{
	if (!c)
		return;
	g_free(c->disk);
	g_free(c->disk_name);
	g_free(c->table_id);
	g_free(c->tree);
	g_free(c->file);
	g_free(c->original);
	g_free(c->identifiers);
	g_free(c->region);
	g_free(c);
}

bool wdr_changes_are_in_force(const GPtrArray *changes)
{
	for (guint i = 0; i < changes->len; i++) {
		if (!((const WdrChange *)changes->pdata[i])->is_rewound)
			return true;
	}
	return false;
}

/* false: it is there, and none. */
static bool take_region(json_t *json, WdrChange *c)
{
	json_t *region = json_object_get(json, "region");
	json_int_t at = 0, size = 0;

	if (!json_is_object(region))
		return true;
	c->region = wdr_json_optional(region, "device");
	if (!c->region || json_unpack(region, "{s:I, s:I}", "offset", &at, "size", &size) != 0 ||
		at < 0 || size <= 0 || size > WDR_EDITED_BYTES_MAX)
		return false;
	c->region_at = (uint64_t)at;
	c->region_size = (uint64_t)size;
	return true;
}

static bool change_from_json(json_t *json, GPtrArray *changes)
{
	const char *before = NULL, *after = NULL;
	json_int_t uid = 0, gid = 0, mtime = 0, nsec = 0;
	int number = 0, partition = 0, mode = 0;
	g_autoptr(WdrChange) c = g_new0(WdrChange, 1);

	if (json_unpack(json, "{s:i, s:i, s:s, s:s, s:i, s:I, s:I, s:I, s:I}", "number", &number,
		    "partition", &partition, "before", &before, "after", &after, "mode", &mode,
		    "uid", &uid, "gid", &gid, "mtime", &mtime, "mtime_nsec", &nsec) != 0 ||
		!wdr_hash_from_text(before, &c->before) || !wdr_hash_from_text(after, &c->after) ||
		partition < 0 || mode < 0 || mode > 07777 || uid < 0 || uid > G_MAXUINT32 ||
		gid < 0 || gid > G_MAXUINT32 || nsec < 0 || nsec > 999999999)
		return false;
	c->number = (unsigned)number;
	c->partition = (unsigned)partition;
	c->mode = (uint32_t)mode;
	c->uid = (uint32_t)uid;
	c->gid = (uint32_t)gid;
	c->mtime = (WdrTime){ mtime, (uint32_t)nsec };
	c->disk = wdr_json_optional(json, "disk");
	c->disk_name = wdr_json_optional(json, "disk_name");
	c->table_id = wdr_json_optional(json, "table_id");
	c->tree = wdr_json_optional(json, "tree");
	c->file = wdr_json_optional(json, "file");
	c->original = wdr_json_optional(json, "original");
	c->is_removal = json_is_true(json_object_get(json, "removal"));
	json_t *identifiers = json_object_get(json, "identifiers");
	if (json_is_object(identifiers))
		c->identifiers = json_dumps(identifiers, JSON_COMPACT);
	c->is_settings = json_is_true(json_object_get(json, "settings"));
	if (!c->disk || !take_region(json, c))
		return false;
	bool is_outside = c->region || c->is_settings;
	if ((!c->file && !c->identifiers && !is_outside) ||
		((c->is_removal || is_outside) && !c->original))
		return false;
	/* An original lies in the logbook's own folder, nowhere else. */
	if (c->original && (strchr(c->original, '/') || *c->original == '.'))
		return false;
	g_ptr_array_add(changes, g_steal_pointer(&c));
	return true;
}

/* How far one came that was announced before. */
static void note_end(json_t *json, GPtrArray *changes, bool is_rewound)
{
	json_int_t number = json_integer_value(json_object_get(json, "number"));

	for (guint i = 0; i < changes->len; i++) {
		WdrChange *c = changes->pdata[i];
		if (c->number != (unsigned)number)
			continue;
		c->is_rewound |= is_rewound;
		c->is_done |= !is_rewound;
	}
}

bool wdr_logbook_each(
	const char *name, const char *text, WdrLogbookEach each, void *data, GError **error)
{
	g_auto(GStrv) lines = g_strsplit(text, "\n", -1);

	if (*text == '\0')
		return wdr_error_set(
			error, WDR_ERROR_FORMAT, "%s is no logbook: it is empty", name);
	for (guint i = 0; lines[i] && *lines[i]; i++) {
		g_autoptr(json_t) json = json_loads(lines[i], JSON_REJECT_DUPLICATES, NULL);
		bool is_cut = i > 0 && !json && !lines[i + 1];
		if (is_cut)
			break;
		const char *format = json_string_value(json_object_get(json, "format"));
		bool is_fine = i == 0 ? g_strcmp0(format, FORMAT_NAME) == 0
				      : json && json_is_string(json_object_get(json, "event")) &&
						each(json, data);
		if (!is_fine)
			return wdr_error_set(error, WDR_ERROR_FORMAT,
				"%s:%u: this is no line of a logbook", name, i + 1);
	}
	return true;
}

static bool take_change(json_t *json, void *data)
{
	const char *event = json_string_value(json_object_get(json, "event"));

	if (strcmp(event, "rewound") == 0 || strcmp(event, "changed") == 0)
		note_end(json, data, strcmp(event, "rewound") == 0);
	return strcmp(event, "change") != 0 || change_from_json(json, data);
}

bool wdr_logbook_parse(const char *name, const char *text, GPtrArray **ret, GError **error)
{
	g_autoptr(GPtrArray) changes =
		g_ptr_array_new_with_free_func((GDestroyNotify)wdr_change_free);

	if (!wdr_logbook_each(name, text, take_change, changes, error))
		return false;
	*ret = g_steal_pointer(&changes);
	return true;
}

bool wdr_logbook_read(const char *path, GPtrArray **ret, GError **error)
{
	g_autofree char *text = NULL;
	size_t len = 0;

	return wdr_read_file(path, WDR_LOGBOOK_BYTES_MAX, &text, &len, error) &&
	       wdr_logbook_parse(path, text, ret, error);
}
