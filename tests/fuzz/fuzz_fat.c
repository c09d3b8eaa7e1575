/* Any bytes as a FAT volume: read to its end without a crash or a hang. */
#include "copy/volume_copy.h"

#include "volume/fat/fat.h"

#include <string.h>

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size);

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
	/* Small inputs stand for a larger volume: the rest is zeros. */
	enum { DISK_BYTES = 1024 * 1024 };
	g_autoptr(WdrBlockDev) dev = wdr_blockdev_new_memory("fuzz", DISK_BYTES);
	g_autoptr(WdrVolume) v = NULL;
	g_autoptr(WdrWorld) world = NULL;
	WdrFatMeasure measure;
	WdrFatMeasure again;
	WdrFatInfo info;
	uint64_t need = 0;

	if (!wdr_world_new(NULL, &world, NULL) ||
		!wdr_blockdev_write(dev, data, MIN(size, DISK_BYTES), 0, NULL) ||
		!wdr_fat_volume_open(dev, 0, DISK_BYTES, &v, NULL))
		return 0;
	bool is_sound = wdr_fat_volume_info(v, &info, NULL) &&
			wdr_fat_volume_check(v, &measure, NULL) &&
			wdr_fat_volume_need(v, 4096, &again, &need, NULL) &&
			again.entries == measure.entries;
	WdrCopy copy = { .source = v };
	/* One that is not sound is read, too: survey and rehearsals look at whatever is there. */
	if ((!is_sound || measure.file_bytes < 64 * 1024 * 1024) &&
		!wdr_copy_volume(world, &copy, NULL, NULL))
		g_debug("not readable");
	return 0;
}
