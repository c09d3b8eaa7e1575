/* Opens a source for reading, replays journals in a copy, and checks its volumes.
 *
 * A root that was not unmounted cleanly has its newest changes in the journal alone. The source is
 * never written to, so e2fsck recovers a sparse copy of its metadata, and the volume is read
 * through that. Before the move and before the release it is asked who may write to the source.
 *
 * A move opens its source twice: to draw the itinerary, and after the user agreed. Checking takes
 * seconds on a card, and recovering minutes. So the second look takes the first one's word for a
 * volume whose superblock has not changed: whatever mounts or repairs an ext volume writes there.
 */
#include "plan/source.h"

#include "base/cleanup.h"
#include "base/command.h"
#include "base/io.h"
#include "base/stop.h"
#include "base/text.h"
#include "disk/backing.h"
#include "disk/users.h"
#include "disk/writer.h"
#include "plan/running_source.h"
#include "plan/unmovable.h"

#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

enum {
	COPY_BYTES = 1024 * 1024,
	FSCK_UNCORRECTED = 4,
	SUPERBLOCK_AT = 1024,
	SUPERBLOCK_BYTES = 1024
};

/* An ext volume that e2fsck had nothing against. */
typedef struct {
	uint64_t start, size;
	WdrHash superblock; /* as it is on the disk */
	char *recovered;    /* the copy in which the journal was replayed; NULL: none was needed */
} Sound;

static void sound_clear(void *data)
{
	g_free(((Sound *)data)->recovered);
}

void wdr_source_free(WdrSource *s)
{
	if (!s)
		return;
	wdr_system_free(s->system);
	wdr_disk_free(s->disk);
	g_array_unref(s->sound);
	if (s->scratch)
		wdr_remove_folder(s->scratch);
	g_free(s->scratch);
	g_free(s);
}

void wdr_source_rest(WdrSource *s)
{
	bool has_copy = false;

	wdr_system_close_volumes(s->system);
	for (guint i = 0; i < s->sound->len; i++)
		has_copy |= g_array_index(s->sound, Sound, i).recovered != NULL;
	/* A kill would leave it behind. */
	if (has_copy)
		return;
	wdr_remove_folder(s->scratch);
	g_clear_pointer(&s->scratch, g_free);
}

/* e2fsck's first line that says what is wrong: not its name, its passes, or the summary. */
static char *first_finding(const char *output)
{
	static const char *const noise[] = { "e2fsck ", "Pass ", "Warning!", "/proc", "Clear? ",
		"Fix? ", "\n", "***" };
	g_auto(GStrv) lines = g_strsplit(output, "\n", -1);

	for (size_t i = 0; lines[i]; i++) {
		bool is_noise = *g_strstrip(lines[i]) == '\0';
		for (size_t k = 0; k < G_N_ELEMENTS(noise); k++)
			is_noise |= g_str_has_prefix(lines[i], noise[k]);
		if (!is_noise)
			return wdr_escape(lines[i]);
	}
	return g_strdup("no reason given");
}

bool wdr_check_ext(const WdrWorld *world, const char *path, uint64_t offset, const char *scratch,
	GError **error)
{
	/* e2fsck takes '?' in a name for the start of options: name the disk by a link of ours. */
	g_autofree char *link = g_build_filename(scratch, "checked-disk", NULL);
	g_autofree char *full = g_canonicalize_filename(path, NULL);
	g_autofree char *where = g_strdup_printf("%s?offset=%" G_GUINT64_FORMAT, link, offset);
	const char *argv[] = { "e2fsck", "-fn", where, NULL };
	g_auto(WdrRun) run = { 0 };

	unlink(link);
	if (symlink(full, link) != 0)
		return wdr_error_set_errno(error, errno, "making the link %s", link);
	bool has_run = wdr_world_run(world, argv, NULL, &run, error);
	unlink(link);
	if (!has_run)
		return false;
	if (run.exit_code == 0)
		return true;
	if (run.exit_code > FSCK_UNCORRECTED)
		return wdr_error_set(error, WDR_ERROR_IO, "e2fsck could not run (exit code %d): %s",
			run.exit_code, g_strstrip(run.output));
	g_autofree char *finding = first_finding(run.output);
	return wdr_error_set(
		error, WDR_ERROR_FORMAT, "the ext volume is damaged; e2fsck says: %s", finding);
}

