/* Reading a FAT volume. An entry's number is the byte offset of its short entry; the root's is 0.
 */
#include "volume/fat/fat_priv.h"

#include "base/cursor.h"

#include <string.h>

enum {
	DIRENT_ATTRIBUTES = 11,
	DIRENT_CASE = 12,
	DIRENT_CREATED_10MS = 13,
	DIRENT_CLUSTER_HIGH = 20,
	DIRENT_WRITTEN_TIME = 22,
	DIRENT_CLUSTER_LOW = 26,
	LONG_LAST = 0x40,
	LONG_ENTRIES_MAX = 20,
	PAGE_BYTES = 64 * 1024,
	PAGES_MAX = 256,
};

typedef struct {
	uint64_t at, len; /* bytes of the volume */
} Run;

typedef struct {
	WdrContent content;
	WdrFat *fat; /* for its disk and offset alone: contents are read by several threads */
	GArray *runs;
	guint run;
	uint64_t run_pos, pos, size;
} FatContent;

/* ---- the FAT ---- */

static const uint8_t *fat_page(WdrFat *f, uint64_t at, GError **error)
{
	uint64_t number = at / PAGE_BYTES;

	/* Chains and counts go from one entry to the next: nearly always the same page. */
	if (f->last_page && f->last_number == number)
		return f->last_page;
	uint8_t *page = g_hash_table_lookup(f->pages, GSIZE_TO_POINTER(number));
	if (page) {
		f->last_page = page;
		f->last_number = number;
		return page;
	}
	if (g_hash_table_size(f->pages) >= PAGES_MAX) {
		f->last_page = NULL;
		g_hash_table_remove_all(f->pages);
	}
	size_t len = (size_t)MIN(PAGE_BYTES, f->layout.fat_bytes - number * PAGE_BYTES);
	page = g_malloc0(PAGE_BYTES);
	if (!wdr_blockdev_read(
		    f->dev, page, len, f->offset + f->layout.fat_at + number * PAGE_BYTES, error)) {
		g_free(page);
		return NULL;
	}
	g_hash_table_insert(f->pages, GSIZE_TO_POINTER(number), page);
	return page;
}

/* The bytes of one entry; FAT12's may lie in two pages. */
static bool fat_value(WdrFat *f, uint32_t cluster, uint32_t *ret, GError **error)
{
	uint64_t at = (uint64_t)cluster * f->layout.width / 8;
	uint8_t bytes[4] = { 0 };
	size_t len = f->layout.width == 32 ? 4 : 2;

	for (size_t i = 0; i < len; i++) {
		const uint8_t *page = fat_page(f, at + i, error);
		if (!page)
			return false;
		bytes[i] = page[(at + i) % PAGE_BYTES];
	}
	uint32_t value = wdr_get_le32(bytes);
	if (f->layout.width == 12)
		value = cluster & 1 ? value >> 4 & 0xfff : value & 0xfff;
	*ret = f->layout.width == 32 ? value & 0x0fffffff : value;
	return true;
}

bool wdr_fat_next(WdrFat *f, uint32_t cluster, uint32_t *ret, bool *is_end, GError **error)
{
	if (!fat_value(f, cluster, ret, error))
		return false;
	*is_end = wdr_fat_is_end(&f->layout, *ret);
	if (*is_end || wdr_fat_is_cluster(&f->layout, *ret))
		return true;
	return wdr_error_set(error, WDR_ERROR_FORMAT,
		"%s: the chain breaks off at cluster %u (its FAT entry is %#x)", f->volume.name,
		cluster, *ret);
}

/* ---- folders ---- */

static bool append_range(
	WdrFat *f, uint64_t at, size_t len, GByteArray *out, GArray *places, GError **error)
{
	size_t had = out->len;

	if (had + len > FAT_FOLDER_BYTES_MAX)
		return wdr_error_set(error, WDR_ERROR_FORMAT,
			"%s: a folder is larger than FAT allows; its chain may run in a circle",
			f->volume.name);
	g_byte_array_set_size(out, (guint)(had + len));
	for (uint64_t i = 0; places && i < len; i += FAT_DIRENT_BYTES) {
		uint64_t place = at + i;
		g_array_append_val(places, place);
	}
	return wdr_blockdev_read(f->dev, out->data + had, len, f->offset + at, error);
}

