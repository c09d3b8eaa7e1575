/* Opening both disks of a move, and making sure that they are those of the itinerary. */
#include "move/move_run.h"

#include "base/cleanup.h"
#include "base/command.h"
#include "copy/packing_list.h"
#include "move/move.h"
#include "plan/draft_edits.h"
#include "plan/running_source.h"
#include "plan/target_partition.h"

#include <errno.h>
#include <fcntl.h>
#include <string.h>
#include <sys/file.h>

void wdr_move_run_init(WdrMoveRun *m, const WdrWorld *world, const WdrItinerary *it,
	const char *state, bool *has_begun, WdrMoveResult *result)
{
	*m = (WdrMoveRun){ .world = world,
		.it = it,
		.records = { .state = state, .lock = -1 },
		.result = result,
		.has_begun = has_begun };
	wdr_move_progress_init(&m->records.logged);
	*has_begun = false;
	*result = (WdrMoveResult){ .state = g_strdup(state) };
}

char *wdr_move_records_logbook_file(const WdrMoveRecords *records)
{
	return g_build_filename(records->state, "logbook.jsonl", NULL);
}

bool wdr_move_run_end(WdrMoveRun *m, GError *failure, GError **error)
{
	if (failure && m->records.logbook)
		wdr_logbook_stopped(m->records.logbook, failure->message);
	wdr_source_free(m->disks.source);
	g_clear_pointer(&m->behind, wdr_read_behind_free);
	wdr_blockdev_free(m->disks.medium);
	wdr_blockdev_free(m->disks.target);
	wdr_parttable_free(m->disks.table);
	wdr_logbook_free(m->records.logbook);
	m->result->missing = g_ptr_array_ref(m->records.logged.missing);
	wdr_move_progress_clear(&m->records.logged);
	wdr_fd_clear(&m->records.lock);
	if (failure)
		g_propagate_error(error, failure);
	return !failure;
}

enum { LOCK_TRIES = 5, LOCK_TRY_EVERY_US = 50000 };

/* One move at a time: all that keep their state in the machine's own folder share its lock, others
 * have that of the folder that was named. The caller's. */
static char *lock_folder(const WdrWorld *world, const char *state)
{
	g_autofree char *common = wdr_world_path(world, WDR_STATE_FOLDER);
	g_autofree char *parent = g_path_get_dirname(state);

	return g_strdup(strcmp(parent, common) == 0 ? common : state);
}

bool wdr_move_is_under_way(const WdrWorld *world, const char *state)
{
	g_autofree char *folder = lock_folder(world, state);
	g_auto(WdrFd) fd = open(folder, O_RDONLY | O_DIRECTORY | O_CLOEXEC);

	return fd >= 0 && flock(fd, LOCK_SH | LOCK_NB) != 0 && errno == EWOULDBLOCK;
}

bool wdr_move_lock(const char *folder, int *ret, GError **error)
{
	g_auto(WdrFd) fd = open(folder, O_RDONLY | O_DIRECTORY | O_CLOEXEC);

	if (fd < 0)
		return wdr_error_set_errno(error, errno, "opening the folder %s", folder);
	/* Who asks whether a move is under way holds it for a moment. */
	bool is_ours = flock(fd, LOCK_EX | LOCK_NB) == 0;
	for (unsigned i = 0; !is_ours && i < LOCK_TRIES; i++) {
		g_usleep(LOCK_TRY_EVERY_US);
		is_ours = flock(fd, LOCK_EX | LOCK_NB) == 0;
	}
	if (is_ours) {
		*ret = wdr_fd_steal(&fd);
		return true;
	}
	wdr_error_set(error, WDR_ERROR_REFUSED, "another move is under way (it holds %s)", folder);
	wdr_error_hint(error, "wait for it to end; nothing was written");
	return false;
}

bool wdr_move_run_lock(WdrMoveRun *m, GError **error)
{
	g_autofree char *folder = lock_folder(m->world, m->records.state);

	if (!wdr_move_lock(folder, &m->records.lock, error))
		return false;
	wdr_move_clear_scratch(m->records.state, WDR_SCRATCH_PREFIX);
	return true;
}

bool wdr_move_run_is_fat(const WdrItineraryPart *p)
{
	return wdr_itinerary_method(p) == WDR_METHOD_FAT;
}

bool wdr_move_run_is_volume(const WdrItineraryPart *p)
{
	return wdr_itinerary_method(p) == WDR_METHOD_EXT || wdr_move_run_is_fat(p);
}

char *wdr_move_records_packing_file(const WdrMoveRecords *records, const WdrItineraryPart *p)
{
	return wdr_packing_file(records->state, p->number);
}

