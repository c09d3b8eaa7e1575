/* Reads mounts of this process and of all other mount namespaces, and swap areas, with libmount. */
#include "disk/mounts.h"

#include "base/io.h"

#include <errno.h>
#include <fcntl.h>
#include <libmount.h>
#include <stdio.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/sysmacros.h>

enum {
	NAMESPACES_MAX = 1024, /* those beyond are not looked at */
	PROC_BYTES_MAX = 16 * 1024 * 1024
};

void wdr_mount_free(WdrMount *m)
{
	if (!m)
		return;
	g_free(m->device);
	g_free(m->root);
	g_free(m->point);
	g_free(m->type);
	g_free(m->source);
	g_free(m->options);
	g_free(m->who);
	g_free(m);
}

/* ---- libmount ---- */

typedef struct libmnt_table Table;
G_DEFINE_AUTOPTR_CLEANUP_FUNC(Table, mnt_unref_table)
typedef struct libmnt_iter Iterator;
G_DEFINE_AUTOPTR_CLEANUP_FUNC(Iterator, mnt_free_iter)

/* NULL: it cannot be read. Lines that make no sense are passed over. libmount would read a file
 * without end for ever, and on a bench anything may be in its place: so the text is read before. */
static Table *read_table(const char *path)
{
	g_autofree char *text = NULL;
	size_t len = 0;

	if (!wdr_read_file(path, PROC_BYTES_MAX, &text, &len, NULL) || len == 0)
		return NULL;
	FILE *file = fmemopen(text, len, "r");
	g_autoptr(Table) table = file ? mnt_new_table() : NULL;
	int failure = table ? mnt_table_parse_stream(table, file, path) : -ENOMEM;
	if (file)
		fclose(file);
	return failure ? NULL : g_steal_pointer(&table);
}

static char *copy_of(const char *text)
{
	return g_strdup(text ? text : "");
}

static void read_mounts(GPtrArray *mounts, const char *path, const char *who)
{
	g_autoptr(Table) table = read_table(path);
	g_autoptr(Iterator) at = mnt_new_iter(MNT_ITER_FORWARD);
	struct libmnt_fs *fs = NULL;

	while (table && at && mnt_table_next_fs(table, at, &fs) == 0) {
		dev_t device = mnt_fs_get_devno(fs);
		WdrMount *m = g_new0(WdrMount, 1);
		*m = (WdrMount){ .id = (unsigned)mnt_fs_get_id(fs),
			.device = g_strdup_printf("%u:%u", major(device), minor(device)),
			.root = copy_of(mnt_fs_get_root(fs)),
			.point = copy_of(mnt_fs_get_target(fs)),
			.type = copy_of(mnt_fs_get_fstype(fs)),
			.source = copy_of(mnt_fs_get_source(fs)),
			.options = copy_of(mnt_fs_get_fs_options(fs)),
			.who = g_strdup(who) };
		g_ptr_array_add(mounts, m);
	}
}

char **wdr_swaps(const WdrWorld *world)
{
	g_autofree char *path = wdr_world_path(world, "/proc/swaps");
	g_autoptr(Table) table = read_table(path);
	g_autoptr(Iterator) at = mnt_new_iter(MNT_ITER_FORWARD);
	g_autoptr(GStrvBuilder) names = g_strv_builder_new();
	struct libmnt_fs *fs = NULL;

	while (table && at && mnt_table_next_fs(table, at, &fs) == 0) {
		const char *name = mnt_fs_get_source(fs);
		if (name && *name == '/')
			g_strv_builder_add(names, name);
	}
	return g_strv_builder_end(names);
}

/* ---- namespaces ---- */

static GPtrArray *mounts_in(const char *path)
{
	GPtrArray *mounts = g_ptr_array_new_with_free_func((GDestroyNotify)wdr_mount_free);

	read_mounts(mounts, path, NULL);
	return mounts;
}

GPtrArray *wdr_mounts(const WdrWorld *world)
{
	g_autofree char *path = wdr_world_path(world, "/proc/self/mountinfo");

	return mounts_in(path);
}

GPtrArray *wdr_mounts_of_this_machine(void)
{
	return mounts_in("/proc/self/mountinfo");
}

static char *namespace_of(const char *proc, const char *process)
{
	g_autofree char *link = g_build_filename(proc, process, "ns", "mnt", NULL);

	return g_file_read_link(link, NULL);
}

GPtrArray *wdr_mounts_everywhere(const WdrWorld *world)
{
	GPtrArray *mounts = wdr_mounts(world);
	g_autofree char *proc = wdr_world_path(world, "/proc");
	g_autoptr(GHashTable) seen = g_hash_table_new_full(g_str_hash, g_str_equal, g_free, NULL);
	g_autoptr(GDir) dir = g_dir_open(proc, 0, NULL);
	char *own = namespace_of(proc, "self");

	if (own)
		g_hash_table_add(seen, own);
	for (const char *name; dir && (name = g_dir_read_name(dir));) {
		char *space = g_ascii_isdigit(*name) ? namespace_of(proc, name) : NULL;
		/* Kernel threads share one, so there are few. */
		if (!space || g_hash_table_size(seen) > NAMESPACES_MAX ||
			!g_hash_table_add(seen, space))
			continue;
		g_autofree char *path = g_build_filename(proc, name, "mountinfo", NULL);
		g_autofree char *comm_file = g_build_filename(proc, name, "comm", NULL);
		g_autofree char *comm = wdr_read_line(comm_file);
		g_autofree char *who = g_strdup_printf("pid %s (%s)", name, comm ? comm : "?");
		read_mounts(mounts, path, who);
	}
	return mounts;
}

bool wdr_mount_has_option(const WdrMount *mount, const char *option)
{
	g_auto(GStrv) options = g_strsplit(mount->options, ",", -1);

	return g_strv_contains((const char *const *)options, option);
}

bool wdr_mount_is_whole(const WdrMount *mount)
{
	return strcmp(mount->root, "/") == 0;
}

bool wdr_mount_is_seen(const WdrWorld *world, const WdrMount *mount)
{
	g_autofree char *path = wdr_world_path(world, mount->point);
	struct statx st;

	if (mount->who)
		return false;
	/* A bench has no real mounts. */
	if (wdr_world_bench(world))
		return true;
	if (statx(AT_FDCWD, path, AT_NO_AUTOMOUNT, STATX_BASIC_STATS | STATX_MNT_ID, &st) != 0)
		return false;
	g_autofree char *device = g_strdup_printf("%u:%u", st.stx_dev_major, st.stx_dev_minor);
	/* Before Linux 5.8 the mount is not told, only the device. */
	return strcmp(device, mount->device) == 0 &&
	       (!(st.stx_mask & STATX_MNT_ID) || st.stx_mnt_id == mount->id);
}
