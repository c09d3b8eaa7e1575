/* Who uses a disk: mounts, swap, holders (RAID, LVM, …), loop devices over an image. */
#include "disk/users.h"

#include "base/command.h"
#include "base/io.h"
#include "disk/backing.h"

#include <string.h>

/* "8:1" as sysfs gives it for a disk or partition; NULL: there is none. */
static char *device_number(const WdrWorld *world, const WdrDisk *disk, unsigned partition)
{
	g_autofree char *part = wdr_disk_partition_name(disk, partition);
	g_autofree char *in_sys =
		partition ? g_strdup_printf("/sys/block/%s/%s/dev", disk->name, part)
			  : g_strdup_printf("/sys/block/%s/dev", disk->name);
	g_autofree char *path = wdr_world_path(world, in_sys);

	return wdr_read_line(path);
}

/* The mount of a device that shows most of it. Borrowed from the list; NULL: none. */
static const WdrMount *mount_of(const WdrWorld *world, const GPtrArray *mounts, const char *device)
{
	const WdrMount *found = NULL;
	int best = -1;

	for (guint i = 0; device && i < mounts->len; i++) {
		const WdrMount *m = mounts->pdata[i];
		if (strcmp(m->device, device) != 0)
			continue;
		int score = (wdr_mount_is_seen(world, m) ? 2 : 0) + (wdr_mount_is_whole(m) ? 1 : 0);
		if (score > best)
			found = m;
		best = MAX(best, score);
	}
	return found;
}

GStrv wdr_mounts_below(const WdrWorld *world, const char *point)
{
	g_autoptr(GPtrArray) mounts = wdr_mounts(world);
	g_autofree char *prefix = g_strconcat(point, g_str_has_suffix(point, "/") ? "" : "/", NULL);
	GStrvBuilder *below = g_strv_builder_new();

	for (guint i = 0; i < mounts->len; i++) {
		const WdrMount *m = mounts->pdata[i];
		if (g_str_has_prefix(m->point, prefix) && m->point[strlen(prefix)])
			g_strv_builder_add(below, m->point + strlen(prefix));
	}
	GStrv result = g_strv_builder_end(below);
	g_strv_builder_unref(below);
	return result;
}

bool wdr_root_mount(const WdrWorld *world, char **ret_type, char **ret_source)
{
	g_autoptr(GPtrArray) mounts = wdr_mounts(world);

	/* The last one counts: it covers those before it. */
	for (guint i = mounts->len; i > 0; i--) {
		const WdrMount *m = mounts->pdata[i - 1];
		if (strcmp(m->point, "/") != 0)
			continue;
		*ret_type = g_strdup(m->type);
		*ret_source = g_strdup(m->source);
		return true;
	}
	return false;
}

WdrMount *wdr_disk_mount(const WdrWorld *world, const WdrDisk *disk, unsigned partition)
{
	g_autofree char *device = disk->is_image ? NULL : device_number(world, disk, partition);
	g_autoptr(GPtrArray) mounts = wdr_mounts(world);
	const WdrMount *m = mount_of(world, mounts, device);
	guint at = 0;

	return m && g_ptr_array_find(mounts, m, &at) ? g_ptr_array_steal_index(mounts, at) : NULL;
}

char *wdr_disk_mount_point(const WdrWorld *world, const WdrDisk *disk, unsigned partition)
{
	g_autoptr(WdrMount) m = wdr_disk_mount(world, disk, partition);

	return m ? g_steal_pointer(&m->point) : NULL;
}

bool wdr_disk_mount_shows_all(const WdrWorld *world, const WdrMount *mount, GError **error)
{
	bool is_seen = wdr_mount_is_seen(world, mount);

	if (is_seen && wdr_mount_is_whole(mount))
		return true;
	if (is_seen)
		wdr_error_set(error, WDR_ERROR_UNSUPPORTED,
			"only its folder %s is mounted, at %s: the rest of it cannot be seen there",
			mount->root, mount->point);
	else
		wdr_error_set(error, WDR_ERROR_UNSUPPORTED,
			"it is mounted at %s, but something else is mounted over that",
			mount->point);
	wdr_error_hint(error, "mount all of it at another place (mount %s /mnt), and try again",
		mount->source);
	return false;
}

