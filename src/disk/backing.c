/* Follows a disk or file down to the device that holds its bytes.
 *
 * One and the same byte can have several names: /dev/loop0 and the image behind it, /dev/sda1 and a
 * range of /dev/sda, a mapped volume and its members, an image file and the disk that its file
 * system is on. A target that is the source under another name would be erased with it. So both are
 * followed down, step by step, to ranges of real devices, and two of them are the same when such
 * ranges overlap. The chain is followed by device and inode numbers as the kernel tells them: names
 * can change meanwhile. */
#include "disk/backing.h"

#include "base/cleanup.h"
#include "base/io.h"
#include "base/stat.h"
#include "disk/mounts.h"

#include <fcntl.h>
#include <linux/loop.h>
#include <stdlib.h>
#include <string.h>
#include <sys/ioctl.h>
#include <sys/stat.h>
#include <sys/sysmacros.h>

/* More levels of devices upon devices are not followed. */
enum { LEVELS_MAX = 16, SECTOR = 512 };

/* A range of a file or a device. */
typedef struct {
	bool is_file;
	dev_t dev; /* the device; of a file: that of its file system */
	ino_t ino; /* of a file */
	uint64_t start, len;
} Ground;

struct WdrBacking {
	GArray *bytes; /* Ground: the same bytes by other names */
	GArray *under; /* Ground: what the file systems of the files in `bytes` lie on */
	char *wwid;    /* of a disk that may be reached by several paths; NULL: unknown */
};

typedef struct {
	WdrBacking *backing;
	GArray *list; /* of the two, the one that is being filled */
	unsigned level;
} Resolving;

static void add_path(Resolving r, const char *path, uint64_t start, uint64_t len);

void wdr_backing_free(WdrBacking *backing)
{
	if (!backing)
		return;
	g_array_unref(backing->bytes);
	g_array_unref(backing->under);
	g_free(backing->wwid);
	g_free(backing);
}

/* False: it is in the list already, so what lies below it is, too. */
static bool add_ground(GArray *list, const Ground *ground)
{
	for (guint i = 0; i < list->len; i++) {
		const Ground *g = &g_array_index(list, Ground, i);
		if (g->is_file == ground->is_file && g->dev == ground->dev &&
			g->ino == ground->ino && g->start == ground->start && g->len == ground->len)
			return false;
	}
	g_array_append_val(list, *ground);
	return true;
}

static bool read_number(const char *folder, const char *name, uint64_t *ret)
{
	g_autofree char *path = g_build_filename(folder, name, NULL);
	g_autofree char *line = wdr_read_line(path);

	return line && g_ascii_string_to_unsigned(line, 10, 0, UINT64_MAX, ret, NULL);
}

static bool read_device(const char *folder, const char *name, dev_t *ret)
{
	g_autofree char *path = g_build_filename(folder, name, NULL);
	g_autofree char *line = wdr_read_line(path);
	unsigned high = 0;
	unsigned low = 0;

	if (!line || sscanf(line, "%u:%u", &high, &low) != 2)
		return false;
	*ret = makedev(high, low);
	return true;
}

/* A length behind an offset; UINT64_MAX means "to the end". */
static uint64_t at_most(uint64_t len, uint64_t limit)
{
	return limit ? MIN(len, limit) : len;
}

static uint64_t beyond(uint64_t start, uint64_t more)
{
	return more > UINT64_MAX - start ? UINT64_MAX : start + more;
}

static void add_file(Resolving r, dev_t dev, ino_t ino, uint64_t start, uint64_t len);

/* The kernel names the file of a loop device by inode, which also finds one that was renamed or
 * lies in another mount namespace; without the right to ask, its path has to do. */
static void add_loop(
	Resolving r, const char *folder, const char *name, uint64_t start, uint64_t len)
{
	g_autofree char *node = g_build_filename("/dev", name, NULL);
	g_auto(WdrFd) fd = open(node, O_RDONLY | O_CLOEXEC | O_NONBLOCK);
	struct loop_info64 info = { 0 };
	uint64_t offset = 0;
	uint64_t limit = 0;
	g_autofree char *file = g_build_filename(folder, "loop", "backing_file", NULL);
	g_autofree char *path = wdr_read_line(file);

	(void)read_number(folder, "loop/offset", &offset);
	(void)read_number(folder, "loop/sizelimit", &limit);
	if (fd >= 0 && ioctl(fd, LOOP_GET_STATUS64, &info) == 0) {
		offset = info.lo_offset;
		limit = info.lo_sizelimit;
		/* A loop device over a block device tells the node's inode, which is no file. */
		if (info.lo_rdevice == 0)
			add_file(r, info.lo_device, info.lo_inode, beyond(offset, start),
				at_most(len, limit));
	}
	/* Also where the kernel told: file systems that stack show one file with two numbers. */
	if (path)
		add_path(r, path, beyond(offset, start), at_most(len, limit));
}

