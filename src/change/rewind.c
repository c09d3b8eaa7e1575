/* Goes through a logbook backwards and puts originals back.
 *
 * A file that is as the change left it gets its original. One that is as it was before is left
 * alone. One that is neither was changed by somebody since: it stays, and is shown, unless --force
 * says otherwise. */
#include "change/rewind.h"

#include "base/io.h"
#include "base/record.h"
#include "base/stat.h"
#include "boot/board/eeprom.h"
#include "boot/formats/edit.h"
#include "change/change.h"
#include "change/efi_order.h"
#include "change/raw_change.h"
#include "change/renew_identifiers.h"
#include "disk/flash.h"
#include "journal/state_folder.h"
#include "volume/tree/tree.h"

#include <string.h>
#include <sys/stat.h>

typedef struct {
	const WdrWorld *world;
	WdrLogbook *logbook;
	char *folder;
	bool forced;
	GPtrArray *results;
} Rewinding;

static void rewound_free(void *data)
{
	WdrRewound *r = data;

	g_free(r->what);
	g_free(r->why);
	g_free(r->diff);
	g_free(r);
}

/* ---- the place of a change ---- */

typedef struct {
	WdrDisk *disk;
	WdrBlockDev *dev;
	WdrPartTable *table;
	WdrVolume *tree;
	WdrProbe probe;
	WdrEditVolume volume;
} Opened;

static void opened_clear(Opened *o)
{
	wdr_volume_free(o->tree);
	wdr_parttable_free(o->table);
	wdr_blockdev_free(o->dev);
	wdr_disk_free(o->disk);
	wdr_probe_clear(&o->probe);
}
G_DEFINE_AUTO_CLEANUP_CLEAR_FUNC(Opened, opened_clear)

static bool find_disk(const Rewinding *w, const WdrChange *c, Opened *o, GError **error)
{
	const char *text = c->disk_name ? c->disk_name : c->disk;

	return wdr_disk_find(w->world, text, &o->disk, error) &&
	       wdr_change_check_rest(w->world, o->disk, error);
}

static bool is_the_disk(const WdrChange *c, const Opened *o, GError **error)
{
	if (g_strcmp0(c->table_id, o->table->id) == 0)
		return true;
	wdr_error_set(error, WDR_ERROR_REFUSED,
		"%s is not the disk that was changed: its identifier was %s and is %s",
		o->disk->name, c->table_id ? c->table_id : "none",
		o->table->id ? o->table->id : "none");
	return false;
}

static bool open_volume(const Rewinding *w, const WdrChange *c, Opened *o, GError **error)
{
	if (!find_disk(w, c, o, error) ||
		!wdr_blockdev_open(o->disk->path, WDR_OPEN_WRITE, &o->dev, error) ||
		!wdr_parttable_read(o->dev, &o->table, error) || !is_the_disk(c, o, error))
		return false;
	const WdrPartition *p = wdr_parttable_find(o->table, c->partition);
	if (!p)
		return wdr_error_set(error, WDR_ERROR_REFUSED, "%s has no partition %u any more",
			o->disk->name, c->partition);
	if (!wdr_probe_read(o->dev, p->start, p->size, &o->probe, error))
		return false;
	o->volume = (WdrEditVolume){ NULL, { o->dev, p->start, p->size }, o->probe.type };
	return true;
}

static bool open_tree(const WdrChange *c, Opened *o, GError **error)
{
	if (!wdr_tree_volume_open(c->tree, &o->tree, error))
		return false;
	o->volume.tree = o->tree;
	return true;
}

/* ---- one file ---- */

static bool read_original(
	const Rewinding *w, const WdrChange *c, char **ret, size_t *ret_len, GError **error)
{
	g_autofree char *path = g_build_filename(w->folder, "originals", c->original, NULL);

	if (!wdr_record_read(path, WDR_EDITED_BYTES_MAX, ret, ret_len, error))
		return false;
	return wdr_hash_equal(wdr_hash(*ret, *ret_len), c->before) ||
	       wdr_error_set(
		       error, WDR_ERROR_FORMAT, "the original %s is not what was kept there", path);
}

