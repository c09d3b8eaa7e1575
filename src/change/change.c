/* One change of a file: keep the original, write the logbook, write the new content, read it back.
 *
 * In this order, each on the medium before the next. A power cut leaves the old or the new content
 * (how, depends on the volume: see edit_volume.c), and in both cases the logbook has what rewind
 * needs. */
#include "change/change.h"

#include "base/record.h"
#include "disk/users.h"
#include "volume/fat/fat.h"

#include <errno.h>
#include <string.h>
#include <sys/stat.h>

enum { COPIES_MAX = 100 };

static bool place_of(const WdrChanging *c, unsigned number, WdrEditVolume *ret, GError **error)
{
	const WdrSystemPart *part = wdr_system_part(c->system, number);

	if (!part || !part->volume)
		return wdr_error_set(
			error, WDR_ERROR_REFUSED, "partition %u has no volume any more", number);
	bool is_tree = strcmp(part->volume->ops->type, "tree") == 0;
	*ret = (WdrEditVolume){ is_tree ? part->volume : NULL,
		{ c->dev, part->partition->start, part->partition->size }, part->probe.type };
	return is_tree || c->dev ||
	       wdr_error_set(error, WDR_ERROR_REFUSED,
		       "partition %u is not mounted, and its disk is in use", number);
}

WdrChange *wdr_change_of_disk(WdrChanging *c, const char *table_id)
{
	WdrChange *change = g_new0(WdrChange, 1);

	change->number = c->next++;
	change->disk = g_canonicalize_filename(c->disk->path, NULL);
	change->disk_name = c->disk->is_image ? NULL : g_strdup(c->disk->name);
	change->table_id = g_strdup(table_id);
	return change;
}

/* A change of a file as the logbook keeps it, all but what it is about. */
static WdrChange *new_change(WdrChanging *c, const WdrEditVolume *p, unsigned partition)
{
	WdrChange *change = wdr_change_of_disk(c, c->system->table->id);

	change->partition = partition;
	change->tree = p->tree ? g_strdup(wdr_volume_name(p->tree)) : NULL;
	return change;
}

/* Tells the logbook, changes, reads back, tells the logbook. */
static bool carry_out(WdrChanging *c, const WdrEditVolume *p, const WdrChange *change,
	const void *data, size_t len, GError **error)
{
	int64_t now = wdr_world_now(c->world);
	WdrEntry like = {
		.mode = change->mode, .uid = change->uid, .gid = change->gid, .mtime = { now, 0 }
	};

	return wdr_logbook_change(c->logbook, change, error) &&
	       (change->is_removal
			       ? wdr_edit_volume_remove(p, change->file, now, error)
			       : wdr_edit_volume_put(p, change->file, data, len, &like, error)) &&
	       wdr_logbook_changed(c->logbook, change->number, error);
}

bool wdr_change_keep(const char *state, WdrChange *change, const char *name, const void *bytes,
	size_t len, GError **error)
{
	g_autofree char *folder = g_build_filename(state, "originals", NULL);
	char hash[WDR_HASH_TEXT_LEN + 1];

	/* By its content: two logbooks in one folder do not take each other's names. */
	change->before = wdr_hash(bytes, len);
	wdr_hash_to_text(change->before, hash);
	change->original = g_strdup_printf("%.16s-%s", hash, name);
	g_autofree char *path = g_build_filename(folder, change->original, NULL);
	/* What was for few eyes stays so. */
	return wdr_make_private_folder(folder, error) && wdr_record_write(path, bytes, len, error);
}

/* A file as it was found. */
typedef struct {
	char *text; /* NULL: there is none */
	size_t len;
	WdrEntry entry;
} Original;

static void original_clear(Original *o)
{
	g_free(o->text);
	wdr_entry_clear(&o->entry);
}
G_DEFINE_AUTO_CLEANUP_CLEAR_FUNC(Original, original_clear)

/* "cmdline.txt" becomes "cmdline.old", or "cmdline.2" when that is another file already. */
static bool copy_name(const WdrEditVolume *p, const char *file, const Original *o, char **ret,
	bool *ret_is_there, GError **error)
{
	const char *point = strrchr(file, '.');
	int stem = point ? (int)(point - file) : (int)strlen(file);

	for (unsigned n = 1; n <= COPIES_MAX; n++) {
		g_autofree char *name = n == 1 ? g_strdup_printf("%.*s.old", stem, file)
					       : g_strdup_printf("%.*s.%u", stem, file, n);
		g_autofree char *there = NULL;
		size_t there_len = 0;
		if (!wdr_edit_volume_read(p, name, &there, &there_len, NULL, error))
			return false;
		*ret_is_there = there && there_len == o->len && memcmp(there, o->text, o->len) == 0;
		if (!there || *ret_is_there) {
			*ret = g_steal_pointer(&name);
			return true;
		}
	}
	return wdr_error_set(
		error, WDR_ERROR_REFUSED, "there are %d old copies beside /%s", COPIES_MAX, file);
}

