/* Measures small files: each request is the whole life of one. */
#include "pace/pace_files.h"

#include "base/cleanup.h"
#include "pace/pace_queue.h"

#include <errno.h>
#include <fcntl.h>
#include <string.h>
#include <unistd.h>

struct WdrPaceFiles {
	char *folder;
	WdrFd fd; /* of the folder */
	unsigned next;
	WdrPaceRequest *ended;
	uint8_t back[WDR_PACE_FILE]; /* what was read back */
};

bool wdr_pace_files_new(const char *folder, WdrPaceFiles **ret, GError **error)
{
	g_autofree char *path = g_build_filename(folder, ".wanderitas-pace-XXXXXX", NULL);

	if (!g_mkdtemp(path))
		return wdr_error_set_errno(error, errno, "making a folder in %s", folder);
	WdrPaceFiles *f = g_new0(WdrPaceFiles, 1);
	f->folder = g_steal_pointer(&path);
	f->fd = open(f->folder, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	if (f->fd < 0) {
		wdr_error_set_errno(error, errno, "opening folder %s", f->folder);
		wdr_pace_files_free(f);
		return false;
	}
	*ret = f;
	return true;
}

void wdr_pace_files_free(WdrPaceFiles *f)
{
	if (!f)
		return;
	wdr_fd_clear(&f->fd);
	rmdir(f->folder);
	g_free(f->folder);
	g_free(f);
}

static int write_file(const WdrPaceFiles *f, const char *name, const WdrPaceRequest *r)
{
	g_auto(WdrFd) fd = openat(f->fd, name, O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC, 0600);

	if (fd < 0)
		return errno;
	ssize_t written = pwrite(fd, r->buf, r->len, 0);
	if (written != (ssize_t)r->len)
		return written < 0 ? errno : ENOSPC;
	return fsync(fd) == 0 ? 0 : errno;
}

/* The cache has it; the medium is asked. */
static int read_file(WdrPaceFiles *f, const char *name, const WdrPaceRequest *r)
{
	g_auto(WdrFd) fd = openat(f->fd, name, O_RDONLY | O_CLOEXEC);

	if (fd < 0)
		return errno;
	posix_fadvise(fd, 0, 0, POSIX_FADV_DONTNEED);
	ssize_t got = pread(fd, f->back, r->len, 0);
	if (got < 0)
		return errno;
	return got == (ssize_t)r->len && memcmp(f->back, r->buf, r->len) == 0 ? 0 : EIO;
}

static void submit(void *self, WdrPaceRequest *r)
{
	WdrPaceFiles *f = self;
	g_autofree char *name = g_strdup_printf("%u.pace", f->next++);

	r->begun = wdr_pace_clock(f);
	r->failed = write_file(f, name, r);
	if (!r->failed)
		r->failed = read_file(f, name, r);
	if (unlinkat(f->fd, name, 0) != 0 && !r->failed)
		r->failed = errno;
	r->ended = wdr_pace_clock(f);
	f->ended = r;
}

static WdrPaceRequest *reap(void *self)
{
	return ((WdrPaceFiles *)self)->ended;
}

/* That the last ones are gone. */
static int flush(void *self)
{
	return syncfs(((WdrPaceFiles *)self)->fd) == 0 ? 0 : errno;
}

bool wdr_pace_files_measure(
	const WdrWorld *world, WdrPaceFiles *f, double seconds, WdrPaceFigure *ret, GError **error)
{
	static const WdrPaceOps ops = { submit, reap, flush, wdr_pace_clock };
	g_autoptr(GArray) runs = g_array_new(FALSE, FALSE, sizeof(WdrPaceRun));
	const WdrPaceRun run = { 0, WDR_PACE_FILE };

	g_array_append_val(runs, run);
	const WdrPaceMedium medium = { &ops, f, f->folder, runs };
	return wdr_pace_measure(world, &medium, WDR_PACE_SMALL_FILES, seconds, ret, error);
}
