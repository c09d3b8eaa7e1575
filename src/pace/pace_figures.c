/* Measures all figures of one disk, image or folder, and watches who else uses it. */
#include "pace/pace_figures.h"

#include "base/command.h"
#include "base/stat.h"
#include "base/stop.h"
#include "base/text.h"
#include "disk/parttable.h"
#include "disk/users.h"
#include "pace/pace_file.h"
#include "pace/pace_files.h"
#include "plan/target_contents.h"
#include "plan/target_partition.h"

#include <string.h>
#include <sys/stat.h>

#define MB 1e6

enum {
	/* What others read and wrote meanwhile is reported from this share on, in parts of a
	 * hundred, and from this much. */
	OTHERS_PERCENT = 10,
	OTHERS_MIN = 8 * 1000 * 1000,
};

WdrPaced *wdr_paced_new(const char *name, const char *kind)
{
	WdrPaced *p = g_new0(WdrPaced, 1);

	p->name = g_strdup(name);
	p->kind = g_strdup(kind);
	p->warnings = g_ptr_array_new_with_free_func(g_free);
	return p;
}

void wdr_paced_free(WdrPaced *p)
{
	if (!p)
		return;
	g_free(p->name);
	g_free(p->kind);
	g_free(p->disk);
	g_free(p->medium);
	g_free(p->model);
	g_free(p->serial);
	wdr_link_clear(&p->link);
	g_ptr_array_unref(p->warnings);
	g_free(p->failure);
	g_free(p->label);
	g_free(p);
}

char *wdr_paced_title(const WdrPaced *p)
{
	g_autofree char *name = wdr_escape(p->name);
	g_autofree char *label = p->label ? wdr_escape(p->label) : NULL;

	return label ? g_strdup_printf("%s (%s)", name, label) : g_steal_pointer(&name);
}

bool wdr_paced_has_figures(const WdrPaced *p)
{
	for (size_t i = 0; i < WDR_PACE_KINDS; i++) {
		if (p->figures[i].is_there)
			return true;
	}
	return false;
}

static void describe(const WdrWorld *world, WdrPaced *p, const WdrDisk *disk)
{
	p->disk = disk->is_image ? NULL : g_strdup(disk->name);
	p->medium = g_strdup(disk->medium);
	p->model = g_strdup(disk->model);
	p->serial = g_strdup(disk->serial);
	p->link = wdr_disk_link(world, disk);
	p->size = disk->size;
}

/* ---- what others do on the disk meanwhile ---- */

typedef struct {
	char *disk; /* whose traffic is counted; NULL: nobody counts it */
	bool counts_ours;
	uint64_t read, written;
	int64_t written_at; /* of an image */
} Traffic;

static Traffic watch(const WdrWorld *world, const WdrPaced *p, const WdrPaceFile *f)
{
	Traffic t = { .written_at = wdr_pace_file_written_at(f) };

	/* A bench's disks are files: its sysfs knows nothing of what we do with them. */
	if (p->disk)
		t.disk = g_strdup(p->disk);
	else if (!wdr_world_bench(world))
		t.disk = wdr_disk_name_of_device(world, wdr_pace_file_device(f));
	t.counts_ours = !wdr_world_bench(world);
	if (t.disk && !wdr_disk_traffic(world, t.disk, &t.read, &t.written))
		g_clear_pointer(&t.disk, g_free);
	return t;
}

static uint64_t more_than(uint64_t now, uint64_t before, uint64_t ours)
{
	return now > before && now - before > ours ? now - before - ours : 0;
}

/* writes: what we do to the disk, the scratch file's first filling included, is no other's. */
static void tell_others(
	const WdrWorld *world, WdrPaced *p, const WdrPaceFile *f, const Traffic *t, bool writes)
{
	uint64_t read = 0;
	uint64_t written = 0;
	uint64_t ours[2] = { 0, writes ? p->span : 0 };

	for (size_t i = 0; i < WDR_PACE_KINDS; i++)
		ours[wdr_pace_kind((WdrPaceKind)i)->is_write] += p->figures[i].moved;
	if (!writes && wdr_pace_file_written_at(f) != t->written_at)
		g_ptr_array_add(p->warnings,
			g_strdup(
				"another program wrote to this image while it was measured: measure "
				"it again"));
	if (!t->disk || !wdr_disk_traffic(world, t->disk, &read, &written))
		return;
	uint64_t others_read = more_than(read, t->read, t->counts_ours ? ours[0] : 0);
	uint64_t others_wrote = more_than(written, t->written, t->counts_ours ? ours[1] : 0);
	uint64_t others = others_read + others_wrote;
	if (others > OTHERS_MIN && others > (ours[0] + ours[1]) / 100 * OTHERS_PERCENT)
		g_ptr_array_add(p->warnings,
			g_strdup_printf(
				"other programs read %.0f MB from %s and wrote %.0f MB to it "
				"meanwhile: the figures are too low; measure again when it is "
				"idle",
				(double)others_read / MB, t->disk, (double)others_wrote / MB));
}