char *wdr_move_records_checkpoint_file(const WdrMoveRecords *records, const WdrItineraryPart *p)
{
	g_autofree char *name = g_strdup_printf("checkpoint-%u", p->number);

	return g_build_filename(records->state, name, NULL);
}

WdrExclude *wdr_move_run_exclude(const WdrMoveRun *m, const WdrItineraryPart *p)
{
	return wdr_running_exclude(m->world, m->it, m->disks.source->system,
		wdr_move_run_source_part(m, p->number), m->records.state);
}

/* ---- finding the disks ---- */

static bool is_that_disk(const WdrItineraryDisk *then, const WdrDisk *now)
{
	return then->serial && g_strcmp0(then->serial, now->serial) == 0 &&
	       g_strcmp0(then->model, now->model) == 0 &&
	       (now->size == 0 || now->size == then->size);
}

/* Another disk that is the one; NULL: none, or several. The caller's. */
static WdrDisk *find_renamed(const WdrWorld *world, const WdrItineraryDisk *then)
{
	g_autoptr(GPtrArray) disks = NULL;
	guint at = 0;
	guint count = 0;

	if (!wdr_disks_list(world, &disks, NULL))
		return NULL;
	for (guint i = 0; i < disks->len; i++) {
		if (!is_that_disk(then, disks->pdata[i]))
			continue;
		at = i;
		count++;
	}
	return count == 1 ? g_ptr_array_steal_index(disks, at) : NULL;
}

/* A USB disk that was unplugged and plugged in again may have another name than it had when the
 * move was begun: going on with it, model, serial and size tell which it is. */
static bool find_disk(
	const WdrMoveRun *m, const WdrItineraryDisk *then, WdrDisk **ret, GError **error)
{
	g_autoptr(GError) failure = NULL;
	g_autoptr(WdrDisk) named = NULL;

	bool is_there = wdr_itinerary_disk_find(m->world, then, &named, &failure);
	if (m->goes_on && !then->is_image && !(is_there && is_that_disk(then, named))) {
		*ret = find_renamed(m->world, then);
		if (*ret) {
			wdr_world_note(m->world, "%s is called %s now", then->name, (*ret)->name);
			return true;
		}
	}
	*ret = g_steal_pointer(&named);
	if (!is_there)
		g_propagate_error(error, g_steal_pointer(&failure));
	return is_there;
}

/* ---- the source ---- */

/* Notes that the itinerary does not have already: the source may have changed since. */
static void tell_notes(const WdrMoveRun *m, const GPtrArray *notes)
{
	for (guint i = 0; i < notes->len; i++) {
		if (!g_ptr_array_find_with_equal_func(
			    m->it->notes, notes->pdata[i], g_str_equal, NULL))
			wdr_world_note(m->world, "%s", (const char *)notes->pdata[i]);
	}
}

static bool open_source_disk(WdrMoveRun *m, GError **error)
{
	g_autoptr(GPtrArray) notes = g_ptr_array_new_with_free_func(g_free);
	g_auto(WdrItineraryDisk) now = { 0 };
	const WdrSourceOpening how = {
		.scratch = m->records.state, .notes = notes, .earlier = m->looked_at
	};
	WdrDisk *disk = NULL;

	if (!find_disk(m, &m->it->source, &disk, error))
		return false;
	wdr_world_step(m->world, "comparing %s and %s with the itinerary", m->it->source.name,
		m->it->target.name);
	if (!wdr_source_open(m->world, disk, &how, &m->disks.source, error))
		return false;
	tell_notes(m, notes);
	return wdr_itinerary_disk_describe(
		       m->disks.source->disk, m->disks.source->system->dev, &now, error) &&
	       wdr_itinerary_check_disk(&m->it->source, &now, "source", error);
}

const WdrItineraryPart *wdr_move_run_last(const WdrItinerary *it)
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

WdrSystemPart *wdr_move_run_source_part(const WdrMoveRun *m, unsigned number)
{
	return wdr_system_part(m->disks.source->system, number);
}

/* Every part is still the volume that it was. */
static bool check_parts(const WdrMoveRun *m, GError **error)
{
	guint count = 0;

	for (guint i = 0; i < m->it->parts->len; i++) {
		const WdrItineraryPart *p = m->it->parts->pdata[i];
		const WdrSystemPart *s = wdr_move_run_source_part(m, p->number);
		bool is_same =
			s && g_strcmp0(s->probe.uuid, p->from.uuid) == 0 &&
			s->partition->size == p->from.size &&
			(!wdr_move_run_is_volume(p) ||
				(s->volume && wdr_move_run_is_fat(p) ==
						      (strcmp(s->volume->ops->type, "vfat") == 0)));
		if (!is_same)
			return wdr_error_set(error, WDR_ERROR_REFUSED,
				"partition %u of the source is not the volume that the itinerary was drawn for",
				p->number);
	}
	for (guint i = 0; i < m->disks.source->system->parts->len; i++) {
		const WdrSystemPart *s = m->disks.source->system->parts->pdata[i];
		count += s->partition->is_extended ? 0 : 1;
	}
	return m->it->what == WDR_MOVE_ROOT || m->it->parts->len == count
		       ? true
		       : wdr_error_set(error, WDR_ERROR_REFUSED,
				 "the source has other partitions than when the itinerary was drawn");
}