bool wdr_fat_read_folder(
	WdrFat *f, uint32_t cluster, GByteArray **ret, GArray **ret_at, GError **error)
{
	g_autoptr(GByteArray) out = g_byte_array_new();
	g_autoptr(GArray) places = ret_at ? g_array_new(FALSE, FALSE, sizeof(uint64_t)) : NULL;
	bool is_end = false;

	if (cluster == 0 && f->layout.width != 32) {
		if (!append_range(f, f->layout.root_at,
			    (size_t)f->layout.root_entries * FAT_DIRENT_BYTES, out, places, error))
			return false;
		is_end = true;
	} else if (cluster == 0) {
		cluster = f->layout.root_cluster;
	}
	while (!is_end) {
		if (!wdr_fat_is_cluster(&f->layout, cluster))
			return wdr_error_set(error, WDR_ERROR_FORMAT,
				"%s: a folder starts at cluster %u, which does not exist",
				f->volume.name, cluster);
		if (!append_range(f, wdr_fat_cluster_at(&f->layout, cluster),
			    f->layout.cluster_bytes, out, places, error) ||
			!wdr_fat_next(f, cluster, &cluster, &is_end, error))
			return false;
	}
	*ret = g_steal_pointer(&out);
	if (ret_at)
		*ret_at = g_steal_pointer(&places);
	return true;
}

/* The long name that is being put together from the entries in front of a short one. */
typedef struct {
	uint16_t units[LONG_ENTRIES_MAX * FAT_LONG_UNITS + 1];
	unsigned expected; /* number of the next long entry; 0: complete */
	bool is_valid;
	uint8_t sum;
} LongName;

static void take_long(LongName *l, const uint8_t *d)
{
	unsigned number = d[0] & ~(unsigned)LONG_LAST;

	if (d[0] & LONG_LAST) {
		l->is_valid = number >= 1 && number <= LONG_ENTRIES_MAX;
		l->sum = d[13];
		memset(l->units, 0, sizeof(l->units));
	} else if (!l->is_valid || number != l->expected || d[13] != l->sum) {
		l->is_valid = false;
	}
	if (!l->is_valid || number == 0) {
		l->is_valid = false;
		return;
	}
	l->expected = number - 1;
	for (size_t i = 0; i < FAT_LONG_UNITS; i++)
		l->units[(number - 1) * FAT_LONG_UNITS + i] = wdr_get_le16(d + wdr_fat_long_at[i]);
}

/* The entry's name: the long one if it is whole and belongs to this short one, as the kernel does.
 */
static bool decode_name(const LongName *l, const uint8_t *d, WdrFatFound *ret, GError **error)
{
	memcpy(ret->fat_name, d, FAT_SHORT_BYTES);
	ret->fat_name[FAT_SHORT_BYTES] = d[DIRENT_CASE] & (FAT_CASE_BASE | FAT_CASE_EXTENSION);
	if (l->is_valid && l->expected == 0 && wdr_fat_name_sum(d) == l->sum) {
		ret->name = g_utf16_to_utf8(l->units, -1, NULL, NULL, NULL);
		bool is_name = ret->name && *ret->name && strcmp(ret->name, ".") != 0 &&
			       strcmp(ret->name, "..") != 0;
		for (const char *c = ret->name; is_name && *c; c++)
			is_name = (unsigned char)*c >= ' ' && *c != '/' && *c != '\\';
		if (is_name)
			return true;
	} else {
		ret->name = wdr_fat_short_to_text(ret->fat_name);
		if (ret->name)
			return true;
	}
	g_clear_pointer(&ret->name, g_free);
	g_autofree char *raw = g_strndup((const char *)d, FAT_SHORT_BYTES);
	g_autofree char *shown = g_strescape(raw, NULL);
	return wdr_error_set(error, WDR_ERROR_FORMAT,
		"a name that cannot be a name (its short form is '%s')", shown);
}