/* ---- measuring ---- */

/* The failure of a medium is shown with the figures that there are; a stop by the user is not. */
static bool take_failure(WdrPaced *p, GError *failure, GError **error)
{
	if (g_error_matches(failure, WDR_ERROR, WDR_ERROR_STOPPED)) {
		g_propagate_error(error, failure);
		return false;
	}
	p->failure = wdr_escape(failure->message);
	g_error_free(failure);
	return true;
}

static bool measure_kind(const WdrWorld *world, WdrPaced *p, WdrPaceFile *f, WdrPaceKind kind,
	double seconds, GError **error)
{
	g_autofree char *name = wdr_escape(p->name);

	wdr_world_step(world, "%s: %s", name, wdr_pace_kind(kind)->text);
	return wdr_pace_file_measure(world, f, kind, seconds, &p->figures[kind], error);
}

/* Writing in sequence comes first, since only what was written can be read. */
static bool measure_writing(
	const WdrWorld *world, WdrPaced *p, WdrPaceFile *f, double seconds, GError **error)
{
	const WdrPaceFigure *first = &p->figures[WDR_PACE_WRITE_IN_SEQUENCE];

	return measure_kind(world, p, f, WDR_PACE_WRITE_IN_SEQUENCE, seconds, error) &&
	       wdr_pace_file_fill(f, first->reached, first->reached, error);
}

static bool measure_all(const WdrWorld *world, WdrPaced *p, WdrPaceFile *f, bool with_writing,
	double seconds, GError **error)
{
	static const WdrPaceKind reads[] = { WDR_PACE_READ_IN_SEQUENCE, WDR_PACE_READ_AT_RANDOM,
		WDR_PACE_READ_MANY };
	if (with_writing && !measure_writing(world, p, f, seconds, error))
		return false;
	for (size_t i = 0; i < G_N_ELEMENTS(reads); i++) {
		if (!measure_kind(world, p, f, reads[i], seconds, error))
			return false;
	}
	return !with_writing || measure_kind(world, p, f, WDR_PACE_COMMIT, seconds, error);
}

/* After the traffic was counted: what a file system writes for each file looks like another's. */
static bool measure_small_files(const WdrWorld *world, WdrPaced *p, double seconds, GError **error)
{
	const WdrPaceKind kind = WDR_PACE_SMALL_FILES;
	g_autofree char *name = wdr_escape(p->name);
	g_autoptr(WdrPaceFiles) files = NULL;

	wdr_world_step(world, "%s: %s", name, wdr_pace_kind(kind)->text);
	return wdr_pace_files_new(p->name, &files, error) &&
	       wdr_pace_files_measure(world, files, seconds, &p->figures[kind], error);
}

static bool measure(const WdrWorld *world, WdrPaced *p, WdrPaceFile *f, bool with_writing,
	double seconds, GError **error)
{
	GError *failure = NULL;
	Traffic traffic = watch(world, p, f);

	p->is_past_cache = wdr_pace_file_is_past_cache(f);
	p->is_stand_in = strcmp(p->kind, "folder") != 0 && wdr_pace_file_written_at(f) != 0;
	bool is_whole = measure_all(world, p, f, with_writing, seconds, &failure);
	p->span = wdr_pace_file_span(f);
	/* Of what a failure cut off nobody knows how much it was. */
	if (is_whole)
		tell_others(world, p, f, &traffic, with_writing);
	g_free(traffic.disk);
	if (is_whole && strcmp(p->kind, "folder") == 0)
		is_whole = measure_small_files(world, p, seconds, &failure);
	wdr_paced_judge(world, p);
	return is_whole || take_failure(p, failure, error);
}

static bool measure_folder(
	const WdrWorld *world, const char *folder, double seconds, WdrPaced **ret, GError **error)
{
	g_autoptr(WdrPaced) p = wdr_paced_new(folder, "folder");
	g_autoptr(WdrPaceFile) f = NULL;
	g_autoptr(WdrDisk) disk = NULL;

	if (!wdr_pace_file_new_scratch(folder, &f, error))
		return false;
	g_autofree char *name = wdr_world_bench(world)
					? NULL
					: wdr_disk_name_of_device(world, wdr_pace_file_device(f));
	if (name && wdr_disk_find(world, name, &disk, NULL))
		describe(world, p, disk);
	if (!measure(world, p, f, true, seconds, error))
		return false;
	*ret = g_steal_pointer(&p);
	return true;
}

static bool measure_disk(
	const WdrWorld *world, const WdrDisk *disk, double seconds, WdrPaced **ret, GError **error)
{
	g_autoptr(WdrPaced) p = wdr_paced_new(disk->name, disk->is_image ? "image" : "disk");
	g_autoptr(WdrPaceFile) f = NULL;

	describe(world, p, disk);
	if (!wdr_pace_file_open(disk->path, &f, error) ||
		!measure(world, p, f, false, seconds, error))
		return false;
	*ret = g_steal_pointer(&p);
	return true;
}

