/* Copying differences to an ext volume. Everything is looked up first, then what goes away is let
 * go, so that its room can be used; then contents are written, and last the folders whose names
 * changed are written again as a whole. */
#include "copy/apply_changes.h"

#include "base/stop.h"
#include "volume/swap.h"

#include <string.h>

enum {
	PIECE_BYTES = 512 * 1024,
	/* Names of a folder that are asked for one by one; then all of them are read. */
	SINGLE_NAMES_MAX = 8,
};

typedef struct {
	char *path;
	uint64_t id;
	GHashTable *names; /* char * -> WdrNamed: those asked for, or all */
	bool has_all;
	bool has_changed, is_new, is_removed;
} Folder;

/* What comes of a difference on the target. */
typedef struct {
	WdrDiff *diff;
	uint64_t id; /* of the target's inode */
	bool is_added;
} Step;

typedef struct {
	const WdrDifference *d;
	WdrExtChange *change;
	GPtrArray *diffs;
	GArray *steps;       /* Step, one for each of diffs */
	GHashTable *folders; /* path -> Folder */
	GHashTable *fresh;   /* path of what is new -> uint64_t: its inode */
	GHashTable *links;   /* id of anything but a folder -> int64_t: names it has in the end */
	WdrHasher *hasher;
	uint8_t *buf;
	gint read_failures; /* in a row */
	uint64_t bytes;
} Apply;

static void folder_free(void *data)
{
	Folder *f = data;

	g_hash_table_unref(f->names);
	g_free(f->path);
	g_free(f);
}

static char *parent_of(const char *path)
{
	const char *slash = strrchr(path, '/');

	return slash ? g_strndup(path, (size_t)(slash - path)) : g_strdup("");
}

static const char *name_in(const char *path)
{
	const char *slash = strrchr(path, '/');

	return slash ? slash + 1 : path;
}

static void *boxed(const void *value, size_t size)
{
	return g_memdup2(value, size);
}

/* ---- folders of the target ---- */

static Folder *new_folder(Apply *a, const char *path, uint64_t id, bool is_new)
{
	Folder *f = g_new0(Folder, 1);

	f->path = g_strdup(path);
	f->id = id;
	f->is_new = f->has_changed = f->has_all = is_new;
	f->names = g_hash_table_new_full(g_str_hash, g_str_equal, g_free, g_free);
	g_hash_table_insert(a->folders, f->path, f);
	return f;
}

static void put_name(Folder *f, const char *name, WdrNamed it)
{
	g_hash_table_insert(f->names, g_strdup(name), boxed(&it, sizeof(it)));
}

static bool take_name(void *data, const WdrName *name, GError **error)
{
	(void)error;
	put_name(data, name->name, (WdrNamed){ true, name->id, name->kind });
	return true;
}

static bool find_child(Apply *a, const char *path, WdrNamed *ret, GError **error);

static Folder *folder_at(Apply *a, const char *path, GError **error)
{
	Folder *f = g_hash_table_lookup(a->folders, path);
	WdrNamed it = { true, wdr_ext_change_before(a->change)->root_id, WDR_KIND_FOLDER };

	if (f)
		return f;
	if (*path && !find_child(a, path, &it, error))
		return NULL;
	return new_folder(a, path, it.id, false);
}

static bool read_all_names(Apply *a, Folder *f, GError **error)
{
	WdrNode node = { f->id, f->path };

	if (f->has_all)
		return true;
	f->has_all = true;
	return wdr_volume_list(wdr_ext_change_before(a->change), &node, take_name, f, error);
}

static bool read_name(Apply *a, Folder *f, const char *name, GError **error)
{
	WdrNode node = { f->id, f->path };
	WdrNamed it;

	if (g_hash_table_size(f->names) >= SINGLE_NAMES_MAX)
		return read_all_names(a, f, error);
	if (!wdr_volume_find(wdr_ext_change_before(a->change), &node, name, &it, error))
		return false;
	if (it.is_there)
		put_name(f, name, it);
	return true;
}

