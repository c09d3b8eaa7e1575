/* Gives each mounted part of a running source its tree, and each mounted FAT its medium.
 *
 * An ext part is read through a detached copy of its mount (volume/tree/detached.c). It shows what
 * lies under other mounts, and nothing that is mounted there. A FAT is flushed and then read from
 * its disk: through the kernel its short names and exact times would be lost. */
#include "plan/running_source.h"

#include "base/cleanup.h"
#include "base/share.h"
#include "base/stat.h"
#include "disk/mounts.h"
#include "disk/users.h"
#include "journal/state_folder.h"
#include "volume/tree/tree.h"

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
 * That also keeps what it reads, so of several who read the same only the first one asks the disk.
 */
static void use_disk(
	const WdrWorld *world, const WdrDisk *disk, const WdrSystemPart *p, WdrVolume *tree)
{
	WdrBlockDev *dev = NULL;

	if (wdr_share_is_one_of_several() ||
		wdr_disk_has_mount_option(world, disk, p->partition->number, "data=journal") ||
		!wdr_blockdev_open(disk->path, WDR_OPEN_MEDIUM, &dev, NULL))
		return;
	(void)wdr_tree_use_disk(tree, dev, p->partition->start, p->partition->size);
}

/* The tree through what is mounted, all of it. */
static bool open_tree(const WdrWorld *world, const WdrMount *mount, WdrVolume **ret, GError **error)
{
	g_autofree char *folder = folder_of(world, mount->point);
	g_autoptr(GError) why = NULL;
	WdrVolume *tree = NULL;

	if (wdr_disk_mount_shows_all(world, mount, &why)) {
		if (!wdr_tree_volume_open_mount(folder, &tree, error))
			return false;
	} else if (!wdr_mount_is_seen(world, mount) ||
		   !wdr_tree_volume_open_again(mount, folder, &tree, NULL)) {
		g_propagate_error(error, g_steal_pointer(&why));
		return false;
	}
	if (tree->root_id != WDR_EXT_ROOT_INO) {
		wdr_volume_free(tree);
		return wdr_error_set(
			error, WDR_ERROR_UNSUPPORTED, "only a part of it is mounted at %s", folder);
	}
	*ret = tree;
	return true;
}

static bool use_tree(const WdrWorld *world, const WdrDisk *disk, WdrSystemPart *p,
	const WdrMount *mount, GError **error)
{
	g_autofree char *folder = folder_of(world, mount->point);
	WdrVolume *tree = NULL;

	if (wdr_world_bench(world)) {
		g_auto(GStrv) below = wdr_mounts_below(world, mount->point);
		if (!wdr_disk_mount_shows_all(world, mount, error) ||
			!wdr_tree_volume_open(folder, &tree, error))
			return false;
		for (size_t i = 0; below[i]; i++)
			wdr_tree_hide(tree, below[i]);
	} else if (open_tree(world, mount, &tree, error)) {
		use_disk(world, disk, p, tree);
	} else {
		return false;
	}
	wdr_system_use_tree(p, tree);
	return true;
}

/* What was written to a mounted part so far is on the medium after this. */
static bool flush(
	const WdrWorld *world, const WdrDisk *disk, const WdrSystemPart *p, GError **error)
{
	g_autoptr(WdrMount) mount = wdr_disk_mount(world, disk, p->partition->number);
	g_autofree char *folder = folder_of(world, p->mounted_at);
	g_auto(WdrFd) fd = open(folder, O_RDONLY | O_DIRECTORY | O_CLOEXEC);

	if (mount && !wdr_mount_is_seen(world, mount))
		return wdr_disk_mount_shows_all(world, mount, error);
	if (fd >= 0 && syncfs(fd) == 0)
		return true;
	return wdr_error_set_errno(error, errno, "flushing what is mounted at %s", folder);
}

