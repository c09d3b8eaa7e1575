#include "move/running.h"

#include "move/move.h"
#include "base/cleanup.h"
#include "volume/tree.h"

#include <errno.h>
#include <fcntl.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

static bool is_type(const WdrSystemPart *p, const char *prefix)
{
	return p->volume && p->probe.type && g_str_has_prefix(p->probe.type, prefix);
}

/* The folder that the part's mount point is, seen from here. */
static char *folder_of(const WdrWorld *world, const char *point)
{
	g_autofree char *path = wdr_world_path(world, point);

	return g_canonicalize_filename(path, NULL);
}

/* Reading the disk itself is only faster: where it cannot be, the tree is read through the kernel.
 */
static void use_disk(
	const WdrWorld *world, const WdrDisk *disk, const WdrSystemPart *p, WdrVolume *tree)
{
	WdrBlockDev *dev = NULL;

	if (wdr_disk_has_mount_option(world, disk, p->partition->number, "data=journal") ||
		!wdr_blockdev_open(disk->path, WDR_OPEN_MEDIUM, &dev, NULL))
		return;
	(void)wdr_tree_use_disk(tree, dev, p->partition->start, p->partition->size);
}

static bool use_tree(const WdrWorld *world, const WdrDisk *disk, WdrSystemPart *p, GError **error)
{
	g_autofree char *folder = folder_of(world, p->mounted_at);
	WdrVolume *tree = NULL;

	if (wdr_world_bench(world)) {
		g_auto(GStrv) below = wdr_mounts_below(world, p->mounted_at);
		if (!wdr_tree_volume_open(folder, &tree, error))
			return false;
		for (size_t i = 0; below[i]; i++)
			wdr_tree_hide(tree, below[i]);
	} else if (!wdr_disk_is_seen_at(world, disk, p->partition->number, folder)) {
		wdr_error_set(error, WDR_ERROR_UNSUPPORTED,
			"it is mounted at %s, but something else is mounted over that", folder);
		wdr_error_hint(error, "an overlay over root, for one, cannot be seen through");
		return false;
	} else if (!wdr_tree_volume_open_mount(folder, &tree, error)) {
		return false;
	} else {
		use_disk(world, disk, p, tree);
	}
	wdr_system_use_tree(p, tree);
	return true;
}

/* What was written to a mounted part so far is on the medium after this. */
static bool flush(const WdrWorld *world, const WdrSystemPart *p, GError **error)
{
	g_autofree char *folder = folder_of(world, p->mounted_at);
	g_auto(WdrFd) fd = open(folder, O_RDONLY | O_DIRECTORY | O_CLOEXEC);

	if (fd >= 0 && syncfs(fd) == 0)
		return true;
	return wdr_error_set_errno(error, errno, "flushing what is mounted at %s", folder);
}

static bool use_medium(const WdrWorld *world, const WdrDisk *disk, WdrSystemPart *p, GError **error)
{
	g_autoptr(WdrBlockDev) dev = NULL;
	WdrVolume *volume = NULL;

	if (!flush(world, p, error) ||
		!wdr_blockdev_open(disk->path, WDR_OPEN_MEDIUM, &dev, error) ||
		!wdr_fat_volume_open(dev, p->partition->start, p->partition->size, &volume, error))
		return false;
	wdr_system_use_device(p, g_steal_pointer(&dev), volume);
	return true;
}

bool wdr_running_use(const WdrWorld *world, const WdrDisk *disk, WdrSystem *system, GError **error)
{
	if (disk->is_image || !wdr_world_is_running(world))
		return true;
	for (guint i = 0; i < system->parts->len; i++) {
		WdrSystemPart *p = system->parts->pdata[i];
		bool is_fine = true;
		p->mounted_at = wdr_disk_mount_point(world, disk, p->partition->number);
		if (p->mounted_at && is_type(p, "ext"))
			is_fine = use_tree(world, disk, p, error);
		else if (p->mounted_at && is_type(p, "vfat"))
			is_fine = use_medium(world, disk, p, error);
		if (!is_fine) {
			g_prefix_error(
				error, "%s: partition %u: ", disk->name, p->partition->number);
			return false;
		}
	}
	return true;
}

