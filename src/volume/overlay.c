/* A volume with some files replaced or hidden.
 *
 * A rehearsal before a move reads the source through it, as if the planned edits had been made. */
#include "volume/overlay.h"

#include <string.h>

typedef struct {
	WdrVolume volume;
	WdrVolumeOps ops;
	WdrVolume *base;
	WdrOverlay over;
} Over;

typedef struct {
	const Over *over;
	const WdrNode *folder;
	WdrListFunc each;
	void *data;
} Listing;

static bool is_hidden(const Over *o, const WdrNode *folder, const char *name, WdrKind kind)
{
	g_autofree char *path = wdr_volume_path(folder->path, name);

	return o->over.hides && o->over.hides(o->over.data, path, kind);
}

static GBytes *instead_of(const Over *o, const char *path)
{
	return o->over.contents ? g_hash_table_lookup(o->over.contents, path) : NULL;
}

/* The size that a listing gives may be that of the old content: stat is to be asked. */
static bool pass_on(void *data, const WdrName *name, GError **error)
{
	const Listing *l = data;
	WdrName shown = *name;

	shown.glance = NULL;
	return is_hidden(l->over, l->folder, name->name, name->kind) ||
	       l->each(l->data, &shown, error);
}

static bool over_list(
	WdrVolume *v, const WdrNode *folder, WdrListFunc each, void *data, GError **error)
{
	Over *o = WDR_DERIVED(v, Over, volume);
	Listing l = { o, folder, each, data };

	return wdr_volume_list(o->base, folder, pass_on, &l, error);
}

static bool over_find(
	WdrVolume *v, const WdrNode *folder, const char *name, WdrNamed *ret, GError **error)
{
	Over *o = WDR_DERIVED(v, Over, volume);

	if (!wdr_volume_find(o->base, folder, name, ret, error))
		return false;
	ret->is_there &= !is_hidden(o, folder, name, ret->kind);
	return true;
}

static bool over_stat(WdrVolume *v, const WdrNode *node, WdrEntry *ret, GError **error)
{
	Over *o = WDR_DERIVED(v, Over, volume);
	GBytes *instead = instead_of(o, node->path);

	if (!wdr_volume_stat(o->base, node, ret, error))
		return false;
	if (instead)
		ret->size = g_bytes_get_size(instead);
	return true;
}

static bool over_open(
	WdrVolume *v, const WdrNode *node, WdrEntry *entry, WdrContent **ret, GError **error)
{
	Over *o = WDR_DERIVED(v, Over, volume);
	GBytes *instead = instead_of(o, node->path);

	if (!instead)
		return wdr_volume_open(o->base, node, entry, ret, error);
	*ret = wdr_content_bytes(instead);
	return true;
}

static void over_free(WdrVolume *v)
{
	Over *o = WDR_DERIVED(v, Over, volume);

	wdr_volume_free(o->base);
	g_clear_pointer(&o->over.contents, g_hash_table_unref);
	if (o->over.free_data)
		o->over.free_data(o->over.data);
	g_free(o);
}

WdrVolume *wdr_overlay_new(WdrVolume *base, const WdrOverlay *overlay)
{
	Over *o = g_new0(Over, 1);

	o->ops = (WdrVolumeOps){ base->ops->type, over_list, over_stat, over_open, over_free,
		over_find };
	o->volume = (WdrVolume){ &o->ops, g_strdup(base->name), base->root_id, base->is_changing };
	o->base = base;
	o->over = *overlay;
	if (o->over.contents)
		g_hash_table_ref(o->over.contents);
	return &o->volume;
}
