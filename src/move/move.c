#include "move/move.h"

#include "base/io.h"
#include "base/stop.h"
#include "base/text.h"
#include "move/carry.h"
#include "move/change.h"
#include "move/logbook.h"
#include "move/packing.h"
#include "move/source.h"

#include <string.h>
#include <unistd.h>

enum { HELD_BYTES = 64 * 1024, WIPE_BYTES = 1024 * 1024 };

typedef struct {
	const WdrWorld *world;
	const WdrItinerary *it;
	const char *state;
	WdrSource *source;
	WdrBlockDev *target;
	WdrPartTable *table;
	WdrLogbook *logbook;
	WdrMoveResult *result;
	bool *has_begun;
} Move;

void wdr_move_result_clear(WdrMoveResult *r)
{
	g_clear_pointer(&r->state, g_free);
}

char *wdr_move_default_state(const WdrWorld *world, const WdrItineraryDisk *target)
{
	if (target->is_image)
		return g_strconcat(target->path, ".wanderitas", NULL);
	g_autofree char *base = wdr_world_path(world, "/var/lib/wanderitas");
	g_autofree char *name = g_strdup_printf("to-%s", target->name);
	return g_build_filename(base, name, NULL);
}

static char *state_file(const Move *m, const char *name)
{
	return g_build_filename(m->state, name, NULL);
}

static char *packing_file(const Move *m, const WdrItineraryPart *p)
{
	g_autofree char *name = g_strdup_printf("packing-%u.list", p->number);

	return state_file(m, name);
}

/* ---- before anything is written ---- */

/* Notes that the itinerary does not have already: the source may have changed since. */
static void tell_notes(const Move *m, const GPtrArray *notes)
{
	for (guint i = 0; i < notes->len; i++) {
		if (!g_ptr_array_find_with_equal_func(
			    m->it->notes, notes->pdata[i], g_str_equal, NULL))
			wdr_world_note(m->world, "%s", (const char *)notes->pdata[i]);
	}
}

static bool open_source(Move *m, GError **error)
{
	g_autoptr(GPtrArray) notes = g_ptr_array_new_with_free_func(g_free);
	g_auto(WdrItineraryDisk) now = { 0 };
	const char *text = m->it->source.is_image ? m->it->source.path : m->it->source.name;
	WdrDisk *disk = NULL;

	if (!wdr_disk_find(m->world, text, &disk, error))
		return false;
	wdr_world_step(m->world, "looking at the source %s", m->it->source.name);
	if (!wdr_source_open(m->world, disk, m->state, notes, &m->source, error))
		return false;
	tell_notes(m, notes);
	return wdr_itinerary_disk_describe(m->source->disk, m->source->system->dev, &now, error) &&
	       wdr_itinerary_check_disk(&m->it->source, &now, "source", error);
}

static bool open_target(Move *m, GError **error)
{
	g_autoptr(WdrDisk) disk = NULL;
	g_auto(WdrItineraryDisk) now = { 0 };
	const char *text = m->it->target.is_image ? m->it->target.path : m->it->target.name;

	if (!wdr_disk_find(m->world, text, &disk, error) ||
		!wdr_check_target(m->world, m->source->disk, disk, error) ||
		!wdr_blockdev_open(disk->path, WDR_OPEN_WRITE, &m->target, error))
		return false;
	if (disk->is_image)
		wdr_blockdev_set_sector_size(m->target, m->it->target.sector_size);
	return wdr_itinerary_disk_describe(disk, m->target, &now, error) &&
	       wdr_itinerary_check_disk(&m->it->target, &now, "target", error);
}

/* The part whose start is written last: a half-done target must not be taken for a system. */
static const WdrItineraryPart *last_part(const WdrItinerary *it)
{
	const WdrItineraryPart *root = NULL;

	for (guint i = 0; i < it->parts->len; i++) {
		const WdrItineraryPart *p = it->parts->pdata[i];
		if (p->role == WDR_ROLE_BOOT)
			return p;
		root = p->role == WDR_ROLE_ROOT ? p : root;
	}
	return root;
}

static WdrSystemPart *source_part(const Move *m, unsigned number)
{
	return wdr_system_part(m->source->system, number);
}

