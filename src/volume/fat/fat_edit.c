/* Replacing, adding and removing a file on an existing FAT volume, in the safest order that FAT
 * allows.
 *
 * New clusters are written and chained first, then the folder's entry is switched in one write of a
 * sector, then the old chain is freed. Both copies of the FAT are kept equal. Cut off anywhere, the
 * file has the old or the new content, and at most some clusters are lost until the next fsck.fat.
 */
#include "volume/fat/fat_priv.h"

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
	g_free(e->fat);
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

/* What a folder's entry says of its file. */
typedef struct {
	uint32_t first; /* cluster */
	uint32_t len;
	int64_t mtime;
} Says;

static bool switch_entry(Edit *e, uint64_t at, const Says *says, uint32_t *ret_old, GError **error)
{
	uint8_t d[FAT_DIRENT_BYTES];
	uint16_t date = 0;
	uint16_t time = 0;

	if (!wdr_blockdev_read(e->dev, d, sizeof(d), e->offset + at, error))
		return false;
	*ret_old = wdr_get_le16(d + 26);
	if (e->layout.width == 32)
		*ret_old |= (uint32_t)wdr_get_le16(d + 20) << 16;
	wdr_fat_encode_time(says->mtime, &date, &time);
	wdr_put_le16(d + 20, (uint16_t)(says->first >> 16));
	wdr_put_le16(d + 26, (uint16_t)says->first);
	wdr_put_le16(d + 22, time);
	wdr_put_le16(d + 24, date);
	wdr_put_le32(d + 28, says->len);
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
	e->layout = WDR_DERIVED(v, WdrFat, volume)->layout;
	if (!found || entry.kind != WDR_KIND_FILE)
		return wdr_error_set(error, WDR_ERROR_USAGE, "%s: there is no file /%s",
			wdr_volume_name(v), path);
	return true;
}

/* Puts the content on the medium and its chain into the FATs; *ret_first 0: it is empty. */
static bool put_content(Edit *e, const void *data, size_t len, uint32_t *ret_first, GError **error)
{
	g_autoptr(GArray) chain = g_array_new(FALSE, FALSE, sizeof(uint32_t));
	uint64_t count = (len + e->layout.cluster_bytes - 1) / e->layout.cluster_bytes;

	*ret_first = 0;
	if (len > G_MAXUINT32)
		return wdr_error_set(
			error, WDR_ERROR_UNSUPPORTED, "FAT cannot hold more than 4 GiB");
	if (!load_fat(e, error) || !chain_free(e, count, chain, error) ||
		!write_content(e, chain, data, len, error))
		return false;
	if (chain->len == 0)
		return true;
	*ret_first = g_array_index(chain, uint32_t, 0);
	return store_fat(e, *ret_first, g_array_index(chain, uint32_t, chain->len - 1), error);
}

bool wdr_fat_replace_file(const WdrVolumeSpan *on, const char *path, const void *data, size_t len,
	int64_t mtime, GError **error)
{
	g_auto(Edit) e = { .dev = on->dev, .offset = on->offset };
	uint64_t at = 0;
	/* put_content() refuses what is longer than an entry can say. */
	Says says = { .len = (uint32_t)len, .mtime = mtime };
	uint32_t old = 0;

	return find_file(&e, on->size, path, &at, error) &&
	       put_content(&e, data, len, &says.first, error) && forget_free_count(&e, error) &&
	       switch_entry(&e, at, &says, &old, error) && free_chain(&e, old, error) &&
	       wdr_blockdev_flush(on->dev, error);
}

uint32_t wdr_fat_serial_of(const char *uuid)
{
	g_autofree char *high = g_strndup(uuid, 4);
	const char *dash = strchr(uuid, '-');

	return (uint32_t)(g_ascii_strtoull(high, NULL, 16) << 16 |
			  g_ascii_strtoull(dash ? dash + 1 : "", NULL, 16));
}