/* ---- recovering in a copy ---- */

static bool copy_volume(WdrBlockDev *from, const WdrPartition *p, const char *path, GError **error)
{
	g_auto(WdrFd) fd = -1;
	g_autofree uint8_t *buf = g_malloc(COPY_BYTES);

	if (!wdr_make_scratch_file(path, p->size, &fd, error))
		return false;
	for (uint64_t at = 0; at < p->size; at += COPY_BYTES) {
		size_t len = (size_t)MIN(COPY_BYTES, p->size - at);
		if (!wdr_stop_check(error) ||
			!wdr_blockdev_read(from, buf, len, p->start + at, error))
			return false;
		if (!wdr_is_zero(buf, len) && !wdr_pwrite_all(fd, buf, len, at, error)) {
			g_prefix_error(error, "%s: ", path);
			wdr_error_hint(error,
				"recovering needs room for a copy: name a folder with more room "
				"with --state DIR");
			return false;
		}
	}
	return true;
}

static bool replay_journal(const WdrWorld *world, const char *path, GError **error)
{
	const char *argv[] = { "e2fsck", "-y", "-E", "journal_only", path, NULL };
	g_auto(WdrRun) run = { 0 };

	if (!wdr_world_run(world, argv, NULL, &run, error))
		return false;
	if (run.exit_code < FSCK_UNCORRECTED)
		return true;
	g_autofree char *finding = first_finding(run.output);
	return wdr_error_set(error, WDR_ERROR_FORMAT,
		"its journal cannot be replayed; e2fsck says: %s", finding);
}

static bool use_recovered(WdrSystemPart *p, const char *path, GPtrArray *notes, GError **error)
{
	g_autoptr(WdrBlockDev) dev = NULL;
	g_autoptr(WdrVolume) volume = NULL;

	if (!wdr_blockdev_open(path, WDR_OPEN_READ, &dev, error) ||
		!wdr_ext_volume_open(dev, 0, p->partition->size, &volume, error))
		return false;
	g_ptr_array_add(notes,
		g_strdup_printf(
			"partition %u was not unmounted cleanly: its journal is replayed in a copy; "
			"the source stays as it is",
			p->partition->number));
	wdr_system_use_copy(p, g_steal_pointer(&dev), g_steal_pointer(&volume));
	return true;
}

static bool recover(const WdrWorld *world, const WdrSource *s, const WdrPartition *p,
	const char *path, GError **error)
{
	wdr_world_step(world, "recovering the journal of partition %u in a copy", p->number);
	return copy_volume(s->system->dev, p, path, error) && replay_journal(world, path, error);
}

/* ---- checking an ext volume, unless that was done before ---- */

static bool read_superblock(
	const WdrSource *s, const WdrSystemPart *p, WdrHash *ret, GError **error)
{
	uint8_t bytes[SUPERBLOCK_BYTES];
	uint64_t start = p->dev ? 0 : p->partition->start;

	if (!wdr_blockdev_read(p->dev ? p->dev : s->system->dev, bytes, sizeof(bytes),
		    start + SUPERBLOCK_AT, error))
		return false;
	*ret = wdr_hash(bytes, sizeof(bytes));
	return true;
}

static const Sound *find_sound(
	const WdrWorld *world, const WdrSource *earlier, const WdrSource *s, const Sound *now)
{
	if (!earlier || !wdr_disk_is_same(world, earlier->disk, s->disk))
		return NULL;
	for (guint i = 0; i < earlier->sound->len; i++) {
		const Sound *was = &g_array_index(earlier->sound, Sound, i);
		if (was->start == now->start && was->size == now->size &&
			wdr_hash_equal(was->superblock, now->superblock))
			return was;
	}
	return NULL;
}

