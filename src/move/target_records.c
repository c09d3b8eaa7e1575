/* Copies the records of a move to the new root. */
#include "move/target_records.h"

#include "base/cleanup.h"
#include "base/io.h"
#include "base/stat.h"
#include "base/text.h"
#include "copy/apply_changes.h"
#include "journal/state_folder.h"

#include <errno.h>
#include <fcntl.h>
#include <string.h>
#include <sys/stat.h>

#define HOME_IN_VAR "var/lib/wanderitas"
#define HOME_OF_ROOT "root/.local/state/wanderitas"

const char *const wdr_arrival_homes[] = { HOME_IN_VAR, HOME_OF_ROOT, NULL };

bool wdr_records_folders(const WdrWorld *world, GPtrArray *ret, GError **error)
{
	g_autoptr(GError) failure = NULL;

	for (size_t i = 0; wdr_arrival_homes[i]; i++) {
		g_autofree char *home = g_strconcat("/", wdr_arrival_homes[i], NULL);
		g_autofree char *path = wdr_world_path(world, home);
		g_autoptr(GDir) dir = NULL;
		if (!wdr_open_folder(path, &dir, failure ? NULL : &failure))
			continue;
		for (const char *name; dir && (name = g_dir_read_name(dir));)
			g_ptr_array_add(ret, g_build_filename(path, name, NULL));
	}
	if (!failure)
		return true;
	g_propagate_error(error, g_steal_pointer(&failure));
	return false;
}

/* What stays free beside them, for the new system to start with. */
#define ROOM_BYTES (4 * WDR_MIB)

/* A folder, or a file of the state folder as it is now. */
typedef struct {
	char *path; /* on the new root */
	char *from; /* NULL: a folder */
	uint32_t mode;
	uint64_t size;
	bool is_there; /* on the target, from an earlier time */
} Record;

/* They are copied like any other entries, from a volume that has nothing but them; an entry's
 * number is its place in the list. */
typedef struct {
	WdrVolume volume;
	GPtrArray *records; /* Record */
	int64_t now;
} Records;

static void record_free(void *data)
{
	Record *r = data;

	g_free(r->path);
	g_free(r->from);
	g_free(r);
}

/* ---- as a volume ---- */

static bool describe(WdrVolume *v, const WdrNode *node, WdrEntry *ret, GError **error)
{
	const Records *all = WDR_DERIVED(v, const Records, volume);
	const Record *r = all->records->pdata[node->id];
	WdrTime now = { all->now, 0 };

	(void)error;
	*ret = (WdrEntry){ .kind = r->from ? WDR_KIND_FILE : WDR_KIND_FOLDER,
		.mode = r->mode,
		.links = r->from ? 1 : 2,
		.size = r->size,
		.atime = now,
		.mtime = now,
		.ctime = now,
		.crtime = now };
	return true;
}

typedef struct {
	WdrContent content;
	WdrFd fd;
	uint64_t at, size;
} Reading;

static bool read_next(WdrContent *content, void *buf, size_t cap, WdrPiece *ret, GError **error)
{
	Reading *r = WDR_DERIVED(content, Reading, content);
	size_t len = (size_t)MIN(cap, r->size - r->at);

	*ret = (WdrPiece){ .offset = r->at, .len = len };
	r->at += len;
	return wdr_pread_all(r->fd, buf, len, ret->offset, error);
}

static void read_free(WdrContent *content)
{
	Reading *r = WDR_DERIVED(content, Reading, content);

	wdr_fd_clear(&r->fd);
	g_free(r);
}

static bool open_record(
	WdrVolume *v, const WdrNode *node, WdrEntry *entry, WdrContent **ret, GError **error)
{
	static const WdrContentOps ops = { read_next, read_free, NULL, NULL };
	const Record *record = WDR_DERIVED(v, const Records, volume)->records->pdata[node->id];
	g_auto(WdrFd) fd = open(record->from, O_RDONLY | O_CLOEXEC);

	if (fd < 0)
		return wdr_error_set_errno(error, errno, "opening %s", record->from);
	Reading *r = g_new0(Reading, 1);
	r->content.ops = &ops;
	r->fd = wdr_fd_steal(&fd);
	r->size = entry->size;
	*ret = &r->content;
	return true;
}