static void add_device(Resolving r, dev_t dev, uint64_t start, uint64_t len)
{
	const Ground ground = { false, dev, 0, start, len };
	g_autofree char *by_number =
		g_strdup_printf("/sys/dev/block/%u:%u", major(dev), minor(dev));
	g_autofree char *folder = realpath(by_number, NULL);
	uint64_t offset = 0;
	uint64_t sectors = 0;
	dev_t whole = 0;

	if (!add_ground(r.list, &ground) || r.level++ >= LEVELS_MAX || !folder)
		return;
	g_autofree char *name = g_path_get_basename(folder);
	g_autofree char *loop = g_build_filename(folder, "loop", NULL);
	g_autofree char *partition = g_build_filename(folder, "partition", NULL);
	g_autofree char *slaves = g_build_filename(folder, "slaves", NULL);
	if (g_file_test(partition, G_FILE_TEST_EXISTS) && read_device(folder, "../dev", &whole) &&
		read_number(folder, "start", &offset) && read_number(folder, "size", &sectors))
		add_device(
			r, whole, beyond(offset * SECTOR, start), at_most(len, sectors * SECTOR));
	if (wdr_is_folder(loop))
		add_loop(r, folder, name, start, len);
	/* Which part of a member a mapping uses is not worth knowing: all of it counts. */
	g_autoptr(GDir) dir = g_dir_open(slaves, 0, NULL);
	for (const char *slave; dir && (slave = g_dir_read_name(dir));) {
		g_autofree char *below = g_build_filename(slaves, slave, NULL);
		dev_t member = 0;
		if (read_device(below, "dev", &member))
			add_device(r, member, 0, UINT64_MAX);
	}
}

static void add_file(Resolving r, dev_t dev, ino_t ino, uint64_t start, uint64_t len)
{
	const Ground ground = { true, dev, ino, start, len };

	if (!add_ground(r.list, &ground))
		return;
	r.list = r.backing->under;
	add_device(r, dev, 0, UINT64_MAX);
}

/* The device that the file system of a path is mounted from, where its own number is not that of a
 * device (btrfs, overlays of one). NULL: none. The caller's. */
static char *mounted_from(const char *path)
{
	g_autofree char *real = realpath(path, NULL);
	g_autoptr(GPtrArray) mounts = wdr_mounts_of_this_machine();
	const WdrMount *found = NULL;
	size_t longest = 0;

	for (guint i = 0; real && i < mounts->len; i++) {
		const WdrMount *m = mounts->pdata[i];
		size_t len = strlen(m->point);
		bool is_above = len > 0 && strncmp(real, m->point, len) == 0 &&
				(m->point[len - 1] == '/' || strchr("/", real[len]));
		if (!is_above || len < longest)
			continue;
		longest = len;
		found = m;
	}
	return found ? g_strdup(found->source) : NULL;
}

static void add_path(Resolving r, const char *path, uint64_t start, uint64_t len)
{
	WdrStat st;
	WdrStat device;

	if (r.level++ >= LEVELS_MAX || wdr_stat(path, &st) != 0)
		return;
	if (S_ISBLK(st.stx_mode)) {
		add_device(r, wdr_stat_node(&st), start, len);
		return;
	}
	add_file(r, wdr_stat_device(&st), st.stx_ino, start, len);
	g_autofree char *from = major(wdr_stat_device(&st)) == 0 ? mounted_from(path) : NULL;
	if (from && wdr_stat(from, &device) == 0 && S_ISBLK(device.stx_mode)) {
		r.list = r.backing->under;
		add_device(r, wdr_stat_node(&device), 0, UINT64_MAX);
	}
}

static WdrBacking *backing_new(void)
{
	WdrBacking *b = g_new0(WdrBacking, 1);

	b->bytes = g_array_new(FALSE, FALSE, sizeof(Ground));
	b->under = g_array_new(FALSE, FALSE, sizeof(Ground));
	return b;
}