/* Every part is still the volume that it was. */
static bool check_parts(const Move *m, GError **error)
{
	for (guint i = 0; i < m->it->parts->len; i++) {
		const WdrItineraryPart *p = m->it->parts->pdata[i];
		const WdrSystemPart *s = source_part(m, p->number);
		bool is_same =
			s && s->volume && g_strcmp0(s->probe.uuid, p->from.uuid) == 0 &&
			(strcmp(p->fs, "vfat") == 0) == (strcmp(s->volume->ops->type, "vfat") == 0);
		if (!is_same)
			return wdr_error_set(error, WDR_ERROR_REFUSED,
				"partition %u of the source is not the volume that the itinerary was drawn for",
				p->number);
	}
	return m->it->what == WDR_MOVE_ROOT || m->it->parts->len == m->source->system->parts->len
		       ? true
		       : wdr_error_set(error, WDR_ERROR_REFUSED,
				 "the source has other partitions than when the itinerary was drawn");
}

static bool apply_edit(const Move *m, const WdrEdit *edit, WdrReplacements *into, GError **error)
{
	WdrSystemPart *s = source_part(m, edit->number);
	g_autofree char *text = NULL;
	size_t len = 0;
	GBytes *bytes = NULL;

	if (!s || !s->volume)
		return wdr_error_set(error, WDR_ERROR_REFUSED,
			"partition %u of the source, which holds /%s, is gone", edit->number,
			edit->file);
	if (!wdr_volume_read_file(s->volume, edit->file, WDR_EDITED_BYTES_MAX, &text, &len, error))
		return false;
	if (!text)
		return wdr_error_set(error, WDR_ERROR_REFUSED, "/%s is gone from partition %u",
			edit->file, edit->number);
	if (!wdr_edit_apply(edit, text, len, &bytes, error))
		return false;
	g_hash_table_insert(into, g_strdup(edit->file), bytes);
	return true;
}

/* The replaced files of one partition; number 0: all, only to see whether the edits still fit. */
static bool replacements_for(const Move *m, unsigned number, WdrReplacements **ret, GError **error)
{
	g_autoptr(GHashTable) all = wdr_replacements_new();

	for (guint i = 0; i < m->it->edits->len; i++) {
		const WdrEdit *edit = m->it->edits->pdata[i];
		bool is_wanted = number == 0 || (edit->number == number && !edit->is_on_source);
		if (is_wanted && !apply_edit(m, edit, all, error))
			return false;
	}
	*ret = g_steal_pointer(&all);
	return true;
}

static bool has_source_edits(const WdrItinerary *it)
{
	for (guint i = 0; i < it->edits->len; i++) {
		if (((const WdrEdit *)it->edits->pdata[i])->is_on_source)
			return true;
	}
	return false;
}

static bool prepare(Move *m, GError **error)
{
	g_autoptr(GHashTable) edits = NULL;

	if (!open_source(m, error) || !check_parts(m, error) ||
		!replacements_for(m, 0, &edits, error) || !open_target(m, error) ||
		(has_source_edits(m->it) &&
			!wdr_change_check_rest(m->world, m->source->disk, error)))
		return false;
	m->table = wdr_itinerary_table(m->it);
	return true;
}

static bool begin_logbook(Move *m, GError **error)
{
	g_autofree char *itinerary = state_file(m, "itinerary.json");
	g_autofree char *logbook = state_file(m, "logbook.jsonl");
	g_autofree char *json = wdr_itinerary_to_json(m->it);

	return wdr_write_file(itinerary, json, strlen(json), error) &&
	       wdr_logbook_begin(m->world, logbook, "itinerary.json", &m->logbook, error);
}

/* ---- step 1: an empty table, and the note ---- */

static bool wipe(Move *m, uint64_t start, uint64_t size, GError **error)
{
	uint64_t part = MIN(size, WIPE_BYTES);

	return wdr_blockdev_zero(m->target, start, part, error) &&
	       wdr_blockdev_zero(m->target, start + size - part, part, error);
}

