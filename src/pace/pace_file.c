/* Opens what is measured: a disk, the data of an image, a scratch file. */
#include "pace/pace_file.h"

#include "base/cleanup.h"
#include "base/io.h"
#include "base/stat.h"
#include "base/stop.h"
#include "base/text.h"
#include "disk/blockdev.h"
#include "pace/pace_queue.h"

#include <fcntl.h>
#include <linux/magic.h>
#include <stdlib.h>
#include <string.h>
#include <sys/file.h>
#include <sys/stat.h>
#include <sys/statvfs.h>
#include <sys/vfs.h>

#define SCRATCH_MAX WDR_GIB
#define SCRATCH_MIN (64 * WDR_MIB)
/* A smaller disk would be read again and again within a round, from its own memory at that. */
#define SPAN_MIN (8 * WDR_MIB)

enum { FREE_PARTS = 2 }; /* what of a file system's free room the scratch file may take: half */

struct WdrPaceFile {
	char *name;
	int fd;
	bool is_direct, is_image;
	GArray *runs;     /* WdrPaceRun */
	WdrBlockDev *dev; /* holds a disk exclusively that is written to; NULL: none is */
};

static WdrPaceFile *pace_file_new(const char *name)
{
	WdrPaceFile *f = g_new0(WdrPaceFile, 1);

	f->name = g_strdup(name);
	f->fd = -1;
	f->runs = g_array_new(FALSE, FALSE, sizeof(WdrPaceRun));
	return f;
}

void wdr_pace_file_free(WdrPaceFile *f)
{
	if (!f)
		return;
	if (f->fd >= 0)
		close(f->fd);
	wdr_blockdev_free(f->dev);
	g_array_unref(f->runs);
	g_free(f->name);
	g_free(f);
}

bool wdr_pace_file_is_past_cache(const WdrPaceFile *f)
{
	return f->is_direct;
}

uint64_t wdr_pace_file_span(const WdrPaceFile *f)
{
	return wdr_pace_runs_size(f->runs);
}

dev_t wdr_pace_file_device(const WdrPaceFile *f)
{
	WdrStat st;

	if (wdr_fstat(f->fd, &st) != 0)
		return 0;
	return S_ISBLK(st.stx_mode) ? wdr_stat_node(&st) : wdr_stat_device(&st);
}

int64_t wdr_pace_file_written_at(const WdrPaceFile *f)
{
	WdrStat st;

	if (!f->is_image || wdr_fstat(f->fd, &st) != 0)
		return 0;
	return wdr_stat_mtime_ns(&st);
}

/* Some file systems take the flag and keep everything in memory all the same, or refuse it only
 * when something is read. */
static bool goes_past_cache(int fd, bool is_empty)
{
	struct statfs fs;
	WdrStat st;
	void *page = NULL;

	/* Of a device it would tell the file system that its node lies on. */
	if (wdr_fstat(fd, &st) == 0 && !S_ISBLK(st.stx_mode) && fstatfs(fd, &fs) == 0 &&
		((unsigned long)fs.f_type == TMPFS_MAGIC ||
			(unsigned long)fs.f_type == RAMFS_MAGIC))
		return false;
	if (is_empty)
		return true;
	if (posix_memalign(&page, WDR_PACE_SMALL, WDR_PACE_SMALL) != 0)
		return false;
	ssize_t got = pread(fd, page, WDR_PACE_SMALL, 0);
	free(page);
	return got >= 0 || errno != EINVAL;
}

/* Opens past the page cache, or through it where that does not go. */
static int open_direct(const char *path, int flags, mode_t mode, bool is_empty, bool *ret_is_direct)
{
	int fd = open(path, flags | O_DIRECT | O_CLOEXEC, mode);

	if (fd >= 0 && goes_past_cache(fd, is_empty)) {
		*ret_is_direct = true;
		return fd;
	}
	if (fd >= 0)
		close(fd);
	*ret_is_direct = false;
	return open(path, flags | O_CLOEXEC, mode);
}

static void add_run(WdrPaceFile *f, uint64_t start, uint64_t end)
{
	uint64_t first = wdr_round_up(start, WDR_PACE_SMALL);
	uint64_t size = end > first ? wdr_round_down(end - first, WDR_PACE_BIG) : 0;
	WdrPaceRun run = { first, size };

	if (size > 0)
		g_array_append_val(f->runs, run);
}

