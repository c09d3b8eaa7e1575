/* The itinerary in memory: parts, table, disks, and whether a disk may be its target. */
#include "plan/itinerary.h"

#include "base/command.h"
#include "base/text.h"
#include "disk/backing.h"
#include "disk/users.h"

#include <string.h>

static void volume_clear(WdrItineraryVolume *p)
{
	g_free(p->uuid);
	g_free(p->label);
	g_free(p->partuuid);
	g_free(p->partlabel);
}

static void part_free(void *data)
{
	WdrItineraryPart *p = data;

	volume_clear(&p->from);
	volume_clear(&p->to);
	g_free(p->fs);
	g_free(p->type);
	g_free(p->attributes);
	g_free(p);
}

const char *wdr_itinerary_disk_word(const WdrItineraryDisk *disk)
{
	return disk->is_image ? disk->path : disk->name;
}

char *wdr_itinerary_redraw_command(const WdrItinerary *it)
{
	g_autofree char *into = it->into ? g_strdup_printf("%u", it->into) : NULL;

	return wdr_command("draft", "--from", wdr_itinerary_disk_word(&it->source), "--to",
		wdr_itinerary_disk_word(&it->target), it->what == WDR_MOVE_ROOT ? "--what" : "",
		it->what == WDR_MOVE_ROOT ? wdr_what_name(it->what) : "", into ? "--into" : "",
		into ? into : "", "-o", "new-itinerary.json");
}

void wdr_itinerary_disk_clear(WdrItineraryDisk *disk)
{
	g_free(disk->name);
	g_free(disk->path);
	g_free(disk->medium);
	g_free(disk->link);
	g_free(disk->model);
	g_free(disk->serial);
	g_free(disk->table_id);
	memset(disk, 0, sizeof(*disk));
}

static const char *const what_names[] = { "everything", "root", "nothing" };

const char *wdr_what_name(WdrWhat what)
{
	return what_names[what];
}

bool wdr_what_parse(const char *text, WdrWhat *ret)
{
	for (WdrWhat w = WDR_MOVE_EVERYTHING; w <= WDR_MOVE_NOTHING; w++) {
		if (strcmp(text, what_names[w]) == 0) {
			*ret = w;
			return true;
		}
	}
	return false;
}

WdrItinerary *wdr_itinerary_new(void)
{
	WdrItinerary *it = g_new0(WdrItinerary, 1);

	it->target_contents = wdr_target_contents_new();
	it->parts = g_ptr_array_new_with_free_func(part_free);
	it->edits = g_ptr_array_new_with_free_func((GDestroyNotify)wdr_edit_free);
	it->diffs = g_ptr_array_new_with_free_func(g_free);
	it->notes = g_ptr_array_new_with_free_func(g_free);
	it->left = wdr_left_new(NULL);
	return it;
}

void wdr_itinerary_free(WdrItinerary *it)
{
	if (!it)
		return;
	g_ptr_array_unref(it->target_contents);
	g_ptr_array_unref(it->parts);
	g_ptr_array_unref(it->edits);
	g_ptr_array_unref(it->diffs);
	g_ptr_array_unref(it->notes);
	g_ptr_array_unref(it->left);
	wdr_loader_area_clear(&it->loader);
	g_strfreev(it->pause);
	wdr_itinerary_disk_clear(&it->source);
	wdr_itinerary_disk_clear(&it->target);
	g_free(it->extended.type);
	g_free(it->made_by);
	g_free(it->table_id);
	g_free(it);
}

static char *fs_of(const WdrProbe *probe)
{
	if (!probe->type)
		return g_strdup("none");
	return g_strdup(g_str_has_prefix(probe->type, "ext") ? "ext4" : probe->type);
}

WdrItineraryPart *wdr_itinerary_part_like(const WdrSystemPart *from)
{
	WdrItineraryPart *p = g_new0(WdrItineraryPart, 1);

	p->number = from->partition->number;
	p->role = from->role;
	p->fs = fs_of(&from->probe);
	p->from = (WdrItineraryVolume){ from->partition->start, from->partition->size,
		g_strdup(from->probe.uuid), g_strdup(from->probe.label),
		g_strdup(from->partition->partuuid), g_strdup(from->partition->name) };
	p->type = g_strdup(from->partition->type);
	p->attributes = g_strdup(from->partition->attributes);
	p->is_active = from->partition->is_active;
	return p;
}

WdrItineraryPart *wdr_itinerary_root(const WdrItinerary *it)
{
	for (guint i = 0; i < it->parts->len; i++) {
		WdrItineraryPart *p = it->parts->pdata[i];
		if (p->role == WDR_ROLE_ROOT)
			return p;
	}
	return NULL;
}