static bool clear_target(Move *m, GError **error)
{
	uint8_t note[512] = WDR_UNFINISHED_NOTE;

	if (!wdr_logbook_step(m->logbook, error, "clearing %s and writing an empty partition table",
		    m->it->target.name))
		return false;
	*m->has_begun = true;
	if (!wipe(m, 0, wdr_blockdev_size(m->target), error))
		return false;
	for (guint i = 0; i < m->it->parts->len; i++) {
		const WdrItineraryPart *p = m->it->parts->pdata[i];
		if (!wipe(m, p->to.start, p->to.size, error))
			return false;
		if (p == last_part(m->it) &&
			!wdr_blockdev_write(m->target, note, sizeof(note), p->to.start, error))
			return false;
	}
	return wdr_blockdev_flush(m->target, error) &&
	       wdr_parttable_write(m->target, m->table, false, error);
}

/* ---- volumes ---- */

static bool new_ext_builder(Move *m, const WdrItineraryPart *p, WdrBlockDev *dev, uint64_t offset,
	WdrCarryCount *count, WdrBuilder **ret, GError **error)
{
	g_auto(WdrExtSpec) spec = { 0 };
	g_autofree char *left_out = NULL;
	WdrBuildTarget target = { dev, offset, p->to.size, m->source->scratch, wdr_carry_count_done,
		count };

	if (!wdr_ext_spec_like(source_part(m, p->number)->volume, &spec, &left_out, error))
		return false;
	spec.inodes = p->inodes;
	g_strlcpy(spec.uuid, p->to.uuid, sizeof(spec.uuid));
	g_strlcpy(spec.label, p->to.label ? p->to.label : "", sizeof(spec.label));
	return wdr_ext_builder_new(m->world, &target, &spec, ret, error);
}

static bool new_fat_builder(Move *m, const WdrItineraryPart *p, WdrBlockDev *dev, uint64_t offset,
	WdrCarryCount *count, WdrBuilder **ret, GError **error)
{
	WdrBuildTarget target = { dev, offset, p->to.size, m->source->scratch, wdr_carry_count_done,
		count };
	WdrFatSpec spec;

	wdr_fat_spec_like(
		&source_part(m, p->number)->fat, p->to.size, m->it->target.sector_size, &spec);
	spec.serial = wdr_fat_serial_of(p->to.uuid);
	spec.hidden_sectors = (uint32_t)MIN(p->to.start / m->it->target.sector_size, G_MAXUINT32);
	spec.made_at = wdr_world_now(m->world);
	g_strlcpy(spec.label, p->to.label ? p->to.label : "", sizeof(spec.label));
	return wdr_fat_builder_new(m->world, &target, &spec, ret, error);
}

static double now_s(void)
{
	return (double)g_get_monotonic_time() / G_USEC_PER_SEC;
}

/* Fills the volume at offset of dev, which is the target or a part of it. */
static bool fill(
	Move *m, const WdrItineraryPart *p, WdrBlockDev *dev, uint64_t offset, GError **error)
{
	g_autoptr(WdrCarryCount) count = wdr_carry_count_new();
	g_autoptr(GHashTable) replacements = NULL;
	g_autoptr(WdrPacking) packing = NULL;
	g_autoptr(WdrBuilder) builder = NULL;
	g_autofree char *list = packing_file(m, p);
	bool is_ext = strcmp(p->fs, "ext4") == 0;
	double begun = now_s();

	if (!wdr_logbook_step(m->logbook, error, "carrying partition %u (%s, %s)", p->number,
		    wdr_role_name(p->role), p->fs) ||
		!replacements_for(m, p->number, &replacements, error) ||
		!(is_ext ? new_ext_builder : new_fat_builder)(
			m, p, dev, offset, count, &builder, error) ||
		!wdr_packing_create(list, &packing, error))
		return false;
	WdrCarry carry = { source_part(m, p->number)->volume, builder, replacements,
		wdr_packing_record, packing,
		{ .bytes_total = p->bytes, .entries_total = p->entries } };
	if (!wdr_carry(m->world, &carry, count, error) || !builder->ops->finish(builder, error) ||
		!wdr_packing_finish(packing, error))
		return false;
	m->result->entries += wdr_packing_entries(packing);
	m->result->bytes += p->bytes;
	m->result->carry_s += now_s() - begun;
	return true;
}