/* Somebody changed it since: what, and what is to be done. */
static bool leave_alone(const Rewinding *w, const WdrChange *c, const char *now, size_t now_len,
	WdrRewound *result, GError **error)
{
	g_autofree char *original = NULL;
	size_t len = 0;

	if (!c->original) {
		result->why = g_strdup("it is another file by now");
		return true;
	}
	if (!read_original(w, c, &original, &len, error))
		return false;
	result->why = g_strdup(c->is_removal ? "there is another in its place by now"
			       : now         ? "somebody changed it since"
					     : "somebody removed it since");
	if (now)
		result->diff = wdr_diff(c->file, original, len, now, now_len);
	return true;
}

static bool put_back(
	const Rewinding *w, const WdrChange *c, const WdrEditVolume *place, GError **error)
{
	g_autofree char *original = NULL;
	size_t len = 0;
	WdrEntry like = { .mode = c->mode, .uid = c->uid, .gid = c->gid, .mtime = c->mtime };

	return read_original(w, c, &original, &len, error) &&
	       wdr_edit_volume_put(place, c->file, original, len, &like, error);
}

static bool rewind_file(const Rewinding *w, const WdrChange *c, WdrRewound *result, GError **error)
{
	g_auto(Opened) o = { 0 };
	g_autofree char *now = NULL;
	size_t len = 0;

	if (!(c->tree ? open_tree(c, &o, error) : open_volume(w, c, &o, error)) ||
		!wdr_edit_volume_read(&o.volume, c->file, &now, &len, NULL, error))
		return false;
	WdrHash hash = wdr_hash(now ? now : "", len);
	bool is_ours = c->is_removal ? !now : now && wdr_hash_equal(hash, c->after);
	result->was_back = c->original ? now && wdr_hash_equal(hash, c->before) : !now;
	if (result->was_back && !is_ours) {
		result->is_back = true;
		return true;
	}
	if (!is_ours && !w->forced)
		return leave_alone(w, c, now, len, result, error);
	if (!(c->original ? put_back(w, c, &o.volume, error)
			  : wdr_edit_volume_remove(
				    &o.volume, c->file, wdr_world_now(w->world), error)))
		return false;
	result->was_back = false;
	result->is_back = true;
	return true;
}

/* ---- identifiers ---- */

/* An interruption may have left some of them old and some new: the table's own tells nothing. */
static bool rewind_identifiers(
	const Rewinding *w, const WdrChange *c, WdrRewound *result, GError **error)
{
	g_autoptr(WdrIdentifiers) ids = NULL;
	g_auto(Opened) o = { 0 };

	if (!wdr_identifiers_from_json(c->identifiers, &ids, error) ||
		!find_disk(w, c, &o, error) ||
		!wdr_blockdev_open(o.disk->path, WDR_OPEN_READ, &o.dev, error) ||
		!wdr_parttable_read(o.dev, &o.table, error))
		return false;
	if (g_strcmp0(o.table->id, ids->table_id) != 0 && !is_the_disk(c, &o, error))
		return false;
	g_clear_pointer(&o.dev, wdr_blockdev_free);
	result->is_back = wdr_identifiers_set(w->world, o.disk, ids, error);
	return result->is_back;
}

/* ---- outside of volumes ---- */

/* What a change left half done is ours as well, whatever it looks like. */
static bool rewind_region(
	const Rewinding *w, const WdrChange *c, WdrRewound *result, GError **error)
{
	g_autofree uint8_t *now = NULL;
	g_autofree char *original = NULL;
	size_t len = 0;

	if (!wdr_flash_read_at(w->world, c->region, (int64_t)c->region_at, (size_t)c->region_size,
		    &now, error))
		return false;
	WdrHash hash = wdr_hash(now, (size_t)c->region_size);
	result->was_back = wdr_hash_equal(hash, c->before);
	result->is_back = result->was_back;
	if (result->was_back)
		return true;
	if (c->is_done && !wdr_hash_equal(hash, c->after) && !w->forced) {
		result->why = g_strdup("somebody wrote there since");
		return true;
	}
	if (!wdr_raw_change_check_rest(w->world, c->region, error) ||
		!read_original(w, c, &original, &len, error))
		return false;
	if (len != c->region_size)
		return wdr_error_set(error, WDR_ERROR_FORMAT,
			"the original has %zu bytes, and %" G_GUINT64_FORMAT " were changed", len,
			c->region_size);
	WdrFlashWrite write = { c->region, c->region_at, (const uint8_t *)original, len, NULL,
		NULL };
	result->is_back = wdr_flash_write(w->world, &write, error);
	return result->is_back;
}