bool wdr_running_open(const WdrWorld *world, const WdrDisk *disk, WdrSystem **ret, GError **error)
{
	g_autoptr(WdrSystem) s = NULL;

	if (!wdr_system_open(world, disk, &s, error) || !wdr_running_use(world, disk, s, error))
		return false;
	if (wdr_running_is(s))
		wdr_system_look_again(s, world);
	*ret = g_steal_pointer(&s);
	return true;
}

bool wdr_running_refresh(
	const WdrWorld *world, const WdrDisk *disk, WdrSystem *system, GError **error)
{
	for (guint i = 0; i < system->parts->len; i++) {
		WdrSystemPart *p = system->parts->pdata[i];
		if (p->mounted_at && is_type(p, "vfat") && !use_medium(world, disk, p, error))
			return false;
	}
	return true;
}

bool wdr_running_use_trees(const WdrWorld *world, WdrSystem *system, GError **error)
{
	for (guint i = 0; i < system->parts->len; i++) {
		WdrSystemPart *p = system->parts->pdata[i];
		WdrVolume *tree = NULL;
		if (!p->mounted_at || !is_type(p, "vfat"))
			continue;
		g_autofree char *folder = folder_of(world, p->mounted_at);
		if (!wdr_tree_volume_open(folder, &tree, error))
			return false;
		wdr_system_use_tree(p, tree);
	}
	return true;
}

bool wdr_running_is(const WdrSystem *system)
{
	for (guint i = 0; i < system->parts->len; i++) {
		if (((const WdrSystemPart *)system->parts->pdata[i])->mounted_at)
			return true;
	}
	return false;
}

/* ---- what stays behind ---- */

/* Where the system mounts a part: as it is, or as its fstab says. NULL: nobody says. */
static const char *point_of(const WdrSystem *system, const WdrSystemPart *part)
{
	if (part->mounted_at)
		return part->mounted_at;
	if (part == system->root)
		return "/";
	for (guint i = 0; i < system->mentions->len; i++) {
		const WdrMention *m = system->mentions->pdata[i];
		unsigned count = 0;
		if (strcmp(m->file, "etc/fstab") == 0 && *m->what == '/' &&
			wdr_system_resolve(system, &m->address, &count) == part && count == 1)
			return m->what;
	}
	return NULL;
}

/* A folder's path within the tree; NULL: it is not on it. */
static char *path_within(const WdrWorld *world, const WdrSystemPart *part, const char *folder)
{
	g_autofree char *top = folder_of(world, part->mounted_at);
	g_autofree char *real = realpath(folder, NULL);
	size_t len = strlen(top);
	struct stat a;
	struct stat b;

	if (!real || stat(real, &a) != 0 || stat(top, &b) != 0 || a.st_dev != b.st_dev)
		return NULL;
	while (len > 0 && top[len - 1] == '/')
		len--;
	return strncmp(real, top, len) == 0 && real[len] == '/' ? g_strdup(real + len + 1) : NULL;
}

WdrLeave *wdr_running_leave(const WdrWorld *world, const WdrSystem *system,
	const WdrSystemPart *part, char *const *patterns, const char *state)
{
	WdrLeave *leave = wdr_leave_new(patterns, point_of(system, part));

	if (!part->volume || !part->volume->is_changing)
		return leave;
	wdr_leave_sockets(leave);
	wdr_leave_path(leave, "lost+found");
	if (part == system->root)
		wdr_leave_path(leave, &WDR_STATE_FOLDER[1]);
	g_autofree char *ours = state ? path_within(world, part, state) : NULL;
	if (ours)
		wdr_leave_path(leave, ours);
	return leave;
}
