/* Has the kernel read the metadata of a mounted ext4 before the walk asks for it.
 *
 * The walk through the mount takes a request for each folder, and a card answers few. Read from the
 * device that is mounted, through its page cache, the same blocks come in large requests, and the
 * file system finds them there. At most half of the memory that is free for such things is used:
 * what came first would be gone again before it is asked for.
 *
 * The walk waits for the inode tables: the kernel reads these block by block when it is asked for
 * an inode, and that would come between. The folders are read while it walks. */
#include "volume/tree/tree_priv.h"

#include "base/stop.h"
#include "volume/ext/ext.h"

#include <linux/magic.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/sysmacros.h>
#include <sys/vfs.h>

enum { LOOK_EVERY_US = 100000 };

/* The device node of a file system; NULL: it has none, or none that is known. The caller's. */
static char *node_of(dev_t device)
{
	g_autofree char *link =
		g_strdup_printf("/sys/dev/block/%u:%u", major(device), minor(device));
	g_autofree char *to = g_file_read_link(link, NULL);
	g_autofree char *name = to ? g_path_get_basename(to) : NULL;
	struct stat st;

	if (!name)
		return NULL;
	g_autofree char *node = g_build_filename("/dev", name, NULL);
	return stat(node, &st) == 0 && S_ISBLK(st.st_mode) && st.st_rdev == device
		       ? g_steal_pointer(&node)
		       : NULL;
}

/* 0: unknown. */
static uint64_t memory_for_caches(void)
{
	g_autofree char *text = NULL;

	if (!g_file_get_contents("/proc/meminfo", &text, NULL, NULL))
		return 0;
	const char *line = strstr(text, "MemAvailable:");
	return line ? g_ascii_strtoull(line + strlen("MemAvailable:"), NULL, 10) * 1024 : 0;
}

static void let_walk(WdrTree *t)
{
	g_mutex_lock(&t->ahead_lock);
	t->may_walk = true;
	g_cond_signal(&t->ahead_changed);
	g_mutex_unlock(&t->ahead_lock);
}

static void *ahead_thread(void *data)
{
	WdrTree *t = data;
	g_autofree char *node = node_of(t->device);
	g_autoptr(WdrBlockDev) dev = NULL;
	WdrExtAhead *ahead = NULL;

	if (node && wdr_blockdev_open(node, WDR_OPEN_READ, &dev, NULL))
		ahead = wdr_ext_ahead_tables(
			dev, wdr_blockdev_size(dev), memory_for_caches() / 2, &t->stops_ahead);
	let_walk(t);
	if (ahead)
		wdr_ext_ahead_folders(ahead);
	return NULL;
}

/* A stop by signal ends the waiting, too. */
static void wait_for_tables(WdrTree *t)
{
	g_mutex_lock(&t->ahead_lock);
	while (!t->may_walk && wdr_stop_check(NULL))
		g_cond_wait_until(
			&t->ahead_changed, &t->ahead_lock, g_get_monotonic_time() + LOOK_EVERY_US);
	g_mutex_unlock(&t->ahead_lock);
}

void wdr_tree_read_ahead(WdrVolume *tree)
{
	WdrTree *t = WDR_DERIVED(tree, WdrTree, volume);
	struct statfs fs;

	if (t->ahead || tree->root_id != WDR_EXT_ROOT_INO || fstatfs(t->root, &fs) != 0 ||
		fs.f_type != EXT4_SUPER_MAGIC)
		return;
	t->ahead = g_thread_new("ahead", ahead_thread, t);
	wait_for_tables(t);
}

void wdr_tree_end_ahead(WdrTree *t)
{
	t->stops_ahead = true;
	g_clear_pointer(&t->ahead, g_thread_join);
}
