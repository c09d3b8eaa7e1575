/* Who uses a disk: mounts, swap, holders (RAID, LVM, …), loop devices over an image. */
#include "disk/disks.h"

#include "base/io.h"

#include <dirent.h>
#include <stdio.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/sysmacros.h>

enum { PROC_BYTES_MAX = 16 * 1024 * 1024 };

static GStrv proc_lines(const WdrWorld *world, const char *path)
{
	g_autofree char *where = wdr_world_path(world, path);
	g_autofree char *text = NULL;
	size_t len = 0;

	if (!wdr_read_file(where, PROC_BYTES_MAX, &text, &len, NULL))
		return g_new0(char *, 1);
	return g_strsplit(text, "\n", -1);
}

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

/* mountinfo: ID PARENT MAJOR:MINOR ROOT POINT OPTIONS … - TYPE SOURCE; blanks are \040. */
static char *mount_of(const WdrWorld *world, const char *device)
{
	g_auto(GStrv) lines = proc_lines(world, "/proc/self/mountinfo");
	char *found = NULL;

	for (size_t i = 0; device && lines[i]; i++) {
		g_auto(GStrv) words = g_strsplit(lines[i], " ", 6);
		if (g_strv_length(words) <= 4 || strcmp(words[2], device) != 0)
			continue;
		/* One that shows a folder of the volume only is better than none. */
		bool is_whole = strcmp(words[3], "/") == 0;
		if (found && !is_whole)
			continue;
		g_free(found);
		found = g_strcompress(words[4]);
		if (is_whole)
			break;
	}
	return found;
}

GStrv wdr_mounts_below(const WdrWorld *world, const char *point)
{
	g_auto(GStrv) lines = proc_lines(world, "/proc/self/mountinfo");
	g_autofree char *prefix = g_strconcat(point, g_str_has_suffix(point, "/") ? "" : "/", NULL);
	GStrvBuilder *below = g_strv_builder_new();

	for (size_t i = 0; lines[i]; i++) {
		g_auto(GStrv) words = g_strsplit(lines[i], " ", 6);
		g_autofree char *at = g_strv_length(words) > 4 ? g_strcompress(words[4]) : NULL;
		if (at && g_str_has_prefix(at, prefix) && at[strlen(prefix)])
			g_strv_builder_add(below, at + strlen(prefix));
	}
	GStrv result = g_strv_builder_end(below);
	g_strv_builder_unref(below);
	return result;
}

bool wdr_root_mount(const WdrWorld *world, char **ret_type, char **ret_source)
{
	g_auto(GStrv) lines = proc_lines(world, "/proc/self/mountinfo");
	bool is_found = false;

	/* The last line counts: it covers those before it. */
	for (size_t i = 0; lines[i]; i++) {
		g_auto(GStrv) words = g_strsplit(lines[i], " ", 6);
		const char *rest = strstr(lines[i], " - ");
		if (!rest || g_strv_length(words) <= 4 || strcmp(words[4], "/") != 0)
			continue;
		g_auto(GStrv) ends = g_strsplit(rest + strlen(" - "), " ", 3);
		if (g_strv_length(ends) < 2)
			continue;
		if (is_found) {
			g_free(*ret_type);
			g_free(*ret_source);
		}
		*ret_type = g_strcompress(ends[0]);
		*ret_source = g_strcompress(ends[1]);
		is_found = true;
	}
	return is_found;
}

char *wdr_disk_mount_point(const WdrWorld *world, const WdrDisk *disk, unsigned partition)
{
	g_autofree char *device = disk->is_image ? NULL : device_number(world, disk, partition);

	return mount_of(world, device);
}

bool wdr_disk_has_root(const WdrWorld *world, const WdrDisk *disk)
{
	enum { PARTITIONS_MAX = 128 };

	for (unsigned number = 0; number <= PARTITIONS_MAX; number++) {
		g_autofree char *point = wdr_disk_mount_point(world, disk, number);
		if (g_strcmp0(point, "/") == 0)
			return true;
	}
	return false;
}

bool wdr_disk_has_mount_option(
	const WdrWorld *world, const WdrDisk *disk, unsigned partition, const char *option)
{
	g_autofree char *device = device_number(world, disk, partition);
	g_auto(GStrv) lines = proc_lines(world, "/proc/self/mountinfo");
	bool is_found = false;

	for (size_t i = 0; device && lines[i]; i++) {
		g_auto(GStrv) words = g_strsplit(lines[i], " ", 4);
		const char *rest = strstr(lines[i], " - ");
		if (g_strv_length(words) < 4 || !rest || strcmp(words[2], device) != 0)
			continue;
		/* The last field has the options of the file system, whatever the mount's are. */
		g_auto(GStrv) options = g_strsplit(strrchr(rest, ' ') + 1, ",", -1);
		is_found |= g_strv_contains((const char *const *)options, option);
	}
	return is_found;
}

