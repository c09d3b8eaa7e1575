/* The state of a walk, for checkpoints: which folders are still to be entered, which hard links are
 * waiting for further names, and where in its folder the walk is.
 *
 * As a GVariant: (next serial, folders to enter, links, whether a folder is being walked,
 * it, the next name in it, its names). Folders are (path, id, serial, parent, depth), links (id,
 * serial, links, seen, path), names (name, id, links, serial, kind). */
#include "copy/tree_walk_priv.h"

#define FOLDER_TYPE "(aytttu)"
#define LINK_TYPE "(ttuuay)"
#define NAME_TYPE "(aytttu)"
#define STATE_TYPE "(ta" FOLDER_TYPE "a" LINK_TYPE "b" FOLDER_TYPE "ua" NAME_TYPE ")"

static GVariant *folder_to_variant(const WdrPending *f)
{
	return g_variant_new("(^aytttu)", f->path, f->id, f->serial, f->parent, f->depth);
}

static GVariant *links_to_variant(const WdrTreeWalk *p)
{
	GVariantBuilder all;
	GHashTableIter iter;
	void *value = NULL;

	g_variant_builder_init(&all, G_VARIANT_TYPE("a" LINK_TYPE));
	g_hash_table_iter_init(&iter, p->links);
	while (g_hash_table_iter_next(&iter, NULL, &value)) {
		const WdrLink *l = value;
		g_variant_builder_add(&all, "(ttuu^ay)", l->id, l->serial, l->links, l->seen,
			l->path ? l->path : "");
	}
	return g_variant_builder_end(&all);
}

static GVariant *names_to_variant(const WdrTreeWalk *p)
{
	GVariantBuilder all;

	g_variant_builder_init(&all, G_VARIANT_TYPE("a" NAME_TYPE));
	for (guint i = 0; p->folder.at && i < p->folder.found->len; i++) {
		const WdrFound *f = &g_array_index(p->folder.found, WdrFound, i);
		g_variant_builder_add(&all, "(^aytttu)", f->name, f->id, f->links,
			g_array_index(p->folder.serials, uint64_t, i), (guint32)f->kind);
	}
	return g_variant_builder_end(&all);
}

GVariant *wdr_tree_walk_state(const WdrTreeWalk *p)
{
	static const WdrPending nowhere = { .path = (char *)"" };
	GVariantBuilder folders;

	g_variant_builder_init(&folders, G_VARIANT_TYPE("a" FOLDER_TYPE));
	for (guint i = 0; i < p->stack->len; i++)
		g_variant_builder_add_value(&folders, folder_to_variant(p->stack->pdata[i]));
	return g_variant_ref_sink(g_variant_new("(t@a" FOLDER_TYPE "@a" LINK_TYPE "b@" FOLDER_TYPE
						"u@a" NAME_TYPE ")",
		p->next_serial, g_variant_builder_end(&folders), links_to_variant(p),
		p->folder.at != NULL, folder_to_variant(p->folder.at ? p->folder.at : &nowhere),
		p->folder.next, names_to_variant(p)));
}

static WdrPending *folder_from_variant(GVariant *v)
{
	WdrPending *f = g_new0(WdrPending, 1);

	g_variant_get(v, "(^aytttu)", &f->path, &f->id, &f->serial, &f->parent, &f->depth);
	return f;
}

static void restore_folders(WdrTreeWalk *p, GVariant *folders)
{
	for (gsize i = 0; i < g_variant_n_children(folders); i++) {
		g_autoptr(GVariant) folder = g_variant_get_child_value(folders, i);
		g_ptr_array_add(p->stack, folder_from_variant(folder));
	}
}

static void restore_links(WdrTreeWalk *p, GVariant *links)
{
	for (gsize i = 0; i < g_variant_n_children(links); i++) {
		g_autoptr(GVariant) v = g_variant_get_child_value(links, i);
		WdrLink *l = g_new0(WdrLink, 1);
		g_variant_get(v, "(ttuu^ay)", &l->id, &l->serial, &l->links, &l->seen, &l->path);
		/* Its first name comes yet. */
		if (l->seen == 0)
			g_clear_pointer(&l->path, g_free);
		g_hash_table_insert(p->links, &l->id, l);
	}
}

/* False: a kind that there is not. */
static bool restore_names(WdrTreeWalk *p, GVariant *names)
{
	p->folder.names = g_string_chunk_new(4096);
	p->folder.found = g_array_new(FALSE, FALSE, sizeof(WdrFound));
	p->folder.serials = g_array_new(FALSE, FALSE, sizeof(uint64_t));
	for (gsize i = 0; i < g_variant_n_children(names); i++) {
		g_autoptr(GVariant) v = g_variant_get_child_value(names, i);
		const char *name = NULL;
		guint64 serial = 0;
		guint32 kind = 0;
		WdrFound f = { 0 };
		g_variant_get(v, "(^&aytttu)", &name, &f.id, &f.links, &serial, &kind);
		if (kind > WDR_KIND_SOCKET)
			return false;
		f.kind = (WdrKind)kind;
		f.name = g_string_chunk_insert(p->folder.names, name);
		g_array_append_val(p->folder.found, f);
		g_array_append_val(p->folder.serials, serial);
	}
	return true;
}

bool wdr_tree_walk_restore(WdrTreeWalk *p, GVariant *state, GError **error)
{
	g_autoptr(GVariant) folders = NULL;
	g_autoptr(GVariant) links = NULL;
	g_autoptr(GVariant) at = NULL;
	g_autoptr(GVariant) names = NULL;
	gboolean has_folder = FALSE;
	bool is_fine = g_variant_is_of_type(state, G_VARIANT_TYPE(STATE_TYPE));

	if (is_fine) {
		g_variant_get(state,
			"(t@a" FOLDER_TYPE "@a" LINK_TYPE "b@" FOLDER_TYPE "u@a" NAME_TYPE ")",
			&p->next_serial, &folders, &links, &has_folder, &at, &p->folder.next,
			&names);
		p->has_root = true;
		restore_folders(p, folders);
		restore_links(p, links);
	}
	if (is_fine && has_folder) {
		p->folder.at = folder_from_variant(at);
		is_fine = restore_names(p, names) && p->folder.next <= p->folder.found->len;
	}
	return is_fine || wdr_error_set(error, WDR_ERROR_FORMAT, "this is no state of a walk");
}