/* Reads the volume back from the medium and compares it with the packing list. */
static bool compare(
	Move *m, const WdrItineraryPart *p, WdrBlockDev *dev, uint64_t offset, GError **error)
{
	g_autoptr(WdrVolume) volume = NULL;
	g_autoptr(WdrPacking) packing = NULL;
	g_autofree char *list = packing_file(m, p);
	bool is_ext = strcmp(p->fs, "ext4") == 0;
	double begun = now_s();

	if (!wdr_logbook_step(
		    m->logbook, error, "reading partition %u back from the medium", p->number) ||
		!(is_ext ? wdr_ext_volume_open : wdr_fat_volume_open)(
			dev, offset, p->to.size, &volume, error) ||
		!wdr_packing_open(list, &packing, error))
		return false;
	WdrCarry carry = { volume, NULL, NULL, wdr_packing_compare, packing,
		{ .bytes_total = p->bytes, .entries_total = p->entries } };
	if (!wdr_carry(m->world, &carry, NULL, error) || !wdr_packing_compare_end(packing, error))
		return false;
	m->result->verify_s += now_s() - begun;
	return true;
}

static bool check_fat(Move *m, WdrBlockDev *dev, uint64_t offset, uint64_t size, GError **error)
{
	g_autofree char *path = g_build_filename(m->source->scratch, "structure.fat", NULL);
	g_autoptr(WdrVolume) volume = NULL;
	const char *argv[] = { "fsck.fat", "-n", path, NULL };
	g_auto(WdrRun) run = { 0 };
	bool has_run = wdr_fat_volume_open(dev, offset, size, &volume, error) &&
		       wdr_fat_volume_copy_structure(volume, path, error) &&
		       wdr_world_run(m->world, argv, NULL, &run, error);

	unlink(path);
	if (!has_run || run.exit_code == 0)
		return has_run;
	return wdr_error_set(error, WDR_ERROR_IO,
		"the new FAT volume is damaged; fsck.fat says: %s", g_strstrip(run.output));
}

/* ---- steps 2 to 4 ---- */

static bool check_ext(Move *m, const WdrItineraryPart *p, GError **error)
{
	return wdr_check_ext(
		m->world, wdr_blockdev_name(m->target), p->to.start, m->source->scratch, error);
}

static bool is_fat(const WdrItineraryPart *p)
{
	return strcmp(p->fs, "vfat") == 0;
}

static bool carry_part(Move *m, const WdrItineraryPart *p, WdrBlockDev *medium, GError **error)
{
	if (!fill(m, p, m->target, p->to.start, error) ||
		!compare(m, p, medium, p->to.start, error) ||
		!wdr_logbook_step(m->logbook, error, "checking partition %u", p->number))
		return false;
	return is_fat(p) ? check_fat(m, medium, p->to.start, p->to.size, error)
			 : check_ext(m, p, error);
}

static bool release(Move *m, const WdrItineraryPart *p, WdrBlockDev *held, WdrBlockDev *medium,
	const uint8_t *head, GError **error)
{
	g_autofree uint8_t *read_back = g_malloc(HELD_BYTES);

	if (!wdr_stop_check(error) ||
		!wdr_logbook_step(m->logbook, error,
			p->role == WDR_ROLE_BOOT ? "making partition %u bootable"
						 : "making partition %u whole",
			p->number) ||
		!wdr_blockdev_release(held, error) ||
		!wdr_blockdev_read(medium, read_back, HELD_BYTES, p->to.start, error))
		return false;
	if (memcmp(head, read_back, HELD_BYTES) != 0)
		return wdr_error_set(error, WDR_ERROR_IO,
			"%s: the start of partition %u read back is not what was written",
			m->it->target.name, p->number);
	return true;
}

/* e2fsck wants the real disk, so it comes after the release; a volume that it does not like is
 * taken back. */
static bool check_released(Move *m, const WdrItineraryPart *p, GError **error)
{
	uint8_t note[512] = WDR_UNFINISHED_NOTE;

	if (is_fat(p) || check_ext(m, p, error))
		return true;
	if (wdr_blockdev_zero(m->target, p->to.start, HELD_BYTES, NULL) &&
		wdr_blockdev_write(m->target, note, sizeof(note), p->to.start, NULL))
		(void)!wdr_blockdev_flush(m->target, NULL);
	return false;
}

