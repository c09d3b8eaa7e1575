/* Drawing the itinerary. */
#include "plan/itinerary.h"

#include "base/command.h"
#include "base/text.h"
#include "plan/database_writers.h"
#include "plan/draft_edits.h"
#include "plan/layout.h"
#include "plan/logical_partitions.h"
#include "plan/measure.h"
#include "plan/new_identifiers.h"
#include "plan/running_source.h"
#include "plan/second_machine.h"
#include "plan/source.h"
#include "plan/target_partition.h"
#include "world/pause.h"

#include <string.h>

/* Without --table the new table is the source's kind; where its partitions cannot be, say so. */
static bool choose_table(WdrItinerary *it, const WdrPartTable *source,
	const WdrDraftOptions *options, GError **error)
{
	it->table = options->table == WDR_TABLE_NONE ? it->source.table : options->table;
	for (guint i = 0; i < it->parts->len; i++) {
		WdrItineraryPart *p = it->parts->pdata[i];
		const char *type = wdr_layout_type(p->type, it->source.table, it->table);
		if (!type)
			return wdr_error_set(error, WDR_ERROR_UNSUPPORTED,
				"partition %u has type %s, for which %s has no counterpart",
				p->number, p->type, wdr_table_kind_name(it->table));
		char *copy = g_strdup(type);
		g_free(p->type);
		p->type = copy;
		if (it->table == WDR_TABLE_MBR)
			g_clear_pointer(&p->attributes, g_free);
	}
	return wdr_logical_arrange(it, source, error);
}

static void add_part(WdrItinerary *it, const WdrSystemPart *from)
{
	WdrItineraryPart *p = wdr_itinerary_part_like(from);

	/* A root whose boot files stay elsewhere is nothing that a loader should look at. */
	p->is_active = p->is_active && it->what != WDR_MOVE_ROOT;
	g_ptr_array_add(it->parts, p);
}

/* ---- does it fit ---- */

typedef struct {
	const WdrWorld *world;
	const WdrSource *source;
	const char *scratch;
} Fitting;

static bool judge_room(
	WdrItinerary *it, WdrItineraryPart *p, uint64_t capacity, uint64_t need, GError **error)
{
	p->spare = capacity > need ? capacity - need : 0;
	if (capacity >= need)
		return true;
	g_autofree char *missing = wdr_format_size(need - capacity);
	g_autofree char *has = wdr_format_size(p->to.size);
	wdr_error_set(error, WDR_ERROR_NO_SPACE,
		"the target %s is too small by %s: the contents of partition %u (%s) do not fit into %s",
		it->target.name, missing, p->number, wdr_role_name(p->role), has);
	wdr_error_hint(error,
		"nothing was written; use a larger target, ask for less --leave-free, or make "
		"room on the source");
	return false;
}

/* What there is to copy of a part. */
static bool measure(WdrItinerary *it, const Fitting *f, WdrItineraryPart *p, uint32_t block_size,
	uint64_t *ret_room, GError **error)
{
	const WdrSystemPart *from = wdr_system_part(f->source->system, p->number);
	g_autoptr(WdrExclude) exclude =
		wdr_running_exclude(f->world, it, f->source->system, from, NULL);
	WdrMeasure m;

	if (!wdr_measure(from->volume, exclude, it->left, block_size, &m, error))
		return false;
	if (m.unread)
		g_ptr_array_add(it->notes,
			g_strdup_printf("partition %u: %" G_GUINT64_FORMAT
					" folder%s or entr%s cannot be read; a move names what is "
					"missing, and ends only with --accept-damage",
				p->number, m.unread, m.unread == 1 ? "" : "s",
				m.unread == 1 ? "y" : "ies"));
	p->entries = m.entries;
	p->unread = m.unread;
	p->bytes = m.bytes;
	*ret_room = m.room;
	return true;
}