WdrBacking *wdr_backing_of_path(const char *path)
{
	WdrBacking *b = backing_new();

	add_path((Resolving){ b, b->bytes, 0 }, path, 0, UINT64_MAX);
	return b;
}

/* Only names that their makers give once count: others are text that bridges make up. */
static char *wwid_of(const WdrWorld *world, const WdrDisk *disk)
{
	static const char *const unique[] = { "naa.", "eui.", "uuid." };
	static const char *const places[] = { "device/wwid", "wwid" };

	for (size_t i = 0; i < G_N_ELEMENTS(places); i++) {
		g_autofree char *path = g_strdup_printf("/sys/block/%s/%s", disk->name, places[i]);
		g_autofree char *line = wdr_world_line(world, path);
		for (size_t k = 0; line && k < G_N_ELEMENTS(unique); k++) {
			if (g_str_has_prefix(line, unique[k]))
				return g_strdup_printf("%s %" G_GUINT64_FORMAT, line, disk->size);
		}
	}
	return NULL;
}

WdrBacking *wdr_backing_of(const WdrWorld *world, const WdrDisk *disk)
{
	WdrBacking *b = wdr_backing_of_path(disk->path);

	if (disk->is_image)
		return b;
	b->wwid = wwid_of(world, disk);
	g_autofree char *in_sys = g_strdup_printf("/sys/block/%s/slaves", disk->name);
	g_autofree char *slaves = wdr_world_path(world, in_sys);
	g_autoptr(GDir) dir = g_dir_open(slaves, 0, NULL);
	for (const char *slave; dir && (slave = g_dir_read_name(dir));) {
		g_autofree char *in_dev = g_strdup_printf("/dev/%s", slave);
		g_autofree char *path = wdr_world_path(world, in_dev);
		add_path((Resolving){ b, b->bytes, 0 }, path, 0, UINT64_MAX);
	}
	return b;
}

static bool is_overlapping(const Ground *a, const Ground *b)
{
	return a->is_file == b->is_file && a->dev == b->dev && a->ino == b->ino &&
	       a->start < beyond(b->start, b->len) && b->start < beyond(a->start, a->len);
}

static bool is_any_overlapping(const GArray *a, const GArray *b)
{
	for (guint i = 0; i < a->len; i++) {
		for (guint k = 0; k < b->len; k++) {
			if (is_overlapping(
				    &g_array_index(a, Ground, i), &g_array_index(b, Ground, k)))
				return true;
		}
	}
	return false;
}

bool wdr_backing_is_shared(const WdrBacking *a, const WdrBacking *b)
{
	return is_any_overlapping(a->bytes, b->bytes) ||
	       (a->wwid && b->wwid && strcmp(a->wwid, b->wwid) == 0);
}

bool wdr_backing_holds(const WdrBacking *disk, const WdrBacking *file)
{
	return is_any_overlapping(disk->bytes, file->under);
}

GPtrArray *wdr_backing_loops(const WdrBacking *backing, const char *own_name)
{
	GPtrArray *loops = g_ptr_array_new_with_free_func(g_free);
	g_autoptr(GDir) dir = g_dir_open("/sys/block", 0, NULL);

	for (const char *name; dir && (name = g_dir_read_name(dir));) {
		g_autofree char *folder = g_build_filename("/sys/block", name, NULL);
		g_autofree char *file = g_build_filename(folder, "loop", "backing_file", NULL);
		dev_t number = 0;
		if (g_strcmp0(name, own_name) == 0 || !g_file_test(file, G_FILE_TEST_EXISTS) ||
			!read_device(folder, "dev", &number))
			continue;
		g_autoptr(WdrBacking) loop = backing_new();
		add_device((Resolving){ loop, loop->bytes, 0 }, number, 0, UINT64_MAX);
		if (is_any_overlapping(backing->bytes, loop->bytes))
			g_ptr_array_add(loops, g_strdup(name));
	}
	return loops;
}

bool wdr_disk_is_same(const WdrWorld *world, const WdrDisk *a, const WdrDisk *b)
{
	g_autoptr(WdrBacking) x = wdr_backing_of(world, a);
	g_autoptr(WdrBacking) y = wdr_backing_of(world, b);

	return wdr_backing_is_shared(x, y) || strcmp(a->path, b->path) == 0;
}
