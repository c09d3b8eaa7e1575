/* Filling a new FAT volume in one pass. Every file and folder gets clusters in a row, in rising
 * order, so the FATs follow from where each chain ends and are written last. A folder's image stays
 * in memory until all its entries know their clusters. */
#include "volume/fat/fat_build.h"

#include "base/cursor.h"
#include "base/text.h"

#include <string.h>
#include <unistd.h>

enum { FSINFO_FREE = 488, FSINFO_NEXT = 492 };

void wdr_fat_folder_free(void *data)
{
	WdrFatFolder *f = data;

	g_byte_array_unref(f->image);
	g_array_unref(f->slots);
	g_free(f);
}

/* Clusters of a file or folder, in a row. The bit in `ends` is all that the FATs are made from at
 * the end: each cluster leads to the next one unless its bit says that the chain ends there. */
static bool take_clusters(WdrFatBuild *b, uint64_t bytes, uint32_t *ret, GError **error)
{
	uint64_t count = (bytes + b->layout.cluster_bytes - 1) / b->layout.cluster_bytes;
	uint64_t free_clusters = b->layout.clusters + FAT_FIRST_CLUSTER - (uint64_t)b->next;

	*ret = count ? b->next : 0;
	if (count == 0)
		return true;
	if (count > free_clusters)
		return wdr_error_set(error, WDR_ERROR_NO_SPACE, "the new FAT volume is full");
	b->next += (uint32_t)count;
	b->ends[(b->next - 1) / 8] |= (uint8_t)(1u << (b->next - 1) % 8);
	return true;
}

/* ---- a folder's image ---- */

static uint8_t *add_slot(GByteArray *image)
{
	size_t at = image->len;

	g_byte_array_set_size(image, (guint)(at + FAT_DIRENT_BYTES));
	memset(image->data + at, 0, FAT_DIRENT_BYTES);
	return image->data + at;
}

/* A long name precedes its short entry, last part first, in UTF-16. The checksum of the short name
 * ties them together: systems that know no long names may have changed the short entry alone. */
static void add_long(
	GByteArray *image, const uint16_t *units, size_t len, const uint8_t *short_name)
{
	size_t parts = (len + FAT_LONG_UNITS - 1) / FAT_LONG_UNITS;

	for (size_t part = parts; part > 0; part--) {
		uint8_t *d = add_slot(image);
		d[0] = (uint8_t)(part | (part == parts ? 0x40 : 0));
		d[11] = FAT_ATTR_LONG;
		d[13] = wdr_fat_name_sum(short_name);
		for (size_t i = 0; i < FAT_LONG_UNITS; i++) {
			size_t unit = (part - 1) * FAT_LONG_UNITS + i;
			/* One 0 behind the name, 0xffff behind that. */
			wdr_put_le16(d + wdr_fat_long_at[i], unit < len    ? units[unit]
							     : unit == len ? 0
									   : 0xffff);
		}
	}
}

typedef struct {
	GHashTable *taken;   /* short names */
	GHashTable *numbers; /* stems and their last ~N */
	GHashTable *folded;  /* long names without case */
} Names;

static Names names_new(void)
{
	return (Names){ wdr_fat_taken_new(), wdr_fat_taken_new(),
		g_hash_table_new_full(g_str_hash, g_str_equal, g_free, NULL) };
}

static void names_clear(Names *n)
{
	g_hash_table_unref(n->taken);
	g_hash_table_unref(n->numbers);
	g_hash_table_unref(n->folded);
}
G_DEFINE_AUTO_CLEANUP_CLEAR_FUNC(Names, names_clear)

/* The short names that come with the source first: made-up ones must not take them. */
static void keep_short_names(Names *n, const WdrChild *children, size_t count)
{
	uint8_t plain[WDR_FAT_NAME_BYTES];

	for (size_t i = 0; i < count; i++) {
		if (children[i].fat_name)
			wdr_fat_taken_add(n->taken, children[i].fat_name);
		else if (wdr_fat_text_to_short(children[i].name, plain))
			wdr_fat_taken_add(n->taken, plain);
	}
}

/* A name that fits 8.3 needs no long entries. The case flags (byte 12) keep names that are wholly
 * in small letters, as Windows NT and Linux write them. */