bool wdr_disk_has_root(const WdrWorld *world, const WdrDisk *disk)
{
	enum { PARTITIONS_MAX = 128 };
	g_autoptr(GPtrArray) mounts = wdr_mounts(world);

	for (unsigned number = 0; number <= PARTITIONS_MAX; number++) {
		g_autofree char *device =
			disk->is_image ? NULL : device_number(world, disk, number);
		for (guint i = 0; device && i < mounts->len; i++) {
			const WdrMount *m = mounts->pdata[i];
			if (strcmp(m->device, device) == 0 && strcmp(m->point, "/") == 0)
				return true;
		}
	}
	return false;
}

bool wdr_disk_is_live(const WdrWorld *world, const WdrDisk *disk)
{
	return !wdr_world_bench(world) && wdr_disk_has_root(world, disk);
}

bool wdr_disk_has_mount_option(
	const WdrWorld *world, const WdrDisk *disk, unsigned partition, const char *option)
{
	g_autofree char *device = device_number(world, disk, partition);
	g_autoptr(GPtrArray) mounts = wdr_mounts(world);
	bool is_found = false;

	for (guint i = 0; device && i < mounts->len; i++) {
		const WdrMount *m = mounts->pdata[i];
		is_found |= strcmp(m->device, device) == 0 && wdr_mount_has_option(m, option);
	}
	return is_found;
}

bool wdr_disk_is_written(const WdrWorld *world, const WdrDisk *disk, unsigned partition)
{
	return wdr_disk_has_mount_option(world, disk, partition, "rw");
}

static bool is_swap(const WdrWorld *world, const char *name)
{
	g_auto(GStrv) swaps = wdr_swaps(world);
	g_autofree char *path = g_strdup_printf("/dev/%s", name);

	return g_strv_contains((const char *const *)swaps, path);
}

static bool has_holder(const WdrWorld *world, const char *in_block)
{
	g_autofree char *in_sys = g_strdup_printf("/sys/block/%s/holders", in_block);
	g_autofree char *path = wdr_world_path(world, in_sys);
	g_autoptr(GDir) dir = g_dir_open(path, 0, NULL);

	return dir && g_dir_read_name(dir);
}

/* The use of one partition, or of the disk as a whole. */
static char *user_of(const WdrWorld *world, const GPtrArray *mounts, const char *name,
	const char *in_block, const char *device)
{
	const WdrMount *m = mount_of(world, mounts, device);

	if (m && m->who)
		return g_strdup_printf(
			"%s is mounted at %s in the mount namespace of %s", name, m->point, m->who);
	if (m)
		return g_strdup_printf("%s is mounted at %s", name, m->point);
	if (is_swap(world, name))
		return g_strdup_printf("%s is in use as swap", name);
	if (has_holder(world, in_block))
		return g_strdup_printf("%s is part of a RAID, LVM or similar", name);
	return NULL;
}

/* Loop devices of this machine over the same bytes, also when it is a bench's disk. */
char *wdr_disk_loop_user(const WdrWorld *world, const WdrDisk *disk)
{
	g_autoptr(WdrBacking) backing = wdr_backing_of(world, disk);
	g_autoptr(GPtrArray) loops = wdr_backing_loops(backing, disk->is_image ? NULL : disk->name);

	return loops->len ? g_strdup_printf("%s is attached to /dev/%s", disk->path,
				    (const char *)loops->pdata[0])
			  : NULL;
}

/* A disk, or a partition of it, as sysfs has it below /sys/block. */
typedef struct {
	const char *name, *in_block;
	const char *device; /* "8:1"; NULL: it does not say */
} Block;
/* False: no further ones are wanted. */
typedef bool (*BlockFunc)(void *data, const Block *block);

static void each_block(const WdrWorld *world, const char *disk, BlockFunc each, void *data)
{
	g_autofree char *in_sys = g_strdup_printf("/sys/block/%s", disk);
	g_autofree char *folder = wdr_world_path(world, in_sys);
	g_autofree char *whole = g_build_filename(folder, "dev", NULL);
	g_autofree char *number = wdr_read_line(whole);
	g_autoptr(GDir) dir = g_dir_open(folder, 0, NULL);
	bool is_wanted = each(data, &(Block){ disk, disk, number });

	for (const char *name; is_wanted && dir && (name = g_dir_read_name(dir));) {
		if (!g_str_has_prefix(name, disk))
			continue;
		g_autofree char *in_block = g_strdup_printf("%s/%s", disk, name);
		g_autofree char *dev = g_build_filename(folder, name, "dev", NULL);
		g_autofree char *device = wdr_read_line(dev);
		is_wanted = each(data, &(Block){ name, in_block, device });
	}
}

typedef struct {
	const WdrWorld *world;
	const GPtrArray *mounts;
	char *user;
} UserSearch;