static bool apply_edit(
	const WdrMoveRun *m, const WdrEdit *edit, WdrReplacements *into, GError **error)
{
	GBytes *bytes = NULL;

	if (!wdr_edit_read(m->disks.source->system, edit, &bytes, error)) {
		g_autofree char *draw = wdr_itinerary_redraw_command(m->it);
		wdr_error_hint(error, "to draw a new itinerary: %s", draw);
		return false;
	}
	g_hash_table_insert(into, g_strdup(edit->file), bytes);
	return true;
}

bool wdr_move_run_replacements(
	WdrMoveRun *m, unsigned number, WdrReplacements **ret, GError **error)
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

bool wdr_move_run_has_source_edits(const WdrItinerary *it)
{
	for (guint i = 0; i < it->edits->len; i++) {
		if (((const WdrEdit *)it->edits->pdata[i])->is_on_source)
			return true;
	}
	return false;
}

bool wdr_move_run_open_source(WdrMoveRun *m, bool with_edits, GError **error)
{
	g_autoptr(GHashTable) edits = NULL;

	return open_source_disk(m, error) && check_parts(m, error) &&
	       (!with_edits || wdr_move_run_replacements(m, 0, &edits, error));
}

/* ---- the target ---- */

/* The partition to move into is where it was. */
static bool check_into(const WdrItinerary *it, WdrBlockDev *dev, GError **error)
{
	g_autoptr(WdrPartTable) now = NULL;

	return !it->into ||
	       (wdr_parttable_read(dev, &now, error) && wdr_into_check(it, now, error));
}

/* Opens it, and tells what it is now. */
static bool open_target_disk(WdrMoveRun *m, WdrItineraryDisk *ret_now, GError **error)
{
	g_autoptr(WdrDisk) disk = NULL;

	if (!find_disk(m, &m->it->target, &disk, error) ||
		!wdr_check_target(m->world, m->disks.source->disk, disk, error) ||
		!wdr_check_target_spares(m->world, disk, m->records.state, error) ||
		!wdr_blockdev_open(disk->path, WDR_OPEN_WRITE, &m->disks.target, error) ||
		!wdr_blockdev_open(disk->path, WDR_OPEN_MEDIUM, &m->disks.medium, error))
		return false;
	if (disk->is_image) {
		wdr_blockdev_set_sector_size(m->disks.target, m->it->target.sector_size);
		wdr_blockdev_set_sector_size(m->disks.medium, m->it->target.sector_size);
	}
	m->disks.table = wdr_itinerary_table(m->it);
	return check_into(m->it, m->disks.target, error) &&
	       wdr_itinerary_disk_describe(disk, m->disks.target, ret_now, error);
}

bool wdr_move_run_open_target(WdrMoveRun *m, const WdrItineraryDisk *expected, GError **error)
{
	g_auto(WdrItineraryDisk) now = { 0 };

	return open_target_disk(m, &now, error) &&
	       wdr_itinerary_check_disk(expected, &now, "target", error);
}

bool wdr_move_run_check_target_contents(const WdrMoveRun *m, GError **error)
{
	g_autoptr(GPtrArray) now = NULL;

	if (!wdr_target_contents_find(m->disks.target, m->it->into, &now, error))
		return false;
	g_autoptr(GPtrArray) changes = wdr_target_contents_compare(m->it->target_contents, now);
	if (changes->len == 0)
		return true;
	wdr_error_set(error, WDR_ERROR_REFUSED, "the target %s is not as it was shown: %s",
		m->it->target.name, (const char *)changes->pdata[0]);
	g_autofree char *draw = wdr_itinerary_redraw_command(m->it);
	wdr_error_hint(error, "nothing was written; to draw a new itinerary: %s", draw);
	return false;
}

/* The target as it is now, to be read. */
static bool look_at_disk(const WdrWorld *world, const WdrItinerary *it, WdrBlockDev **ret_dev,
	WdrItineraryDisk *ret_now, GError **error)
{
	g_autoptr(WdrDisk) disk = NULL;

	if (!wdr_itinerary_disk_find(world, &it->target, &disk, error) ||
		!wdr_blockdev_open(disk->path, WDR_OPEN_READ, ret_dev, error))
		return false;
	if (disk->is_image)
		wdr_blockdev_set_sector_size(*ret_dev, it->target.sector_size);
	return wdr_itinerary_disk_describe(disk, *ret_dev, ret_now, error);
}