static bool keep_beside(WdrChanging *c, const WdrEditVolume *p, const WdrEdit *edit,
	const Original *o, GError **error)
{
	g_autofree char *name = NULL;
	bool is_there = false;

	if (!copy_name(p, edit->file, o, &name, &is_there, error) || is_there)
		return is_there;
	g_autofree char *base = g_path_get_basename(name);
	if (!p->tree && !wdr_fat_is_short_name(base)) {
		wdr_world_note(c->world,
			"/%s has too long a name for a copy beside it; the original is in %s",
			edit->file, c->state);
		return true;
	}
	g_autoptr(WdrChange) change = new_change(c, p, edit->number);
	change->file = g_steal_pointer(&name);
	change->after = wdr_hash(o->text, o->len);
	change->mode = o->entry.mode;
	change->uid = o->entry.uid;
	change->gid = o->entry.gid;
	return carry_out(c, p, change, o->text, o->len, error);
}

/* What a change of a file that was there starts with: the original is kept. */
static WdrChange *change_of_file(WdrChanging *c, const WdrEditVolume *p, unsigned number,
	const char *file, const Original *o, GError **error)
{
	g_autoptr(WdrChange) change = new_change(c, p, number);

	change->file = g_strdup(file);
	change->mode = o->entry.mode;
	change->uid = o->entry.uid;
	change->gid = o->entry.gid;
	change->mtime = o->entry.mtime;
	g_autofree char *base = g_path_get_basename(file);
	return wdr_change_keep(c->state, change, base, o->text, o->len, error)
		       ? g_steal_pointer(&change)
		       : NULL;
}

bool wdr_change_file(WdrChanging *c, const WdrEdit *edit, bool keeps_copy, GError **error)
{
	WdrEditVolume p;
	g_auto(Original) o = { 0 };
	g_autoptr(GBytes) bytes = NULL;
	size_t new_len = 0;

	if (!place_of(c, edit->number, &p, error) ||
		!wdr_edit_volume_read(&p, edit->file, &o.text, &o.len, &o.entry, error))
		return false;
	if (!o.text)
		return wdr_error_set(error, WDR_ERROR_REFUSED, "/%s is gone from partition %u",
			edit->file, edit->number);
	if (!wdr_edit_apply(edit, o.text, o.len, &bytes, error) ||
		!wdr_logbook_step(
			c->logbook, error, "changing /%s on %s", edit->file, c->disk->name) ||
		(keeps_copy && !keep_beside(c, &p, edit, &o, error)))
		return false;
	const void *new_text = g_bytes_get_data(bytes, &new_len);
	g_autoptr(WdrChange) change = change_of_file(c, &p, edit->number, edit->file, &o, error);
	if (!change)
		return false;
	change->after = wdr_hash(new_text, new_len);
	return carry_out(c, &p, change, new_text, new_len, error);
}

/* The file is as it was when the change was planned. */
static bool is_as_planned(const WdrNewContent *n, const char *text, size_t len, GError **error)
{
	bool is_same = n->before ? text && wdr_hash_equal(wdr_hash(text, len), *n->before) : !text;

	return is_same || wdr_error_set(error, WDR_ERROR_REFUSED,
				  "/%s of partition %u was changed since it was looked at", n->file,
				  n->number);
}

bool wdr_change_content(WdrChanging *c, const WdrNewContent *n, GError **error)
{
	WdrEditVolume p;
	g_auto(Original) o = { 0 };
	g_autoptr(WdrChange) change = NULL;
	const char *verb = !n->content ? "removing" : n->before ? "changing" : "adding";
	size_t new_len = 0;

	if (!place_of(c, n->number, &p, error) ||
		!wdr_edit_volume_read(&p, n->file, &o.text, &o.len, &o.entry, error) ||
		!is_as_planned(n, o.text, o.len, error) ||
		!wdr_logbook_step(c->logbook, error, "%s /%s on %s", verb, n->file, c->disk->name))
		return false;
	if (o.text) {
		change = change_of_file(c, &p, n->number, n->file, &o, error);
		if (!change)
			return false;
	} else {
		change = new_change(c, &p, n->number);
		change->file = g_strdup(n->file);
		change->mode = n->mode;
	}
	const void *bytes = n->content ? g_bytes_get_data(n->content, &new_len) : "";
	if (!bytes)
		bytes = "";
	change->is_removal = !n->content;
	if (n->content)
		change->after = wdr_hash(bytes, new_len);
	return carry_out(c, &p, change, bytes, new_len, error);
}

bool wdr_change_check_rest(const WdrWorld *world, const WdrDisk *disk, GError **error)
{
	/* A bench's proc lists mounts that its disks do not have: only what is really over its
	 * files counts. */
	g_autofree char *user = wdr_world_bench(world) ? wdr_disk_loop_user(world, disk)
						       : wdr_disk_user(world, disk);
	if (!user)
		return true;
	wdr_error_set(error, WDR_ERROR_REFUSED, "%s is in use: %s", disk->name, user);
	wdr_disk_hint_at_release(world, disk, "nothing was changed",
		"unmount it first, or name the running system with --running", error);
	return false;
}
