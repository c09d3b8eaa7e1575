/* Reading and writing files and folders: complete, checked, replaced by rename. */
#include "base/io.h"

#include "base/cleanup.h"
#include "base/stat.h"

#include <dirent.h>
#include <fcntl.h>
#include <stdio.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/statvfs.h>

enum { LINKS_MAX = 40, TEMPORARY_NAMES_MAX = 100 };

ssize_t wdr_pread_some(int fd, void *buf, size_t len, uint64_t offset)
{
	size_t done = 0;

	while (done < len) {
		ssize_t got = pread(fd, (uint8_t *)buf + done, len - done, (off_t)(offset + done));
		if (got < 0 && errno == EINTR)
			continue;
		if (got < 0)
			return -1;
		if (got == 0)
			break;
		done += (size_t)got;
	}
	return (ssize_t)done;
}

bool wdr_pread_all(int fd, void *buf, size_t len, uint64_t offset, GError **error)
{
	ssize_t got = wdr_pread_some(fd, buf, len, offset);

	if (got < 0)
		return wdr_error_set_errno(
			error, errno, "reading at byte %" G_GUINT64_FORMAT, offset);
	return (size_t)got == len ||
	       wdr_error_set(error, WDR_ERROR_IO, "short read at byte %" G_GUINT64_FORMAT,
		       offset + (uint64_t)got);
}

bool wdr_is_zero(const void *data, size_t len)
{
	const uint8_t *bytes = data;

	return len == 0 || (bytes[0] == 0 && memcmp(bytes, bytes + 1, len - 1) == 0);
}

bool wdr_pwrite_all(int fd, const void *buf, size_t len, uint64_t offset, GError **error)
{
	const uint8_t *at = buf;

	while (len > 0) {
		ssize_t put = pwrite(fd, at, len, (off_t)offset);
		if (put < 0 && errno == EINTR)
			continue;
		if (put <= 0)
			return wdr_error_set_errno(error, put < 0 ? errno : EIO,
				"writing at byte %" G_GUINT64_FORMAT, offset);
		at += put;
		len -= (size_t)put;
		offset += (uint64_t)put;
	}
	return true;
}

bool wdr_read_whole(
	int fd, const char *name, size_t limit, char **ret, size_t *ret_len, GError **error)
{
	g_autoptr(GByteArray) bytes = g_byte_array_new();
	uint8_t block[16384];

	for (;;) {
		ssize_t got = read(fd, block, sizeof(block));
		if (got < 0 && errno == EINTR)
			continue;
		if (got < 0)
			return wdr_error_set_errno(error, errno, "reading %s", name);
		if (got == 0)
			break;
		if ((size_t)got > limit - bytes->len)
			return wdr_error_set(error, WDR_ERROR_FORMAT, "%s is larger than %zu bytes",
				name, limit);
		g_byte_array_append(bytes, block, (guint)got);
	}
	*ret_len = bytes->len;
	g_byte_array_append(bytes, (const uint8_t *)"", 1);
	*ret = (char *)g_byte_array_free(g_steal_pointer(&bytes), FALSE);
	return true;
}

bool wdr_read_file(const char *path, size_t limit, char **ret, size_t *ret_len, GError **error)
{
	/* A pipe that nobody writes to is empty, not a reason to wait for ever. */
	g_auto(WdrFd) fd = open(path, O_RDONLY | O_CLOEXEC | O_NOCTTY | O_NONBLOCK);

	if (fd < 0 || fcntl(fd, F_SETFL, 0) != 0)
		return wdr_error_set_errno(error, errno, "opening %s", path);
	return wdr_read_whole(fd, path, limit, ret, ret_len, error);
}

char *wdr_read_line(const char *path)
{
	g_autofree char *text = NULL;
	size_t len = 0;

	if (!wdr_read_file(path, 65536, &text, &len, NULL))
		return NULL;
	text[strcspn(text, "\n")] = '\0';
	return g_strdup(g_strstrip(text));
}

bool wdr_write_attribute(const char *path, const char *text)
{
	g_auto(WdrFd) fd = open(path, O_WRONLY | O_TRUNC | O_CLOEXEC);
	size_t len = strlen(text);

	return fd >= 0 && write(fd, text, len) == (ssize_t)len;
}

