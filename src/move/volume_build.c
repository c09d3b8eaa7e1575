/* Filling the new volumes, reading them back, checking them. */
#include "move/move_run.h"

#include "base/text.h"
#include "copy/checkpoint.h"
#include "copy/packing_list.h"

#include <string.h>
#include <unistd.h>

/* From the start, or from a checkpoint. */
static bool new_ext_builder(WdrMoveRun *m, const WdrItineraryPart *p, const WdrBuildTarget *target,
	GVariant *checkpoint, WdrBuilder **ret, GError **error)
{
	g_auto(WdrExtSpec) spec = { 0 };
	g_autofree char *left_out = NULL;

	if (!wdr_ext_spec_like(wdr_system_part_ext(wdr_move_run_source_part(m, p->number)), &spec,
		    &left_out, error))
		return false;
	spec.inodes = p->inodes;
	g_strlcpy(spec.uuid, p->to.uuid, sizeof(spec.uuid));
	g_strlcpy(spec.label, p->to.label ? p->to.label : "", sizeof(spec.label));
	return checkpoint ? wdr_ext_builder_resume(m->world, target, &spec, checkpoint, ret, error)
			  : wdr_ext_builder_new(m->world, target, &spec, ret, error);
}

static bool new_fat_builder(WdrMoveRun *m, const WdrItineraryPart *p, const WdrBuildTarget *target,
	GVariant *checkpoint, WdrBuilder **ret, GError **error)
{
	WdrFatSpec spec;

	wdr_fat_spec_like(&wdr_move_run_source_part(m, p->number)->fat, p->to.size,
		m->it->target.sector_size, &spec);
	spec.serial = wdr_fat_serial_of(p->to.uuid);
	spec.hidden_sectors = (uint32_t)MIN(p->to.start / m->it->target.sector_size, G_MAXUINT32);
	spec.made_at = wdr_world_now(m->world);
	g_strlcpy(spec.label, p->to.label ? p->to.label : "", sizeof(spec.label));
	return checkpoint ? wdr_fat_builder_resume(target, &spec, checkpoint, ret, error)
			  : wdr_fat_builder_new(m->world, target, &spec, ret, error);
}

/* ---- filling ---- */

enum { TRY_READ_BACK_AT = 64 * 1024 * 1024 };

typedef struct {
	WdrMoveRun *m;
	const WdrItineraryPart *part;
	WdrBuilder *builder;
	WdrPacking *packing;
	WdrCopyCount *count;
	WdrCheckpoint from; /* empty: from the start */
	bool has_tried;     /* to read back; the writing thread's own */
} Filling;

static void filling_clear(Filling *f)
{
	g_clear_pointer(&f->builder, wdr_builder_free);
	g_clear_pointer(&f->packing, wdr_packing_free);
	g_clear_pointer(&f->count, wdr_copy_count_free);
	wdr_checkpoint_clear(&f->from);
}
G_DEFINE_AUTO_CLEANUP_CLEAR_FUNC(Filling, filling_clear)

/* First the target, then what is held of it, then the list, then the checkpoint that counts them:
 * what it counts is always there. */
static bool make_checkpoint(void *data, GVariant *walk, GError **error)
{
	Filling *f = data;
	WdrMoveRun *m = f->m;
	g_autofree char *path = wdr_move_records_checkpoint_file(&m->records, f->part);
	g_auto(WdrCheckpoint) c = { 0 };

	if (!f->builder->ops->checkpoint(f->builder, &c.builder, error) ||
		(m->last_part && m->last_part->part == f->part && !wdr_last_part_save(m, error)) ||
		!wdr_packing_flush(f->packing, &c.list_bytes, error))
		return false;
	c.walk = g_variant_ref(walk);
	c.entries = wdr_packing_entries(f->packing);
	c.bytes = wdr_copy_count_bytes(f->count);
	return wdr_checkpoint_save(path, &c, error);
}

/* Called by the thread that writes, each time the medium has some more. */
static void count_done(void *data, uint64_t bytes)
{
	Filling *f = data;

	wdr_copy_count_done(f->count, bytes);
	if (f->m->behind)
		wdr_read_behind_count(f->m->behind, bytes);
	uint64_t done = wdr_copy_count_bytes(f->count);
	if (f->has_tried || f->m->behind || done < TRY_READ_BACK_AT)
		return;
	f->has_tried = true;
	wdr_move_run_try_read_back(f->m, f->part, done);
}