bool wdr_fat_set_serial(
	WdrBlockDev *dev, uint64_t offset, uint64_t size, uint32_t serial, GError **error)
{
	enum { SERIAL_FAT32 = 0x43, SERIAL_FAT16 = 0x27 };
	g_autoptr(WdrVolume) v = NULL;
	uint8_t bytes[4];

	if (!wdr_fat_volume_open(dev, offset, size, &v, error))
		return false;
	const WdrFatLayout *l = &WDR_DERIVED(v, WdrFat, volume)->layout;
	uint64_t at = l->width == 32 ? SERIAL_FAT32 : SERIAL_FAT16;
	uint64_t backup = (uint64_t)l->backup_sector * l->sector_bytes;
	wdr_put_le32(bytes, serial);
	return (backup == 0 || wdr_blockdev_write(
				       dev, bytes, sizeof(bytes), offset + backup + at, error)) &&
	       wdr_blockdev_write(dev, bytes, sizeof(bytes), offset + at, error) &&
	       wdr_blockdev_flush(dev, error);
}

/* ---- adding and removing ---- */

/* The short name of a name in one case, with the bits that say which. */
static bool short_name(const char *name, uint8_t ret[WDR_FAT_NAME_BYTES])
{
	g_autofree char *capitals = g_ascii_strup(name, -1);
	g_autofree char *small = g_ascii_strdown(name, -1);

	if (!wdr_fat_text_to_short(capitals, ret) ||
		(strcmp(name, capitals) != 0 && strcmp(name, small) != 0))
		return false;
	if (strcmp(name, capitals) != 0)
		ret[FAT_SHORT_BYTES] = FAT_CASE_BASE | FAT_CASE_EXTENSION;
	return true;
}

bool wdr_fat_is_short_name(const char *name)
{
	uint8_t unused[WDR_FAT_NAME_BYTES];

	return short_name(name, unused);
}

/* One more cluster of zeros for a folder that is full. */
static bool grow_folder(Edit *e, uint32_t cluster, uint64_t *ret_at, GError **error)
{
	const WdrFatLayout *l = &e->layout;
	g_autoptr(GArray) chain = g_array_new(FALSE, FALSE, sizeof(uint32_t));
	uint32_t last = cluster ? cluster : l->root_cluster;

	if (cluster == 0 && l->width != 32)
		return wdr_error_set(
			error, WDR_ERROR_NO_SPACE, "the FAT volume's root folder is full");
	if (!load_fat(e, error) || !chain_free(e, 1, chain, error))
		return false;
	uint32_t fresh = g_array_index(chain, uint32_t, 0);
	for (uint32_t i = 0; i < l->clusters && !wdr_fat_is_end(l, wdr_fat_get(l, e->fat, last));
		i++)
		last = wdr_fat_get(l, e->fat, last);
	*ret_at = wdr_fat_cluster_at(l, fresh);
	if (!wdr_blockdev_zero(e->dev, e->offset + *ret_at, l->cluster_bytes, error) ||
		!store_fat(e, fresh, fresh, error))
		return false;
	wdr_fat_set(l, e->fat, last, fresh);
	return store_fat(e, last, last, error);
}

/* Where an entry of the folder is free; the folder grows if need be. */
static bool find_slot(Edit *e, uint64_t size, const char *folder, uint64_t *ret, GError **error)
{
	g_autoptr(WdrVolume) v = NULL;
	g_autoptr(GByteArray) bytes = NULL;
	g_autoptr(GArray) places = NULL;
	g_auto(WdrEntry) entry = { 0 };
	bool found = false;

	if (!wdr_fat_volume_open(e->dev, e->offset, size, &v, error) ||
		!wdr_volume_lookup(v, folder, &found, NULL, &entry, error))
		return false;
	e->layout = WDR_DERIVED(v, WdrFat, volume)->layout;
	if (!found || entry.kind != WDR_KIND_FOLDER)
		return wdr_error_set(error, WDR_ERROR_USAGE, "%s: there is no folder /%s",
			wdr_volume_name(v), folder);
	uint32_t cluster = (uint32_t)entry.place;
	if (!wdr_fat_read_folder(WDR_DERIVED(v, WdrFat, volume), cluster, &bytes, &places, error))
		return false;
	for (guint i = 0; i < places->len; i++) {
		uint8_t lead = bytes->data[(size_t)i * FAT_DIRENT_BYTES];
		if (lead == 0 || lead == FAT_DELETED) {
			*ret = g_array_index(places, uint64_t, i);
			return true;
		}
	}
	return grow_folder(e, cluster, ret, error);
}