bool wdr_disk_is_written(const WdrWorld *world, const WdrDisk *disk, unsigned partition)
{
	return wdr_disk_has_mount_option(world, disk, partition, "rw");
}

bool wdr_disk_is_seen_at(
	const WdrWorld *world, const WdrDisk *disk, unsigned partition, const char *folder)
{
	g_autofree char *device = device_number(world, disk, partition);
	struct stat st;

	if (!device || stat(folder, &st) != 0)
		return false;
	g_autofree char *seen = g_strdup_printf("%u:%u", major(st.st_dev), minor(st.st_dev));
	return strcmp(device, seen) == 0;
}

/* Lines of NAME TYPE SIZE …, behind one of headings. */
GStrv wdr_swaps(const WdrWorld *world)
{
	g_auto(GStrv) lines = proc_lines(world, "/proc/swaps");
	GStrvBuilder *names = g_strv_builder_new();

	for (size_t i = 0; lines[i]; i++) {
		g_autofree char *name = g_strndup(lines[i], strcspn(lines[i], " \t"));
		if (*name == '/')
			g_strv_builder_add(names, name);
	}
	GStrv result = g_strv_builder_end(names);
	g_strv_builder_unref(names);
	return result;
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
static char *user_of(
	const WdrWorld *world, const char *name, const char *in_block, const char *device)
{
	g_autofree char *point = mount_of(world, device);

	if (point)
		return g_strdup_printf("%s is mounted at %s", name, point);
	if (is_swap(world, name))
		return g_strdup_printf("%s is in use as swap", name);
	if (has_holder(world, in_block))
		return g_strdup_printf("%s is part of a RAID, LVM or similar", name);
	return NULL;
}

/* Loop devices of this machine over the file, also when it is a bench's disk. */
static char *loop_user(const char *path)
{
	g_autoptr(GDir) dir = g_dir_open("/sys/block", 0, NULL);
	struct stat want;

	if (!dir || stat(path, &want) != 0 || !S_ISREG(want.st_mode))
		return NULL;
	for (const char *name; (name = g_dir_read_name(dir));) {
		g_autofree char *backing = g_strdup_printf("/sys/block/%s/loop/backing_file", name);
		g_autofree char *file = wdr_read_line(backing);
		struct stat st;
		if (file && stat(file, &st) == 0 && st.st_dev == want.st_dev &&
			st.st_ino == want.st_ino)
			return g_strdup_printf("%s is attached to /dev/%s", path, name);
	}
	return NULL;
}

static char *partition_user(const WdrWorld *world, const WdrDisk *disk)
{
	g_autofree char *in_sys = g_strdup_printf("/sys/block/%s", disk->name);
	g_autofree char *folder = wdr_world_path(world, in_sys);
	g_autoptr(GDir) dir = g_dir_open(folder, 0, NULL);

	for (const char *name; dir && (name = g_dir_read_name(dir));) {
		if (!g_str_has_prefix(name, disk->name))
			continue;
		g_autofree char *in_block = g_strdup_printf("%s/%s", disk->name, name);
		g_autofree char *dev = g_build_filename(folder, name, "dev", NULL);
		g_autofree char *device = wdr_read_line(dev);
		char *user = user_of(world, name, in_block, device);
		if (user)
			return user;
	}
	return NULL;
}

char *wdr_disk_user(const WdrWorld *world, const WdrDisk *disk)
{
	char *user = loop_user(disk->path);

	if (user || disk->is_image)
		return user;
	g_autofree char *device = device_number(world, disk, 0);
	user = user_of(world, disk->name, disk->name, device);
	return user ? user : partition_user(world, disk);
}

char *wdr_disk_partition_user(const WdrWorld *world, const WdrDisk *disk, unsigned partition)
{
	char *user = loop_user(disk->path);

	if (user || disk->is_image)
		return user;
	g_autofree char *name = wdr_disk_partition_name(disk, partition);
	g_autofree char *in_block = g_strdup_printf("%s/%s", disk->name, name);
	g_autofree char *device = device_number(world, disk, partition);
	return user_of(world, name, in_block, device);
}