static bool find_child(Apply *a, const char *path, WdrNamed *ret, GError **error)
{
	g_autofree char *parent = parent_of(path);
	Folder *in = folder_at(a, parent, error);
	const char *name = name_in(path);

	if (!in || (!in->has_all && !g_hash_table_contains(in->names, name) &&
			   !read_name(a, in, name, error)))
		return false;
	const WdrNamed *it = g_hash_table_lookup(in->names, name);
	if (!it)
		return wdr_error_set(error, WDR_ERROR_FORMAT,
			"the target has no /%s, which is in its packing list", path);
	*ret = *it;
	return true;
}

/* ---- looking everything up ---- */

static bool count_name(Apply *a, uint64_t id, int64_t change, bool is_new, GError **error)
{
	int64_t *count = g_hash_table_lookup(a->links, &id);
	uint64_t links = 0;

	if (!count) {
		if (!is_new && !wdr_ext_change_links(a->change, id, &links, error))
			return false;
		int64_t first = (int64_t)links;
		count = boxed(&first, sizeof(first));
		g_hash_table_insert(a->links, boxed(&id, sizeof(id)), count);
	}
	*count += change;
	return true;
}

static bool resolve_removed(Apply *a, Step *step, GError **error)
{
	const char *path = step->diff->was.path;
	WdrNamed it;

	if (!find_child(a, path, &it, error))
		return false;
	step->id = it.id;
	/* What is in it is looked up through it later. */
	if (it.kind == WDR_KIND_FOLDER && !folder_at(a, path, error))
		return false;
	return it.kind == WDR_KIND_FOLDER || count_name(a, step->id, -1, false, error);
}

static bool resolve_stays(Apply *a, Step *step, GError **error)
{
	WdrNamed it;

	if (*step->diff->now.path == '\0') {
		step->id = wdr_ext_change_before(a->change)->root_id;
		return true;
	}
	if (!find_child(a, step->diff->now.path, &it, error))
		return false;
	step->id = it.id;
	bool is_rewritten = step->diff->kind == WDR_DIFF_CONTENT;
	return !is_rewritten || count_name(a, step->id, 0, false, error);
}

/* Where the first name of a link is, which may be new itself. */
static bool resolve_link(Apply *a, const char *first, uint64_t *ret, GError **error)
{
	const uint64_t *fresh = g_hash_table_lookup(a->fresh, first);
	WdrNamed it;

	if (fresh) {
		*ret = *fresh;
		return true;
	}
	if (!find_child(a, first, &it, error))
		return false;
	*ret = it.id;
	return true;
}

static bool resolve_new(Apply *a, Step *step, GError **error)
{
	const WdrDiff *diff = step->diff;
	bool is_folder = !diff->now.is_link && diff->now.kind == WDR_KIND_FOLDER;
	bool is_fresh = false;
	WdrNamed it;

	if (diff->now.is_link) {
		if (!resolve_link(a, diff->now.link, &step->id, error))
			return false;
	} else if (diff->renamed_from) {
		if (!find_child(a, diff->renamed_from, &it, error))
			return false;
		step->id = it.id;
	} else {
		is_fresh = true;
		if (!wdr_ext_change_reserve(a->change, is_folder, &step->id, error))
			return false;
	}
	g_hash_table_insert(a->fresh, g_strdup(diff->now.path), boxed(&step->id, sizeof(step->id)));
	return is_folder || count_name(a, step->id, +1, is_fresh, error);
}

/* Names are looked up in the folders as they were, and only then put in or taken out. */
static bool resolve(Apply *a, GError **error)
{
	for (guint i = 0; i < a->diffs->len; i++) {
		Step step = { .diff = a->diffs->pdata[i] };
		bool is_fine = true;
		if (step.diff->kind == WDR_DIFF_REMOVED)
			is_fine = resolve_removed(a, &step, error);
		else if (step.diff->kind == WDR_DIFF_NEW)
			is_fine = resolve_new(a, &step, error);
		else if (step.diff->kind != WDR_DIFF_EDITED)
			is_fine = resolve_stays(a, &step, error);
		if (!is_fine)
			return false;
		g_array_append_val(a->steps, step);
	}
	return true;
}