static bool use_medium(const WdrWorld *world, const WdrDisk *disk, WdrSystemPart *p, GError **error)
{
	g_autoptr(WdrBlockDev) dev = NULL;
	WdrVolume *volume = NULL;

	if (!flush(world, disk, p, error) ||
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
		g_autoptr(WdrMount) mount = wdr_disk_mount(world, disk, p->partition->number);
		p->mounted_at = mount ? g_strdup(mount->point) : NULL;
		p->mounted_root = mount ? g_strdup(mount->root) : NULL;
		if (p->mounted_at && is_type(p, "ext"))
			is_fine = use_tree(world, disk, p, mount, error);
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

	if (!wdr_system_read(world, disk, &s, error) || !wdr_running_use(world, disk, s, error) ||
		!wdr_system_look(s, world, error))
		return false;
	*ret = g_steal_pointer(&s);
	return true;
}

bool wdr_running_refresh(
	const WdrWorld *world, const WdrDisk *disk, WdrSystem *system, GError **error)
{
	for (guint i = 0; i < system->parts->len; i++) {
		WdrSystemPart *p = system->parts->pdata[i];
		if (!p->mounted_at)
			continue;
		/* A program that maps a file stamps it when it first writes to a page after that
		 * was flushed: flushed before each look, whatever is written from then on shows. A
		 * bench's trees are on the disk of whoever tries it. */
		bool is_tree = p->volume && strcmp(p->volume->ops->type, "tree") == 0;
		if (is_tree && !wdr_world_bench(world) && !wdr_tree_flush(p->volume, error))
			return false;
		if (is_type(p, "vfat") && !use_medium(world, disk, p, error))
			return false;
	}
	return true;
}

void wdr_running_read_ahead(WdrSystem *system)
{
	for (guint i = 0; i < system->parts->len; i++) {
		WdrSystemPart *p = system->parts->pdata[i];
		if (p->mounted_at && p->volume && strcmp(p->volume->ops->type, "tree") == 0)
			wdr_tree_read_ahead(p->volume);
	}
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
	if (part->mounted_at && strcmp(part->mounted_root, "/") == 0)
		return part->mounted_at;
	if (part == system->root)
		return "/";
	for (guint i = 0; i < system->mentions->len; i++) {
		const WdrMention *m = system->mentions->pdata[i];
		unsigned count = 0;
		if (strcmp(m->file, "etc/fstab") == 0 && *m->what == '/' &&
			wdr_system_resolve(system, &m->identifier, &count) == part && count == 1)
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
	WdrStat a;
	WdrStat b;

	if (!real || wdr_stat(real, &a) != 0 || wdr_stat(top, &b) != 0 ||
		wdr_stat_device(&a) != wdr_stat_device(&b))
		return NULL;
	while (len > 0 && top[len - 1] == '/')
		len--;
	if (strncmp(real, top, len) != 0 || real[len] != '/')
		return NULL;
	return g_strconcat(&part->mounted_root[1], strcmp(part->mounted_root, "/") == 0 ? "" : "/",
		real + len + 1, NULL);
}

static void leave_file(
	WdrExclude *exclude, const WdrWorld *world, const WdrSystemPart *part, const char *file)
{
	g_autofree char *path = file ? path_within(world, part, file) : NULL;

	if (path)
		wdr_exclude_path(exclude, path);
}

WdrExclude *wdr_running_exclude(const WdrWorld *world, const WdrItinerary *it,
	const WdrSystem *system, const WdrSystemPart *part, const char *state)
{
	const WdrDisk target = {
		.name = it->target.name, .path = it->target.path, .is_image = it->target.is_image
	};
	g_autofree char **patterns = wdr_itinerary_patterns(it);
	WdrExclude *exclude = wdr_exclude_new(patterns, point_of(system, part));

	if (!part->volume || !part->volume->is_changing)
		return exclude;
	wdr_exclude_sockets(exclude);
	wdr_exclude_path(exclude, "lost+found");
	if (part == system->root)
		wdr_exclude_path(exclude, &WDR_STATE_FOLDER[1]);
	g_autofree char *target_file = wdr_disk_file(world, &target);
	leave_file(exclude, world, part, state);
	leave_file(exclude, world, part, target_file);
	return exclude;
}
