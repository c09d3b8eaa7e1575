/* Identifies what lies at a place of a disk with libblkid. */
#include "disk/probe.h"

#include <blkid/blkid.h>
#include <string.h>

G_DEFINE_AUTO_CLEANUP_FREE_FUNC(blkid_probe, blkid_free_probe, NULL)

void wdr_probe_clear(WdrProbe *probe)
{
	g_clear_pointer(&probe->type, g_free);
	g_clear_pointer(&probe->uuid, g_free);
	g_clear_pointer(&probe->label, g_free);
}

static char *value_of(blkid_probe pr, const char *name)
{
	const char *value = NULL;

	return blkid_probe_lookup_value(pr, name, &value, NULL) == 0 ? g_strdup(value) : NULL;
}

bool wdr_probe_read(WdrBlockDev *dev, uint64_t offset, uint64_t size, WdrProbe *ret, GError **error)
{
	g_auto(blkid_probe) pr = blkid_new_probe();

	*ret = (WdrProbe){ 0 };
	if (!pr || blkid_probe_set_device(
			   pr, wdr_blockdev_fd(dev), (blkid_loff_t)offset, (blkid_loff_t)size) != 0)
		return wdr_error_set(error, WDR_ERROR_IO,
			"%s: cannot look at byte %" G_GUINT64_FORMAT, wdr_blockdev_name(dev),
			offset);
	blkid_probe_enable_superblocks(pr, 1);
	blkid_probe_set_superblocks_flags(
		pr, BLKID_SUBLKS_TYPE | BLKID_SUBLKS_UUID | BLKID_SUBLKS_LABEL);
	blkid_probe_enable_partitions(pr, 0);
	int found = blkid_do_safeprobe(pr);
	if (found == -2) {
		ret->is_ambiguous = true;
		return true;
	}
	if (found < 0)
		return wdr_error_set(error, WDR_ERROR_IO,
			"%s: reading at byte %" G_GUINT64_FORMAT " failed", wdr_blockdev_name(dev),
			offset);
	if (found == 0) {
		ret->type = value_of(pr, "TYPE");
		ret->uuid = value_of(pr, "UUID");
		ret->label = value_of(pr, "LABEL");
	}
	return true;
}

bool wdr_probe_is_unfinished(WdrBlockDev *dev, uint64_t offset)
{
	char note[sizeof(WDR_UNFINISHED_NOTE) - 1];

	return wdr_blockdev_read(dev, note, sizeof(note), offset, NULL) &&
	       memcmp(note, WDR_UNFINISHED_NOTE, sizeof(note)) == 0;
}
