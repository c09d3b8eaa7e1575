/* Measures one filling of a volume, for scripts/bench: the time of the work itself, flush to the
 * medium included, and the peak memory of the process.
 *
 *   bench fill FOLDER IMAGE INODES    an ext volume from a mounted tree
 *   bench many ENTRIES IMAGE          an ext volume of that many entries, made up
 *   bench live POINT IMAGE INODES DISK OFFSET
 *                                     an ext volume from a mounted ext4, which lies at that byte of
 * the disk (as root); DISK "-": only through the kernel prints "SECONDS BYTES ENTRIES PEAK_KIB",
 * and for live " FROM_DISK THROUGH_KERNEL" bytes. */
#include "copy/volume_copy.h"

#include "copy/packing_list.h"
#include "volume/ext/ext.h"
#include "volume/memory.h"
#include "volume/tree/tree.h"

#include <malloc.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/resource.h>
#include <unistd.h>

/* A volume that is made up while it is listed, so that it takes no memory of its own: folders of
 * 1000. */
enum { PER_FOLDER = 1000 };

typedef struct {
	WdrVolume volume;
	uint64_t entries;
} Many;

typedef struct {
	WdrContent content;
	bool is_given;
} Small;

static bool many_list(
	WdrVolume *v, const WdrNode *folder, WdrListFunc each, void *data, GError **error)
{
	const Many *m = WDR_DERIVED(v, Many, volume);
	bool is_root = folder->id == 0;
	uint64_t folders = m->entries / PER_FOLDER;

	for (uint64_t i = 0; i < (is_root ? folders : PER_FOLDER - 1); i++) {
		char name[40];
		snprintf(name, sizeof(name), is_root ? "day-%06u" : "observation-%06u.csv",
			(unsigned)i);
		WdrName found = { .name = name,
			.links = 1,
			.kind = is_root ? WDR_KIND_FOLDER : WDR_KIND_FILE,
			.id = is_root ? i + 1 : (folder->id << 20) + i };
		if (!each(data, &found, error))
			return false;
	}
	return true;
}

static bool many_stat(WdrVolume *v, const WdrNode *node, WdrEntry *ret, GError **error)
{
	WdrTime t = { 1777876200, 0 };
	uint64_t folders = WDR_DERIVED(v, Many, volume)->entries / PER_FOLDER;

	(void)error;
	*ret = (WdrEntry){ .kind = node->id <= folders ? WDR_KIND_FOLDER : WDR_KIND_FILE,
		.mode = 0755,
		.links = 1,
		.atime = t,
		.mtime = t,
		.ctime = t,
		.crtime = t };
	ret->size = ret->kind == WDR_KIND_FILE ? 100 : 0;
	return true;
}

static bool small_next(WdrContent *content, void *buf, size_t cap, WdrPiece *ret, GError **error)
{
	Small *s = WDR_DERIVED(content, Small, content);

	(void)error;
	*ret = (WdrPiece){ .offset = s->is_given ? 100 : 0,
		.len = s->is_given ? 0 : MIN(cap, 100) };
	memset(buf, 'x', (size_t)ret->len);
	s->is_given = true;
	return true;
}

static void small_free(WdrContent *content)
{
	g_free(content);
}

static bool many_open(
	WdrVolume *v, const WdrNode *node, WdrEntry *entry, WdrContent **ret, GError **error)
{
	static const WdrContentOps ops = { small_next, small_free, NULL, NULL };
	Small *s = g_new0(Small, 1);

	(void)v;
	(void)node;
	(void)entry;
	(void)error;
	s->content.ops = &ops;
	*ret = &s->content;
	return true;
}

static void many_free(WdrVolume *v)
{
	g_free(v);
}

static WdrVolume *many_new(uint64_t entries)
{
	static const WdrVolumeOps ops = { "made up", many_list, many_stat, many_open, many_free,
		NULL };
	Many *m = g_new0(Many, 1);

	m->volume.ops = &ops;
	m->volume.name = g_strdup("made up");
	m->entries = entries;
	return &m->volume;
}