static bool is_there(Edit *e, uint64_t size, const char *path, bool *ret, GError **error)
{
	g_autoptr(WdrVolume) v = NULL;
	g_auto(WdrEntry) entry = { 0 };

	return wdr_fat_volume_open(e->dev, e->offset, size, &v, error) &&
	       wdr_volume_lookup(v, path, ret, NULL, &entry, error);
}

static bool write_entry(Edit *e, uint64_t at, const uint8_t *name, const Says *says, GError **error)
{
	uint8_t d[FAT_DIRENT_BYTES] = { 0 };
	uint16_t date = 0;
	uint16_t time = 0;

	wdr_fat_encode_time(says->mtime, &date, &time);
	memcpy(d, name, FAT_SHORT_BYTES);
	d[11] = FAT_ATTR_ARCHIVE;
	d[12] = name[FAT_SHORT_BYTES];
	wdr_put_le16(d + 14, time);
	wdr_put_le16(d + 16, date);
	wdr_put_le16(d + 18, date);
	wdr_put_le16(d + 20, (uint16_t)(says->first >> 16));
	wdr_put_le16(d + 22, time);
	wdr_put_le16(d + 24, date);
	wdr_put_le16(d + 26, (uint16_t)says->first);
	wdr_put_le32(d + 28, says->len);
	return wdr_blockdev_write(e->dev, d, sizeof(d), e->offset + at, error) &&
	       wdr_blockdev_flush(e->dev, error);
}

bool wdr_fat_add_file(const WdrVolumeSpan *on, const char *path, const void *data, size_t len,
	int64_t mtime, GError **error)
{
	g_auto(Edit) e = { .dev = on->dev, .offset = on->offset };
	g_autofree char *dirname = g_path_get_dirname(path);
	g_autofree char *base = g_path_get_basename(path);
	const char *folder = strcmp(dirname, ".") == 0 ? "" : dirname;
	uint8_t name[WDR_FAT_NAME_BYTES];
	uint64_t at = 0;
	Says says = { .len = (uint32_t)len, .mtime = mtime };
	bool found = false;

	if (!short_name(base, name))
		return wdr_error_set(error, WDR_ERROR_USAGE,
			"'%s' is no short name; only such files can be added", base);
	if (!is_there(&e, on->size, path, &found, error))
		return false;
	if (found)
		return wdr_error_set(error, WDR_ERROR_REFUSED, "/%s is there already", path);
	return find_slot(&e, on->size, folder, &at, error) &&
	       put_content(&e, data, len, &says.first, error) && forget_free_count(&e, error) &&
	       write_entry(&e, at, name, &says, error);
}

bool wdr_fat_remove_file(const WdrVolumeSpan *on, const char *path, GError **error)
{
	g_auto(Edit) e = { .dev = on->dev, .offset = on->offset };
	uint8_t d[FAT_DIRENT_BYTES];
	uint64_t at = 0;
	bool found = false;

	if (!is_there(&e, on->size, path, &found, error))
		return false;
	if (!found)
		return true;
	if (!find_file(&e, on->size, path, &at, error) || !load_fat(&e, error) ||
		!wdr_blockdev_read(on->dev, d, sizeof(d), on->offset + at, error))
		return false;
	uint32_t first = wdr_get_le16(d + 26) | (uint32_t)wdr_get_le16(d + 20) << 16;
	if (e.layout.width != 32)
		first &= 0xffff;
	d[0] = FAT_DELETED;
	return forget_free_count(&e, error) &&
	       wdr_blockdev_write(on->dev, d, sizeof(d), on->offset + at, error) &&
	       wdr_blockdev_flush(on->dev, error) && free_chain(&e, first, error) &&
	       wdr_blockdev_flush(on->dev, error);
}
