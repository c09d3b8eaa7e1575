/* Asks the kernel whether discards reach a disk.
 *
 * Of USB bridges many hand none on, and the kernel knows: it asked when the disk was plugged in.
 * Cards and eMMC manage their blocks themselves. */
#include "disk/health/discards.h"

#include <string.h>

static char *queue_line(const WdrWorld *world, const WdrDisk *disk, const char *name)
{
	g_autofree char *in_sys = g_strdup_printf("/sys/block/%s/queue/%s", disk->name, name);

	return wdr_world_line(world, in_sys);
}

WdrDiscards wdr_disk_discards(const WdrWorld *world, const WdrDisk *disk)
{
	if (disk->is_image || g_str_has_prefix(disk->name, "mmcblk"))
		return WDR_DISCARDS_UNKNOWN;
	g_autofree char *most = queue_line(world, disk, "discard_max_bytes");
	g_autofree char *rotates = queue_line(world, disk, "rotational");
	if (!most || g_strcmp0(rotates, "0") != 0)
		return WDR_DISCARDS_UNKNOWN;
	return strcmp(most, "0") == 0 ? WDR_DISCARDS_DO_NOT : WDR_DISCARDS_REACH_IT;
}
