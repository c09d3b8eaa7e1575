/* Checkpoints of a FAT volume being filled.
 *
 * Clusters are handed out in rising order and in rows, and the FATs are written last of all, so
 * what is known of the clusters so far is which comes next and where rows end. Folders whose
 * entries do not all have their clusters yet are in memory only, and so in the checkpoint.
 *
 * As a GVariant: (serial of the volume, next cluster, bits of row ends, folders (serial, first
 * child, cluster, place, children that wait, image, slots), file being written (place, bytes given,
 * bytes of all its clusters)). */
#include "volume/fat/fat_build.h"

#include <string.h>

#define FOLDER_TYPE "(ttuttayau)"
#define CHECKPOINT_TYPE "(uuaya" FOLDER_TYPE "(ttt))"

enum { BOOT_SECTOR_BYTES = 512 };

/* ---- taking one ---- */

static size_t ends_bytes(uint32_t next)
{
	return (size_t)next / 8 + 1;
}

static GVariant *describe_folder(const WdrFatFolder *f)
{
	GVariant *image =
		g_variant_new_fixed_array(G_VARIANT_TYPE_BYTE, f->image->data, f->image->len, 1);
	GVariant *slots = g_variant_new_fixed_array(
		G_VARIANT_TYPE_UINT32, f->slots->data, f->slots->len, sizeof(uint32_t));

	return g_variant_new("(ttutt@ay@au)", f->serial, f->first_child, f->cluster, f->at,
		(guint64)f->waiting, image, slots);
}

static GVariant *describe(const WdrFatBuild *b)
{
	GVariantBuilder folders;
	GHashTableIter iter;
	void *folder = NULL;

	g_variant_builder_init(&folders, G_VARIANT_TYPE("a" FOLDER_TYPE));
	g_hash_table_iter_init(&iter, b->folders);
	while (g_hash_table_iter_next(&iter, NULL, &folder))
		g_variant_builder_add_value(&folders, describe_folder(folder));
	return g_variant_ref_sink(g_variant_new("(uu@aya" FOLDER_TYPE "(ttt))", b->layout.serial,
		b->next,
		g_variant_new_fixed_array(G_VARIANT_TYPE_BYTE, b->ends, ends_bytes(b->next), 1),
		&folders, b->file.at, b->file.pos, b->file.end));
}

/* What the checkpoint describes is on the medium before it is made. */
bool wdr_fat_build_checkpoint(WdrBuilder *builder, GVariant **ret, GError **error)
{
	WdrFatBuild *b = WDR_DERIVED(builder, WdrFatBuild, builder);

	if (!wdr_stream_drain(b->stream, error) || !wdr_blockdev_flush(b->dev, error))
		return false;
	*ret = describe(b);
	return true;
}

/* ---- going on from it ---- */

static bool no_fit(GError **error)
{
	return wdr_error_set(
		error, WDR_ERROR_FORMAT, "the checkpoint does not fit the volume on the target");
}

static bool is_within(const WdrFatLayout *l, uint64_t at, uint64_t len)
{
	return at <= l->size_bytes && len <= l->size_bytes - at;
}

/* The checkpoint has a hash, so it is what we wrote; but it may be of another volume. Each number
 * is checked before it is used as a place. */
static bool is_sound(const WdrFatBuild *b, const WdrFatFolder *f)
{
	const WdrFatLayout *l = &b->layout;
	uint32_t end = b->next;

	for (guint i = 0; i < f->slots->len; i++) {
		uint32_t slot = g_array_index(f->slots, uint32_t, i);
		if (f->image->len < FAT_DIRENT_BYTES || slot > f->image->len - FAT_DIRENT_BYTES)
			return false;
	}
	return f->waiting > 0 && f->waiting <= f->slots->len &&
	       f->image->len <= FAT_FOLDER_BYTES_MAX + l->cluster_bytes && f->cluster < end &&
	       f->at >= (l->width == 32 ? l->data_at : l->root_at) &&
	       is_within(l, f->at, f->image->len) && f->at % FAT_DIRENT_BYTES == 0;
}

static WdrFatFolder *restore_folder(GVariant *v)
{
	WdrFatFolder *f = g_new0(WdrFatFolder, 1);
	g_autoptr(GVariant) image = NULL;
	g_autoptr(GVariant) slots = NULL;
	guint64 waiting = 0;
	gsize len = 0;

	f->image = g_byte_array_new();
	f->slots = g_array_new(FALSE, FALSE, sizeof(uint32_t));
	g_variant_get(v, "(ttutt@ay@au)", &f->serial, &f->first_child, &f->cluster, &f->at,
		&waiting, &image, &slots);
	f->waiting = (size_t)waiting;
	const void *bytes = g_variant_get_fixed_array(image, &len, 1);
	g_byte_array_append(f->image, bytes, (guint)len);
	const void *places = g_variant_get_fixed_array(slots, &len, sizeof(uint32_t));
	g_array_append_vals(f->slots, places, (guint)len);
	return f;
}

static bool take_folders(WdrFatBuild *b, GVariantIter *folders, GError **error)
{
	GVariant *v = NULL;

	while ((v = g_variant_iter_next_value(folders))) {
		WdrFatFolder *f = restore_folder(v);
		g_variant_unref(v);
		bool is_fine = is_sound(b, f) && !g_hash_table_contains(b->folders, &f->serial);
		if (!is_fine) {
			wdr_fat_folder_free(f);
			return no_fit(error);
		}
		g_hash_table_insert(b->folders, &f->serial, f);
	}
	return true;
}

static bool take(WdrFatBuild *b, GVariant *checkpoint, GError **error)
{
	g_autoptr(GVariant) ends = NULL;
	g_autoptr(GVariantIter) folders = NULL;
	guint32 serial = 0;
	gsize len = 0;

	g_variant_get(checkpoint, "(uu@aya" FOLDER_TYPE "(ttt))", &serial, &b->next, &ends,
		&folders, &b->file.at, &b->file.pos, &b->file.end);
	const void *bits = g_variant_get_fixed_array(ends, &len, 1);
	if (serial != b->layout.serial || b->next < FAT_FIRST_CLUSTER ||
		b->next - FAT_FIRST_CLUSTER > b->layout.clusters || len != ends_bytes(b->next) ||
		b->file.pos > b->file.end || !is_within(&b->layout, b->file.at, b->file.end))
		return no_fit(error);
	memcpy(b->ends, bits, len);
	return take_folders(b, folders, error);
}

bool wdr_fat_builder_resume(const WdrBuildTarget *target, const WdrFatSpec *spec,
	GVariant *checkpoint, WdrBuilder **ret, GError **error)
{
	uint8_t sector[BOOT_SECTOR_BYTES];
	WdrFatLayout layout;

	if (!g_variant_is_of_type(checkpoint, G_VARIANT_TYPE(CHECKPOINT_TYPE)))
		return no_fit(error);
	if (!wdr_blockdev_read(target->dev, sector, sizeof(sector), target->offset, error) ||
		!wdr_fat_layout_parse(sector, sizeof(sector), target->size, &layout, error))
		return false;
	if (layout.serial != spec->serial)
		return no_fit(error);
	g_autoptr(WdrBuilder) builder = &wdr_fat_build_new(target, spec, &layout)->builder;
	if (!take(WDR_DERIVED(builder, WdrFatBuild, builder), checkpoint, error))
		return false;
	*ret = g_steal_pointer(&builder);
	return true;
}