/* The part whose head is held back. */
static bool carry_last(Move *m, const WdrItineraryPart *p, WdrBlockDev *medium, GError **error)
{
	g_autoptr(WdrBlockDev) held =
		wdr_blockdev_new_held(m->target, p->to.start, p->to.size, HELD_BYTES);
	g_autoptr(WdrBlockDev) seen =
		wdr_blockdev_new_held(medium, p->to.start, p->to.size, HELD_BYTES);
	g_autofree uint8_t *head = g_malloc(HELD_BYTES);

	/* What is held back is not on the medium yet: lay it over what is read from there. */
	return fill(m, p, held, 0, error) && wdr_blockdev_read(held, head, HELD_BYTES, 0, error) &&
	       wdr_blockdev_write(seen, head, HELD_BYTES, 0, error) &&
	       compare(m, p, seen, 0, error) &&
	       wdr_logbook_step(m->logbook, error, "checking partition %u", p->number) &&
	       (!is_fat(p) || check_fat(m, seen, 0, p->to.size, error)) &&
	       release(m, p, held, medium, head, error) && check_released(m, p, error);
}

static bool carry_all(Move *m, GError **error)
{
	g_autoptr(WdrBlockDev) medium = NULL;
	const WdrItineraryPart *last = last_part(m->it);

	if (!clear_target(m, error) ||
		!wdr_blockdev_open(wdr_blockdev_name(m->target), WDR_OPEN_MEDIUM, &medium, error))
		return false;
	wdr_blockdev_set_sector_size(medium, m->it->target.sector_size);
	for (guint i = 0; i < m->it->parts->len; i++) {
		const WdrItineraryPart *p = m->it->parts->pdata[i];
		if (p != last && !carry_part(m, p, medium, error))
			return false;
	}
	if (!carry_last(m, last, medium, error))
		return false;
	return wdr_logbook_step(m->logbook, error, "writing the final partition table") &&
	       wdr_parttable_write(m->target, m->table, true, error) &&
	       wdr_blockdev_flush(m->target, error);
}

/* ---- step 5, when boot stays on the source: its boot files ---- */

static bool change_source(Move *m, GError **error)
{
	/* The firmware has no menu to choose from: the old command line is for a hand to put back.
	 */
	bool keeps_copy = g_strcmp0(m->source->system->flow, "firmware") == 0;
	g_autoptr(WdrBlockDev) dev = NULL;
	WdrChanging c = { .world = m->world,
		.logbook = m->logbook,
		.state = m->state,
		.disk = m->source->disk,
		.system = m->source->system,
		.next = 1 };

	if (!has_source_edits(m->it))
		return true;
	m->result->has_changed_source = true;
	if (!wdr_blockdev_open(m->source->disk->path, WDR_OPEN_WRITE, &dev, error))
		return false;
	c.dev = dev;
	for (guint i = 0; i < m->it->edits->len; i++) {
		const WdrEdit *edit = m->it->edits->pdata[i];
		if (edit->is_on_source && !wdr_change_file(&c, edit, keeps_copy, error))
			return false;
	}
	return true;
}

static void close_all(Move *m)
{
	wdr_source_free(m->source);
	wdr_blockdev_free(m->target);
	wdr_parttable_free(m->table);
	wdr_logbook_free(m->logbook);
}

bool wdr_move(const WdrWorld *world, const WdrItinerary *it, const char *state, bool *ret_has_begun,
	WdrMoveResult *ret, GError **error)
{
	Move m = {
		.world = world, .it = it, .state = state, .result = ret, .has_begun = ret_has_begun
	};
	GError *failure = NULL;

	*ret_has_begun = false;
	*ret = (WdrMoveResult){ .state = g_strdup(state) };
	bool is_fine = wdr_make_folder(state, &failure) && prepare(&m, &failure) &&
		       begin_logbook(&m, &failure) && carry_all(&m, &failure) &&
		       change_source(&m, &failure) && wdr_logbook_done(m.logbook, &failure);
	if (!is_fine && m.logbook)
		wdr_logbook_stopped(m.logbook, failure->message);
	close_all(&m);
	if (is_fine)
		return true;
	/* A refusal leaves nothing behind; a folder with anything in it stays. */
	if (!*ret_has_begun)
		rmdir(state);
	g_propagate_error(error, failure);
	return false;
}