static bool add_name(WdrFatFolder *f, Names *n, const WdrChild *child, GError **error)
{
	uint8_t fat_name[WDR_FAT_NAME_BYTES];
	g_autofree uint16_t *units = NULL;
	size_t len = 0;

	if (!wdr_fat_text_to_units(child->name, &units, &len, error))
		return false;
	if (!g_hash_table_add(n->folded, g_utf8_casefold(child->name, -1)))
		return wdr_error_set(error, WDR_ERROR_UNSUPPORTED,
			"FAT cannot hold '%s' beside a name that differs in capitals only",
			child->name);
	if (child->fat_name)
		memcpy(fat_name, child->fat_name, sizeof(fat_name));
	else if (!wdr_fat_text_to_short(child->name, fat_name) &&
		 !wdr_fat_make_short(n->taken, n->numbers, child->name, fat_name, error))
		return false;
	g_autofree char *shown = wdr_fat_short_to_text(fat_name);
	if (!shown || strcmp(shown, child->name) != 0)
		add_long(f->image, units, len, fat_name);
	uint32_t slot = f->image->len;
	uint8_t *d = add_slot(f->image);
	memcpy(d, fat_name, FAT_SHORT_BYTES);
	d[12] = fat_name[FAT_SHORT_BYTES];
	g_array_append_val(f->slots, slot);
	return true;
}

static void put_cluster(uint8_t *d, uint32_t cluster)
{
	wdr_put_le16(d + 20, (uint16_t)(cluster >> 16));
	wdr_put_le16(d + 26, (uint16_t)cluster);
}

static void put_times(uint8_t *d, const WdrEntry *e)
{
	uint16_t date = 0;
	uint16_t time = 0;

	wdr_fat_encode_time(e->crtime.sec, &date, &time);
	d[13] = (uint8_t)(date ? e->crtime.sec % 2 * 100 + e->crtime.nsec / 10000000 : 0);
	wdr_put_le16(d + 14, time);
	wdr_put_le16(d + 16, date);
	wdr_fat_encode_time(e->atime.sec, &date, &time);
	wdr_put_le16(d + 18, date);
	wdr_fat_encode_time(e->mtime.sec, &date, &time);
	wdr_put_le16(d + 22, time);
	wdr_put_le16(d + 24, date);
}

static void add_label(WdrFatBuild *b, GByteArray *image)
{
	uint16_t date = 0;
	uint16_t time = 0;

	if (*b->spec.label == '\0')
		return;
	uint8_t *d = add_slot(image);
	memset(d, ' ', FAT_SHORT_BYTES);
	memcpy(d, b->spec.label, strlen(b->spec.label));
	d[11] = FAT_ATTR_LABEL;
	wdr_fat_encode_time(b->spec.made_at, &date, &time);
	wdr_put_le16(d + 22, time);
	wdr_put_le16(d + 24, date);
}

/* "." and "..", whose times are the folder's own: put in with its entry's, see place_folder(). */
static void add_dots(GByteArray *image)
{
	for (size_t points = 1; points <= 2; points++) {
		uint8_t *d = add_slot(image);
		memset(d, ' ', FAT_SHORT_BYTES);
		memset(d, '.', points);
		d[11] = FAT_ATTR_FOLDER;
	}
}

static bool write_image(WdrFatBuild *b, WdrFatFolder *f, GError **error)
{
	size_t whole = (size_t)wdr_round_up(f->image->len, b->layout.cluster_bytes);
	size_t had = f->image->len;

	if (f->cluster == 0 && b->layout.width != 32)
		whole = (size_t)b->layout.root_entries * FAT_DIRENT_BYTES;
	g_byte_array_set_size(f->image, (guint)whole);
	memset(f->image->data + had, 0, whole - had);
	return wdr_stream_write(b->stream, f->image->data, whole, b->offset + f->at, error);
}

/* One of a folder's children has its place. The last one sends the folder to the disk. */
static bool settled(WdrFatBuild *b, WdrFatFolder *f, GError **error)
{
	if (f->waiting > 0)
		f->waiting--;
	if (f->waiting > 0)
		return true;
	if (!write_image(b, f, error))
		return false;
	g_hash_table_remove(b->folders, &f->serial);
	return true;
}

static uint8_t *slot_of(WdrFatBuild *b, const WdrBuildNode *at, WdrFatFolder **ret)
{
	WdrFatFolder *f = g_hash_table_lookup(b->folders, &at->parent);

	*ret = f;
	g_assert(f && at->serial >= f->first_child && at->serial - f->first_child < f->slots->len);
	return f->image->data +
	       g_array_index(f->slots, uint32_t, (guint)(at->serial - f->first_child));
}