bool wdr_sync_folder_of(const char *path, GError **error)
{
	g_autofree char *folder = g_path_get_dirname(path);
	g_auto(WdrFd) fd = open(folder, O_RDONLY | O_DIRECTORY | O_CLOEXEC);

	if (fd < 0 || fsync(fd) != 0)
		return wdr_error_set_errno(error, errno, "flushing folder %s", folder);
	return true;
}

/* A file under a name that nothing has yet, in this folder. -1: errno says why. */
static int create_temporary(int folder, const char *name, char **ret_name)
{
	int fd = -1;

	for (unsigned i = 0; i < TEMPORARY_NAMES_MAX && fd < 0; i++) {
		g_autofree char *temporary = g_strdup_printf("%s.%08x", name, g_random_int());
		fd = openat(folder, temporary, O_WRONLY | O_CREAT | O_EXCL | O_NOFOLLOW | O_CLOEXEC,
			0600);
		if (fd >= 0)
			*ret_name = g_steal_pointer(&temporary);
		else if (errno != EEXIST)
			break;
	}
	return fd;
}

bool wdr_replace_file(
	int folder, const char *path, const void *data, size_t len, mode_t mode, GError **error)
{
	g_autofree char *name = g_path_get_basename(path);
	g_autofree char *temporary = NULL;
	g_auto(WdrFd) fd = create_temporary(folder, name, &temporary);

	if (fd < 0)
		return wdr_error_set_errno(error, errno, "creating a file beside %s", path);
	if (!wdr_pwrite_all(fd, data, len, 0, error)) {
		g_prefix_error(error, "%s: ", path);
		unlinkat(folder, temporary, 0);
		return false;
	}
	if (fchmod(fd, mode) != 0 || fsync(fd) != 0 ||
		renameat(folder, temporary, folder, name) != 0) {
		wdr_error_set_errno(error, errno, "putting %s in place", path);
		unlinkat(folder, temporary, 0);
		return false;
	}
	return fsync(folder) == 0 ||
	       wdr_error_set_errno(error, errno, "flushing the folder of %s", path);
}

/* ---- what the user asked for ---- */

static bool replace_output(
	const char *path, const void *data, size_t len, mode_t mode, GError **error)
{
	g_autofree char *name = g_path_get_dirname(path);
	g_auto(WdrFd) folder = open(name, O_RDONLY | O_DIRECTORY | O_CLOEXEC);

	return folder >= 0 ? wdr_replace_file(folder, path, data, len, mode, error)
			   : wdr_error_set_errno(error, errno, "opening the folder %s", name);
}

/* The end of links that lead to a file which need not be there. The caller's. */
static char *end_of_links(const char *path)
{
	char *at = g_strdup(path);

	for (unsigned i = 0; i < LINKS_MAX; i++) {
		g_autofree char *target = g_file_read_link(at, NULL);
		if (!target)
			return at;
		g_autofree char *folder = g_path_get_dirname(at);
		g_free(at);
		at = g_path_is_absolute(target) ? g_steal_pointer(&target)
						: g_build_filename(folder, target, NULL);
	}
	return at;
}

static bool is_stdout(const char *path)
{
	return strcmp(path, "-") == 0;
}

bool wdr_output_check(const char *path, GError **error)
{
	g_autofree char *end = end_of_links(path);
	g_autofree char *folder = g_path_get_dirname(end);
	WdrStat st;
	bool is_there = wdr_stat(end, &st) == 0;

	if (is_stdout(path))
		return true;
	if (is_there && S_ISDIR(st.stx_mode))
		return wdr_error_set(error, WDR_ERROR_USAGE, "%s is a folder, not a file", path);
	if (is_there && S_ISBLK(st.stx_mode))
		return wdr_error_set(error, WDR_ERROR_USAGE,
			"%s is a disk: a file written there would destroy what is on it", path);
	/* A device or a pipe is written to as it is; a file is written beside the old one, and
	 * renamed. */
	bool is_made_anew = !is_there || S_ISREG(st.stx_mode);
	if (access(is_made_anew ? folder : end, W_OK) != 0)
		return wdr_error_set_errno(error, errno, "%s cannot be written", path);
	return true;
}