static bool fit_ext(const Fitting *f, WdrItinerary *it, WdrItineraryPart *p,
	const WdrSystemPart *from, GError **error)
{
	g_auto(WdrExtSpec) spec = { 0 };
	g_autofree char *left_out = NULL;
	uint64_t room = 0;
	uint64_t capacity = 0;

	if (!wdr_ext_spec_like(wdr_system_part_ext(from), &spec, &left_out, error) ||
		!measure(it, f, p, spec.block_size, &room, error))
		return false;
	if (spec.block_size < it->target.sector_size)
		return wdr_error_set(error, WDR_ERROR_UNSUPPORTED,
			"partition %u has blocks of %u bytes, the target's sectors have %u",
			p->number, spec.block_size, it->target.sector_size);
	if (left_out)
		g_ptr_array_add(it->notes, g_steal_pointer(&left_out));
	/* Folders and the last blocks of files are written too. */
	p->bytes = room;
	p->inodes = wdr_ext_spec_inodes(&from->ext, p->to.size, p->entries);
	spec.inodes = p->inodes;
	g_strlcpy(spec.uuid, p->to.uuid, sizeof(spec.uuid));
	return wdr_ext_spec_capacity(f->world, &spec, p->to.size, f->scratch, &capacity, error) &&
	       judge_room(it, p, capacity, room, error);
}

static bool fit_fat(const Fitting *f, WdrItinerary *it, WdrItineraryPart *p,
	const WdrSystemPart *from, GError **error)
{
	WdrFatMeasure all;
	WdrFatSpec spec;
	uint64_t capacity = 0;
	uint64_t need = 0;
	uint64_t room = 0;

	wdr_fat_spec_like(&from->fat, p->to.size, it->target.sector_size, &spec);
	if (!wdr_fat_volume_need(from->volume, spec.cluster_bytes, &all, &need, error) ||
		!wdr_fat_spec_capacity(f->world, &spec, p->to.size, f->scratch, &capacity, error) ||
		!measure(it, f, p, spec.cluster_bytes, &room, error))
		return false;
	p->cluster_bytes = spec.cluster_bytes;
	return judge_room(it, p, capacity, need, error);
}

/* The same size fits; the note is about the identifiers, which are kept. */
static void fit_blocks(WdrItinerary *it, WdrItineraryPart *p)
{
	p->bytes = p->from.size;
	if (strcmp(p->fs, "none") == 0)
		g_ptr_array_add(it->notes,
			g_strdup_printf(
				"partition %u holds no file system that is known: its blocks are "
				"copied as they are",
				p->number));
	if (p->from.uuid)
		g_ptr_array_add(it->notes,
			g_strdup_printf(
				"partition %u (%s) is copied block by block and keeps its UUID "
				"%s: while both disks are plugged in, it names both",
				p->number, p->fs, p->from.uuid));
}

static bool fit_all(const Fitting *f, WdrItinerary *it, GError **error)
{
	for (guint i = 0; i < it->parts->len; i++) {
		WdrItineraryPart *p = it->parts->pdata[i];
		const WdrSystemPart *from = wdr_system_part(f->source->system, p->number);
		WdrPartMethod method = wdr_itinerary_method(p);
		if (method == WDR_METHOD_BLOCKS)
			fit_blocks(it, p);
		else if (method != WDR_METHOD_SWAP &&
			 !(method == WDR_METHOD_EXT ? fit_ext : fit_fat)(f, it, p, from, error))
			return false;
	}
	return true;
}

/* ---- what stays behind ---- */

/* A file that has to be edited must not be left behind, nor a folder that it is in. */
static bool check_left(const Fitting *f, const WdrItinerary *it, GError **error)
{
	for (guint i = 0; i < it->edits->len; i++) {
		const WdrEdit *edit = it->edits->pdata[i];
		const WdrSystemPart *part = wdr_system_part(f->source->system, edit->number);
		g_autoptr(WdrExclude) exclude =
			wdr_running_exclude(f->world, it, f->source->system, part, NULL);
		g_autofree char *path = g_strdup(edit->file);
		WdrKind kind = WDR_KIND_FILE;
		for (char *slash = path; slash && *path; kind = WDR_KIND_FOLDER) {
			if (!edit->is_on_source &&
				wdr_exclude_rule(exclude, path, kind) != WDR_EXCLUDE_COPIED)
				return wdr_error_set(error, WDR_ERROR_USAGE,
					"--leave-behind: /%s names the root or boot partition "
					"and must be copied",
					edit->file);
			slash = strrchr(path, '/');
			if (slash)
				*slash = '\0';
		}
	}
	return true;
}

