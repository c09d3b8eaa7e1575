/* Looking at all of a FAT volume's structure at once.
 *
 * Before a FAT is copied its entries and clusters are counted, and chains that cross, loop or leave
 * the volume are an error: copied file by file, such a volume would look sound. */
#include "volume/fat/fat_priv.h"

#include "base/cleanup.h"
#include "base/io.h"
#include "base/stop.h"
#include "base/text.h"

#include <string.h>

/* A walk over all folders, with a visit for each entry and for each folder's clusters. */
typedef struct {
	WdrFat *f;
	uint8_t *seen; /* a bit for each cluster; NULL: chains are not followed */
	WdrFatMeasure measure;
	uint32_t cluster_bytes; /* to measure with */
	uint64_t need;
	int copy_fd;      /* folders are written there; -1: none */
	GQueue folders;   /* Step */
	const char *path; /* of the folder being walked */
} Walk;

typedef struct {
	char *path;
	uint32_t cluster;
} Step;

static bool claim(Walk *w, uint32_t cluster, const char *path, GError **error)
{
	uint8_t *byte = &w->seen[cluster / 8];
	uint8_t bit = (uint8_t)(1u << cluster % 8);

	if (*byte & bit)
		return wdr_error_set(error, WDR_ERROR_FORMAT,
			"%s: /%s uses cluster %u, which is used already: files share clusters, or a "
			"chain runs in a circle",
			w->f->volume.name, path, cluster);
	*byte |= bit;
	return true;
}

/* Follows a chain to its end; *ret_count clusters. Cluster 0: an empty file. */
static bool follow(Walk *w, uint32_t cluster, const char *path, uint64_t *ret_count, GError **error)
{
	bool is_end = cluster == 0;

	*ret_count = 0;
	while (!is_end) {
		if (!wdr_fat_is_cluster(&w->f->layout, cluster))
			return wdr_error_set(error, WDR_ERROR_FORMAT,
				"%s: /%s starts at cluster %u, which does not exist",
				w->f->volume.name, path, cluster);
		if (!claim(w, cluster, path, error))
			return false;
		(*ret_count)++;
		if (!wdr_fat_next(w->f, cluster, &cluster, &is_end, error)) {
			g_prefix_error(error, "/%s: ", path);
			return false;
		}
	}
	return true;
}

static bool visit(void *data, const WdrFatFound *found, GError **error)
{
	Walk *w = data;
	g_autofree char *path = wdr_volume_path(w->path, found->name);
	uint64_t clusters = 0;
	bool is_folder = found->attributes & FAT_ATTR_FOLDER;

	if (!wdr_stop_check(error))
		return false;
	w->measure.entries++;
	w->measure.folders += is_folder ? 1 : 0;
	w->measure.file_bytes += is_folder ? 0 : found->size;
	w->need += is_folder ? 0 : wdr_round_up(found->size, w->cluster_bytes);
	if (w->seen && !follow(w, found->cluster, path, &clusters, error))
		return false;
	if (w->seen && !is_folder && clusters * w->f->layout.cluster_bytes < found->size)
		return wdr_error_set(error, WDR_ERROR_FORMAT,
			"%s: /%s says it has %u bytes, its chain has %" G_GUINT64_FORMAT
			" clusters of %u",
			w->f->volume.name, path, found->size, clusters, w->f->layout.cluster_bytes);
	if (is_folder) {
		Step *s = g_new0(Step, 1);
		s->path = g_steal_pointer(&path);
		s->cluster = found->cluster;
		g_queue_push_tail(&w->folders, s);
	}
	return true;
}

static bool copy_out(Walk *w, const GByteArray *bytes, const GArray *places, GError **error)
{
	for (guint i = 0; w->copy_fd >= 0 && i < places->len; i++) {
		if (!wdr_pwrite_all(w->copy_fd, bytes->data + (size_t)i * FAT_DIRENT_BYTES,
			    FAT_DIRENT_BYTES, g_array_index(places, uint64_t, i), error))
			return false;
	}
	return true;
}