/* *ret_disk NULL: it is a folder. */
static bool find(const WdrWorld *world, const char *what, WdrDisk **ret_disk, GError **error)
{
	GError *failure = NULL;

	*ret_disk = NULL;
	if (wdr_disk_find(world, what, ret_disk, &failure))
		return true;
	if (wdr_is_folder(what)) {
		g_error_free(failure);
		return true;
	}
	g_propagate_error(error, failure);
	return false;
}

bool wdr_paced_is_there(const WdrWorld *world, const char *what, GError **error)
{
	g_autoptr(WdrDisk) disk = NULL;

	return find(world, what, &disk, error);
}

bool wdr_paced_measure(
	const WdrWorld *world, const char *what, double seconds, WdrPaced **ret, GError **error)
{
	g_autoptr(WdrDisk) disk = NULL;

	if (!find(world, what, &disk, error))
		return false;
	return disk ? measure_disk(world, disk, seconds, ret, error)
		    : measure_folder(world, what, seconds, ret, error);
}

/* ---- a partition that is given up ---- */

void wdr_pace_stretch_clear(WdrPaceStretch *s)
{
	wdr_disk_free(s->disk);
	g_free(s->name);
	g_free(s->path);
	g_free(s->contents);
	*s = (WdrPaceStretch){ 0 };
}

/* Its own device where it has one: so the kernel keeps others, and us, from what is in use. */
static void choose_path(const WdrWorld *world, WdrPaceStretch *s)
{
	g_autofree char *in_dev = g_strdup_printf("/dev/%s", s->name);
	g_autofree char *device = wdr_world_path(world, in_dev);
	WdrStat st;

	if (!s->disk->is_image && wdr_stat(device, &st) == 0 && S_ISBLK(st.stx_mode)) {
		s->path = g_steal_pointer(&device);
		s->place.start = 0;
	} else {
		s->path = g_strdup(s->disk->path);
	}
}

static bool look_at_contents(WdrPaceStretch *s, WdrBlockDev *dev, GError **error)
{
	g_autoptr(GPtrArray) target_contents = NULL;

	if (!wdr_target_contents_find(dev, s->number, &target_contents, error))
		return false;
	s->contents = target_contents->len > 0 ? wdr_target_content_text(target_contents->pdata[0])
					       : g_strdup_printf("partition %u", s->number);
	return true;
}

static bool check_free(const WdrWorld *world, const WdrPaceStretch *s, GError **error)
{
	g_autofree char *user = wdr_disk_partition_user(world, s->disk, s->number);

	if (!user && !s->disk->is_read_only)
		return true;
	wdr_error_set(error, WDR_ERROR_REFUSED, "%s cannot be written to: %s", s->name,
		user ? user : "the disk is read-only");
	wdr_error_hint(error,
		"nothing was written; to measure writing on a disk in use, name a folder on it");
	return false;
}

bool wdr_pace_stretch_find(const WdrWorld *world, const char *disk, const char *partition,
	WdrPaceStretch *ret, GError **error)
{
	g_auto(WdrPaceStretch) s = { 0 };
	g_autoptr(WdrBlockDev) dev = NULL;
	g_autoptr(WdrPartTable) table = NULL;

	if (!wdr_disk_find(world, disk, &s.disk, error) ||
		!wdr_blockdev_open(s.disk->path, WDR_OPEN_READ, &dev, error) ||
		!wdr_parttable_read(dev, &table, error))
		return false;
	const WdrPartition *p = wdr_partition_named(s.disk, table, partition);
	if (!p || p->is_extended) {
		wdr_error_set(error, WDR_ERROR_USAGE, "%s has no partition '%s' to write to",
			s.disk->name, partition);
		g_autofree char *look = wdr_command("survey", wdr_disk_word(s.disk));
		wdr_error_hint(error, "to see its partitions: %s", look);
		return false;
	}
	s.number = p->number;
	s.name = wdr_disk_partition_name(s.disk, p->number);
	s.place = (WdrPaceRun){ p->start, p->size };
	choose_path(world, &s);
	if (!check_free(world, &s, error) || !look_at_contents(&s, dev, error))
		return false;
	*ret = s;
	s = (WdrPaceStretch){ 0 };
	return true;
}

bool wdr_paced_measure_stretch(const WdrWorld *world, const WdrPaceStretch *s, double seconds,
	WdrPaced **ret, GError **error)
{
	g_autoptr(WdrPaced) p = wdr_paced_new(s->name, "partition");
	g_autoptr(WdrPaceFile) f = NULL;

	describe(world, p, s->disk);
	if (!wdr_pace_file_open_stretch(s->path, s->place, &f, error))
		return false;
	bool is_fine = measure(world, p, f, true, seconds, error);
	wdr_pace_file_discard(f);
	if (is_fine)
		*ret = g_steal_pointer(&p);
	return is_fine;
}