static bool fill(WdrVolume *from, const char *image, uint64_t inodes, WdrCopyCount *count,
	uint64_t *ret_entries, GError **error)
{
	g_autoptr(WdrWorld) world = NULL;
	g_autoptr(WdrBlockDev) dev = NULL;
	g_autoptr(WdrBuilder) builder = NULL;
	g_autoptr(WdrPacking) packing = NULL;
	g_autofree char *scratch = g_path_get_dirname(image);
	g_autofree char *list = g_strconcat(image, ".list", NULL);
	g_auto(WdrExtSpec) spec = { 0 };

	wdr_ext_spec_default(&spec);
	g_strlcpy(spec.uuid, "5a2c8d1e-4b3f-4c6a-8e7d-1f0a9b8c7d6e", sizeof(spec.uuid));
	spec.inodes = inodes;
	if (!wdr_world_new(NULL, &world, error) ||
		!wdr_blockdev_open(image, WDR_OPEN_WRITE, &dev, error))
		return false;
	WdrBuildTarget target = { dev, 0, wdr_blockdev_size(dev), scratch, wdr_copy_count_done,
		count };
	if (!wdr_ext_builder_new(world, &target, &spec, &builder, error) ||
		!wdr_packing_create(list, 1000, &packing, error))
		return false;
	WdrCopy copy = {
		.source = from, .builder = builder, .record = wdr_packing_record, .data = packing
	};
	bool is_fine = wdr_copy_volume(world, &copy, count, error) &&
		       builder->ops->finish(builder, error) && wdr_packing_finish(packing, error);
	*ret_entries = wdr_packing_entries(packing);
	unlink(list);
	return is_fine;
}

/* A mounted ext4, as a move from a running system reads it. */
static bool open_live(char **argv, WdrVolume **ret, GError **error)
{
	WdrBlockDev *dev = NULL;
	uint64_t offset = g_ascii_strtoull(argv[6], NULL, 10);

	if (!wdr_tree_volume_open_mount(argv[2], ret, error))
		return false;
	if (strcmp(argv[5], "-") == 0)
		return true;
	return wdr_blockdev_open(argv[5], WDR_OPEN_MEDIUM, &dev, error) &&
	       (wdr_tree_use_disk(*ret, dev, offset, wdr_blockdev_size(dev) - offset) ||
		       wdr_error_set(error, WDR_ERROR_IO, "the disk cannot be read itself"));
}

static void print_usage(double seconds, const WdrCopyCount *count, uint64_t entries)
{
	struct rusage usage;

	getrusage(RUSAGE_SELF, &usage);
	printf("%.3f %" G_GUINT64_FORMAT " %" G_GUINT64_FORMAT " %ld", seconds,
		wdr_copy_count_bytes(count), entries, usage.ru_maxrss);
}

int main(int argc, char **argv)
{
	g_autoptr(WdrVolume) from = NULL;
	g_autoptr(WdrCopyCount) count = wdr_copy_count_new();
	g_autoptr(GError) error = NULL;
	uint64_t entries = 0;
	int64_t begun = g_get_monotonic_time();

	mallopt(M_ARENA_MAX, 2); /* as main.c does */
	mallopt(M_MMAP_THRESHOLD, 64 * 1024);
	bool is_many = argc == 4 && strcmp(argv[1], "many") == 0;
	bool is_live = argc == 7 && strcmp(argv[1], "live") == 0;
	if (!is_many && !is_live && !(argc == 5 && strcmp(argv[1], "fill") == 0))
		return 2;
	bool is_fine = true;
	if (is_many)
		from = many_new(g_ascii_strtoull(argv[2], NULL, 10));
	else
		is_fine = is_live ? open_live(argv, &from, &error)
				  : wdr_tree_volume_open(argv[2], &from, &error);
	uint64_t inodes = g_ascii_strtoull(is_many ? argv[2] : argv[4], NULL, 10) + 1000;
	if (!is_fine || !fill(from, argv[3], inodes, count, &entries, &error)) {
		fprintf(stderr, "bench: %s\n", error->message);
		return 1;
	}
	print_usage((double)(g_get_monotonic_time() - begun) / G_USEC_PER_SEC, count, entries);
	if (is_live) {
		uint64_t from_disk = 0;
		uint64_t through_kernel = 0;
		wdr_tree_bytes(from, &from_disk, &through_kernel);
		printf(" %" G_GUINT64_FORMAT " %" G_GUINT64_FORMAT, from_disk, through_kernel);
	}
	putchar('\n');
	return 0;
}