/* An order that somebody set since stays. */
static bool rewind_efi_order(const Rewinding *w, const WdrChange *c, const char *way_back,
	WdrRewound *result, GError **error)
{
	g_autoptr(WdrEfiSettings) e = wdr_efi_settings_read(w->world);
	g_autofree char *is = e ? wdr_efi_order_text(e, NULL) : g_strdup("");

	if (e && c->is_done && !w->forced && !wdr_efi_is_back(e, way_back) &&
		!wdr_hash_equal(wdr_hash(is, strlen(is)), c->after)) {
		result->why = g_strdup("somebody changed them since");
		return true;
	}
	result->is_back = wdr_efi_go_back(w->world, way_back, &result->was_back, error);
	return result->is_back;
}

static bool rewind_settings(
	const Rewinding *w, const WdrChange *c, WdrRewound *result, GError **error)
{
	g_auto(WdrEepromSettings) is = { 0 };
	g_autofree char *original = NULL;
	size_t len = 0;

	if (!read_original(w, c, &original, &len, error))
		return false;
	if (wdr_efi_is_way_back(original))
		return rewind_efi_order(w, c, original, result, error);
	wdr_eeprom_read(w->world, &is);
	const char *next = is.waiting ? is.waiting : is.now;
	result->was_back = next && wdr_eeprom_is_same(next, original);
	result->is_back = result->was_back;
	if (result->was_back)
		return true;
	bool is_ours = next && wdr_hash_equal(wdr_eeprom_hash(next), c->after);
	if (c->is_done && !is_ours && !w->forced) {
		result->why = g_strdup("somebody changed them since");
		result->diff = wdr_diff("the firmware's settings", original, len, next ? next : "",
			next ? strlen(next) : 0);
		return true;
	}
	result->is_back = wdr_eeprom_apply(w->world, original, NULL, error);
	return result->is_back;
}

/* ---- all of it ---- */

static char *describe(const WdrChange *c)
{
	const char *disk = c->disk_name ? c->disk_name : c->disk;

	if (c->region)
		return g_strdup_printf("%" G_GUINT64_FORMAT " bytes of %s at %" G_GUINT64_FORMAT,
			c->region_size, wdr_device_name(c->region), c->region_at);
	if (c->is_settings)
		return g_strdup("the firmware's settings");
	if (!c->file)
		return g_strdup_printf("the identifiers of %s", disk);
	if (c->tree)
		return g_strdup_printf("/%s in %s", c->file, c->tree);
	return g_strdup_printf("/%s on %s, partition %u", c->file, disk, c->partition);
}

static bool rewind_one(Rewinding *w, const WdrChange *c, GError **error)
{
	WdrRewound *result = g_new0(WdrRewound, 1);

	result->what = describe(c);
	g_ptr_array_add(w->results, result);
	bool is_fine = c->file          ? rewind_file(w, c, result, error)
		       : c->region      ? rewind_region(w, c, result, error)
		       : c->is_settings ? rewind_settings(w, c, result, error)
					: rewind_identifiers(w, c, result, error);
	if (!is_fine) {
		g_prefix_error(error, "%s: ", result->what);
		g_ptr_array_set_size(w->results, (int)w->results->len - 1);
		return false;
	}
	return !result->is_back || wdr_logbook_rewound(w->logbook, c->number, error);
}

/* Identifiers stay where a file that names them by the new ones stays, and so does a copy beside a
 * file that stays. */
static bool has_left(const Rewinding *w)
{
	for (guint i = 0; i < w->results->len; i++) {
		if (!((const WdrRewound *)w->results->pdata[i])->is_back)
			return true;
	}
	return false;
}