unsigned wdr_itinerary_new_number(const WdrItinerary *it, const WdrItineraryPart *p)
{
	if (it->into)
		return it->into;
	bool is_alone = it->what == WDR_MOVE_ROOT && it->table == WDR_TABLE_MBR;
	return is_alone && p->number > WDR_PRIMARY_MAX ? 1 : p->number;
}

bool wdr_logical_is(const WdrItinerary *it, const WdrItineraryPart *p)
{
	return it->table == WDR_TABLE_MBR && !it->into &&
	       wdr_itinerary_new_number(it, p) > WDR_PRIMARY_MAX;
}

WdrIdentity wdr_itinerary_identity(const WdrItinerary *it, const WdrItineraryPart *p)
{
	return (WdrIdentity){ p->to.uuid, p->to.label, p->to.partuuid, p->to.partlabel,
		wdr_itinerary_new_number(it, p), it->target.is_image ? NULL : it->target.name,
		NULL };
}

WdrItineraryPart *wdr_itinerary_part(const WdrItinerary *it, unsigned number)
{
	for (guint i = 0; i < it->parts->len; i++) {
		WdrItineraryPart *p = it->parts->pdata[i];
		if (p->number == number)
			return p;
	}
	return NULL;
}

WdrEdit *wdr_itinerary_edit(
	const WdrItinerary *it, unsigned number, const char *file, bool is_on_source)
{
	for (guint i = 0; i < it->edits->len; i++) {
		WdrEdit *edit = it->edits->pdata[i];
		if (edit->number == number && edit->is_on_source == is_on_source &&
			strcmp(edit->file, file) == 0)
			return edit;
	}
	return NULL;
}

char **wdr_itinerary_patterns(const WdrItinerary *it)
{
	char **patterns = g_new0(char *, it->left->len + 1);

	for (guint i = 0; i < it->left->len; i++)
		patterns[i] = ((WdrLeft *)it->left->pdata[i])->pattern;
	return patterns;
}

WdrItineraryDisk wdr_itinerary_moved_target(const WdrItinerary *it)
{
	WdrItineraryDisk disk = it->target;

	disk.table = it->table;
	disk.table_id = it->table_id;
	return disk;
}

static void add_extended(const WdrItinerary *it, WdrPartTable *t)
{
	WdrPartition *p = wdr_parttable_add(t);

	p->number = it->extended.number;
	p->start = it->extended.start;
	p->size = it->extended.size;
	p->type = g_strdup(it->extended.type);
	p->partuuid = wdr_partuuid_mbr(it->table_id, p->number);
	p->is_extended = true;
}

WdrPartTable *wdr_itinerary_table(const WdrItinerary *it)
{
	WdrPartTable *t = wdr_parttable_new(it->table);

	t->id = g_strdup(it->table_id);
	if (it->extended.number)
		add_extended(it, t);
	for (guint i = 0; i < it->parts->len; i++) {
		const WdrItineraryPart *from = it->parts->pdata[i];
		WdrPartition *p = wdr_parttable_add(t);
		p->number = wdr_itinerary_new_number(it, from);
		p->is_logical = wdr_logical_is(it, from);
		p->start = from->to.start;
		p->size = from->to.size;
		p->type = g_strdup(from->type);
		p->partuuid = g_strdup(from->to.partuuid);
		p->name = g_strdup(from->to.partlabel);
		p->attributes = g_strdup(from->attributes);
		p->is_active = from->is_active;
	}
	return t;
}

bool wdr_itinerary_disk_find(
	const WdrWorld *world, const WdrItineraryDisk *disk, WdrDisk **ret, GError **error)
{
	return wdr_disk_find_source(world, wdr_itinerary_disk_word(disk), ret, error);
}

bool wdr_itinerary_disk_describe(
	const WdrDisk *disk, WdrBlockDev *dev, WdrItineraryDisk *ret, GError **error)
{
	g_autoptr(WdrPartTable) table = NULL;

	if (!wdr_parttable_read(dev, &table, error))
		return false;
	*ret = (WdrItineraryDisk){ .name = g_strdup(disk->name),
		.path = g_canonicalize_filename(wdr_disk_file_named(disk), NULL),
		.medium = g_strdup(disk->medium),
		.link = g_strdup(disk->link),
		.model = g_strdup(disk->model),
		.serial = g_strdup(disk->serial),
		.is_image = disk->is_image,
		.size = wdr_blockdev_size(dev),
		.sector_size = wdr_blockdev_sector_size(dev),
		.table = table->kind,
		.table_id = g_strdup(table->id) };
	return true;
}