/* ---- the loader area ---- */

static bool can_start_from_area(const WdrItineraryDisk *target)
{
	return target->is_image || wdr_medium_is_card(target->medium);
}

static bool choose_loader(
	WdrItinerary *it, const WdrSource *source, const WdrDraftOptions *options, GError **error)
{
	g_auto(WdrLoaderArea) found = { 0 };

	if (it->what != WDR_MOVE_EVERYTHING)
		return true;
	if (!wdr_loader_area_find(source->system->dev, source->system->table, &found, error))
		return false;
	if (found.size == 0)
		return true;
	g_autofree char *size = wdr_format_size(found.size);
	if (!options->with_loader && !can_start_from_area(&it->target)) {
		g_ptr_array_add(it->notes,
			g_strdup_printf(
				"the loader area before the first partition (%s, %s) is not "
				"copied: boards boot from it on SD and eMMC only; --with loader "
				"copies it",
				found.what, size));
		return true;
	}
	if (found.start < wdr_table_end(it->table, it->target.sector_size)) {
		wdr_error_set(error, WDR_ERROR_UNSUPPORTED,
			"the loader before the first partition (%s) lies where a GPT would be",
			found.what);
		g_autofree char *same = wdr_command_again("--table", "same");
		wdr_error_hint(error, "to keep the kind of table: %s", same);
		return false;
	}
	g_ptr_array_add(it->notes,
		g_strdup_printf("the loader area before the first partition is copied too: %s, %s",
			found.what, size));
	it->loader = found;
	found = (WdrLoaderArea){ 0 };
	return true;
}

/* ---- notes ---- */

static void add_notes(WdrItinerary *it, const WdrDraftOptions *options)
{
	if (options->keep_identifiers)
		g_ptr_array_add(it->notes,
			g_strdup("both disks will have the same identifiers: never boot a board "
				 "with both of them plugged in"));
	if (it->table == WDR_TABLE_GPT && !it->into && it->source.table != WDR_TABLE_GPT)
		g_ptr_array_add(it->notes,
			g_strdup(
				"a GPT is read by boards with firmware in an EEPROM only (4 and 5 series)"));
	if (it->extended.number)
		g_ptr_array_add(it->notes,
			g_strdup_printf(
				"partition %u of the target is the extended one, around all "
				"from 5 on",
				it->extended.number));
	if (it->target.table != WDR_TABLE_NONE && !it->into)
		g_ptr_array_add(it->notes,
			g_strdup_printf(
				"the target is not empty: it has a partition table (%s %s), which will be "
				"erased with all that is on the disk",
				wdr_table_kind_name(it->target.table), it->target.table_id));
	if (it->table == WDR_TABLE_MBR && !it->into &&
		it->target.size > wdr_table_usable_end(
					  WDR_TABLE_MBR, it->target.size, it->target.sector_size))
		g_ptr_array_add(it->notes,
			g_strdup(
				"an MBR reaches 2 TiB only; the rest of the target stays unused (--table gpt "
				"uses all of it)"));
}

/* A table of its own gives a logical root a number of its own. */
static void note_number(WdrItinerary *it)
{
	const WdrItineraryPart *p = it->parts->pdata[0];
	unsigned number = wdr_itinerary_new_number(it, p);

	if (!it->into && it->parts->len == 1 && number != p->number)
		g_ptr_array_add(it->notes,
			g_strdup_printf("root is partition %u of the target, not %u: it is alone "
					"there, and %u would be a logical one",
				number, p->number, p->number));
}