static bool change_names(Apply *a, GError **error)
{
	for (guint i = 0; i < a->steps->len; i++) {
		const Step *step = &g_array_index(a->steps, Step, i);
		const WdrDiff *diff = step->diff;
		bool is_new = diff->kind == WDR_DIFF_NEW;
		const char *path = is_new ? diff->now.path : diff->was.path;
		if (!is_new && diff->kind != WDR_DIFF_REMOVED)
			continue;
		g_autofree char *parent = parent_of(path);
		Folder *in = folder_at(a, parent, error);
		if (!in || !read_all_names(a, in, error))
			return false;
		in->has_changed = true;
		if (!is_new) {
			g_hash_table_remove(in->names, name_in(path));
			Folder *gone = g_hash_table_lookup(a->folders, path);
			if (gone)
				gone->is_removed = true;
			continue;
		}
		bool is_folder = !diff->now.is_link && diff->now.kind == WDR_KIND_FOLDER;
		put_name(in, name_in(path), (WdrNamed){ true, step->id, diff->now.kind });
		if (is_folder)
			new_folder(a, path, step->id, true);
	}
	return true;
}

/* ---- letting go ---- */

static bool release_all(Apply *a, GError **error)
{
	GHashTableIter iter;
	void *key = NULL;
	void *count = NULL;

	for (guint i = 0; i < a->steps->len; i++) {
		const Step *step = &g_array_index(a->steps, Step, i);
		bool is_folder = step->diff->kind == WDR_DIFF_REMOVED && !step->diff->was.is_link &&
				 step->diff->was.kind == WDR_KIND_FOLDER;
		if ((is_folder || step->diff->kind == WDR_DIFF_CONTENT) &&
			!wdr_ext_change_release(a->change, step->id, error))
			return false;
	}
	g_hash_table_iter_init(&iter, a->links);
	while (g_hash_table_iter_next(&iter, &key, &count)) {
		if (*(const int64_t *)count > 0)
			continue;
		if (!wdr_ext_change_release(a->change, *(const uint64_t *)key, error))
			return false;
		g_hash_table_iter_remove(&iter);
	}
	return true;
}

/* ---- copying ---- */

/* The entry as it is now; *ret_is_there false: it is gone, or is of another kind. */
static bool look(Apply *a, const WdrListEntry *p, WdrEntry *ret, bool *ret_is_there, GError **error)
{
	WdrNode node = { p->id, p->path };
	g_autoptr(GError) local = NULL;
	bool is_stated = wdr_volume_stat(a->d->source, &node, ret, &local);

	if (!is_stated && !wdr_volume_is_gone(a->d->source, local)) {
		g_propagate_error(error, g_steal_pointer(&local));
		return false;
	}
	*ret_is_there = is_stated && ret->kind == p->kind;
	return true;
}

static void redescribe(Apply *a, WdrDiff *diff, const WdrEntry *entry, WdrHash content)
{
	WdrListEntry now;
	WdrCopied copied = { diff->now.path, entry, NULL, content, diff->now.id, 0 };

	wdr_list_entry_describe(a->hasher, &copied, &now);
	wdr_list_entry_clear(&diff->now);
	diff->now = now;
}

static bool copy_pieces(Apply *a, WdrContent *content, uint64_t size, WdrHash *ret, GError **error)
{
	WdrBuilder *b = wdr_ext_change_builder(a->change);
	uint64_t pos = 0;

	wdr_hasher_reset(a->hasher);
	for (;;) {
		WdrPiece piece;
		if (!wdr_stop_check(error) ||
			!wdr_content_next(content, a->buf, PIECE_BYTES, &piece, error))
			return false;
		if (piece.len == 0)
			break;
		wdr_hash_piece(a->hasher, &piece, a->buf, &pos);
		if (!b->ops->piece(b, &piece, a->buf, error))
			return false;
		a->bytes += piece.len;
	}
	wdr_hasher_add_zeros(a->hasher, size - pos);
	*ret = wdr_hasher_result(a->hasher);
	return true;
}