bool wdr_fat_each(const GByteArray *folder, WdrFatEach each, void *data, GError **error)
{
	LongName name = { .is_valid = false };

	for (size_t i = 0; (i + 1) * FAT_DIRENT_BYTES <= folder->len; i++) {
		const uint8_t *d = folder->data + i * FAT_DIRENT_BYTES;
		if (d[0] == 0x00)
			return true;
		if (d[0] != 0xe5 && (d[DIRENT_ATTRIBUTES] & 0x3f) == FAT_ATTR_LONG) {
			take_long(&name, d);
			continue;
		}
		bool is_dots = d[0] == '.' && (d[1] == ' ' || d[1] == '.') && d[2] == ' ';
		if (d[0] != 0xe5 && !(d[DIRENT_ATTRIBUTES] & FAT_ATTR_LABEL) && !is_dots) {
			WdrFatFound found = { .attributes = d[DIRENT_ATTRIBUTES], .index = i };
			found.cluster = wdr_get_le16(d + DIRENT_CLUSTER_LOW) |
					(uint32_t)wdr_get_le16(d + DIRENT_CLUSTER_HIGH) << 16;
			found.size = wdr_get_le32(d + 28);
			if (!decode_name(&name, d, &found, error))
				return false;
			bool is_fine = each(data, &found, error);
			g_free(found.name);
			if (!is_fine)
				return false;
		}
		name.is_valid = false;
	}
	return true;
}

/* ---- the volume's interface ---- */

static uint32_t dirent_cluster(const WdrFat *f, const uint8_t *d)
{
	uint32_t high = f->layout.width == 32 ? wdr_get_le16(d + DIRENT_CLUSTER_HIGH) : 0;

	return high << 16 | wdr_get_le16(d + DIRENT_CLUSTER_LOW);
}

static bool read_dirent(WdrFat *f, uint64_t id, uint8_t *ret, GError **error)
{
	return wdr_blockdev_read(f->dev, ret, FAT_DIRENT_BYTES, f->offset + id, error);
}

typedef struct {
	const GArray *places;
	WdrListFunc each;
	void *data;
} Listing;

static bool list_found(void *data, const WdrFatFound *found, GError **error)
{
	const Listing *l = data;
	WdrName name = { .name = found->name,
		.id = g_array_index(l->places, uint64_t, found->index),
		.kind = found->attributes & FAT_ATTR_FOLDER ? WDR_KIND_FOLDER : WDR_KIND_FILE,
		.links = 1,
		.fat_name = found->fat_name };

	return l->each(l->data, &name, error);
}

static bool fat_list(
	WdrVolume *v, const WdrNode *folder, WdrListFunc each, void *data, GError **error)
{
	WdrFat *f = WDR_DERIVED(v, WdrFat, volume);
	g_autoptr(GByteArray) bytes = NULL;
	g_autoptr(GArray) places = NULL;
	uint8_t d[FAT_DIRENT_BYTES] = { 0 };

	if (folder->id != 0 && !read_dirent(f, folder->id, d, error))
		return false;
	uint32_t cluster = folder->id == 0 ? 0 : dirent_cluster(f, d);
	if (folder->id != 0 && cluster == 0)
		return wdr_error_set(error, WDR_ERROR_FORMAT,
			"%s: the folder %s has no content at all", v->name, folder->path);
	if (wdr_fat_read_folder(f, cluster, &bytes, &places, error)) {
		Listing l = { places, each, data };
		if (wdr_fat_each(bytes, list_found, &l, error))
			return true;
	}
	g_prefix_error(error, "/%s: ", folder->path);
	return false;
}