/* ---- the builder's interface ---- */

static bool place_folder(WdrFatBuild *b, const WdrBuildNode *at, WdrFatFolder *f, GError **error)
{
	WdrFatFolder *parent = NULL;
	bool is_root = at->serial == 0;

	if (is_root && b->layout.width != 32) {
		f->at = b->layout.root_at;
		if (f->image->len <= (uint64_t)b->layout.root_entries * FAT_DIRENT_BYTES)
			return true;
		return wdr_error_set(error, WDR_ERROR_NO_SPACE,
			"its root folder has room for %u entries", b->layout.root_entries);
	}
	uint32_t cluster = 0;
	if (!take_clusters(b, MAX(f->image->len, 1), &cluster, error))
		return false;
	f->at = wdr_fat_cluster_at(&b->layout, cluster);
	/* mkfs said in the boot sector where the root starts: the first cluster of all. */
	g_assert(!is_root || cluster == b->layout.root_cluster);
	if (is_root)
		return true;
	f->cluster = cluster;
	uint8_t *d = slot_of(b, at, &parent);
	put_cluster(d, cluster);
	memcpy(f->image->data + 13, d + 13, FAT_DIRENT_BYTES - 13);
	memcpy(f->image->data + FAT_DIRENT_BYTES + 13, d + 13, FAT_DIRENT_BYTES - 13);
	put_cluster(f->image->data, cluster);
	put_cluster(f->image->data + FAT_DIRENT_BYTES, parent->cluster);
	return settled(b, parent, error);
}

static bool fill_image(WdrFatBuild *b, WdrFatFolder *f, const WdrBuildNode *at,
	const WdrChild *children, size_t n, GError **error)
{
	g_auto(Names) names = names_new();

	if (at->serial == 0)
		add_label(b, f->image);
	else
		add_dots(f->image);
	keep_short_names(&names, children, n);
	for (size_t i = 0; i < n; i++) {
		if (children[i].serial != f->first_child + i)
			return wdr_error_set(error, WDR_ERROR_UNSUPPORTED,
				"FAT cannot hold the hard link '%s'", children[i].name);
		if (!add_name(f, &names, &children[i], error))
			return false;
	}
	if (f->image->len > FAT_FOLDER_BYTES_MAX)
		return wdr_error_set(
			error, WDR_ERROR_UNSUPPORTED, "FAT cannot hold a folder of %zu names", n);
	return true;
}

static bool build_fill_folder(WdrBuilder *builder, const WdrBuildNode *folder, WdrChild *children,
	size_t n, GError **error)
{
	WdrFatBuild *b = WDR_DERIVED(builder, WdrFatBuild, builder);
	WdrFatFolder *f = g_new0(WdrFatFolder, 1);

	f->serial = folder->serial;
	f->first_child = n ? children[0].serial : 0;
	f->image = g_byte_array_new();
	f->slots = g_array_new(FALSE, FALSE, sizeof(uint32_t));
	f->waiting = n;
	g_hash_table_insert(b->folders, &f->serial, f);
	if (fill_image(b, f, folder, children, n, error) && place_folder(b, folder, f, error) &&
		(n > 0 || settled(b, f, error)))
		return true;
	g_prefix_error(error, "/%s: ", folder->path);
	return false;
}

/* Fills in all of an entry but its clusters. */
static bool put_entry(WdrFatBuild *b, const WdrBuildNode *at, const WdrEntry *entry,
	WdrFatFolder **ret, uint8_t **slot, GError **error)
{
	if (entry->kind != WDR_KIND_FILE && entry->kind != WDR_KIND_FOLDER)
		return wdr_error_set(error, WDR_ERROR_UNSUPPORTED, "FAT cannot hold /%s: a %s",
			at->path, wdr_kind_name(entry->kind));
	if (entry->size > G_MAXUINT32)
		return wdr_error_set(error, WDR_ERROR_UNSUPPORTED,
			"FAT cannot hold /%s: larger than 4 GiB", at->path);
	*slot = slot_of(b, at, ret);
	put_times(*slot, entry);
	(*slot)[11] = entry->fat.is_set              ? entry->fat.attributes
		      : entry->kind == WDR_KIND_FILE ? FAT_ATTR_ARCHIVE
						     : 0;
	if (entry->kind == WDR_KIND_FOLDER)
		(*slot)[11] |= FAT_ATTR_FOLDER;
	else
		wdr_put_le32(*slot + 28, (uint32_t)entry->size);
	return true;
}

