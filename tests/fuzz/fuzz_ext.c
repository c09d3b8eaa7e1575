/* Any bytes as an ext volume, most of them without checksums, so that damage reaches the code that
 * reads inodes, extents, maps of blocks, attributes, inline data and folders: read to its end
 * without a crash or a hang. */
#include "copy/volume_copy.h"

#include "volume/ext/ext.h"

enum { DISK_BYTES = 256 * 1024 };

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size);

/* No more than it may, whatever folders claim. */
static void read_ahead(WdrBlockDev *dev)
{
	atomic_bool stop = false;
	WdrExtAhead *a = wdr_ext_ahead_tables(dev, DISK_BYTES, DISK_BYTES, &stop);

	if (a)
		wdr_ext_ahead_folders(a);
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
	g_autoptr(WdrBlockDev) dev = wdr_blockdev_new_memory("fuzz", DISK_BYTES);
	g_autoptr(WdrVolume) v = NULL;
	g_autoptr(WdrWorld) world = NULL;
	g_auto(WdrExtInfo) info = { 0 };
	g_auto(WdrExtSpec) spec = { 0 };
	g_autofree char *note = NULL;

	if (!wdr_world_new(NULL, &world, NULL) ||
		!wdr_blockdev_write(dev, data, MIN(size, DISK_BYTES), 0, NULL))
		return 0;
	read_ahead(dev);
	if (!wdr_ext_volume_open(dev, 0, DISK_BYTES, &v, NULL))
		return 0;
	wdr_ext_volume_info(v, &info);
	WdrCopy copy = { .source = v };
	if (!wdr_ext_spec_like(v, &spec, &note, NULL) || !wdr_copy_volume(world, &copy, NULL, NULL))
		g_debug("not readable");
	return 0;
}
