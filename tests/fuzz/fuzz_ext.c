/* Any bytes as an ext volume, most of them without checksums, so that damage reaches the code that
 * reads inodes, extents, maps of blocks, attributes, inline data and folders: read to its end
 * without a crash or a hang. */
#include "copy/volume_copy.h"

#include "volume/ext/ext.h"

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size);

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
	enum { DISK_BYTES = 256 * 1024 };
	g_autoptr(WdrBlockDev) dev = wdr_blockdev_new_memory("fuzz", DISK_BYTES);
	g_autoptr(WdrVolume) v = NULL;
	g_autoptr(WdrWorld) world = NULL;
	g_auto(WdrExtInfo) info = { 0 };
	g_auto(WdrExtSpec) spec = { 0 };
	g_autofree char *note = NULL;

	if (!wdr_world_new(NULL, &world, NULL) ||
		!wdr_blockdev_write(dev, data, MIN(size, DISK_BYTES), 0, NULL) ||
		!wdr_ext_volume_open(dev, 0, DISK_BYTES, &v, NULL))
		return 0;
	wdr_ext_volume_info(v, &info);
	WdrCopy copy = { .source = v };
	if (!wdr_ext_spec_like(v, &spec, &note, NULL) || !wdr_copy_volume(world, &copy, NULL, NULL))
		g_debug("not readable");
	return 0;
}
