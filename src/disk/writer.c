/* Who may write to a disk that is going to be read as it lies: another mount namespace, a loop
 * device over the same bytes, a program that has it open. What would be read then is partly old,
 * and partly of files that were not there when it began. */
#include "disk/writer.h"

#include "base/cleanup.h"
#include "base/io.h"
#include "base/stat.h"
#include "disk/backing.h"
#include "disk/mounts.h"

#include <errno.h>
#include <fcntl.h>
#include <stdlib.h>
#include <string.h>
#include <sys/file.h>
#include <sys/stat.h>

enum { FDINFO_BYTES_MAX = 4096, LOOKS = 8, BETWEEN_LOOKS_US = 50000 };

/* A device and its partitions. */
typedef struct {
	GPtrArray *names;   /* char *: "sda", "sda1" */
	GPtrArray *numbers; /* char *: "8:0", "8:1" */
} Nodes;

static void nodes_clear(Nodes *n)
{
	g_ptr_array_unref(n->names);
	g_ptr_array_unref(n->numbers);
}
G_DEFINE_AUTO_CLEANUP_CLEAR_FUNC(Nodes, nodes_clear)

static void add_node(Nodes *n, const char *folder, const char *name)
{
	g_autofree char *dev = g_build_filename(folder, "dev", NULL);
	char *number = wdr_read_line(dev);

	if (!number)
		return;
	g_ptr_array_add(n->names, g_strdup(name));
	g_ptr_array_add(n->numbers, number);
}

/* `block` is the folder sys/block of the machine or the bench. */
static Nodes nodes_of(const char *block, const char *name)
{
	Nodes n = { g_ptr_array_new_with_free_func(g_free),
		g_ptr_array_new_with_free_func(g_free) };
	g_autofree char *folder = g_build_filename(block, name, NULL);
	g_autoptr(GDir) dir = g_dir_open(folder, 0, NULL);

	add_node(&n, folder, name);
	for (const char *part; dir && (part = g_dir_read_name(dir));) {
		g_autofree char *below = g_build_filename(folder, part, NULL);
		if (g_str_has_prefix(part, name))
			add_node(&n, below, part);
	}
	return n;
}

/* ---- mounts ---- */

static bool is_mounted_here(const GPtrArray *mounts, const char *number)
{
	for (guint i = 0; i < mounts->len; i++) {
		const WdrMount *m = mounts->pdata[i];
		if (!m->who && strcmp(m->device, number) == 0)
			return true;
	}
	return false;
}

/* own_too: also file systems that are mounted in this process's namespace. Without it they are read
 * through the kernel, so whoever writes to them, by whichever mount, is no danger: services of
 * systemd have namespaces of their own, in which everything is mounted once more. *ret_is_mounted:
 * somewhere, in whatever way. */
static char *mounted_for_writing(const GPtrArray *mounts, const char *name, const char *number,
	bool own_too, bool *ret_is_mounted)
{
	bool is_read_through_kernel = !own_too && is_mounted_here(mounts, number);

	for (guint i = 0; i < mounts->len; i++) {
		const WdrMount *m = mounts->pdata[i];
		if (strcmp(m->device, number) != 0)
			continue;
		*ret_is_mounted = true;
		if (is_read_through_kernel || !wdr_mount_has_option(m, "rw"))
			continue;
		return m->who ? g_strdup_printf(
					"%s is mounted for writing at %s in the mount namespace of %s",
					name, m->point, m->who)
			      : g_strdup_printf("%s is mounted for writing at %s", name, m->point);
	}
	return NULL;
}

/* The kernel lets nobody have a device exclusively that is mounted, or part of another one. */
static bool is_claimed(const char *node)
{
	WdrStat st;

	if (wdr_stat(node, &st) != 0 || !S_ISBLK(st.stx_mode))
		return false;
	g_auto(WdrFd) fd = open(node, O_RDONLY | O_EXCL | O_CLOEXEC | O_NONBLOCK);
	return fd < 0 && errno == EBUSY;
}

static char *nodes_writer(const Nodes *n, const char *dev, const GPtrArray *mounts, bool own_too)
{
	bool is_any_mounted = false;

	for (guint i = 0; i < n->names->len; i++) {
		bool is_mounted = false;
		char *writer = mounted_for_writing(
			mounts, n->names->pdata[i], n->numbers->pdata[i], own_too, &is_mounted);
		if (writer)
			return writer;
		is_any_mounted |= is_mounted;
	}
	/* Mounts that were found explain why it is claimed. */
	g_autofree char *node =
		n->names->len ? g_build_filename(dev, n->names->pdata[0], NULL) : NULL;
	return node && !is_any_mounted && is_claimed(node)
		       ? g_strdup_printf("%s is in use by something that cannot be seen from here "
					 "(another container, or a device mapping)",
				 node)
		       : NULL;
}