static bool check_ext(const WdrWorld *world, WdrSource *s, const WdrSourceOpening *how,
	WdrSystemPart *p, GError **error)
{
	Sound now = { .start = p->partition->start, .size = p->partition->size };

	if (!read_superblock(s, p, &now.superblock, error))
		return false;
	const Sound *was = find_sound(world, how->earlier, s, &now);
	g_autofree char *path = was                     ? g_strdup(was->recovered)
				: p->ext.needs_recovery ? g_strdup_printf("%s/recovered-%u.ext",
								  s->scratch, p->partition->number)
							: NULL;
	if ((!was && path && !recover(world, s, p->partition, path, error)) ||
		(path && !use_recovered(p, path, how->notes, error)) ||
		(!was && !wdr_check_ext(world, p->dev ? wdr_blockdev_name(p->dev) : s->disk->path,
				 p->dev ? 0 : p->partition->start, s->scratch, error)))
		return false;
	/* Nobody needs its name any more, and a kill would leave it behind. */
	if (was && path && !how->earlier->is_shared)
		unlink(path);
	now.recovered = g_steal_pointer(&path);
	g_array_append_val(s->sound, now);
	return true;
}

/* ---- looking it through ---- */

/* Of a kind that we do not build: its blocks are copied. */
static bool check_blocks(
	const WdrWorld *world, const WdrSource *s, const WdrSystemPart *p, GError **error)
{
	const WdrUnmovable *unmovable = wdr_unmovable(p->probe.type);
	const char *type = p->probe.type ? p->probe.type : "none";

	if (unmovable && unmovable->clashes) {
		wdr_error_set(error, WDR_ERROR_UNSUPPORTED,
			"it holds %s, which cannot be copied: the copy would have the same UUID",
			unmovable->name);
		wdr_error_hint(error, "nothing was written; %s", unmovable->first);
		return false;
	}
	if (!s->disk->is_image && wdr_world_is_running(world) &&
		wdr_disk_is_written(world, s->disk, p->partition->number)) {
		wdr_error_set(error, WDR_ERROR_REFUSED,
			"it holds %s, which can be copied block by block only, and is mounted for "
			"writing",
			type);
		wdr_error_hint(error, "unmount it, or mount it read-only: mount -o remount,ro");
		return false;
	}
	return true;
}

/* ext2 and ext3 lack what new volumes are built with; the system's own program adds it. */
static bool check_is_ext4(const WdrSource *s, const WdrSystemPart *p, GError **error)
{
	if (strcmp(p->probe.type, "ext2") != 0 && strcmp(p->probe.type, "ext3") != 0)
		return true;
	g_autofree char *word =
		wdr_disk_volume_word(s->disk, p->partition->number, p->partition->start);
	g_autofree char *convert =
		wdr_system_command("tune2fs", "-O", "extents,dir_index,filetype,has_journal", word);
	g_autofree char *check = wdr_system_command("e2fsck", "-fp", word);
	wdr_error_set(error, WDR_ERROR_UNSUPPORTED, "it holds %s; only ext4 can be copied",
		p->probe.type);
	if (s->disk->packed)
		wdr_error_hint(error, "nothing was written; unpack the image, and name that");
	wdr_error_hint(error,
		"nothing was written; to convert it in its place, while it is not mounted: %s && %s",
		convert, check);
	return false;
}

static bool check_part(const WdrWorld *world, WdrSource *s, const WdrSourceOpening *how,
	WdrSystemPart *p, GError **error)
{
	const char *type = p->probe.type ? p->probe.type : "no file system";

	if (p->is_unfinished) {
		wdr_error_set(
			error, WDR_ERROR_REFUSED, "it is itself the target of an unfinished move");
		return false;
	}
	if (p->problem)
		return wdr_error_set(error, WDR_ERROR_FORMAT, "%s", p->problem);
	if (strcmp(type, "vfat") == 0 && p->volume) {
		WdrFatMeasure measure;
		return wdr_fat_volume_check(p->volume, &measure, error);
	}
	if (strcmp(type, "swap") == 0)
		return true;
	if (!p->volume)
		return check_blocks(world, s, p, error);
	if (!check_is_ext4(s, p, error))
		return false;
	/* What is mounted is in the kernel's care: on the disk it is never whole. */
	if (p->volume->is_changing)
		return true;
	return check_ext(world, s, how, p, error);
}

/* What else may be the reason that no system was found: a damaged volume looks like one without
 * anything that is known. The caller's; "" for none. */
