/* Detached mounts: by open_tree(2) and fsopen(2), and on kernels before 5.2, which have neither, by
 * a mount in a mount namespace of a thread's own. */
#include "volume/tree/detached.h"

#include "base/cleanup.h"
#include "disk/mounts.h"

#include <fcntl.h>
#include <sched.h>
#include <sys/mount.h>

/* ---- kernels before 5.2 ---- */

typedef struct {
	const char *source, *type; /* type NULL: source is a folder, whose mount is copied */
	bool is_read_only;         /* as the file system is: one cannot be mounted both ways */
	int fd, failure;
} Old;

/* Where the mount is put, in the thread's own namespace: a mount point that every running system
 * has. What it covers there is not needed. Only this one is made private, so that other namespaces
 * never see the mount: "/" is no mount point within a chroot. */
static const char *const old_point = "/proc";

static bool mount_old(const Old *o)
{
	unsigned long flags = !o->type ? MS_BIND : o->is_read_only ? MS_RDONLY : 0;

	if (unshare(CLONE_NEWNS) != 0 || mount(NULL, old_point, NULL, MS_PRIVATE, NULL) != 0 ||
		mount(o->source, old_point, o->type, flags, NULL) != 0)
		return false;
	return !o->type ||
	       mount(NULL, old_point, NULL, MS_REMOUNT | MS_BIND | MS_RDONLY, NULL) == 0;
}

/* The namespace ends with the thread. The mount, no longer to be found by any path, ends with the
 * descriptor. */
static gpointer old_thread(gpointer data)
{
	Old *o = data;

	if (mount_old(o))
		o->fd = open(old_point, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	o->failure = errno;
	return NULL;
}

static int old_way(Old o)
{
	o.fd = -1;
	g_thread_join(g_thread_new("mount", old_thread, &o));
	errno = o.failure;
	return o.fd;
}

/* ---- both ---- */

int wdr_detached_copy(const char *point)
{
	int fd = open_tree(AT_FDCWD, point, OPEN_TREE_CLONE | OPEN_TREE_CLOEXEC);

	return fd >= 0 || errno != ENOSYS ? fd : old_way((Old){ .source = point });
}

int wdr_detached_again(const WdrMount *mounted)
{
	bool is_read_only = wdr_mount_has_option(mounted, "ro");
	g_auto(WdrFd) fs = fsopen(mounted->type, FSOPEN_CLOEXEC);

	if (fs < 0 && errno == ENOSYS)
		return old_way((Old){ mounted->source, mounted->type, is_read_only, -1, 0 });
	if (fs < 0 || fsconfig(fs, FSCONFIG_SET_STRING, "source", mounted->source, 0) != 0 ||
		(is_read_only && fsconfig(fs, FSCONFIG_SET_FLAG, "ro", NULL, 0) != 0) ||
		fsconfig(fs, FSCONFIG_CMD_CREATE, NULL, NULL, 0) != 0)
		return -1;
	return fsmount(fs, FSMOUNT_CLOEXEC, MOUNT_ATTR_RDONLY);
}