bool wdr_move_look_at_target(
	const WdrWorld *world, WdrItinerary *it, GPtrArray **ret_changes, GError **error)
{
	g_autoptr(WdrBlockDev) dev = NULL;
	g_auto(WdrItineraryDisk) now = { 0 };

	return look_at_disk(world, it, &dev, &now, error) &&
	       wdr_itinerary_check_disk(&it->target, &now, "target", error) &&
	       check_into(it, dev, error) &&
	       wdr_itinerary_look_at_target_contents(it, dev, ret_changes, error);
}

/* ---- a target of which the logbook does not say yet that it is erased ---- */

/* The move has been here: its table is there, or its note. */
static bool is_marked(const WdrItinerary *it, WdrBlockDev *dev, const WdrItineraryDisk *now)
{
	WdrItineraryDisk moved = wdr_itinerary_moved_target(it);

	return wdr_probe_is_unfinished(dev, wdr_move_run_last(it)->to.start) ||
	       (!it->into && now->table == moved.table &&
		       g_strcmp0(now->table_id, moved.table_id) == 0);
}

/* Nothing that anybody could know is on it: it may be half erased. */
static bool is_blank(const WdrItineraryDisk *now, const GPtrArray *target_contents)
{
	const WdrTargetContent *o = target_contents->len == 1 ? target_contents->pdata[0] : NULL;

	return now->table == WDR_TABLE_NONE && o && o->number == 0 && o->is_blank && !o->fs;
}

/* The disk itself, whatever its table is by now. */
static bool check_but_table(WdrItineraryDisk expected, const WdrItineraryDisk *now, GError **error)
{
	expected.table = now->table;
	expected.table_id = now->table_id;
	return wdr_itinerary_check_disk(&expected, now, "target", error);
}

static bool check_not_yet_erased(WdrMoveRun *m, const WdrItineraryDisk *now, GError **error)
{
	g_autoptr(GPtrArray) target_contents = NULL;

	if (!wdr_target_contents_find(m->disks.target, m->it->into, &target_contents, error))
		return false;
	if (is_blank(now, target_contents))
		return check_but_table(m->it->target, now, error);
	return wdr_itinerary_check_disk(&m->it->target, now, "target", error) &&
	       wdr_move_run_check_target_contents(m, error);
}

bool wdr_move_run_reopen_target(WdrMoveRun *m, GError **error)
{
	g_auto(WdrItineraryDisk) now = { 0 };
	WdrItineraryDisk expected = wdr_itinerary_moved_target(m->it);

	if (!open_target_disk(m, &now, error))
		return false;
	if (!m->records.logged.is_cleared && !is_marked(m->it, m->disks.target, &now))
		return check_not_yet_erased(m, &now, error);
	/* With the note there may be no table yet. */
	if (!m->records.logged.is_cleared && now.table != expected.table)
		return check_but_table(expected, &now, error);
	return wdr_itinerary_check_disk(&expected, &now, "target", error);
}

static bool look_again(WdrItinerary *it, WdrBlockDev *dev, const WdrItineraryDisk *now,
	GPtrArray **ret_changes, GError **error)
{
	g_autofree char *was = g_strdup(it->target.table_id);
	bool is_other_table = now->table != it->target.table ||
			      g_strcmp0(now->table_id, it->target.table_id) != 0;

	if (!wdr_itinerary_look_at_target_contents(it, dev, ret_changes, error))
		return false;
	it->target.table = now->table;
	g_free(it->target.table_id);
	it->target.table_id = g_strdup(now->table_id);
	if (is_blank(now, it->target_contents))
		g_ptr_array_set_size(*ret_changes, 0);
	else if (is_other_table)
		g_ptr_array_add(*ret_changes,
			g_strdup_printf("the disk identifier was %s and is %s", was ? was : "none",
				now->table_id ? now->table_id : "none"));
	return true;
}

bool wdr_move_look_again_at_target(
	const WdrWorld *world, WdrItinerary *it, GPtrArray **ret_changes, GError **error)
{
	g_autoptr(WdrBlockDev) dev = NULL;
	g_auto(WdrItineraryDisk) now = { 0 };

	if (!look_at_disk(world, it, &dev, &now, error) ||
		!check_but_table(it->target, &now, error) || !check_into(it, dev, error))
		return false;
	if (!is_marked(it, dev, &now))
		return look_again(it, dev, &now, ret_changes, error);
	*ret_changes = g_ptr_array_new_with_free_func(g_free);
	return true;
}
