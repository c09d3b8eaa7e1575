/* Calls a function for every file below a folder. */
#include "volume/eachfile.h"

#include "base/stop.h"

#include <string.h>

enum { DEPTH_MAX = 32 };

typedef struct {
	WdrVolume *volume;
	WdrFileFunc take;
	void *data;
	GPtrArray *warnings;
	GHashTable
		*visited; /* uint64_t *: folders that were entered; a damaged one may lead back */
} Walk;

typedef struct {
	char *path;
	uint64_t id;
	WdrKind kind;
} Found;

static void found_clear(void *data)
{
	g_free(((Found *)data)->path);
}

typedef struct {
	GArray *found;
	const char *folder;
} Listing;

static bool add_found(void *data, const WdrName *name, GError **error)
{
	Listing *l = data;
	const char *slash = *l->folder ? "/" : "";
	Found f = { NULL, name->id, name->kind };

	g_array_append_val(l->found, f);
	g_array_index(l->found, Found, l->found->len - 1).path =
		g_strconcat(l->folder, slash, name->name, NULL);
	return wdr_stop_check(error);
}

static int by_path(const void *a, const void *b)
{
	return strcmp(((const Found *)a)->path, ((const Found *)b)->path);
}

static void walk(const Walk *w, const WdrNode *folder, unsigned depth)
{
	g_autoptr(GError) error = NULL;
	g_autoptr(GArray) found = g_array_new(FALSE, FALSE, sizeof(Found));
	Listing l = { found, folder->path };

	g_array_set_clear_func(found, found_clear);
	if (depth > DEPTH_MAX || !wdr_stop_check(NULL) ||
		!g_hash_table_add(w->visited, g_memdup2(&folder->id, sizeof(folder->id))))
		return;
	if (!wdr_volume_list(w->volume, folder, add_found, &l, &error)) {
		if (w->warnings)
			g_ptr_array_add(w->warnings, g_strdup(error->message));
		return;
	}
	g_array_sort(found, by_path);
	for (guint i = 0; i < found->len && wdr_stop_check(NULL); i++) {
		const Found *f = &g_array_index(found, Found, i);
		WdrNode node = { f->id, f->path };
		g_auto(WdrEntry) entry = { 0 };
		if (f->kind == WDR_KIND_FOLDER)
			walk(w, &node, depth + 1);
		else if (f->kind == WDR_KIND_FILE &&
			 wdr_volume_stat(w->volume, &node, &entry, NULL))
			w->take(w->data, &node, &entry);
	}
}

void wdr_each_file(
	WdrVolume *volume, const char *path, WdrFileFunc take, void *data, GPtrArray *warnings)
{
	g_autoptr(GHashTable) visited =
		g_hash_table_new_full(g_int64_hash, g_int64_equal, g_free, NULL);
	Walk w = { volume, take, data, warnings, visited };
	g_auto(WdrEntry) entry = { 0 };
	WdrNode node = { 0, path };
	bool found = false;

	if (!wdr_volume_lookup(volume, path, &found, &node.id, &entry, NULL) || !found)
		return;
	if (entry.kind == WDR_KIND_FOLDER)
		walk(&w, &node, 0);
	else if (entry.kind == WDR_KIND_FILE)
		take(data, &node, &entry);
}
