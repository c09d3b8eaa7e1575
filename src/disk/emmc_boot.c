/* Reads which boot partition of an eMMC is enabled. */
#include "disk/emmc_boot.h"

#include "base/io.h"

#include <string.h>

enum { CSD_BYTES = 512, PARTITION_CONFIG = 179, ENABLED_SHIFT = 3, ENABLED_MASK = 7, ACK = 0x40 };

/* The folder of sysfs that an eMMC is, "mmc0:0001", tells host and card. */
static char *csd_path(const WdrWorld *world, const char *name)
{
	size_t len = strcspn(name + strlen("mmcblk"), "bp") + strlen("mmcblk");
	g_autofree char *in_sys = g_strdup_printf("/sys/block/%.*s/device", (int)len, name);
	g_autofree char *path = wdr_world_path(world, in_sys);
	g_autofree char *target = g_file_read_link(path, NULL);
	g_autofree char *card = target ? g_path_get_basename(target) : NULL;
	const char *colon = card ? strchr(card, ':') : NULL;

	if (!colon || !g_str_has_prefix(card, "mmc"))
		return NULL;
	g_autofree char *in_debug = g_strdup_printf(
		"/sys/kernel/debug/%.*s/%s/ext_csd", (int)(colon - card), card, card);
	return wdr_world_path(world, in_debug);
}

bool wdr_emmc_boot_read(const WdrWorld *world, const char *name, WdrEmmcBoot *ret)
{
	g_autofree char *path = g_str_has_prefix(name, "mmcblk") ? csd_path(world, name) : NULL;
	g_autofree char *hex = path ? wdr_read_line(path) : NULL;

	*ret = (WdrEmmcBoot){ 0 };
	if (!hex || strspn(hex, "0123456789abcdefABCDEF") < 2 * CSD_BYTES)
		return false;
	unsigned config = (unsigned)g_ascii_xdigit_value(hex[2 * PARTITION_CONFIG]) << 4 |
			  (unsigned)g_ascii_xdigit_value(hex[2 * PARTITION_CONFIG + 1]);
	ret->enabled = config >> ENABLED_SHIFT & ENABLED_MASK;
	ret->has_ack = (config & ACK) != 0;
	return true;
}