static bool put_behind(
	void *data, const char *path, uint64_t size, const WdrHash *content, GError **error)
{
	Filling *f = data;
	WdrPlaced placed = { .runs = g_array_new(FALSE, FALSE, sizeof(WdrPlacedRun)) };

	f->builder->ops->placed(f->builder, &placed);
	return wdr_read_behind_put(f->m->behind, path, size, content, &placed, error);
}

static uint64_t waiting(void *data)
{
	return wdr_read_behind_waiting(((Filling *)data)->m->behind);
}

/* Of what is held back of the last part, the medium has nothing. */
static void begin_behind(Filling *f)
{
	WdrMoveRun *m = f->m;
	bool is_held = m->last_part && m->last_part->part == f->part;

	g_clear_pointer(&m->behind, wdr_read_behind_free);
	if (!wdr_move_run_is_fat(f->part))
		m->behind = wdr_read_behind_new(m->disks.target, m->disks.medium, f->part->to.start,
			is_held ? WDR_HELD_BYTES : 0);
}

static bool may_miss(void *data, const char *path)
{
	(void)data;
	(void)path;
	return true;
}

static bool note_missed(void *data, const char *path, const WdrDamage *damage, GError **error)
{
	Filling *f = data;

	return wdr_move_records_note_unreadable(
		&f->m->records, f->part->number, path, damage ? damage->ranges : NULL, error);
}

/* What an earlier filling missed does not count any more. */
static bool begin_filling(Filling *f, GError **error)
{
	wdr_unreadable_forget_partition(f->m->records.logged.missing, f->part->number);
	return wdr_logbook_part(f->m->records.logbook, f->part->number, WDR_PART_BEGUN, error);
}

static bool new_builder(Filling *f, const WdrBuildTarget *target, GError **error)
{
	return (wdr_move_run_is_fat(f->part) ? new_fat_builder : new_ext_builder)(
		f->m, f->part, target, f->from.builder, &f->builder, error);
}

static bool open_filling(Filling *f, WdrBlockDev *dev, uint64_t offset, GError **error)
{
	WdrMoveRun *m = f->m;
	const WdrItineraryPart *p = f->part;
	g_autofree char *list = wdr_move_records_packing_file(&m->records, p);
	g_autofree char *checkpoint = wdr_move_records_checkpoint_file(&m->records, p);
	WdrBuildTarget target = { dev, offset, p->to.size, m->disks.source->scratch, count_done,
		f };

	if (m->is_resuming && !wdr_checkpoint_load(checkpoint, &f->from, error))
		return false;
	if (!f->from.walk)
		return begin_filling(f, error) && new_builder(f, &target, error) &&
		       wdr_packing_create(list, wdr_world_stamp(m->world), &f->packing, error);
	wdr_world_note(m->world,
		"partition %u: going on after %" G_GUINT64_FORMAT " entries that are there already",
		p->number, f->from.entries);
	wdr_copy_count_done(f->count, f->from.bytes);
	m->result->bytes_before += f->from.bytes;
	return new_builder(f, &target, error) &&
	       wdr_packing_resume(list, f->from.list_bytes, f->from.entries, &f->packing, error);
}

bool wdr_move_run_fill(
	WdrMoveRun *m, const WdrItineraryPart *p, WdrBlockDev *dev, uint64_t offset, GError **error)
{
	g_autoptr(GHashTable) replacements = NULL;
	g_autoptr(WdrExclude) exclude = wdr_move_run_exclude(m, p);
	g_auto(Filling) f = { .m = m, .part = p, .count = wdr_copy_count_new() };
	int64_t begun = g_get_monotonic_time();

	if (!wdr_move_run_step(m, error, "copying partition %u (%s, %s)", p->number,
		    wdr_role_name(p->role), p->fs) ||
		!wdr_move_run_replacements(m, p->number, &replacements, error))
		return false;
	begin_behind(&f);
	if (!open_filling(&f, dev, offset, error))
		return false;
	WdrVolume *source = wdr_move_run_source_part(m, p->number)->volume;
	/* A running one sweeps its disk by itself. */
	if (strcmp(source->ops->type, "ext4") == 0)
		wdr_ext_volume_sweep(source);
	WdrCopy copy = { .source = source,
		.builder = f.builder,
		.replacements = replacements,
		.exclude = exclude,
		.record = wdr_packing_record,
		.data = f.packing,
		.renews_swap = true,
		.may_miss = may_miss,
		.missed = note_missed,
		.miss_data = &f,
		.written = m->behind ? put_behind : NULL,
		.waiting = m->behind ? waiting : NULL,
		.behind_data = &f,
		.waits = &m->result->waits,
		.total = { .bytes_total = p->bytes,
			.entries_total = p->entries,
			.bytes_done = f.from.bytes,
			.entries_done = f.from.entries },
		.checkpoint = make_checkpoint,
		.checkpoint_data = &f,
		.checkpoint_bytes = m->checkpoint_bytes,
		.resume_from = f.from.walk };
	if (!wdr_copy_volume(m->world, &copy, f.count, error) ||
		!f.builder->ops->finish(f.builder, error) || !wdr_packing_finish(f.packing, error))
		return false;
	m->result->entries += wdr_packing_entries(f.packing);
	m->result->bytes += p->bytes;
	m->result->copy_s += wdr_seconds_since(begun);
	return true;
}