static bool other_disk(GError **error, const char *which, const WdrItineraryDisk *then,
	const char *what, const char *was, const char *is)
{
	wdr_error_set(error, WDR_ERROR_REFUSED,
		"the %s %s is not the disk that the itinerary was drawn for: its %s was %s and is %s",
		which, then->name, what, was ? was : "unknown", is ? is : "unknown");
	g_autofree char *look = wdr_command("survey");
	wdr_error_hint(
		error, "nothing was written; check the disks, then draw a new itinerary: %s", look);
	return false;
}

bool wdr_itinerary_check_disk(const WdrItineraryDisk *then, const WdrItineraryDisk *now,
	const char *which, GError **error)
{
	g_autofree char *was = wdr_format_size(then->size);
	g_autofree char *is = wdr_format_size(now->size);

	if (g_strcmp0(then->model, now->model) != 0)
		return other_disk(error, which, then, "model", then->model, now->model);
	if (g_strcmp0(then->serial, now->serial) != 0)
		return other_disk(error, which, then, "serial", then->serial, now->serial);
	if (then->size != now->size)
		return other_disk(error, which, then, "size", was, is);
	if (then->table != now->table)
		return other_disk(error, which, then, "partition table",
			wdr_table_kind_name(then->table), wdr_table_kind_name(now->table));
	if (g_strcmp0(then->table_id, now->table_id) != 0)
		return other_disk(
			error, which, then, "disk identifier", then->table_id, now->table_id);
	return true;
}

bool wdr_itinerary_look_at_target_contents(
	WdrItinerary *it, WdrBlockDev *dev, GPtrArray **ret_changes, GError **error)
{
	GPtrArray *now = NULL;

	if (!wdr_target_contents_find(dev, it->into, &now, error))
		return false;
	*ret_changes = wdr_target_contents_compare(it->target_contents, now);
	g_ptr_array_unref(it->target_contents);
	it->target_contents = now;
	return true;
}

/* Neither the same bytes, by whatever names, nor one that lies on the other. */
static bool check_apart(
	const WdrWorld *world, const WdrDisk *source, const WdrDisk *target, GError **error)
{
	g_autoptr(WdrBacking) from = wdr_backing_of(world, source);
	g_autoptr(WdrBacking) to = wdr_backing_of(world, target);

	if (strcmp(source->path, target->path) == 0 || wdr_backing_is_shared(from, to)) {
		wdr_error_set(error, WDR_ERROR_REFUSED,
			"source and target are the same disk: %s and %s", source->name,
			target->name);
		wdr_error_hint(error, "nothing was written; name another disk with --to");
		return false;
	}
	if (!wdr_backing_holds(to, from))
		return true;
	wdr_error_set(error, WDR_ERROR_REFUSED,
		"the source %s is a file on the target %s: erasing the target would take it away",
		source->name, target->name);
	wdr_error_hint(error, "nothing was written; copy the source to another disk first");
	return false;
}

bool wdr_check_target_spares(
	const WdrWorld *world, const WdrDisk *target, const char *folder, GError **error)
{
	g_autoptr(WdrBacking) to = wdr_backing_of(world, target);
	g_autoptr(WdrBacking) kept = wdr_backing_of_path(folder);

	if (!wdr_backing_holds(to, kept))
		return true;
	wdr_error_set(error, WDR_ERROR_REFUSED,
		"the records of this move lie in %s, on the target %s itself", folder,
		target->name);
	wdr_error_hint(
		error, "nothing was written; name a folder on another disk with --state DIR");
	return false;
}

bool wdr_check_target(
	const WdrWorld *world, const WdrDisk *source, const WdrDisk *target, GError **error)
{
	if (!check_apart(world, source, target, error))
		return false;
	g_autofree char *user = wdr_disk_user(world, target);
	if (user) {
		wdr_error_set(error, WDR_ERROR_REFUSED, "the target is in use: %s", user);
		wdr_disk_hint_at_release(
			world, target, "nothing was written", "unmount or detach it first", error);
		return false;
	}
	if (target->is_read_only) {
		wdr_error_set(error, WDR_ERROR_REFUSED, "the target %s cannot be written to",
			target->name);
		wdr_error_hint(error, "look for a write-protect switch, or for missing rights");
		return false;
	}
	return true;
}

WdrPartMethod wdr_itinerary_method(const WdrItineraryPart *p)
{
	if (strcmp(p->fs, "ext4") == 0)
		return WDR_METHOD_EXT;
	if (strcmp(p->fs, "vfat") == 0)
		return WDR_METHOD_FAT;
	return strcmp(p->fs, "swap") == 0 ? WDR_METHOD_SWAP : WDR_METHOD_BLOCKS;
}