/* Where an image has data. */
static void add_data(WdrPaceFile *f, uint64_t size)
{
	off_t at = 0;

	while ((uint64_t)at < size) {
		off_t start = lseek(f->fd, at, SEEK_DATA);
		if (start < 0 && errno == ENXIO)
			return;
		off_t end = start < 0 ? -1 : lseek(f->fd, start, SEEK_HOLE);
		if (end < 0) {
			add_run(f, (uint64_t)at, size);
			return;
		}
		add_run(f, (uint64_t)start, (uint64_t)end);
		at = end;
	}
}

static bool check_span(const WdrPaceFile *f, uint64_t size, GError **error)
{
	uint64_t span = wdr_pace_file_span(f);

	if (span >= SPAN_MIN)
		return true;
	g_autofree char *least = wdr_format_size(SPAN_MIN);
	g_autofree char *has = wdr_format_size(size);
	g_autofree char *data = wdr_format_size(span);
	if (size < SPAN_MIN) {
		wdr_error_set(error, WDR_ERROR_REFUSED,
			"%s is too small to be measured: it has %s, and takes %s at least", f->name,
			has, least);
	} else {
		wdr_error_set(error, WDR_ERROR_REFUSED,
			"%s has too little data to measure: %s in whole MiB; at least %s are needed",
			f->name, data, least);
		wdr_error_hint(error,
			"what an image holds nothing in is read from nowhere; measure it "
			"when it is filled, or a folder");
	}
	return false;
}

bool wdr_pace_file_open(const char *path, WdrPaceFile **ret, GError **error)
{
	g_autoptr(WdrPaceFile) f = pace_file_new(path);
	g_autoptr(WdrBlockDev) dev = NULL;
	WdrStat st;

	/* It tells what can be opened and what not, and how large it is. */
	if (!wdr_blockdev_open(path, WDR_OPEN_READ, &dev, error))
		return false;
	f->fd = open_direct(path, O_RDONLY, 0, false, &f->is_direct);
	if (f->fd < 0 || wdr_fstat(f->fd, &st) != 0)
		return wdr_error_set_errno(error, errno, "opening %s", path);
	f->is_image = S_ISREG(st.stx_mode);
	if (f->is_image)
		add_data(f, wdr_blockdev_size(dev));
	else
		add_run(f, 0, wdr_blockdev_size(dev));
	if (!check_span(f, wdr_blockdev_size(dev), error))
		return false;
	*ret = g_steal_pointer(&f);
	return true;
}

bool wdr_pace_file_open_stretch(
	const char *path, WdrPaceRun stretch, WdrPaceFile **ret, GError **error)
{
	g_autoptr(WdrPaceFile) f = pace_file_new(path);
	WdrStat st;

	if (!wdr_blockdev_open(path, WDR_OPEN_WRITE, &f->dev, error))
		return false;
	f->fd = open_direct(path, O_RDWR, 0, false, &f->is_direct);
	if (f->fd < 0 || wdr_fstat(f->fd, &st) != 0)
		return wdr_error_set_errno(error, errno, "opening %s", path);
	f->is_image = S_ISREG(st.stx_mode);
	if (stretch.start > wdr_blockdev_size(f->dev) ||
		stretch.size > wdr_blockdev_size(f->dev) - stretch.start)
		return wdr_error_set(
			error, WDR_ERROR_FORMAT, "the partition ends behind the end of %s", path);
	add_run(f, stretch.start, stretch.start + MIN(stretch.size, SCRATCH_MAX));
	if (!check_span(f, stretch.size, error))
		return false;
	*ret = g_steal_pointer(&f);
	return true;
}

/* ---- scratch files ---- */

static bool has_room(const char *folder, uint64_t *ret, GError **error)
{
	struct statvfs fs;

	if (statvfs(folder, &fs) != 0)
		return wdr_error_set_errno(error, errno, "looking at %s", folder);
	uint64_t free_bytes = (uint64_t)fs.f_bavail * fs.f_frsize;
	*ret = wdr_round_down(MIN(free_bytes / FREE_PARTS, SCRATCH_MAX), WDR_PACE_BIG);
	if (*ret >= SCRATCH_MIN)
		return true;
	g_autofree char *has = wdr_format_size(free_bytes);
	g_autofree char *least = wdr_format_size(FREE_PARTS * SCRATCH_MIN);
	wdr_error_set(error, WDR_ERROR_NO_SPACE,
		"there is no room for a scratch file in %s: %s are free, and %s are wanted, of which "
		"half would be used",
		folder, has, least);
	wdr_error_hint(error, "nothing was written; free some space, or measure the disk by its "
			      "name, which reads only");
	return false;
}