/* Cheap USB bridges all have the same serial. */
static void note_twins(const WdrWorld *world, WdrItinerary *it)
{
	g_autoptr(GPtrArray) disks = NULL;

	if (it->target.is_image || !it->target.serial || !wdr_disks_list(world, &disks, NULL))
		return;
	for (guint i = 0; i < disks->len; i++) {
		const WdrDisk *d = disks->pdata[i];
		if (strcmp(d->name, it->target.name) != 0 &&
			g_strcmp0(d->serial, it->target.serial) == 0 &&
			g_strcmp0(d->model, it->target.model) == 0)
			g_ptr_array_add(it->notes,
				g_strdup_printf(
					"%s has the same model and serial as the target %s: make sure by "
					"size and contents which is which, or unplug one",
					d->name, it->target.name));
	}
}

static void note_running(const WdrWorld *world, WdrItinerary *it)
{
	g_autoptr(GPtrArray) writers = wdr_writers_find(world);

	g_ptr_array_add(it->notes,
		g_strdup(
			"the source is running: what changes while it is copied is copied again at the "
			"end"));
	for (guint i = 0; i < writers->len; i++) {
		const WdrWriter *w = writers->pdata[i];
		g_autofree char *name = wdr_escape(w->name);
		g_ptr_array_add(it->notes,
			g_strdup_printf(
				"%s has %u file%s in %s open for writing: stop it before the move, or "
				"before the last catchup; otherwise they are copied as after a power cut",
				name, w->files, w->files == 1 ? "" : "s", w->folder));
	}
}

/* ---- all of it ---- */

static bool read_room(
	const WdrItinerary *it, const WdrDraftOptions *options, WdrLayoutRoom *ret, GError **error)
{
	if (options->boot_size && strchr(options->boot_size, '%'))
		return wdr_error_set(error, WDR_ERROR_USAGE,
			"--boot-size is a size like 512M, not '%s'", options->boot_size);
	return (!options->leave_free || wdr_parse_size(options->leave_free, it->target.size,
						&ret->leave_free, error)) &&
	       (!options->boot_size ||
		       wdr_parse_size(options->boot_size, 0, &ret->boot_size, error));
}

static bool open_target(const WdrDisk *disk, uint32_t sector_size, WdrItineraryDisk *ret,
	WdrBlockDev **ret_dev, GError **error)
{
	g_autoptr(WdrBlockDev) dev = NULL;

	if (!wdr_blockdev_open(disk->path, WDR_OPEN_READ, &dev, error))
		return false;
	if (disk->is_image && sector_size)
		wdr_blockdev_set_sector_size(dev, sector_size);
	if (!wdr_itinerary_disk_describe(disk, dev, ret, error))
		return false;
	*ret_dev = g_steal_pointer(&dev);
	return true;
}

static void note_into(WdrItinerary *it, WdrBlockDev *target)
{
	const WdrItineraryPart *p = it->parts->pdata[0];
	g_auto(WdrProbe) holds = { 0 };
	g_autofree char *size = wdr_format_size(p->to.size);
	g_autofree char *name = wdr_itinerary_erased(it);

	if (!wdr_probe_read(target, p->to.start, p->to.size, &holds, NULL))
		holds.type = NULL;
	g_autofree char *label = holds.label ? wdr_escape(holds.label) : NULL;
	g_ptr_array_add(it->notes,
		g_strdup_printf("only %s (%s, %s%s%s) will be erased; the partition table and all "
				"other partitions of %s stay as they are",
			name, size, holds.type ? holds.type : "nothing that is known",
			label ? ", label " : "", label ? label : "", it->target.name));
}