static bool take_user(void *data, const Block *block)
{
	UserSearch *s = data;

	s->user = user_of(s->world, s->mounts, block->name, block->in_block, block->device);
	return !s->user;
}

char *wdr_disk_user(const WdrWorld *world, const WdrDisk *disk)
{
	char *user = wdr_disk_loop_user(world, disk);

	if (user || disk->is_image)
		return user;
	/* Of every process: read once, not for each partition. */
	g_autoptr(GPtrArray) mounts = wdr_mounts_everywhere(world);
	UserSearch search = { world, mounts, NULL };
	each_block(world, disk->name, take_user, &search);
	return search.user;
}

char *wdr_disk_partition_user(const WdrWorld *world, const WdrDisk *disk, unsigned partition)
{
	char *user = wdr_disk_loop_user(world, disk);

	if (user || disk->is_image)
		return user;
	g_autofree char *name = wdr_disk_partition_name(disk, partition);
	g_autofree char *in_block = g_strdup_printf("%s/%s", disk->name, name);
	g_autofree char *device = device_number(world, disk, partition);
	g_autoptr(GPtrArray) mounts = wdr_mounts_everywhere(world);
	return user_of(world, mounts, name, in_block, device);
}

/* ---- how a disk is released ---- */

typedef struct {
	const WdrWorld *world;
	const GPtrArray *mounts;
	GPtrArray *points, *swaps; /* to be unmounted, last mount first; to be switched off */
	bool is_hopeless;          /* no command of ours ends this use */
} Release;

static bool release_block(void *data, const Block *block)
{
	Release *r = data;

	for (guint i = r->mounts->len; block->device && i > 0; i--) {
		const WdrMount *m = r->mounts->pdata[i - 1];
		if (strcmp(m->device, block->device) != 0)
			continue;
		r->is_hopeless |= m->who || strcmp(m->point, "/") == 0;
		g_ptr_array_add(r->points, g_strdup(m->point));
	}
	if (is_swap(r->world, block->name))
		g_ptr_array_add(r->swaps, g_strdup_printf("/dev/%s", block->name));
	r->is_hopeless |= has_holder(r->world, block->in_block);
	return true;
}

static void add_command(GString *line, const char *program, const GPtrArray *words)
{
	g_autoptr(GPtrArray) argv = g_ptr_array_new();

	if (words->len == 0)
		return;
	g_ptr_array_add(argv, (void *)program);
	for (guint i = 0; i < words->len; i++)
		g_ptr_array_add(argv, words->pdata[i]);
	g_ptr_array_add(argv, NULL);
	g_autofree char *command = wdr_system_command_of((const char *const *)argv->pdata);
	g_string_append_printf(line, "%s%s", line->len ? " && " : "", command);
}

static char *release_command(const WdrWorld *world, const WdrDisk *disk)
{
	g_autoptr(WdrBacking) backing = wdr_backing_of(world, disk);
	g_autoptr(GPtrArray) loops = wdr_backing_loops(backing, disk->is_image ? NULL : disk->name);
	g_autoptr(GPtrArray) points = g_ptr_array_new_with_free_func(g_free);
	g_autoptr(GPtrArray) swaps = g_ptr_array_new_with_free_func(g_free);
	g_autoptr(GPtrArray) detach = g_ptr_array_new_with_free_func(g_free);
	g_autoptr(GPtrArray) mounts = wdr_mounts_everywhere(world);
	Release r = { world, mounts, points, swaps, false };
	g_autoptr(GString) line = g_string_new(NULL);

	if (!disk->is_image)
		each_block(world, disk->name, release_block, &r);
	for (guint i = 0; i < loops->len; i++) {
		const char *loop = loops->pdata[i];
		each_block(world, loop, release_block, &r);
		if (detach->len == 0)
			g_ptr_array_add(detach, g_strdup("-d"));
		g_ptr_array_add(detach, g_strdup_printf("/dev/%s", loop));
	}
	/* What a bench's proc lists is mounted nowhere. */
	if (r.is_hopeless || (wdr_world_bench(world) && points->len + swaps->len > 0))
		return NULL;
	add_command(line, "umount", points);
	add_command(line, "swapoff", swaps);
	add_command(line, "losetup", detach);
	return line->len ? g_strdup(line->str) : NULL;
}

void wdr_disk_hint_at_release(const WdrWorld *world, const WdrDisk *disk, const char *unchanged,
	const char *otherwise, GError **error)
{
	g_autofree char *release = release_command(world, disk);

	wdr_error_hint(error, "%s; %s%s", unchanged, release ? "to release it: " : otherwise,
		release ? release : "");
}
