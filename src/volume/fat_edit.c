/* Replacing a file on an existing FAT volume, in the safest order that FAT allows. */
#include "volume/fat_priv.h"

#include "base/cursor.h"

#include <string.h>

typedef struct {
	WdrBlockDev *dev;
	uint64_t offset;
	WdrFatLayout layout;
	uint8_t *fat; /* all of the first FAT */
} Edit;

static void edit_clear(Edit *e)
{
	g_free(e->fat);
}
G_DEFINE_AUTO_CLEANUP_CLEAR_FUNC(Edit, edit_clear)

static bool load_fat(Edit *e, GError **error)
{
	enum { FAT_BYTES_MAX = 64 * 1024 * 1024 };

	if (e->layout.fat_bytes > FAT_BYTES_MAX)
		return wdr_error_set(error, WDR_ERROR_UNSUPPORTED,
			"its FAT is larger than %d bytes", FAT_BYTES_MAX);
	/* FAT12 reads two bytes at an entry: one more at the end. */
	e->fat = g_malloc0((size_t)e->layout.fat_bytes + 4);
	return wdr_blockdev_read(
		e->dev, e->fat, (size_t)e->layout.fat_bytes, e->offset + e->layout.fat_at, error);
}

/* Writes the sectors of all FATs that hold the entries [from, to]. */
static bool store_fat(Edit *e, uint32_t from, uint32_t to, GError **error)
{
	const WdrFatLayout *l = &e->layout;
	uint64_t start = (uint64_t)from * l->width / 8;
	uint64_t end = MIN((uint64_t)to * l->width / 8 + 4, l->fat_bytes);

	start -= start % l->sector_bytes;
	for (unsigned copy = 0; copy < l->fats; copy++) {
		if (!wdr_blockdev_write(e->dev, e->fat + start, (size_t)(end - start),
			    e->offset + l->fat_at + copy * l->fat_bytes + start, error))
			return false;
	}
	return wdr_blockdev_flush(e->dev, error);
}

/* The lowest free clusters, chained in the FAT image. */
static bool chain_free(Edit *e, uint64_t count, GArray *chain, GError **error)
{
	const WdrFatLayout *l = &e->layout;

	for (uint32_t i = 0; i < l->clusters && chain->len < count; i++) {
		uint32_t cluster = i + FAT_FIRST_CLUSTER;
		if (wdr_fat_get(l, e->fat, cluster) == 0)
			g_array_append_val(chain, cluster);
	}
	if (chain->len < count)
		return wdr_error_set(error, WDR_ERROR_NO_SPACE,
			"the FAT volume has no room for the new content beside the old");
	for (guint i = 0; i < chain->len; i++) {
		uint32_t next =
			i + 1 < chain->len ? g_array_index(chain, uint32_t, i + 1) : 0x0fffffff;
		wdr_fat_set(l, e->fat, g_array_index(chain, uint32_t, i), next);
	}
	return true;
}

static bool write_content(
	Edit *e, const GArray *chain, const uint8_t *data, size_t len, GError **error)
{
	size_t cluster_bytes = e->layout.cluster_bytes;
	g_autofree uint8_t *buf = g_malloc(cluster_bytes);

	for (guint i = 0; i < chain->len; i++) {
		size_t part = MIN(len - i * cluster_bytes, cluster_bytes);
		memset(buf, 0, cluster_bytes);
		memcpy(buf, data + i * cluster_bytes, part);
		if (!wdr_blockdev_write(e->dev, buf, cluster_bytes,
			    e->offset + wdr_fat_cluster_at(
						&e->layout, g_array_index(chain, uint32_t, i)),
			    error))
			return false;
	}
	return wdr_blockdev_flush(e->dev, error);
}