static bool build_add(
	WdrBuilder *builder, const WdrBuildNode *at, const WdrEntry *entry, GError **error)
{
	WdrFatBuild *b = WDR_DERIVED(builder, WdrFatBuild, builder);
	WdrFatFolder *parent = NULL;
	uint8_t *slot = NULL;

	if (at->serial == 0)
		return true; /* the root has no entry of its own */
	if (!put_entry(b, at, entry, &parent, &slot, error))
		return false;
	/* A folder settles when it gets its clusters, in fill_folder. */
	return entry->kind == WDR_KIND_FOLDER || settled(b, parent, error);
}

static bool build_begin_file(
	WdrBuilder *builder, const WdrBuildNode *at, const WdrEntry *entry, GError **error)
{
	WdrFatBuild *b = WDR_DERIVED(builder, WdrFatBuild, builder);
	WdrFatFolder *parent = NULL;
	uint8_t *slot = NULL;
	uint32_t cluster = 0;

	if (!put_entry(b, at, entry, &parent, &slot, error) ||
		!take_clusters(b, entry->size, &cluster, error)) {
		g_prefix_error(error, "/%s: ", at->path);
		return false;
	}
	put_cluster(slot, cluster);
	b->file.at = wdr_fat_cluster_at(&b->layout, cluster);
	b->file.pos = 0;
	b->file.end = wdr_round_up(entry->size, b->layout.cluster_bytes);
	return settled(b, parent, error);
}

static bool write_zeros(WdrFatBuild *b, uint64_t to, GError **error)
{
	static const uint8_t zeros[65536];

	while (b->file.pos < to) {
		size_t part = (size_t)MIN(to - b->file.pos, sizeof(zeros));
		if (!wdr_stream_write(
			    b->stream, zeros, part, b->offset + b->file.at + b->file.pos, error))
			return false;
		b->file.pos += part;
	}
	return true;
}

static bool build_piece(
	WdrBuilder *builder, const WdrPiece *piece, const void *data, GError **error)
{
	WdrFatBuild *b = WDR_DERIVED(builder, WdrFatBuild, builder);

	/* FAT has no holes. */
	if (!write_zeros(b, piece->offset, error))
		return false;
	if (piece->is_unwritten)
		return write_zeros(b, piece->offset + piece->len, error);
	b->file.pos += piece->len;
	return wdr_stream_write(
		b->stream, data, (size_t)piece->len, b->offset + b->file.at + piece->offset, error);
}

/* What an earlier owner left on the medium must not show behind the end of a file. */
static bool build_end_file(WdrBuilder *builder, GError **error)
{
	WdrFatBuild *b = WDR_DERIVED(builder, WdrFatBuild, builder);

	return write_zeros(b, b->file.end, error);
}

/* ---- the end ---- */

static uint32_t chain_value(const WdrFatBuild *b, uint32_t cluster)
{
	bool is_end = b->ends[cluster / 8] >> cluster % 8 & 1;

	return is_end ? 0x0fffffff : cluster + 1;
}

/* FATs are written in pieces that start at a multiple of 3 bytes, so that FAT12 entries do not
 * straddle them. */
static bool write_fats(WdrFatBuild *b, GError **error)
{
	enum { PIECE = 3 * 64 * 1024 };
	g_autofree uint8_t *piece = g_malloc(PIECE + 4);
	const WdrFatLayout *l = &b->layout;
	uint32_t per_piece = (uint32_t)(PIECE * 8 / l->width);

	for (uint64_t at = 0; at < l->fat_bytes; at += PIECE) {
		size_t len = (size_t)MIN(PIECE, l->fat_bytes - at);
		uint32_t first = (uint32_t)(at * 8 / l->width);
		memset(piece, 0, PIECE + 4);
		for (uint32_t i = 0; i < per_piece && first + i < b->next; i++) {
			uint32_t cluster = first + i;
			wdr_fat_set(l, piece, i,
				cluster == 0   ? 0x0fffff00 | l->media
				: cluster == 1 ? 0x0fffffff
					       : chain_value(b, cluster));
		}
		for (unsigned copy = 0; copy < l->fats; copy++) {
			if (!wdr_blockdev_write(b->dev, piece, len,
				    b->offset + l->fat_at + copy * l->fat_bytes + at, error))
				return false;
		}
	}
	return true;
}