static bool copy_content(Apply *a, const Step *step, const WdrBuildNode *at, WdrEntry *entry,
	WdrHash *ret, GError **error)
{
	WdrBuilder *b = wdr_ext_change_builder(a->change);
	WdrNode node = { step->diff->now.id, at->path };
	g_autoptr(WdrContent) content = NULL;
	g_autoptr(WdrDamage) damage = wdr_damage_new(&a->read_failures);

	if (!wdr_swap_open_content(a->d->source, &node, entry, &content, error))
		return false;
	content->damage = damage;
	if (!b->ops->begin_file(b, at, entry, error) ||
		!copy_pieces(a, content, entry->size, ret, error) || !b->ops->end_file(b, error))
		return false;
	g_array_append_vals(step->diff->missing, damage->ranges->data, damage->ranges->len);
	return true;
}

static void fit(WdrBuilder *b, WdrEntry *entry)
{
	if (b->ops->fit)
		b->ops->fit(b, entry);
}

/* An entry whose inode is free: it is new, or its old content was let go. */
static bool copy_entry(Apply *a, Step *step, GError **error)
{
	WdrBuilder *b = wdr_ext_change_builder(a->change);
	WdrBuildNode at = { wdr_ext_change_serial(step->id), 0, step->diff->now.path };
	WdrKind kind = step->diff->now.kind;
	g_auto(WdrEntry) entry = { 0 };
	WdrHash content = { 0, 0 };
	bool is_there = false;

	if (!look(a, &step->diff->now, &entry, &is_there, error))
		return false;
	if (!is_there)
		wdr_entry_stand_in(&entry, kind, wdr_world_now(a->d->world));
	fit(b, &entry);
	const int64_t *links = g_hash_table_lookup(a->links, &step->id);
	entry.links = links ? (uint64_t)*links : 2;
	bool has_content = kind == WDR_KIND_FILE && entry.size > 0;
	if (!(has_content ? copy_content(a, step, &at, &entry, &content, error)
			  : b->ops->add(b, &at, &entry, error)))
		return false;
	redescribe(a, step->diff, &entry, content);
	return true;
}

static void keep_as_it_was(WdrDiff *diff)
{
	char *path = g_steal_pointer(&diff->now.path);
	uint64_t id = diff->now.id;

	wdr_list_entry_clear(&diff->now);
	diff->now = diff->was;
	diff->now.path = path;
	diff->now.link = g_strdup(diff->was.link);
	diff->now.id = id;
}

static bool copy_metadata(Apply *a, Step *step, GError **error)
{
	WdrHash content = step->diff->now.content;
	bool had_content = step->diff->now.has_content;
	g_auto(WdrEntry) entry = { 0 };
	bool is_there = false;

	if (!look(a, &step->diff->now, &entry, &is_there, error))
		return false;
	/* Gone, or with another content by now: the target keeps what it has, and the list says so;
	 * the next difference finds it. */
	if (!is_there || entry.size != step->diff->now.size) {
		keep_as_it_was(step->diff);
		return true;
	}
	fit(wdr_ext_change_builder(a->change), &entry);
	if (!wdr_ext_change_metadata(a->change, step->id, &entry, error))
		return false;
	redescribe(a, step->diff, &entry, content);
	step->diff->now.has_content = had_content;
	return true;
}

static bool copy_one(Apply *a, Step *step, GError **error)
{
	const WdrDiff *diff = step->diff;

	if (!wdr_stop_check(error))
		return false;
	if (diff->kind == WDR_DIFF_METADATA || (diff->kind == WDR_DIFF_NEW && diff->renamed_from))
		return copy_metadata(a, step, error);
	if (diff->kind == WDR_DIFF_CONTENT || (diff->kind == WDR_DIFF_NEW && !diff->now.is_link))
		return copy_entry(a, step, error);
	return true;
}

/* ---- folders and links ---- */

