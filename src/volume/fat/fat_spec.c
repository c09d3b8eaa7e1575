/* What a new FAT volume is like, and making it empty with the operating system's mkfs.vfat. */
#include "volume/fat/fat_priv.h"

#include "base/cleanup.h"
#include "base/io.h"
#include "base/text.h"

#include <string.h>

enum {
	FAT12_CLUSTERS_MAX = 4084 - 16, /* drivers disagree near the borders: stay away from them */
	FAT16_CLUSTERS_MAX = 65524 - 16,
	CLUSTER_SECTORS_MAX = 128,
	CLUSTER_BYTES_MAX = 65536 / 2,
};

static uint64_t clusters_at_most(unsigned width)
{
	return width == 12 ? FAT12_CLUSTERS_MAX : width == 16 ? FAT16_CLUSTERS_MAX : 0x0ffffff0;
}

/* The cluster count without what the FATs take: a little too high, which is the careful side. */
static bool suits(unsigned width, uint64_t size, uint32_t cluster_bytes)
{
	return size / cluster_bytes <= clusters_at_most(width);
}

/* mkfs.vfat's rule: FAT32 by size, FAT12/16 the smallest that keeps the count in range. */
static uint32_t usual_cluster(unsigned width, uint64_t size, uint32_t sector_bytes)
{
	uint32_t bytes = sector_bytes;

	if (width == 32)
		bytes = size <= 260 * WDR_MIB  ? 512
			: size <= 8 * WDR_GIB  ? 4096
			: size <= 16 * WDR_GIB ? 8192
			: size <= 32 * WDR_GIB ? 16384
					       : 32768;
	else
		bytes = MAX(bytes, 2048);
	bytes = MAX(bytes, sector_bytes);
	while (!suits(width, size, bytes) && bytes < CLUSTER_BYTES_MAX)
		bytes *= 2;
	return bytes;
}

void wdr_fat_spec_like(
	const WdrFatInfo *info, uint64_t size, uint32_t sector_bytes, WdrFatSpec *ret)
{
	*ret = (WdrFatSpec){ .width = info->width,
		.sector_bytes = MAX(sector_bytes, 512),
		.fats = info->fats,
		.root_entries = info->root_entries };
	memcpy(ret->label, info->label, sizeof(ret->label));
	/* A width that the new size cannot have gives way; firmware reads all of them. */
	if (ret->width != 32 && !suits(ret->width, size, CLUSTER_BYTES_MAX))
		ret->width = ret->width == 12 && suits(16, size, CLUSTER_BYTES_MAX) ? 16 : 32;
	bool can_keep = info->cluster_bytes >= ret->sector_bytes &&
			info->cluster_bytes / ret->sector_bytes <= CLUSTER_SECTORS_MAX &&
			suits(ret->width, size, info->cluster_bytes);
	ret->cluster_bytes =
		can_keep ? info->cluster_bytes : usual_cluster(ret->width, size, ret->sector_bytes);
	if (ret->width == 32)
		ret->root_entries = 0;
}

void wdr_fat_spec_default(uint64_t size, unsigned width, WdrFatSpec *ret)
{
	unsigned chosen = width ? width : size < 512 * WDR_MIB ? 16 : 32;

	*ret = (WdrFatSpec){ .width = chosen, .sector_bytes = 512, .fats = 2 };
	ret->cluster_bytes = usual_cluster(chosen, size, 512);
}

/* The label is put in by us, as bytes: mkfs.vfat would recode it. */
static bool put_label(const WdrFatSpec *spec, const char *path, GError **error)
{
	g_autoptr(WdrBlockDev) dev = NULL;
	uint8_t sector[512];
	uint8_t label[WDR_FAT_LABEL_BYTES];
	WdrFatLayout l;

	memset(label, ' ', sizeof(label));
	const char *text = *spec->label ? spec->label : "NO NAME";
	memcpy(label, text, MIN(strlen(text), sizeof(label)));
	if (!wdr_blockdev_open(path, WDR_OPEN_WRITE, &dev, error) ||
		!wdr_blockdev_read(dev, sector, sizeof(sector), 0, error) ||
		!wdr_fat_layout_parse(sector, sizeof(sector), wdr_blockdev_size(dev), &l, error))
		return false;
	uint64_t at = l.width == 32 ? 0x47 : 0x2b;
	return wdr_blockdev_write(dev, label, sizeof(label), at, error) &&
	       (l.backup_sector == 0 ||
		       wdr_blockdev_write(dev, label, sizeof(label),
			       l.backup_sector * (uint64_t)l.sector_bytes + at, error));
}

bool wdr_fat_make_empty(const WdrWorld *world, const WdrFatSpec *spec, uint64_t size,
	const char *path, GError **error)
{
	g_autofree char *width = g_strdup_printf("%u", spec->width);
	g_autofree char *sector = g_strdup_printf("%u", spec->sector_bytes);
	g_autofree char *cluster = g_strdup_printf("%u", spec->cluster_bytes / spec->sector_bytes);
	g_autofree char *serial = g_strdup_printf("%08x", spec->serial);
	g_autofree char *fats = g_strdup_printf("%u", spec->fats);
	g_autofree char *hidden = g_strdup_printf("%u", spec->hidden_sectors);
	g_autofree char *entries = g_strdup_printf("%u", spec->root_entries);
	const char *argv[24] = { "mkfs.vfat", "-F", width, "-S", sector, "-s", cluster, "-i",
		serial, "-f", fats, "-h", hidden, "-a" };
	size_t n = 14;
	g_auto(WdrRun) run = { 0 };
	g_auto(WdrFd) fd = -1;

	if (spec->root_entries && spec->width != 32) {
		argv[n++] = "-r";
		argv[n++] = entries;
	}
	argv[n++] = path;
	if (!wdr_make_scratch_file(path, wdr_round_down(size, spec->sector_bytes), &fd, error) ||
		!wdr_world_run(world, argv, NULL, &run, error))
		return false;
	if (run.exit_code != 0) {
		wdr_error_set(error, WDR_ERROR_UNSUPPORTED,
			"mkfs.vfat for a FAT%s volume of %" G_GUINT64_FORMAT " bytes: %s", width,
			size, g_strstrip(run.output));
		return wdr_blame_full_disk(path, error);
	}
	return put_label(spec, path, error);
}

bool wdr_fat_spec_capacity(const WdrWorld *world, const WdrFatSpec *spec, uint64_t size,
	const char *scratch, uint64_t *ret, GError **error)
{
	g_autofree char *path = g_build_filename(scratch, "capacity.fat", NULL);
	g_autoptr(WdrBlockDev) dev = NULL;
	g_autoptr(WdrVolume) v = NULL;
	bool is_fine = wdr_fat_make_empty(world, spec, size, path, error) &&
		       wdr_blockdev_open(path, WDR_OPEN_READ, &dev, error) &&
		       wdr_fat_volume_open(dev, 0, wdr_blockdev_size(dev), &v, error);

	if (is_fine) {
		const WdrFatLayout *l = &WDR_DERIVED(v, WdrFat, volume)->layout;
		*ret = (uint64_t)l->clusters * l->cluster_bytes;
	}
	unlink(path);
	return is_fine;
}