static void records_free(WdrVolume *v)
{
	g_ptr_array_unref(WDR_DERIVED(v, Records, volume)->records);
	g_free(v);
}

static const WdrVolumeOps record_ops = {
	.type = "records", .stat = describe, .open = open_record, .free = records_free
};

/* ---- which ---- */

static Record *add(Records *all, const char *path, const char *from)
{
	Record *r = g_new0(Record, 1);

	r->path = g_strdup(path);
	r->from = g_strdup(from);
	r->mode = from ? 0600 : 0755;
	g_ptr_array_add(all->records, r);
	return r;
}

/* What is not there is none: of a part without a packing list, say. */
static void add_file(Records *all, const char *folder, const char *from)
{
	g_autofree char *name = g_path_get_basename(from);
	g_autofree char *path = g_build_filename(folder, name, NULL);
	WdrStat st;

	if (wdr_stat(from, &st) == 0)
		add(all, path, from)->size = st.stx_size;
}

/* The folder and all that it is in. */
static void add_folders(Records *all, const char *folder)
{
	g_auto(GStrv) names = g_strsplit(folder, "/", -1);
	g_autoptr(GString) path = g_string_new(NULL);

	for (size_t i = 0; names[i]; i++) {
		g_string_append_printf(path, "%s%s", i ? "/" : "", names[i]);
		/* The lists tell names that not everybody may see. */
		add(all, path->str, NULL)->mode = names[i + 1] ? 0755 : 0700;
	}
}

/* Another volume is mounted over it once the system runs. */
static bool is_covered(const WdrSystem *s, const char *path)
{
	for (guint i = 0; i < s->mentions->len; i++) {
		const WdrMention *m = s->mentions->pdata[i];
		const char *point = *m->what == '/' ? m->what + 1 : "";
		size_t len = strlen(point);
		if (strcmp(m->file, "etc/fstab") == 0 && !m->frozen && len > 0 &&
			strncmp(path, point, len) == 0 && (path[len] == '/' || !path[len]))
			return true;
	}
	return false;
}

static Records *collect(const WdrMoveRun *m)
{
	Records *all = g_new0(Records, 1);
	const char *home =
		is_covered(m->disks.source->system, HOME_IN_VAR) ? HOME_OF_ROOT : HOME_IN_VAR;
	g_autofree char *folder =
		g_strdup_printf("%s/" WDR_ARRIVAL_PREFIX "%" G_GINT64_FORMAT, home, m->it->made_at);
	g_autofree char *itinerary = g_build_filename(m->records.state, "itinerary.json", NULL);
	g_autofree char *logbook = wdr_move_records_logbook_file(&m->records);
	g_autofree char *ready = g_build_filename(m->records.state, WDR_READY_FILE, NULL);

	all->volume = (WdrVolume){ &record_ops, g_strdup("the records of the move"), 0, false };
	all->records = g_ptr_array_new_with_free_func(record_free);
	all->now = wdr_world_now(m->world);
	add_folders(all, folder);
	add_file(all, folder, itinerary);
	add_file(all, folder, logbook);
	add_file(all, folder, ready);
	for (guint i = 0; i < m->it->parts->len; i++) {
		g_autofree char *list =
			wdr_move_records_packing_file(&m->records, m->it->parts->pdata[i]);
		add_file(all, folder, list);
	}
	return all;
}

/* ---- copying them ---- */

/* Whether they can be there at all: no link or file is where a folder must be, and there is
 * room. */
