/* Files of the state folder, opened relative to a checked folder handle and never through a link.
 *
 * The state folder of a move that runs as root may lie where others can write. So the folder is
 * opened first, then it is checked behind that handle that this user or root owns it and nobody
 * else may write to it. Each file is then reached by openat, renameat and unlinkat. A folder that
 * somebody exchanges meanwhile is refused. */
#include "base/record.h"

#include "base/cleanup.h"
#include "base/io.h"
#include "base/stat.h"

#include <fcntl.h>
#include <stdio.h>
#include <sys/stat.h>

static bool is_of_us(const WdrStat *st)
{
	return st->stx_uid == geteuid() || st->stx_uid == 0;
}

/* -1: errno says why. EPERM: it is a link, and somebody else made it. */
static int open_folder(const char *path)
{
	const int flags = O_RDONLY | O_DIRECTORY | O_CLOEXEC;
	int fd = open(path, flags | O_NOFOLLOW);
	WdrStat st;

	if (fd >= 0 || (errno != ELOOP && errno != ENOTDIR))
		return fd;
	int why = errno;
	bool is_link = wdr_lstat(path, &st) == 0 && S_ISLNK(st.stx_mode);
	if (is_link && is_of_us(&st))
		return open(path, flags);
	errno = is_link ? EPERM : why;
	return -1;
}

static bool check_folder(int folder, const char *path, GError **error)
{
	WdrStat st;

	if (wdr_fstat(folder, &st) != 0)
		return wdr_error_set_errno(error, errno, "looking at the folder %s", path);
	if (is_of_us(&st) && !(st.stx_mode & (S_IWGRP | S_IWOTH)))
		return true;
	wdr_error_set(error, WDR_ERROR_REFUSED,
		"others may write to the folder %s: what is kept there could not be relied on",
		path);
	wdr_error_hint(error, "name a folder of your own: --state DIR");
	return false;
}

/* After open_folder(). */
static void cannot_open_folder(const char *path, GError **error)
{
	if (errno != EPERM) {
		wdr_error_set_errno(error, errno, "opening the folder %s", path);
		return;
	}
	wdr_error_set(error, WDR_ERROR_REFUSED,
		"the folder %s is a link that another user made: it could lead elsewhere at any time",
		path);
	wdr_error_hint(error, "name a folder of your own: --state DIR");
}

static int open_folder_of(const char *path, bool is_writing, GError **error)
{
	g_autofree char *name = g_path_get_dirname(path);
	g_auto(WdrFd) folder = open_folder(name);

	if (folder < 0)
		cannot_open_folder(name, error);
	else if (!is_writing || check_folder(folder, name, error))
		return wdr_fd_steal(&folder);
	return -1;
}

bool wdr_make_private_folder(const char *path, GError **error)
{
	g_autofree char *parent = g_path_get_dirname(path);

	if (!wdr_make_folder(parent, error))
		return false;
	if (mkdir(path, 0700) == 0)
		return wdr_sync_folder_of(path, error);
	if (errno != EEXIST)
		return wdr_error_set_errno(error, errno, "creating folder %s", path);
	g_auto(WdrFd) folder = open_folder(path);
	if (folder >= 0)
		return check_folder(folder, path, error);
	cannot_open_folder(path, error);
	return false;
}

int wdr_record_open(const char *path, WdrRecordMode mode, GError **error)
{
	static const int flags[] = { [WDR_RECORD_NEW] = O_WRONLY | O_CREAT | O_EXCL,
		[WDR_RECORD_APPEND] = O_RDWR,
		[WDR_RECORD_READ] = O_RDONLY | O_NONBLOCK };
	g_autofree char *name = g_path_get_basename(path);
	g_auto(WdrFd) folder = open_folder_of(path, mode != WDR_RECORD_READ, error);

	if (folder < 0)
		return -1;
	if (mode == WDR_RECORD_NEW)
		unlinkat(folder, name, 0);
	int fd = openat(folder, name, flags[mode] | O_NOFOLLOW | O_CLOEXEC | O_NOCTTY, 0600);
	if (fd < 0)
		wdr_error_set_errno(error, errno, "%s %s",
			mode == WDR_RECORD_NEW ? "creating" : "opening", path);
	return fd;
}

bool wdr_record_read(const char *path, size_t limit, char **ret, size_t *ret_len, GError **error)
{
	g_auto(WdrFd) fd = wdr_record_open(path, WDR_RECORD_READ, error);

	return fd >= 0 && wdr_read_whole(fd, path, limit, ret, ret_len, error);
}

bool wdr_record_write(const char *path, const void *data, size_t len, GError **error)
{
	g_auto(WdrFd) folder = open_folder_of(path, true, error);

	return folder >= 0 && wdr_replace_file(folder, path, data, len, 0600, error);
}

bool wdr_record_rename(const char *from, const char *to, GError **error)
{
	g_autofree char *old_name = g_path_get_basename(from);
	g_autofree char *new_name = g_path_get_basename(to);
	g_auto(WdrFd) folder = open_folder_of(to, true, error);

	if (folder < 0)
		return false;
	return (renameat(folder, old_name, folder, new_name) == 0 && fsync(folder) == 0) ||
	       wdr_error_set_errno(error, errno, "renaming %s to %s", from, new_name);
}

void wdr_record_remove(const char *path)
{
	g_autofree char *name = g_path_get_basename(path);
	g_auto(WdrFd) folder = open_folder_of(path, true, NULL);

	if (folder >= 0)
		unlinkat(folder, name, 0);
}