/* Where everything goes: a new table, or a partition of the old one. */
static bool choose_places(WdrItinerary *it, const WdrSource *source, WdrBlockDev *target,
	const WdrDraftOptions *options, GError **error)
{
	g_autoptr(WdrPartTable) table = NULL;
	WdrLayoutRoom room = { 0 };

	if (!options->into)
		return choose_table(it, source->system->table, options, error) &&
		       read_room(it, options, &room, error) &&
		       wdr_layout_arrange(it, &room, error) &&
		       wdr_identifiers_choose(it, source->system->table->id, options, error);
	it->table = it->target.table;
	if (!wdr_parttable_read(target, &table, error) ||
		!wdr_identifiers_choose(it, source->system->table->id, options, error) ||
		!wdr_into_choose(it, table, options, options->into, error))
		return false;
	note_into(it, target);
	return true;
}

static bool check_pause(const Fitting *f, const WdrItinerary *it, GError **error)
{
	if (!wdr_running_is(f->source->system))
		return wdr_error_set(error, WDR_ERROR_USAGE,
			"--pause stops services of the running system, and that does not run from %s",
			it->source.name);
	return wdr_pause_check(f->world, it->pause, error);
}

static bool draw(const Fitting *f, WdrItinerary *it, WdrBlockDev *target,
	const WdrDraftOptions *options, GError **error)
{
	const WdrSource *source = f->source;
	g_autoptr(GPtrArray) first_look = NULL;

	g_ptr_array_unref(it->left);
	it->left = wdr_left_new(options->leave_behind);
	for (guint i = 0; i < source->system->parts->len; i++) {
		const WdrSystemPart *p = source->system->parts->pdata[i];
		/* The extended partition is created again around the logical ones. */
		bool is_wanted = it->what == WDR_MOVE_EVERYTHING && !p->partition->is_extended;
		if (is_wanted || p == source->system->root)
			add_part(it, p);
	}
	if (!choose_places(it, source, target, options, error) || !fit_all(f, it, error) ||
		!wdr_edits_make(it, source->system, options, error) ||
		(options->second_name && !wdr_second_machine_edit(it, source->system,
						 options->second_name, error)) ||
		!check_left(f, it, error) || !choose_loader(it, source, options, error))
		return false;
	if (!wdr_itinerary_look_at_target_contents(it, target, &first_look, error))
		return false;
	add_notes(it, options);
	note_number(it);
	note_twins(f->world, it);
	if (wdr_running_is(source->system))
		note_running(f->world, it);
	it->pause = g_strdupv((char **)options->pause);
	return !it->pause || check_pause(f, it, error);
}

bool wdr_itinerary_draft(const WdrWorld *world, const WdrDraftOptions *options, WdrItinerary **ret,
	WdrSource **ret_source, GError **error)
{
	g_autoptr(WdrItinerary) it = wdr_itinerary_new();
	g_autoptr(WdrDisk) target = NULL;
	g_autoptr(WdrSource) source = NULL;
	g_autoptr(WdrBlockDev) dev = NULL;
	const WdrSourceOpening how = {
		.scratch = options->scratch, .notes = it->notes, .earlier = options->looked_at
	};
	WdrDisk *disk = NULL;

	it->made_by = g_strdup(WDR_VERSION);
	it->made_at = wdr_world_now(world);
	it->what = options->what;
	if (!wdr_exclude_check(options->leave_behind, error) ||
		!wdr_disk_find(world, options->to, &target, error) ||
		!wdr_disk_find_source(world, options->from, &disk, error))
		return false;
	if (!wdr_check_target(world, disk, target, error)) {
		wdr_disk_free(disk);
		return false;
	}
	wdr_world_step(world, "reading the source %s", disk->name);
	if (!wdr_source_open(world, disk, &how, &source, error) ||
		!wdr_itinerary_disk_describe(
			source->disk, source->system->dev, &it->source, error) ||
		!open_target(target, options->sector_size, &it->target, &dev, error))
		return false;
	const Fitting f = { world, source, options->scratch };
	if (!draw(&f, it, dev, options, error))
		return false;
	*ret = g_steal_pointer(&it);
	/* Its disk stays open, and with it what the kernel has in memory of it. */
	wdr_source_rest(source);
	if (ret_source)
		*ret_source = g_steal_pointer(&source);
	return true;
}