/* Where a file without a name cannot be made (FAT), it loses it at once. */
static bool make_scratch(WdrPaceFile *f, const char *folder, GError **error)
{
	g_autofree char *path = g_build_filename(folder, ".wanderitas-pace-XXXXXX", NULL);

	f->fd = open_direct(folder, O_RDWR | O_TMPFILE, 0600, true, &f->is_direct);
	if (f->fd >= 0)
		return true;
	int failed = errno;
	if (failed == EOPNOTSUPP || failed == EISDIR || failed == EINVAL) {
		g_auto(WdrFd) fd = g_mkstemp(path);
		failed = errno;
		if (fd >= 0) {
			f->fd = open_direct(path, O_RDWR, 0, true, &f->is_direct);
			failed = errno;
			unlink(path);
		}
	}
	if (f->fd >= 0)
		return true;
	wdr_error_set_errno(error, failed, "making a scratch file in %s", folder);
	wdr_error_hint(error, "nothing was written; %s",
		failed == EROFS ? "the file system is mounted read-only: name the disk, which is "
				  "read only, or another folder"
				: "name a folder that can be written to");
	return false;
}

bool wdr_pace_file_new_scratch(const char *folder, WdrPaceFile **ret, GError **error)
{
	g_autoptr(WdrPaceFile) f = pace_file_new(folder);
	uint64_t size = 0;

	if (!has_room(folder, &size, error) || !make_scratch(f, folder, error))
		return false;
	/* Room that is there already is not looked for while it is measured. */
	if (fallocate(f->fd, 0, 0, (off_t)size) != 0 && errno != EOPNOTSUPP && errno != ENOSYS)
		return wdr_error_set_errno(error, errno, "making a scratch file in %s", folder);
	add_run(f, 0, size);
	*ret = g_steal_pointer(&f);
	return true;
}

static bool write_rest(WdrPaceFile *f, uint64_t from, uint64_t to, GError **error)
{
	void *buf = NULL;

	if (posix_memalign(&buf, WDR_PACE_SMALL, WDR_PACE_BIG) != 0)
		return wdr_error_set(error, WDR_ERROR_IO, "out of memory");
	g_autoptr(GRand) dice = g_rand_new();
	bool is_fine = true;
	for (; is_fine && from < to; from += WDR_PACE_BIG) {
		wdr_pace_scramble(dice, buf, WDR_PACE_BIG);
		is_fine = wdr_stop_check(error) &&
			  wdr_pwrite_all(f->fd, buf, WDR_PACE_BIG, from, error);
	}
	free(buf);
	return is_fine;
}

bool wdr_pace_file_fill(WdrPaceFile *f, uint64_t written, uint64_t size, GError **error)
{
	WdrPaceRun *run = &g_array_index(f->runs, WdrPaceRun, 0);

	/* The whole of a stretch may be written to already. */
	size = MIN(wdr_round_up(MAX(size, SCRATCH_MIN), WDR_PACE_BIG), run->size);
	if (!write_rest(f, run->start + MIN(written, size), run->start + size, error))
		return false;
	run->size = size;
	if (fdatasync(f->fd) != 0)
		return wdr_error_set_errno(error, errno, "flushing %s", f->name);
	return true;
}

void wdr_pace_file_discard(WdrPaceFile *f)
{
	for (guint i = 0; f->dev && i < f->runs->len; i++) {
		const WdrPaceRun *run = &g_array_index(f->runs, WdrPaceRun, i);
		if (!wdr_blockdev_discard(f->dev, run->start, run->size))
			g_debug("%s does not support discarding blocks", f->name);
	}
}

bool wdr_pace_file_measure(const WdrWorld *world, WdrPaceFile *f, WdrPaceKind kind, double seconds,
	WdrPaceFigure *ret, GError **error)
{
	g_autoptr(WdrPaceQueue) queue = wdr_pace_queue_new(f->fd, wdr_pace_kind(kind)->at_once);
	WdrPaceMedium medium = { wdr_pace_queue_ops(queue), queue, f->name, f->runs };

	/* Where the cache cannot be passed by, at least what it has now is not what is measured. */
	if (!f->is_direct)
		posix_fadvise(f->fd, 0, 0, POSIX_FADV_DONTNEED);
	return wdr_pace_measure(world, &medium, kind, seconds, ret, error);
}