static bool fill_folder(Apply *a, const Folder *f, GError **error)
{
	WdrBuilder *b = wdr_ext_change_builder(a->change);
	g_autofree char *parent_path = parent_of(f->path);
	const Folder *parent = folder_at(a, parent_path, error);
	g_autoptr(GArray) children = g_array_new(FALSE, FALSE, sizeof(WdrChild));
	GHashTableIter iter;
	void *name = NULL;
	void *value = NULL;

	if (!parent || (!f->is_new && !wdr_ext_change_empty_folder(a->change, f->id, error)))
		return false;
	g_hash_table_iter_init(&iter, f->names);
	while (g_hash_table_iter_next(&iter, &name, &value)) {
		const WdrNamed *c = value;
		WdrChild child = { name, c->kind, wdr_ext_change_serial(c->id), NULL };
		g_array_append_val(children, child);
	}
	WdrBuildNode at = { wdr_ext_change_serial(f->id), wdr_ext_change_serial(parent->id),
		f->path };
	return b->ops->fill_folder(
		b, &at, (WdrChild *)(void *)children->data, children->len, error);
}

static bool fill_folders(Apply *a, GError **error)
{
	g_autoptr(GPtrArray) changed = g_ptr_array_new();
	GHashTableIter iter;
	void *value = NULL;

	g_hash_table_iter_init(&iter, a->folders);
	while (g_hash_table_iter_next(&iter, NULL, &value)) {
		const Folder *f = value;
		if (f->has_changed && !f->is_removed)
			g_ptr_array_add(changed, value);
	}
	for (guint i = 0; i < changed->len; i++) {
		if (!fill_folder(a, changed->pdata[i], error))
			return false;
	}
	return true;
}

static bool set_links(Apply *a, GError **error)
{
	WdrBuilder *b = wdr_ext_change_builder(a->change);
	GHashTableIter iter;
	void *key = NULL;
	void *count = NULL;

	g_hash_table_iter_init(&iter, a->links);
	while (g_hash_table_iter_next(&iter, &key, &count)) {
		if (!b->ops->set_links(b, wdr_ext_change_serial(*(const uint64_t *)key),
			    (uint64_t) * (const int64_t *)count, error))
			return false;
	}
	return true;
}

static bool apply(Apply *a, GError **error)
{
	WdrBuilder *b = wdr_ext_change_builder(a->change);

	if (!resolve(a, error) || !change_names(a, error) || !release_all(a, error))
		return false;
	for (guint i = 0; i < a->steps->len; i++) {
		Step *step = &g_array_index(a->steps, Step, i);
		if (!copy_one(a, step, error)) {
			g_prefix_error(error, "/%s: ", step->diff->now.path);
			return false;
		}
	}
	return fill_folders(a, error) && set_links(a, error) && b->ops->finish(b, error);
}

bool wdr_apply_ext(const WdrDifference *d, const WdrBuildTarget *target, GPtrArray *diffs,
	uint64_t *ret_bytes, GError **error)
{
	g_autoptr(WdrExtChange) change = NULL;
	g_autoptr(GArray) steps = g_array_new(FALSE, FALSE, sizeof(Step));
	g_autoptr(GHashTable) folders =
		g_hash_table_new_full(g_str_hash, g_str_equal, NULL, folder_free);
	g_autoptr(GHashTable) fresh =
		g_hash_table_new_full(g_str_hash, g_str_equal, g_free, g_free);
	g_autoptr(GHashTable) links =
		g_hash_table_new_full(g_int64_hash, g_int64_equal, g_free, g_free);
	g_autoptr(WdrHasher) hasher = wdr_hasher_new();
	g_autofree uint8_t *buf = g_malloc(PIECE_BYTES);

	*ret_bytes = 0;
	if (!wdr_ext_change_open(target, &change, error))
		return false;
	Apply a = { d, change, diffs, steps, folders, fresh, links, hasher, buf, 0, 0 };
	bool is_fine = apply(&a, error);
	*ret_bytes = a.bytes;
	return is_fine;
}