static bool write_fsinfo(WdrFatBuild *b, GError **error)
{
	uint8_t numbers[8];
	uint64_t at = (uint64_t)b->layout.fsinfo_sector * b->layout.sector_bytes + FSINFO_FREE;

	if (b->layout.width != 32 || b->layout.fsinfo_sector == 0)
		return true;
	wdr_put_le32(numbers, b->layout.clusters + FAT_FIRST_CLUSTER - b->next);
	wdr_put_le32(numbers + 4, b->next - 1);
	return wdr_blockdev_write(b->dev, numbers, sizeof(numbers), b->offset + at, error);
}

static bool build_finish(WdrBuilder *builder, GError **error)
{
	WdrFatBuild *b = WDR_DERIVED(builder, WdrFatBuild, builder);

	g_assert(g_hash_table_size(b->folders) == 0);
	return wdr_stream_drain(b->stream, error) && write_fats(b, error) &&
	       write_fsinfo(b, error) && wdr_blockdev_flush(b->dev, error);
}

static void build_free(WdrBuilder *builder)
{
	WdrFatBuild *b = WDR_DERIVED(builder, WdrFatBuild, builder);

	wdr_stream_free(b->stream);
	g_hash_table_unref(b->folders);
	g_free(b->ends);
	g_free(b);
}

/* Reserved sectors, FATs and root as mkfs made them, through our own handle. */
static bool lay_empty(const WdrWorld *world, const WdrBuildTarget *t, const WdrFatSpec *spec,
	WdrFatLayout *ret, GError **error)
{
	enum { COPY = 65536 };
	g_autofree char *path = g_build_filename(t->scratch, "fresh.fat", NULL);
	g_autoptr(WdrBlockDev) from = NULL;
	g_autofree uint8_t *buf = g_malloc(COPY);
	bool is_fine = wdr_fat_make_empty(world, spec, t->size, path, error) &&
		       wdr_blockdev_open(path, WDR_OPEN_READ, &from, error);

	unlink(path);
	if (!is_fine || !wdr_blockdev_read(from, buf, 512, 0, error) ||
		!wdr_fat_layout_parse(buf, 512, wdr_blockdev_size(from), ret, error))
		return false;
	for (uint64_t at = 0; at < ret->data_at; at += COPY) {
		size_t len = (size_t)MIN(COPY, ret->data_at - at);
		if (!wdr_blockdev_read(from, buf, len, at, error) ||
			!wdr_blockdev_write(t->dev, buf, len, t->offset + at, error))
			return false;
	}
	return true;
}

static const WdrBuilderOps build_ops = {
	.fill_folder = build_fill_folder,
	.add = build_add,
	.begin_file = build_begin_file,
	.piece = build_piece,
	.end_file = build_end_file,
	.checkpoint = wdr_fat_build_checkpoint,
	.finish = build_finish,
	.free = build_free,
};

WdrFatBuild *wdr_fat_build_new(
	const WdrBuildTarget *target, const WdrFatSpec *spec, const WdrFatLayout *layout)
{
	WdrFatBuild *b = g_new0(WdrFatBuild, 1);

	b->builder.ops = &build_ops;
	b->dev = target->dev;
	b->offset = target->offset;
	b->layout = *layout;
	b->spec = *spec;
	b->next = FAT_FIRST_CLUSTER;
	b->folders = g_hash_table_new_full(g_int64_hash, g_int64_equal, NULL, wdr_fat_folder_free);
	b->ends = g_malloc0(((size_t)layout->clusters + FAT_FIRST_CLUSTER) / 8 + 1);
	b->stream = wdr_stream_new(b->dev, target->done, target->data);
	return b;
}

bool wdr_fat_builder_new(const WdrWorld *world, const WdrBuildTarget *target,
	const WdrFatSpec *spec, WdrBuilder **ret, GError **error)
{
	WdrFatLayout layout;

	if (!lay_empty(world, target, spec, &layout, error))
		return false;
	*ret = &wdr_fat_build_new(target, spec, &layout)->builder;
	return true;
}
