/* The state of a walk, for checkpoints: which folders are still to be entered, which hard links are
 * waiting for further names, and where in its folder the walk is.
 *
 * As a GVariant: (next serial, folders to enter, links, whether a folder is being walked,
 * it, the next name in it, its names). Folders are (path, id, serial, parent, depth), links (id,
 * serial, links, seen, path). Names are five arrays: their ids, links, serials, kinds, and the
 * names themselves, each with a 0 byte; a folder of a hundred thousand would be as many objects
 * otherwise.
 */
#include "copy/tree_walk_priv.h"

#include <string.h>

#define FOLDER_TYPE "(aytttu)"
#define LINK_TYPE "(ttuuay)"
#define NAMES_TYPE "(atatatayay)"
#define STATE_TYPE "(ta" FOLDER_TYPE "a" LINK_TYPE "b" FOLDER_TYPE "u" NAMES_TYPE ")"

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

/* Takes it over. */
static GVariant *numbers(GArray *values)
{
	GVariant *v = g_variant_new_fixed_array(
		G_VARIANT_TYPE_UINT64, values->data, values->len, sizeof(uint64_t));

	g_array_unref(values);
	return v;
}

static GVariant *bytes(GByteArray *values)
{
	GVariant *v = g_variant_new_fixed_array(G_VARIANT_TYPE_BYTE, values->data, values->len, 1);

	g_byte_array_unref(values);
	return v;
}

static GVariant *names_to_variant(const WdrTreeWalk *p)
{
	GArray *ids = g_array_new(FALSE, FALSE, sizeof(uint64_t));
	GArray *links = g_array_new(FALSE, FALSE, sizeof(uint64_t));
	GArray *serials = g_array_new(FALSE, FALSE, sizeof(uint64_t));
	GByteArray *kinds = g_byte_array_new();
	GByteArray *names = g_byte_array_new();

	for (guint i = 0; p->folder.at && i < p->folder.found->len; i++) {
		const WdrFound *f = &g_array_index(p->folder.found, WdrFound, i);
		uint8_t kind = (uint8_t)f->kind;
		g_array_append_val(ids, f->id);
		g_array_append_val(links, f->links);
		g_array_append_val(serials, g_array_index(p->folder.serials, uint64_t, i));
		g_byte_array_append(kinds, &kind, 1);
		g_byte_array_append(names, (const uint8_t *)f->name, (guint)strlen(f->name) + 1);
	}
	return g_variant_new("(@at@at@at@ay@ay)", numbers(ids), numbers(links), numbers(serials),
		bytes(kinds), bytes(names));
}

GVariant *wdr_tree_walk_state(const WdrTreeWalk *p)
{
	static const WdrPending nowhere = { .path = (char *)"" };
	GVariantBuilder folders;

	g_variant_builder_init(&folders, G_VARIANT_TYPE("a" FOLDER_TYPE));
	for (guint i = 0; i < p->stack->len; i++)
		g_variant_builder_add_value(&folders, folder_to_variant(p->stack->pdata[i]));
	return g_variant_ref_sink(g_variant_new("(t@a" FOLDER_TYPE "@a" LINK_TYPE "b@" FOLDER_TYPE
						"u@" NAMES_TYPE ")",
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

/* The arrays of a folder's names as they were read. */
typedef struct {
	const uint64_t *ids, *links, *serials;
	const uint8_t *kinds;
	const char *names; /* ended by a 0 byte */
	gsize count, names_bytes;
} Names;

/* False: they do not belong together. */
static bool read_names(GVariant *v, GVariant *const parts[5], Names *ret)
{
	gsize n[5];

	ret->ids = g_variant_get_fixed_array(parts[0], &n[0], sizeof(uint64_t));
	ret->links = g_variant_get_fixed_array(parts[1], &n[1], sizeof(uint64_t));
	ret->serials = g_variant_get_fixed_array(parts[2], &n[2], sizeof(uint64_t));
	ret->kinds = g_variant_get_fixed_array(parts[3], &n[3], 1);
	ret->names = g_variant_get_fixed_array(parts[4], &n[4], 1);
	ret->count = n[0];
	ret->names_bytes = n[4];
	return n[1] == n[0] && n[2] == n[0] && n[3] == n[0] && g_variant_is_normal_form(v) &&
	       (n[4] == 0 || ret->names[n[4] - 1] == '\0');
}

static bool take_names(WdrTreeWalk *p, const Names *all)
{
	gsize at = 0;

	for (gsize i = 0; i < all->count; i++) {
		if (at >= all->names_bytes || all->kinds[i] > WDR_KIND_SOCKET)
			return false;
		WdrFound f = { .id = all->ids[i],
			.links = all->links[i],
			.kind = (WdrKind)all->kinds[i],
			.name = g_string_chunk_insert(p->folder.names->strings, all->names + at) };
		at += strlen(all->names + at) + 1;
		g_array_append_val(p->folder.found, f);
		g_array_append_val(p->folder.serials, all->serials[i]);
	}
	return at == all->names_bytes;
}

/* False: they are none. */
static bool restore_names(WdrTreeWalk *p, GVariant *names)
{
	GVariant *parts[5];
	Names all;

	p->folder.names = wdr_names_new();
	p->folder.found = g_array_new(FALSE, FALSE, sizeof(WdrFound));
	p->folder.serials = g_array_new(FALSE, FALSE, sizeof(uint64_t));
	for (gsize i = 0; i < G_N_ELEMENTS(parts); i++)
		parts[i] = g_variant_get_child_value(names, i);
	bool is_fine = read_names(names, parts, &all) && take_names(p, &all);
	for (gsize i = 0; i < G_N_ELEMENTS(parts); i++)
		g_variant_unref(parts[i]);
	return is_fine;
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
			"(t@a" FOLDER_TYPE "@a" LINK_TYPE "b@" FOLDER_TYPE "u@" NAMES_TYPE ")",
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