static bool walk_folder(Walk *w, const Step *s, GError **error)
{
	g_autoptr(GByteArray) bytes = NULL;
	g_autoptr(GArray) places = NULL;

	w->path = s->path;
	if (*s->path && s->cluster == 0)
		return wdr_error_set(error, WDR_ERROR_FORMAT,
			"%s: the folder /%s has no content at all", w->f->volume.name, s->path);
	/* What is wrong with an entry names it; the rest is about the folder. */
	g_autoptr(GError) local = NULL;
	if (!wdr_fat_read_folder(w->f, s->cluster, &bytes, &places, &local) ||
		!wdr_fat_each(bytes, visit, w, &local)) {
		bool is_named = *s->path == '\0' || strstr(local->message, s->path);
		g_propagate_error(error, g_steal_pointer(&local));
		if (!is_named)
			g_prefix_error(error, "/%s: ", s->path);
		return false;
	}
	w->need += wdr_round_up(bytes->len, w->cluster_bytes);
	return copy_out(w, bytes, places, error);
}

static bool walk(Walk *w, GError **error)
{
	Step *first = g_new0(Step, 1);
	bool is_fine = true;

	first->path = g_strdup("");
	g_queue_init(&w->folders);
	g_queue_push_tail(&w->folders, first);
	for (Step *s; (s = g_queue_pop_head(&w->folders));) {
		is_fine = is_fine && walk_folder(w, s, error);
		g_free(s->path);
		g_free(s);
	}
	return is_fine;
}

static bool compare_fats(WdrFat *f, GError **error)
{
	g_autofree uint8_t *a = g_malloc(65536);
	g_autofree uint8_t *b = g_malloc(65536);

	for (unsigned copy = 1; copy < f->layout.fats; copy++) {
		uint64_t other = f->layout.fat_at + copy * f->layout.fat_bytes;
		for (uint64_t at = 0; at < f->layout.fat_bytes; at += 65536) {
			size_t len = (size_t)MIN(65536, f->layout.fat_bytes - at);
			if (!wdr_blockdev_read(
				    f->dev, a, len, f->offset + f->layout.fat_at + at, error) ||
				!wdr_blockdev_read(f->dev, b, len, f->offset + other + at, error))
				return false;
			/* The first two entries hold state flags, which drivers set in one copy
			 * only. */
			size_t skip = at == 0 ? 8 : 0;
			if (memcmp(a + skip, b + skip, len - skip) != 0)
				return wdr_error_set(error, WDR_ERROR_FORMAT, "%s: its FATs differ",
					f->volume.name);
		}
	}
	return true;
}

bool wdr_fat_volume_check(WdrVolume *v, WdrFatMeasure *ret, GError **error)
{
	WdrFat *f = WDR_DERIVED(v, WdrFat, volume);
	g_autofree uint8_t *seen =
		g_malloc0(((size_t)f->layout.clusters + FAT_FIRST_CLUSTER) / 8 + 1);
	Walk w = { .f = f, .seen = seen, .cluster_bytes = f->layout.cluster_bytes, .copy_fd = -1 };
	uint64_t root_clusters = 0;

	if (!compare_fats(f, error))
		return false;
	if (f->layout.width == 32 && !follow(&w, f->layout.root_cluster, "", &root_clusters, error))
		return false;
	if (!walk(&w, error))
		return false;
	*ret = w.measure;
	return true;
}

bool wdr_fat_volume_need(WdrVolume *v, uint32_t cluster_bytes, WdrFatMeasure *ret_measure,
	uint64_t *ret, GError **error)
{
	WdrFat *f = WDR_DERIVED(v, WdrFat, volume);
	Walk w = { .f = f, .cluster_bytes = cluster_bytes, .copy_fd = -1 };

	if (!walk(&w, error))
		return false;
	*ret = w.need;
	*ret_measure = w.measure;
	return true;
}

static bool copy_head(WdrFat *f, int fd, GError **error)
{
	g_autofree uint8_t *buf = g_malloc(65536);

	for (uint64_t at = 0; at < f->layout.data_at; at += 65536) {
		size_t len = (size_t)MIN(65536, f->layout.data_at - at);
		if (!wdr_blockdev_read(f->dev, buf, len, f->offset + at, error) ||
			!wdr_pwrite_all(fd, buf, len, at, error))
			return false;
	}
	return true;
}

bool wdr_fat_volume_copy_structure(WdrVolume *v, const char *path, GError **error)
{
	WdrFat *f = WDR_DERIVED(v, WdrFat, volume);
	g_auto(WdrFd) fd = -1;

	if (!wdr_make_scratch_file(path, f->layout.size_bytes, &fd, error))
		return false;
	Walk w = { .f = f, .cluster_bytes = f->layout.cluster_bytes, .copy_fd = fd };
	return copy_head(f, fd, error) && walk(&w, error);
}