bool wdr_move_run_open_volume(const WdrItineraryPart *p, WdrBlockDev *dev, uint64_t offset,
	WdrVolume **ret, GError **error)
{
	return (wdr_move_run_is_fat(p) ? wdr_fat_volume_open : wdr_ext_volume_open)(
		dev, offset, p->to.size, ret, error);
}

static bool is_known(void *behind, uint64_t id)
{
	return wdr_read_behind_knows(behind, id);
}

bool wdr_move_run_compare(
	WdrMoveRun *m, const WdrItineraryPart *p, WdrBlockDev *dev, uint64_t offset, GError **error)
{
	g_autoptr(WdrVolume) volume = NULL;
	g_autoptr(WdrPacking) packing = NULL;
	g_autofree char *list = wdr_move_records_packing_file(&m->records, p);
	g_autoptr(WdrReadBehind) behind = g_steal_pointer(&m->behind);
	uint64_t at_copying = behind ? wdr_read_behind_bytes(behind) : 0;
	int64_t begun = g_get_monotonic_time();

	WdrProgress total = {
		.bytes_total = p->bytes, .entries_total = p->entries, .is_reading_back = true
	};
	if (!wdr_move_run_step(m, error, "reading partition %u back from the medium", p->number) ||
		(behind && !wdr_read_behind_finish(behind, m->world, &total, error)) ||
		!wdr_move_run_open_volume(p, dev, offset, &volume, error) ||
		!wdr_packing_open(list, &packing, error))
		return false;
	if (!wdr_move_run_is_fat(p))
		wdr_ext_volume_sweep(volume);
	if (behind)
		total.bytes_done = wdr_read_behind_bytes(behind);
	/* What an earlier run copied is read now; otherwise there is nothing but entries left. */
	if (behind && !m->is_resuming)
		total.bytes_total = total.bytes_done;
	wdr_packing_trust(packing, behind);
	WdrCopy copy = { .source = volume,
		.record = wdr_packing_compare,
		.data = packing,
		.is_known = behind ? is_known : NULL,
		.known_data = behind,
		.total = total };
	if (!wdr_copy_volume(m->world, &copy, NULL, error) ||
		!wdr_packing_compare_end(packing, error) ||
		(behind && !wdr_read_behind_check_sample(behind, error)))
		return false;
	m->result->behind_bytes += at_copying;
	/* Of an earlier run's files nobody knows how much the walk had to read. */
	m->result->verify_bytes += !behind || m->is_resuming ? p->bytes - MIN(at_copying, p->bytes)
							     : total.bytes_done - at_copying;
	m->result->verify_s += wdr_seconds_since(begun);
	return true;
}

bool wdr_move_run_check_fat(
	WdrMoveRun *m, WdrBlockDev *dev, uint64_t offset, uint64_t size, GError **error)
{
	g_autofree char *path = g_build_filename(m->disks.source->scratch, "structure.fat", NULL);
	int64_t begun = g_get_monotonic_time();
	g_autoptr(WdrVolume) volume = NULL;
	const char *argv[] = { "fsck.fat", "-n", path, NULL };
	g_auto(WdrRun) run = { 0 };
	bool has_run = wdr_fat_volume_open(dev, offset, size, &volume, error) &&
		       wdr_fat_volume_copy_structure(volume, path, error) &&
		       wdr_world_run(m->world, argv, NULL, &run, error);

	unlink(path);
	m->result->check_s += wdr_seconds_since(begun);
	if (!has_run || run.exit_code == 0)
		return has_run;
	return wdr_error_set(error, WDR_ERROR_IO,
		"the new FAT volume is damaged; fsck.fat says: %s", g_strstrip(run.output));
}

bool wdr_move_run_check_ext(WdrMoveRun *m, const WdrItineraryPart *p, GError **error)
{
	int64_t begun = g_get_monotonic_time();
	bool is_fine = wdr_check_ext(m->world, wdr_blockdev_name(m->disks.target), p->to.start,
		m->disks.source->scratch, error);

	m->result->check_s += wdr_seconds_since(begun);
	return is_fine;
}