/* What a new file gets, by the user's own wish; there is no other way to ask for it. */
static mode_t usual_mode(void)
{
	mode_t mask = umask(0);

	umask(mask);
	return 0666 & ~mask;
}

static bool write_stream(int fd, const char *data, size_t len, const char *path, GError **error)
{
	while (len > 0) {
		ssize_t put = write(fd, data, len);
		if (put < 0 && errno == EINTR)
			continue;
		if (put <= 0)
			return wdr_error_set_errno(
				error, put < 0 ? errno : EIO, "writing %s", path);
		data += put;
		len -= (size_t)put;
	}
	return true;
}

bool wdr_write_output(const char *path, const void *data, size_t len, GError **error)
{
	g_autofree char *end = end_of_links(path);
	WdrStat st;

	if (!wdr_output_check(path, error))
		return false;
	if (is_stdout(path)) {
		fflush(stdout);
		return write_stream(STDOUT_FILENO, data, len, "the output", error);
	}
	if (wdr_stat(end, &st) != 0)
		return replace_output(end, data, len, usual_mode(), error);
	if (S_ISREG(st.stx_mode))
		return replace_output(end, data, len, st.stx_mode & 07777, error);
	g_auto(WdrFd) fd = open(end, O_WRONLY | O_CLOEXEC | O_NOCTTY);
	return fd >= 0 ? write_stream(fd, data, len, path, error)
		       : wdr_error_set_errno(error, errno, "opening %s", path);
}

bool wdr_make_scratch_file(const char *path, uint64_t size, int *ret, GError **error)
{
	unlink(path);
	g_auto(WdrFd) fd = open(path, O_RDWR | O_CREAT | O_EXCL | O_NOFOLLOW | O_CLOEXEC, 0600);

	if (fd < 0 || ftruncate(fd, (off_t)size) != 0)
		return wdr_error_set_errno(error, errno, "making the scratch file %s", path);
	*ret = wdr_fd_steal(&fd);
	return true;
}

uint64_t wdr_folder_room(const char *folder)
{
	struct statvfs fs;

	return statvfs(folder, &fs) == 0 ? (uint64_t)fs.f_bavail * fs.f_frsize : UINT64_MAX;
}

bool wdr_blame_full_disk(const char *path, GError **error)
{
	enum { NEXT_TO_NOTHING = 256 * 1024 };
	g_autofree char *folder = g_path_get_dirname(path);

	if (wdr_folder_room(folder) > NEXT_TO_NOTHING)
		return false;
	g_clear_error(error);
	wdr_error_set_errno(error, ENOSPC, "scratch files in %s", folder);
	wdr_error_hint(error, "name a folder with more room with --state DIR");
	return false;
}

bool wdr_make_folder(const char *path, GError **error)
{
	if (g_mkdir_with_parents(path, 0755) != 0)
		return wdr_error_set_errno(error, errno, "creating folder %s", path);
	return true;
}

bool wdr_open_folder(const char *path, GDir **ret, GError **error)
{
	*ret = g_dir_open(path, 0, NULL);
	if (*ret)
		return true;
	/* g_dir_open() tells errno only in words; and a file that is none of ours may lie there. */
	g_auto(WdrFd) fd = open(path, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	if (fd >= 0 || errno == ENOENT || errno == ENOTDIR)
		return true;
	return wdr_error_set_errno(error, errno, "reading the folder %s", path);
}

static void remove_below(int parent, const char *name)
{
	int fd = openat(parent, name, O_RDONLY | O_DIRECTORY | O_NOFOLLOW | O_CLOEXEC);

	if (fd < 0) {
		unlinkat(parent, name, 0);
		return;
	}
	DIR *dir = fdopendir(fd);
	for (struct dirent *e; dir && (e = readdir(dir));) {
		if (strcmp(e->d_name, ".") != 0 && strcmp(e->d_name, "..") != 0)
			remove_below(fd, e->d_name);
	}
	if (dir)
		closedir(dir);
	else
		close(fd);
	unlinkat(parent, name, AT_REMOVEDIR);
}

void wdr_remove_folder(const char *path)
{
	remove_below(AT_FDCWD, path);
}