static char *loop_writer(const WdrWorld *world, const WdrDisk *disk, const GPtrArray *mounts)
{
	g_autoptr(WdrBacking) backing = wdr_backing_of(world, disk);
	g_autoptr(GPtrArray) loops = wdr_backing_loops(backing, disk->is_image ? NULL : disk->name);

	for (guint i = 0; i < loops->len; i++) {
		const char *name = loops->pdata[i];
		g_auto(Nodes) nodes = nodes_of("/sys/block", name);
		g_autofree char *ro_file = g_build_filename("/sys/block", name, "ro", NULL);
		g_autofree char *ro = wdr_read_line(ro_file);
		char *writer =
			g_strcmp0(ro, "1") == 0 ? NULL : nodes_writer(&nodes, "/dev", mounts, true);
		if (writer)
			return writer;
	}
	return NULL;
}

/* ---- programs ---- */

bool wdr_fd_is_writing(const char *process, const char *fd)
{
	g_autofree char *path = g_build_filename(process, "fdinfo", fd, NULL);
	g_autofree char *text = NULL;
	size_t len = 0;

	/* A line "flags:" has the open flags in octal. */
	if (!wdr_read_file(path, FDINFO_BYTES_MAX, &text, &len, NULL))
		return false;
	const char *line = strstr(text, "flags:");
	guint64 flags = line ? g_ascii_strtoull(line + strlen("flags:"), NULL, 8) : 0;
	return (flags & O_ACCMODE) != O_RDONLY;
}

static bool is_the_file(const char *path, const WdrStat *want, const Nodes *nodes)
{
	WdrStat st;

	/* Never asks a server: one that is gone would keep us for ever. */
	if (statx(AT_FDCWD, path, AT_STATX_DONT_SYNC, STATX_BASIC_STATS, &st) != 0)
		return false;
	if (!S_ISBLK(st.stx_mode))
		return S_ISREG(want->stx_mode) && S_ISREG(st.stx_mode) &&
		       st.stx_ino == want->stx_ino && wdr_stat_device(&st) == wdr_stat_device(want);
	g_autofree char *number = g_strdup_printf("%u:%u", st.stx_rdev_major, st.stx_rdev_minor);
	return S_ISBLK(want->stx_mode) &&
	       g_ptr_array_find_with_equal_func(nodes->numbers, number, g_str_equal, NULL);
}

static char *process_writer(
	const char *process, const char *pid, const WdrStat *want, const Nodes *nodes)
{
	g_autofree char *fds = g_build_filename(process, "fd", NULL);
	g_autoptr(GDir) dir = g_dir_open(fds, 0, NULL);

	for (const char *fd; dir && (fd = g_dir_read_name(dir));) {
		g_autofree char *path = g_build_filename(fds, fd, NULL);
		if (!is_the_file(path, want, nodes) || !wdr_fd_is_writing(process, fd))
			continue;
		g_autofree char *comm_file = g_build_filename(process, "comm", NULL);
		g_autofree char *comm = wdr_read_line(comm_file);
		return g_strdup_printf(
			"%s (pid %s) has it open for writing", comm ? comm : "?", pid);
	}
	return NULL;
}

static char *program_writer(const WdrDisk *disk, const Nodes *nodes)
{
	g_autoptr(GDir) dir = g_dir_open("/proc", 0, NULL);
	g_autofree char *self = g_strdup_printf("%d", getpid());
	WdrStat want;

	if (wdr_stat(disk->path, &want) != 0)
		return NULL;
	for (const char *pid; dir && (pid = g_dir_read_name(dir));) {
		g_autofree char *process = g_build_filename("/proc", pid, NULL);
		char *writer = g_ascii_isdigit(*pid) && strcmp(pid, self) != 0
				       ? process_writer(process, pid, &want, nodes)
				       : NULL;
		if (writer)
			return writer;
	}
	return NULL;
}

/* Programs that write to disks lock them, this one too. */
static char *lock_holder(const WdrDisk *disk)
{
	g_auto(WdrFd) fd = open(disk->path, O_RDONLY | O_CLOEXEC | O_NONBLOCK);

	return fd >= 0 && flock(fd, LOCK_SH | LOCK_NB) != 0 && errno == EWOULDBLOCK
		       ? g_strdup("another program has locked it for writing")
		       : NULL;
}

static char *writer_now(const WdrWorld *world, const WdrDisk *disk)
{
	g_autoptr(GPtrArray) mounts = wdr_mounts_everywhere(world);
	g_autofree char *block = wdr_world_path(world, "/sys/block");
	g_autofree char *dev = wdr_world_path(world, "/dev");
	g_auto(Nodes) nodes = nodes_of(block, disk->is_image ? "/" : disk->name);
	char *writer = disk->is_image ? NULL : nodes_writer(&nodes, dev, mounts, false);

	if (!writer)
		writer = loop_writer(world, disk, mounts);
	if (!writer)
		writer = program_writer(disk, &nodes);
	return writer ? writer : lock_holder(disk);
}

/* Programs that look for free devices, or for what is on them, open each for a moment. */
char *wdr_disk_writer(const WdrWorld *world, const WdrDisk *disk)
{
	char *writer = writer_now(world, disk);

	for (unsigned i = 0; writer && i < LOOKS; i++) {
		g_free(writer);
		g_usleep(BETWEEN_LOOKS_US);
		writer = writer_now(world, disk);
	}
	return writer;
}