static bool switch_entry(Edit *e, uint64_t at, uint32_t cluster, size_t len, int64_t mtime,
	uint32_t *ret_old, GError **error)
{
	uint8_t d[FAT_DIRENT_BYTES];
	uint16_t date = 0;
	uint16_t time = 0;

	if (!wdr_blockdev_read(e->dev, d, sizeof(d), e->offset + at, error))
		return false;
	*ret_old = wdr_get_le16(d + 26);
	if (e->layout.width == 32)
		*ret_old |= (uint32_t)wdr_get_le16(d + 20) << 16;
	wdr_fat_encode_time(mtime, &date, &time);
	wdr_put_le16(d + 20, (uint16_t)(cluster >> 16));
	wdr_put_le16(d + 26, (uint16_t)cluster);
	wdr_put_le16(d + 22, time);
	wdr_put_le16(d + 24, date);
	wdr_put_le32(d + 28, (uint32_t)len);
	return wdr_blockdev_write(e->dev, d, sizeof(d), e->offset + at, error) &&
	       wdr_blockdev_flush(e->dev, error);
}

static bool free_chain(Edit *e, uint32_t cluster, GError **error)
{
	const WdrFatLayout *l = &e->layout;
	uint32_t from = cluster;
	uint32_t to = cluster;

	if (cluster == 0)
		return true;
	/* A circle ends by itself: what was freed reads as 0. */
	while (wdr_fat_is_cluster(l, cluster)) {
		uint32_t next = wdr_fat_get(l, e->fat, cluster);
		wdr_fat_set(l, e->fat, cluster, 0);
		from = MIN(from, cluster);
		to = MAX(to, cluster);
		cluster = next;
	}
	return store_fat(e, from, to, error);
}

/* The hint of free clusters; "unknown" is always true. */
static bool forget_free_count(Edit *e, GError **error)
{
	uint8_t unknown[4] = { 0xff, 0xff, 0xff, 0xff };
	uint64_t at = (uint64_t)e->layout.fsinfo_sector * e->layout.sector_bytes + 488;

	return e->layout.width != 32 || e->layout.fsinfo_sector == 0 ||
	       wdr_blockdev_write(e->dev, unknown, sizeof(unknown), e->offset + at, error);
}

static bool find_file(Edit *e, uint64_t size, const char *path, uint64_t *ret_at, GError **error)
{
	g_autoptr(WdrVolume) v = NULL;
	g_auto(WdrEntry) entry = { 0 };
	bool found = false;

	if (!wdr_fat_volume_open(e->dev, e->offset, size, &v, error) ||
		!wdr_volume_lookup(v, path, &found, ret_at, &entry, error))
		return false;
	e->layout = ((WdrFat *)v)->layout;
	if (!found || entry.kind != WDR_KIND_FILE)
		return wdr_error_set(error, WDR_ERROR_USAGE, "%s: there is no file /%s",
			wdr_volume_name(v), path);
	return true;
}

bool wdr_fat_replace_file(WdrBlockDev *dev, uint64_t offset, uint64_t size, const char *path,
	const void *data, size_t len, int64_t mtime, GError **error)
{
	g_auto(Edit) e = { .dev = dev, .offset = offset };
	g_autoptr(GArray) chain = g_array_new(FALSE, FALSE, sizeof(uint32_t));
	uint64_t at = 0;
	uint32_t old = 0;

	if (len > G_MAXUINT32)
		return wdr_error_set(
			error, WDR_ERROR_UNSUPPORTED, "FAT cannot hold more than 4 GiB");
	if (!find_file(&e, size, path, &at, error) || !load_fat(&e, error))
		return false;
	uint64_t count = (len + e.layout.cluster_bytes - 1) / e.layout.cluster_bytes;
	if (!chain_free(&e, count, chain, error) || !write_content(&e, chain, data, len, error))
		return false;
	uint32_t first = chain->len ? g_array_index(chain, uint32_t, 0) : 0;
	uint32_t last = chain->len ? g_array_index(chain, uint32_t, chain->len - 1) : 0;
	return (chain->len == 0 || store_fat(&e, first, last, error)) &&
	       forget_free_count(&e, error) &&
	       switch_entry(&e, at, first, len, mtime, &old, error) && free_chain(&e, old, error) &&
	       wdr_blockdev_flush(dev, error);
}