static bool look_at_target(Records *all, WdrVolume *target, bool *ret_fits, GError **error)
{
	g_auto(WdrExtInfo) info = { 0 };
	uint64_t need = ROOM_BYTES;

	wdr_ext_volume_info(target, &info);
	*ret_fits = true;
	for (guint i = 0; i < all->records->len; i++) {
		Record *r = all->records->pdata[i];
		g_auto(WdrEntry) entry = { 0 };
		if (!wdr_volume_lookup(target, r->path, &r->is_there, NULL, &entry, error))
			return false;
		*ret_fits &=
			!r->is_there || entry.kind == (r->from ? WDR_KIND_FILE : WDR_KIND_FOLDER);
		need += wdr_round_up(r->size, info.block_size) + info.block_size;
	}
	*ret_fits &= info.free_bytes >= need;
	return true;
}

static GPtrArray *differences(Records *all)
{
	GPtrArray *diffs = wdr_diffs_new();
	g_autoptr(WdrHasher) hasher = wdr_hasher_new();

	for (guint i = 0; i < all->records->len; i++) {
		const Record *r = all->records->pdata[i];
		WdrNode node = { i, r->path };
		WdrEntry entry;
		if (r->is_there && !r->from)
			continue;
		WdrDiff *diff = wdr_diff_new(r->is_there ? WDR_DIFF_CONTENT : WDR_DIFF_NEW);
		if (describe(&all->volume, &node, &entry, NULL))
			wdr_list_entry_describe(hasher,
				&(WdrCopied){ r->path, &entry, NULL, { 0, 0 }, i, 0 }, &diff->now);
		g_ptr_array_add(diffs, diff);
	}
	return diffs;
}

static bool put(WdrMoveRun *m, WdrLastPart *last_part, const WdrItineraryPart *p, Records *all,
	GError **error)
{
	g_autoptr(GPtrArray) diffs = differences(all);
	WdrDifference d = { .world = m->world, .source = &all->volume, .partition = p->number };
	uint64_t offset = 0;
	uint64_t bytes = 0;
	WdrBlockDev *dev = wdr_last_part_device(m, last_part, p, false, &offset);
	WdrBuildTarget target = { dev, offset, p->to.size, m->disks.source->scratch, NULL, NULL };

	return wdr_move_run_note_changing(m, p, error) &&
	       wdr_apply_ext(&d, &target, diffs, &bytes, error) &&
	       wdr_last_part_verify(m, last_part, p, diffs, error) &&
	       (last_part->part == p || wdr_move_run_check_ext(m, p, error)) &&
	       wdr_move_run_note_copied(m, p, error);
}

bool wdr_records_belong_on(const WdrMoveRun *m, const WdrItineraryPart *p)
{
	return p == wdr_itinerary_root(m->it) && wdr_itinerary_method(p) == WDR_METHOD_EXT;
}

bool wdr_records_leave(WdrMoveRun *m, WdrLastPart *last_part, GError **error)
{
	const WdrItineraryPart *p = wdr_itinerary_root(m->it);
	g_autoptr(WdrVolume) before = NULL;
	bool fits = false;

	if (!p || !wdr_records_belong_on(m, p))
		return true;
	uint64_t offset = 0;
	WdrBlockDev *dev = wdr_last_part_device(m, last_part, p, false, &offset);
	if (!wdr_move_run_step(m, error, "leaving the records of the move on the target") ||
		!wdr_move_run_open_volume(p, dev, offset, &before, error))
		return false;
	Records *all = collect(m);
	bool is_fine = look_at_target(all, before, &fits, error);
	if (is_fine && !fits)
		wdr_world_note(m->world,
			"the records of the move are not put onto the target: there is no space "
			"for them, or something else is in their place");
	if (is_fine && fits)
		is_fine = put(m, last_part, p, all, error);
	else if (is_fine && last_part->part != p)
		is_fine = wdr_move_run_note_changing(m, p, error) &&
			  wdr_move_run_check_ext(m, p, error) &&
			  wdr_move_run_note_copied(m, p, error);
	wdr_volume_free(&all->volume);
	return is_fine;
}
