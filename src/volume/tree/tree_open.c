/* Opens files below the root of a mounted tree: never outside it, and never through a symbolic
 * link. */
#include "volume/tree/tree_priv.h"

#include "base/cleanup.h"

#include <errno.h>
#include <fcntl.h>
#include <linux/openat2.h>
#include <string.h>
#include <sys/syscall.h>

/* For kernels before 5.6, which have no openat2(2): each folder on the way is opened by itself.
 * `path` has none of the names that lead back, since it comes from names that were listed; one that
 * has is refused. */
static int open_by_folders(int from, const char *path, int flags)
{
	g_auto(GStrv) names = g_strsplit(path, "/", -1);
	g_auto(WdrFd) at = -1;

	for (char **name = names; *name; name++) {
		if (strcmp(*name, "..") == 0) {
			errno = EXDEV;
			return -1;
		}
		if (!name[1])
			return openat(at < 0 ? from : at, *name, flags | O_CLOEXEC | O_NOFOLLOW);
		int next = openat(
			at < 0 ? from : at, *name, O_PATH | O_DIRECTORY | O_CLOEXEC | O_NOFOLLOW);
		if (next < 0)
			return -1;
		wdr_fd_clear(&at);
		at = next;
	}
	errno = EINVAL;
	return -1;
}

static int open_step(int from, const char *path, int flags)
{
	/* A FIFO must not hang us; openat2 refuses what means nothing with O_PATH. A 32-bit kernel
	 * opens no file larger than 2 GiB without O_LARGEFILE, and only open(2) of the C library
	 * adds that. */
	int always = flags & O_PATH ? 0 : O_NONBLOCK | O_LARGEFILE;
	struct open_how how = {
		.flags = (unsigned)(flags | always | O_CLOEXEC | O_NOFOLLOW),
		.resolve = RESOLVE_BENEATH | RESOLVE_NO_SYMLINKS | RESOLVE_NO_MAGICLINKS,
	};
	int fd = (int)syscall(SYS_openat2, from, path, &how, sizeof(how));

	return fd >= 0 || errno != ENOSYS ? fd : open_by_folders(from, path, flags | always);
}

int wdr_tree_open(const WdrTree *t, const char *path, int flags)
{
	g_auto(WdrFd) at = -1;
	size_t len = strlen(path);

	/* Paths longer than the kernel takes at once are walked in parts. */
	while (len >= PATH_MAX) {
		size_t part = PATH_MAX - 1;
		while (part > 0 && path[part] != '/')
			part--;
		g_autofree char *head = g_strndup(path, part);
		int next = open_step(at < 0 ? t->root : at, head, O_PATH | O_DIRECTORY);
		if (next < 0)
			return -1;
		wdr_fd_clear(&at);
		at = next;
		path += part + 1;
		len -= part + 1;
	}
	return open_step(at < 0 ? t->root : at, *path ? path : ".", flags);
}

int wdr_tree_open_quietly(const WdrTree *t, const char *path)
{
	int fd = wdr_tree_open(t, path, O_RDONLY | O_NOATIME);

	/* O_NOATIME is for the owner and root only. */
	return fd >= 0 || errno != EPERM ? fd : wdr_tree_open(t, path, O_RDONLY);
}