static bool rewind_all(Rewinding *w, const GPtrArray *changes, GError **error)
{
	for (guint i = changes->len; i-- > 0;) {
		const WdrChange *c = changes->pdata[i];
		if (c->is_rewound)
			continue;
		bool is_copy = c->file && !c->original;
		if ((c->identifiers || is_copy) && has_left(w)) {
			WdrRewound *result = g_new0(WdrRewound, 1);
			result->what = describe(c);
			result->why = g_strdup(is_copy ? "another file of this change was left"
						       : "a file that names them was left");
			g_ptr_array_add(w->results, result);
			continue;
		}
		if (!rewind_one(w, c, error))
			return false;
	}
	return true;
}

bool wdr_rewind(
	const WdrWorld *world, const char *logbook, bool forced, GPtrArray **ret, GError **error)
{
	g_autoptr(GPtrArray) changes = NULL;
	g_autoptr(WdrLogbook) opened = NULL;
	g_autoptr(GPtrArray) results = g_ptr_array_new_with_free_func(rewound_free);
	g_autofree char *folder = g_path_get_dirname(logbook);
	Rewinding w = { world, NULL, folder, forced, results };

	if (!wdr_logbook_read(logbook, &changes, error)) {
		wdr_error_hint(error,
			"nothing was put back; the original files are in "
			"%s/originals",
			folder);
		return false;
	}
	if (!wdr_logbook_open(world, logbook, &opened, error))
		return false;
	w.logbook = opened;
	*ret = g_steal_pointer(&results);
	return rewind_all(&w, changes, error);
}

/* ---- which logbook ---- */

/* Cut off before anything began. */
static bool has_no_line(const char *path)
{
	g_autofree char *text = NULL;
	size_t len = 0;

	return wdr_read_file(path, WDR_LOGBOOK_BYTES_MAX, &text, &len, NULL) &&
	       !memchr(text, '\n', len);
}

/* One that cannot be read may tell of changes that are: passing it over would say that there are
 * none. */
static bool is_in_force(const char *path)
{
	g_autoptr(GPtrArray) changes = NULL;

	if (!wdr_logbook_read(path, &changes, NULL))
		return !has_no_line(path);
	return wdr_changes_are_in_force(changes);
}

/* The newest of one folder, if it is newer than what was found so far. */
static bool look_into(const char *folder, int64_t *newest, char **found, GError **error)
{
	g_autoptr(GDir) inner = NULL;

	if (!wdr_open_folder(folder, &inner, error))
		return false;
	for (const char *file; inner && (file = g_dir_read_name(inner));) {
		g_autofree char *path = g_build_filename(folder, file, NULL);
		WdrStat st;
		if (!g_str_has_prefix(file, "logbook") || !g_str_has_suffix(file, ".jsonl") ||
			wdr_stat(path, &st) != 0)
			continue;
		int64_t at = wdr_stat_mtime_ns(&st);
		if (at > *newest && is_in_force(path)) {
			*newest = at;
			g_free(*found);
			*found = g_steal_pointer(&path);
		}
	}
	return true;
}

bool wdr_rewind_newest_in(const char *base, const char *prefix, char **ret, GError **error)
{
	g_autoptr(GDir) dir = NULL;
	int64_t newest = 0;
	g_autofree char *found = NULL;

	if (!wdr_open_folder(base, &dir, error))
		return false;
	for (const char *name; dir && (name = g_dir_read_name(dir));) {
		g_autofree char *folder = g_build_filename(base, name, NULL);
		if (!g_str_has_prefix(name, WDR_ARRIVAL_PREFIX) &&
			g_str_has_prefix(name, prefix ? prefix : "") &&
			!look_into(folder, &newest, &found, error))
			return false;
	}
	*ret = g_steal_pointer(&found);
	return true;
}

bool wdr_rewind_newest(const WdrWorld *world, const char *prefix, char **ret, GError **error)
{
	g_autofree char *base = wdr_world_path(world, WDR_STATE_FOLDER);

	return wdr_rewind_newest_in(base, prefix, ret, error);
}