static bool fat_stat(WdrVolume *v, const WdrNode *node, WdrEntry *ret, GError **error)
{
	WdrFat *f = WDR_DERIVED(v, WdrFat, volume);
	uint8_t d[FAT_DIRENT_BYTES];

	*ret = (WdrEntry){ .kind = WDR_KIND_FOLDER, .mode = 0755, .links = 1 };
	if (node->id == 0)
		return true;
	if (!read_dirent(f, node->id, d, error))
		return false;
	WdrCursor c = wdr_cursor(d, sizeof(d));
	wdr_cursor_seek(&c, DIRENT_CREATED_10MS);
	uint8_t raw_10ms = wdr_cursor_u8(&c);
	unsigned created_10ms = MIN(raw_10ms, 199);
	uint16_t created_time = wdr_cursor_le16(&c);
	uint16_t created = wdr_cursor_le16(&c);
	uint16_t accessed = wdr_cursor_le16(&c);
	wdr_cursor_seek(&c, DIRENT_WRITTEN_TIME);
	uint16_t written_time = wdr_cursor_le16(&c);
	ret->mtime.sec = wdr_fat_decode_time(wdr_cursor_le16(&c), written_time);
	ret->ctime = ret->mtime;
	ret->atime.sec = wdr_fat_decode_time(accessed, 0);
	ret->crtime.sec = wdr_fat_decode_time(created, created_time);
	if (created) {
		ret->crtime.sec += created_10ms / 100;
		ret->crtime.nsec = created_10ms % 100 * 10000000;
	}
	ret->fat.is_set = true;
	ret->fat.attributes = d[DIRENT_ATTRIBUTES] & FAT_ATTR_KEPT;
	memcpy(ret->fat.name, d, FAT_SHORT_BYTES);
	ret->fat.name[FAT_SHORT_BYTES] = d[DIRENT_CASE] & (FAT_CASE_BASE | FAT_CASE_EXTENSION);
	ret->place = dirent_cluster(f, d);
	if (d[DIRENT_ATTRIBUTES] & FAT_ATTR_FOLDER)
		return true;
	ret->kind = WDR_KIND_FILE;
	ret->mode = 0644;
	ret->size = wdr_get_le32(d + 28);
	return true;
}

static bool fat_next_piece(
	WdrContent *content, void *buf, size_t cap, WdrPiece *ret, GError **error)
{
	FatContent *c = WDR_DERIVED(content, FatContent, content);

	*ret = (WdrPiece){ .offset = c->pos };
	if (c->pos >= c->size)
		return true;
	const Run *r = &g_array_index(c->runs, Run, c->run);
	ret->len = MIN(MIN(r->len - c->run_pos, cap), c->size - c->pos);
	WdrCarefulRead careful = { wdr_read_device, c->fat->dev, content->damage,
		c->fat->offset + r->at + c->run_pos, c->pos };
	if (!wdr_damage_read(&careful, buf, (size_t)ret->len, error))
		return false;
	c->pos += ret->len;
	c->run_pos += ret->len;
	if (c->run_pos == r->len) {
		c->run++;
		c->run_pos = 0;
	}
	return true;
}

static void fat_content_free(WdrContent *content)
{
	g_array_unref(WDR_DERIVED(content, FatContent, content)->runs);
	g_free(content);
}

/* As many clusters as the size needs, so that even a circle ends. */
static bool collect_runs(WdrFat *f, uint32_t cluster, uint64_t size, GArray *runs, GError **error)
{
	uint64_t need = (size + f->layout.cluster_bytes - 1) / f->layout.cluster_bytes;
	bool is_end = false;

	for (uint64_t i = 0; i < need; i++) {
		if (is_end || !wdr_fat_is_cluster(&f->layout, cluster))
			return wdr_error_set(error, WDR_ERROR_FORMAT,
				"%s: its chain has %" G_GUINT64_FORMAT
				" clusters, its size needs %" G_GUINT64_FORMAT,
				f->volume.name, i, need);
		uint64_t at = wdr_fat_cluster_at(&f->layout, cluster);
		Run *last = runs->len ? &g_array_index(runs, Run, runs->len - 1) : NULL;
		if (last && last->at + last->len == at) {
			last->len += f->layout.cluster_bytes;
		} else {
			Run r = { at, f->layout.cluster_bytes };
			g_array_append_val(runs, r);
		}
		if (!wdr_fat_next(f, cluster, &cluster, &is_end, error))
			return false;
	}
	return true;
}

static bool fat_open(
	WdrVolume *v, const WdrNode *node, WdrEntry *entry, WdrContent **ret, GError **error)
{
	static const WdrContentOps ops = { fat_next_piece, fat_content_free, NULL, NULL };
	WdrFat *f = WDR_DERIVED(v, WdrFat, volume);
	uint8_t d[FAT_DIRENT_BYTES];
	g_autoptr(GArray) runs = g_array_new(FALSE, FALSE, sizeof(Run));

	if (!read_dirent(f, node->id, d, error))
		return false;
	if (!collect_runs(f, dirent_cluster(f, d), entry->size, runs, error)) {
		g_prefix_error(error, "/%s: ", node->path);
		return false;
	}
	FatContent *c = g_new0(FatContent, 1);
	c->content.ops = &ops;
	c->fat = f;
	c->runs = g_steal_pointer(&runs);
	c->size = entry->size;
	*ret = &c->content;
	return true;
}