static char *unknown_parts(const WdrSystem *sys)
{
	GString *text = g_string_new(NULL);

	for (guint i = 0; i < sys->parts->len; i++) {
		const WdrSystemPart *p = sys->parts->pdata[i];
		if (!p->probe.type && !p->partition->is_extended)
			g_string_append_printf(text,
				"; partition %u holds nothing that is known: is it damaged?",
				p->partition->number);
		const WdrUnmovable *unmovable = wdr_unmovable(p->probe.type);
		if (p->probe.type && !p->volume && strcmp(p->probe.type, "swap") != 0)
			g_string_append_printf(text,
				"; partition %u holds %s, which cannot be read here",
				p->partition->number, unmovable ? unmovable->name : p->probe.type);
		if (p->problem || p->unseen)
			g_string_append_printf(text, "; partition %u cannot be read: %s",
				p->partition->number, p->problem ? p->problem : p->unseen);
	}
	return g_string_free(text, FALSE);
}

/* For a system on something that cannot be moved; NULL: there is none. */
static const char *what_first(const WdrSystem *sys)
{
	const WdrUnmovable *found = NULL;

	for (guint i = 0; i < sys->parts->len; i++) {
		const WdrSystemPart *p = sys->parts->pdata[i];
		found = p->volume ? found : wdr_unmovable(p->probe.type);
	}
	return found ? found->first : NULL;
}

static bool check_system(const WdrSource *s, GError **error)
{
	const WdrSystem *sys = s->system;
	g_autofree char *unknown = unknown_parts(sys);

	if (!sys->root) {
		const char *first = what_first(sys);
		wdr_error_set(error, WDR_ERROR_UNSUPPORTED,
			"%s has no ext4 volume with a system on it (no /etc/fstab)%s",
			s->disk->name, unknown);
		if (first)
			wdr_error_hint(error, "nothing was written; %s", first);
		return false;
	}
	return sys->flow || wdr_error_set(error, WDR_ERROR_UNSUPPORTED,
				    "%s has no boot files: no config.txt or cmdline.txt on a FAT "
				    "volume, no extlinux.conf, no boot.scr%s",
				    s->disk->name, unknown);
}

static bool look_through(
	const WdrWorld *world, WdrSource *s, const WdrSourceOpening *how, GError **error)
{
	if (s->system->table->kind == WDR_TABLE_NONE)
		return wdr_error_set(
			error, WDR_ERROR_FORMAT, "%s has no partition table", s->disk->name);
	if (!wdr_parttable_check(s->system->table, s->system->dev, error))
		return false;
	for (guint i = 0; i < s->system->parts->len; i++) {
		WdrSystemPart *p = s->system->parts->pdata[i];
		if (!p->partition->is_extended && !check_part(world, s, how, p, error)) {
			g_prefix_error(
				error, "%s: partition %u: ", s->disk->name, p->partition->number);
			return false;
		}
	}
	return wdr_system_look(s->system, world, error) && check_system(s, error);
}

bool wdr_source_check_quiet(const WdrWorld *world, const WdrDisk *disk, GError **error)
{
	g_autofree char *writer = wdr_disk_writer(world, disk);

	if (!writer)
		return true;
	wdr_error_set(error, WDR_ERROR_REFUSED, "the source %s may change while it is read: %s",
		disk->name, writer);
	wdr_disk_hint_at_release(world, disk, "nothing was written",
		"unmount or close it there, or name the device that is mounted as the source (--from)",
		error);
	return false;
}

bool wdr_source_open(const WdrWorld *world, WdrDisk *disk, const WdrSourceOpening *how,
	WdrSource **ret, GError **error)
{
	g_autoptr(WdrSource) s = g_new0(WdrSource, 1);
	/* e2fsprogs take '?' in a path for the start of options. */
	const char *parent = strchr(how->scratch, '?') ? g_get_tmp_dir() : how->scratch;
	g_autofree char *folder = g_build_filename(parent, WDR_SCRATCH_PREFIX "XXXXXX", NULL);

	s->disk = disk;
	s->sound = g_array_new(FALSE, FALSE, sizeof(Sound));
	g_array_set_clear_func(s->sound, sound_clear);
	if (!g_mkdtemp(folder))
		return wdr_error_set_errno(error, errno, "making a folder in %s", parent);
	s->scratch = g_steal_pointer(&folder);
	if (!wdr_source_check_quiet(world, disk, error) ||
		!wdr_system_read(world, disk, &s->system, error) ||
		!wdr_running_use(world, disk, s->system, error) ||
		!look_through(world, s, how, error)) {
		wdr_error_hint(error, "nothing was written; the source is only ever read");
		return false;
	}
	*ret = g_steal_pointer(&s);
	return true;
}