static void fat_free(WdrVolume *v)
{
	g_hash_table_unref(WDR_DERIVED(v, WdrFat, volume)->pages);
	g_free(v);
}

bool wdr_fat_volume_open(
	WdrBlockDev *dev, uint64_t offset, uint64_t size, WdrVolume **ret, GError **error)
{
	static const WdrVolumeOps ops = { "vfat", fat_list, fat_stat, fat_open, fat_free, NULL };
	uint8_t sector[512];
	WdrFatLayout layout;

	if (!wdr_blockdev_read(dev, sector, sizeof(sector), offset, error))
		return false;
	if (!wdr_fat_layout_parse(sector, sizeof(sector), size, &layout, error)) {
		g_prefix_error(error, "%s at byte %" G_GUINT64_FORMAT ": ", wdr_blockdev_name(dev),
			offset);
		return false;
	}
	WdrFat *f = g_new0(WdrFat, 1);
	f->volume.ops = &ops;
	f->volume.name = g_strdup_printf(
		"%s (FAT volume at byte %" G_GUINT64_FORMAT ")", wdr_blockdev_name(dev), offset);
	f->dev = dev;
	f->offset = offset;
	f->layout = layout;
	f->pages = g_hash_table_new_full(NULL, NULL, NULL, g_free);
	*ret = &f->volume;
	return true;
}

/* The root folder's label entry wins over the boot sector. */
static bool read_label(WdrFat *f, char *ret, GError **error)
{
	g_autoptr(GByteArray) root = NULL;

	memcpy(ret, f->layout.boot_label, sizeof(f->layout.boot_label));
	if (!wdr_fat_read_folder(f, 0, &root, NULL, error))
		return false;
	for (size_t i = 0; i < root->len && root->data[i] != 0; i += FAT_DIRENT_BYTES) {
		const uint8_t *d = root->data + i;
		if (d[0] != 0xe5 && (d[DIRENT_ATTRIBUTES] & 0x3f) != FAT_ATTR_LONG &&
			(d[DIRENT_ATTRIBUTES] & FAT_ATTR_LABEL)) {
			memcpy(ret, d, WDR_FAT_LABEL_BYTES);
			break;
		}
	}
	g_strchomp(ret);
	if (strcmp(ret, "NO NAME") == 0)
		*ret = '\0';
	return true;
}

/* Entries of 16 and 32 bits never cross the end of a page, so a page is looked up once for all that
 * it has. */
static bool count_free(WdrFat *f, uint64_t *ret, GError **error)
{
	uint32_t end = f->layout.clusters + FAT_FIRST_CLUSTER;
	uint32_t bytes = (uint32_t)f->layout.width / 8;
	uint32_t cluster = FAT_FIRST_CLUSTER;

	for (uint32_t value = 0; f->layout.width == 12 && cluster < end; cluster++) {
		if (!fat_value(f, cluster, &value, error))
			return false;
		*ret += value == 0 ? 1 : 0;
	}
	while (cluster < end) {
		uint64_t at = (uint64_t)cluster * bytes;
		const uint8_t *page = fat_page(f, at, error);
		if (!page)
			return false;
		for (at %= PAGE_BYTES; at < PAGE_BYTES && cluster < end; at += bytes, cluster++)
			*ret += (bytes == 4 ? (wdr_get_le32(page + at) & 0x0fffffff)
					    : wdr_get_le16(page + at)) == 0;
	}
	return true;
}

bool wdr_fat_volume_info(WdrVolume *v, WdrFatInfo *ret, GError **error)
{
	WdrFat *f = WDR_DERIVED(v, WdrFat, volume);
	const WdrFatLayout *l = &f->layout;

	*ret = (WdrFatInfo){ .width = l->width,
		.sector_bytes = l->sector_bytes,
		.cluster_bytes = l->cluster_bytes,
		.clusters = l->clusters,
		.size_bytes = l->size_bytes,
		.serial = l->serial,
		.fats = l->fats,
		.root_entries = l->root_entries,
		.is_dirty = l->is_dirty };
	return count_free(f, &ret->free_clusters, error) && read_label(f, ret->label, error);
}
