/* Walks a volume, depth first, names sorted by byte, and cuts the walk into batches.
 *
 * The order depends on names alone. So the source and the target that is read back give the same
 * sequence, and comparing them needs no table of files. For each folder the walk gives
 *   1. its list of names, each with a serial: the first name of an inode gets the next number, a
 *      further name of a hard link gets the number of the first;
 *   2. its entries, in the order of names;
 *   3. then the folders in it, one after the other, each with all that is below it.
 * Memory: the open folder's names, the folders that wait on the stack, and the hard links of which
 * not all names have come yet.
 *
 * A running source changes meanwhile. What the list of names said stays valid for the builder: an
 * entry that is gone, or is of another kind by now, is replaced by an empty one of the listed kind
 * (look_at). The passes after the copy find and mend it. */
#include "copy/tree_walk_priv.h"

#include "base/share.h"
#include "base/stop.h"
#include "volume/swap.h"

#include <stdlib.h>
#include <string.h>

enum {
	BATCH_ENTRIES = 2048,
	BATCH_BYTES = 64 * 1024 * 1024,
	DEPTH_MAX = 4096,             /* of folders in folders */
	FIRST_FAT_SECOND = 315532800, /* 1980-01-01 */
};

WdrReplacements *wdr_replacements_new(void)
{
	return g_hash_table_new_full(
		g_str_hash, g_str_equal, g_free, (GDestroyNotify)g_bytes_unref);
}

/* ---- batches ---- */

void wdr_reached_free(WdrReached *reached)
{
	if (!reached)
		return;
	g_array_unref(reached->missing);
	g_free(reached);
}

void wdr_slab_free(WdrSlab *slab)
{
	free(slab->bytes);
	g_free(slab);
}

/* When a copy ends early; else their memory is used again. */
static void chunk_free(WdrChunk *chunk)
{
	if (!chunk->slab)
		wdr_buffer_free(chunk->data);
	else if (--chunk->slab->users == 0)
		wdr_slab_free(chunk->slab);
	wdr_reached_free(chunk->reached);
	g_free(chunk);
}

static void job_free(void *data)
{
	WdrJob *job = data;

	for (GList *link; (link = g_queue_pop_head_link(&job->chunks));)
		chunk_free(link->data);
	wdr_content_free(job->content);
	wdr_damage_free(job->damage);
	wdr_reached_free(job->reached);
	wdr_entry_clear(&job->entry);
	g_free(job->link_to);
	g_free(job->path);
	g_free(job);
}

static void folder_free(void *data)
{
	WdrFolderJob *folder = data;

	wdr_names_unref(folder->names);
	g_array_unref(folder->children);
	g_free(folder->path);
	g_free(folder);
}

WdrNames *wdr_names_new(void)
{
	WdrNames *names = g_atomic_rc_box_new0(WdrNames);

	names->strings = g_string_chunk_new(4096);
	return names;
}

static void names_clear(void *names)
{
	g_string_chunk_free(((WdrNames *)names)->strings);
}

void wdr_names_unref(WdrNames *names)
{
	g_atomic_rc_box_release_full(names, names_clear);
}

WdrBatch *wdr_batch_new(void)
{
	WdrBatch *w = g_new0(WdrBatch, 1);

	w->folders = g_ptr_array_new_with_free_func(folder_free);
	w->jobs = g_ptr_array_new_with_free_func(job_free);
	w->by_place = g_ptr_array_new();
	w->order = g_array_new(FALSE, FALSE, sizeof(WdrBatchStep));
	w->unread = g_ptr_array_new_with_free_func(g_free);
	return w;
}

void wdr_batch_free(WdrBatch *w)
{
	if (!w)
		return;
	g_ptr_array_unref(w->folders);
	g_ptr_array_unref(w->jobs);
	g_ptr_array_unref(w->by_place);
	g_array_unref(w->order);
	g_ptr_array_unref(w->unread);
	g_clear_pointer(&w->after, g_variant_unref);
	g_free(w);
}

bool wdr_job_is_long(const WdrJob *job)
{
	return job->content && job->entry.size > WDR_LONG_BYTES;
}

WdrJob *wdr_job_new(void)
{
	WdrJob *job = g_new0(WdrJob, 1);

	g_queue_init(&job->chunks);
	job->link.data = job;
	return job;
}

static int by_place(const void *a, const void *b)
{
	const WdrJob *x = *(WdrJob *const *)a;
	const WdrJob *y = *(WdrJob *const *)b;

	/* A checkpoint within it counts everything else in the batch as done. */
	if (wdr_job_is_long(x) != wdr_job_is_long(y))
		return wdr_job_is_long(x) ? 1 : -1;
	if (x->entry.place != y->entry.place)
		return x->entry.place < y->entry.place ? -1 : 1;
	return x->serial < y->serial ? -1 : x->serial > y->serial;
}

/* Sorts contents by their place on the source, so that reading within a batch goes forward, and
 * numbers them in that order. */
void wdr_tree_walk_finish_batch(WdrTreeWalk *p, WdrBatch *w)
{
	g_ptr_array_sort(w->by_place, by_place);
	for (guint i = 0; i < w->by_place->len; i++)
		((WdrJob *)w->by_place->pdata[i])->turn = p->next_turn++;
}

/* ---- the walk ---- */

static void pending_free(void *data)
{
	g_free(((WdrPending *)data)->path);
	g_free(data);
}

static void link_free(void *data)
{
	g_free(((WdrLink *)data)->path);
	g_free(data);
}

WdrTreeWalk *wdr_tree_walk_new(const WdrCopy *copy, int64_t now)
{
	WdrTreeWalk *p = g_new0(WdrTreeWalk, 1);

	p->copy = copy;
	p->now = now;
	p->stack = g_ptr_array_new_with_free_func(pending_free);
	p->above = g_array_new(FALSE, TRUE, sizeof(uint64_t));
	p->links = g_hash_table_new_full(g_int64_hash, g_int64_equal, NULL, link_free);
	p->next_serial = 1;
	return p;
}

static void leave_folder(WdrTreeWalk *p)
{
	if (!p->folder.at)
		return;
	pending_free(p->folder.at);
	wdr_names_unref(p->folder.names);
	for (guint i = 0; i < p->folder.found->len; i++)
		g_free(g_array_index(p->folder.found, WdrFound, i).glance);
	g_array_unref(p->folder.found);
	g_array_unref(p->folder.serials);
	memset(&p->folder, 0, sizeof(p->folder));
}

void wdr_tree_walk_free(WdrTreeWalk *p)
{
	if (!p)
		return;
	leave_folder(p);
	g_ptr_array_unref(p->stack);
	g_array_unref(p->above);
	g_hash_table_unref(p->links);
	g_free(p);
}

/* Named by --leave-behind or by a rule of ours, such as the state folder of this very move. */
static bool is_left_behind(const WdrTreeWalk *p, const WdrName *name)
{
	g_autofree char *path =
		p->copy->exclude ? wdr_volume_path(p->folder.at->path, name->name) : NULL;

	return path && wdr_exclude_rule(p->copy->exclude, path, name->kind) != WDR_EXCLUDE_COPIED;
}

/* One name of a folder that is being listed. The strings are borrowed from the volume, so they are
 * copied. */
static bool collect(void *data, const WdrName *name, GError **error)
{
	WdrTreeWalk *p = data;

	if (is_left_behind(p, name))
		return wdr_stop_check(error);
	WdrFound found = { .name = g_string_chunk_insert(p->folder.names->strings, name->name),
		.id = name->id,
		.links = name->links,
		.kind = name->kind };

	if (name->fat_name)
		found.fat_name = (const uint8_t *)g_string_chunk_insert_len(
			p->folder.names->strings, (const char *)name->fat_name, WDR_FAT_NAME_BYTES);
	if (p->copy->glances && name->glance)
		found.glance = g_memdup2(name->glance, sizeof(*name->glance));
	g_array_append_val(p->folder.found, found);
	return wdr_stop_check(error);
}

static int by_name(const void *a, const void *b)
{
	return strcmp(((const WdrFound *)a)->name, ((const WdrFound *)b)->name);
}

static void remove_found(const WdrTreeWalk *p, guint i)
{
	g_free(g_array_index(p->folder.found, WdrFound, i).glance);
	g_array_remove_index(p->folder.found, i);
}

/* A damaged folder can name the same thing twice; which of the two would be copied is chance. One
 * that changes while it is read may show a name before and after it was replaced. */
static bool check_names(const WdrTreeWalk *p, GError **error)
{
	for (guint i = 1; i < p->folder.found->len;) {
		const WdrFound *f = &g_array_index(p->folder.found, WdrFound, i);
		bool is_twice = strcmp(f->name, f[-1].name) == 0;
		if (is_twice && !p->copy->source->is_changing)
			return wdr_error_set(error, WDR_ERROR_FORMAT,
				"%s: the name %s/%s is there twice",
				wdr_volume_name(p->copy->source), p->folder.at->path, f->name);
		if (is_twice)
			remove_found(p, i);
		else
			i++;
	}
	return true;
}

/* Gives a name its serial, and hands it to the builder's list. */
static void number_name(WdrTreeWalk *p, const WdrFound *f, WdrFolderJob *job)
{
	bool is_linked = f->kind != WDR_KIND_FOLDER && f->links > 1;
	WdrLink *link = is_linked ? g_hash_table_lookup(p->links, &f->id) : NULL;
	uint64_t serial = link ? link->serial : p->next_serial++;
	WdrChild child = { f->name, f->kind, serial, f->fat_name };

	if (is_linked && !link) {
		link = g_new0(WdrLink, 1);
		link->serial = serial;
		link->links = (uint32_t)f->links;
		link->id = f->id;
		g_hash_table_insert(p->links, &link->id, link);
	}
	g_array_append_val(job->children, child);
	g_array_append_val(p->folder.serials, serial);
}

/* Without what the medium failed to give. */
static bool goes_on(WdrTreeWalk *p, WdrBatch *w, const char *path, const GError *failure)
{
	if (!wdr_error_is_medium(failure) || p->failures++ >= WDR_FAILURES_MAX ||
		!p->copy->may_miss || !p->copy->may_miss(p->copy->miss_data, path))
		return false;
	g_ptr_array_add(w->unread, g_strdup(path));
	return true;
}

/* In a damaged volume a folder can lead back to one above it. (A walk that goes on from a
 * checkpoint does not know those above where it begins; it notices one turn later.) */
static bool check_above(WdrTreeWalk *p, const WdrPending *at, GError **error)
{
	if (at->depth > DEPTH_MAX)
		return wdr_error_set(error, WDR_ERROR_FORMAT,
			"%s: folders are nested more than %d deep at %s",
			wdr_volume_name(p->copy->source), DEPTH_MAX, at->path);
	g_array_set_size(p->above, at->depth);
	for (guint i = 0; !p->copy->source->is_changing && i < p->above->len; i++)
		if (g_array_index(p->above, uint64_t, i) == at->id)
			return wdr_error_set(error, WDR_ERROR_FORMAT,
				"%s: the folder %s leads back to a folder above it",
				wdr_volume_name(p->copy->source), at->path);
	g_array_append_val(p->above, at->id);
	return true;
}

/* Lists a folder whole before its first entry: a builder needs all names to write the folder. */
static bool enter_folder(WdrTreeWalk *p, WdrPending *at, WdrBatch *w, GError **error)
{
	WdrFolderJob *job = g_new0(WdrFolderJob, 1);
	WdrBatchStep step = { true, w->folders->len };

	p->folder.at = at;
	p->folder.names = wdr_names_new();
	p->folder.found = g_array_new(FALSE, FALSE, sizeof(WdrFound));
	p->folder.serials = g_array_new(FALSE, FALSE, sizeof(uint64_t));
	job->serial = at->serial;
	job->parent = at->parent;
	job->path = g_strdup(at->path);
	job->names = g_atomic_rc_box_acquire(p->folder.names);
	job->children = g_array_new(FALSE, FALSE, sizeof(WdrChild));
	g_ptr_array_add(w->folders, job);
	g_array_append_val(w->order, step);
	if (!check_above(p, at, error))
		return false;
	WdrNode node = { at->id, at->path };
	g_autoptr(GError) local = NULL;
	if (!wdr_volume_list(p->copy->source, &node, collect, p, &local) &&
		!wdr_volume_is_gone(p->copy->source, local) && !goes_on(p, w, at->path, local)) {
		g_propagate_error(error, g_steal_pointer(&local));
		return false;
	}
	if (p->folder.found->len > 1)
		qsort(p->folder.found->data, p->folder.found->len, sizeof(WdrFound), by_name);
	if (!check_names(p, error))
		return false;
	for (guint i = 0; i < p->folder.found->len; i++)
		number_name(p, &g_array_index(p->folder.found, WdrFound, i), job);
	return true;
}

/* Counts a name of a hard link; *ret_first is the path of the first, or NULL if this is it. */
static void count_link(WdrTreeWalk *p, uint64_t id, const char *path, char **ret_first)
{
	WdrLink *link = g_hash_table_lookup(p->links, &id);

	*ret_first = NULL;
	if (!link)
		return;
	if (link->seen++ == 0)
		link->path = g_strdup(path);
	else
		*ret_first = g_strdup(link->path);
	/* All names are known: a later folder cannot hold one more. */
	if (link->seen == link->links)
		g_hash_table_remove(p->links, &id);
}

/* Files that are edited on the way, and swap files, get another content than the source has. All
 * else is opened here, in the walk, and read later by the readers. */
static bool open_content(WdrTreeWalk *p, uint64_t id, WdrJob *job, GError **error)
{
	WdrNode node = { id, job->path };
	GBytes *instead = p->copy->replacements
				  ? g_hash_table_lookup(p->copy->replacements, job->path)
				  : NULL;

	if (instead) {
		job->entry.size = g_bytes_get_size(instead);
		/* Even seconds, none before 1980: FAT knows no others, and the time is compared
		 * when it is read back. A board without a clock of its own starts in 1970. */
		int64_t now = MAX(p->now, FIRST_FAT_SECOND);
		job->entry.mtime = job->entry.ctime = (WdrTime){ now - now % 2, 0 };
		job->content = job->entry.size ? wdr_content_bytes(instead) : NULL;
		return true;
	}
	return job->entry.size == 0 ||
	       (p->copy->renews_swap ? wdr_swap_open_content : wdr_volume_open)(
		       p->copy->source, &node, &job->entry, &job->content, error);
}

static bool look_at(WdrTreeWalk *p, WdrBatch *w, const WdrFound *f, WdrJob *job, GError **error)
{
	WdrNode node = { f->id, job->path };
	g_autoptr(GError) local = NULL;

	if (f->glance) {
		job->entry = *f->glance;
		return true;
	}
	if (!wdr_volume_stat(p->copy->source, &node, &job->entry, &local) &&
		!wdr_volume_is_gone(p->copy->source, local) && !goes_on(p, w, job->path, local)) {
		g_propagate_error(error, g_steal_pointer(&local));
		return false;
	}
	p->failures = local ? p->failures : 0;
	if (!p->copy->source->is_changing && !local)
		return true;
	/* Its name is in a folder's list already, so something of this kind must be there until
	 * the pass that copies what changed takes it away again. */
	if (local || job->entry.kind != f->kind)
		wdr_entry_stand_in(&job->entry, f->kind, p->now);
	/* The list of names was made from what was told then. */
	if (f->kind != WDR_KIND_FOLDER)
		job->entry.links = f->links;
	return true;
}

static bool add_entry(WdrTreeWalk *p, WdrBatch *w, WdrJob *job, const WdrFound *f, GError **error)
{
	WdrBatchStep step = { false, w->jobs->len };

	g_ptr_array_add(w->jobs, job);
	g_array_append_val(w->order, step);
	job->id = f->id;
	if (!look_at(p, w, f, job, error))
		return false;
	if (f->kind != WDR_KIND_FOLDER && f->links > 1)
		count_link(p, f->id, job->path, &job->link_to);
	if (job->entry.kind != WDR_KIND_FILE || job->link_to || p->copy->glances)
		return true;
	g_autoptr(GError) local = NULL;
	if (!open_content(p, f->id, job, &local) && !goes_on(p, w, job->path, local)) {
		g_propagate_error(error, g_steal_pointer(&local));
		return false;
	}
	job->entry.size = local ? 0 : job->entry.size;
	if (job->content)
		g_ptr_array_add(w->by_place, job);
	return true;
}

static WdrJob *new_job(char *path, uint64_t serial, uint64_t parent)
{
	WdrJob *job = wdr_job_new();

	job->path = path;
	job->serial = serial;
	job->parent = parent;
	return job;
}

/* The next name of the folder being walked. */
static bool take_name(WdrTreeWalk *p, WdrBatch *w, uint64_t *bytes, GError **error)
{
	const WdrPending *at = p->folder.at;
	const WdrFound *f = &g_array_index(p->folder.found, WdrFound, p->folder.next);
	uint64_t serial = g_array_index(p->folder.serials, uint64_t, p->folder.next);
	WdrJob *job = new_job(wdr_volume_path(at->path, f->name), serial, at->serial);

	p->folder.next++;
	if (!add_entry(p, w, job, f, error))
		return false;
	*bytes += job->content ? job->entry.size : 0;
	return true;
}

/* Folders below the walked one go onto the stack, the first name on top. */
static void push_folders(WdrTreeWalk *p)
{
	const WdrPending *at = p->folder.at;

	for (guint i = p->folder.found->len; i > 0; i--) {
		const WdrFound *f = &g_array_index(p->folder.found, WdrFound, i - 1);
		if (f->kind != WDR_KIND_FOLDER)
			continue;
		WdrPending *next = g_new0(WdrPending, 1);
		next->path = wdr_volume_path(at->path, f->name);
		next->id = f->id;
		next->serial = g_array_index(p->folder.serials, uint64_t, i - 1);
		next->parent = at->serial;
		next->depth = at->depth + 1;
		g_ptr_array_add(p->stack, next);
	}
}

static bool add_root(WdrTreeWalk *p, WdrBatch *w, GError **error)
{
	WdrPending *root = g_new0(WdrPending, 1);
	WdrFound found = { .name = "", .id = p->copy->source->root_id, .kind = WDR_KIND_FOLDER };

	root->path = g_strdup("");
	root->id = p->copy->source->root_id;
	g_ptr_array_add(p->stack, root);
	p->has_root = true;
	return add_entry(p, w, new_job(g_strdup(""), 0, 0), &found, error);
}

/* A batch ends after some thousand steps or some megabytes; a long file ends it at once (its size
 * alone). */
bool wdr_tree_walk_next(WdrTreeWalk *p, WdrBatch **ret, GError **error)
{
	g_autoptr(WdrBatch) w = wdr_batch_new();
	uint64_t bytes = 0;

	*ret = NULL;
	if (!p->has_root && !add_root(p, w, error))
		return false;
	while (w->order->len < wdr_share_of(BATCH_ENTRIES) && bytes < BATCH_BYTES) {
		if (p->folder.at && p->folder.next < p->folder.found->len) {
			if (!take_name(p, w, &bytes, error))
				return false;
			continue;
		}
		if (p->folder.at)
			push_folders(p);
		leave_folder(p);
		if (p->stack->len == 0)
			break;
		WdrPending *at = g_ptr_array_steal_index(p->stack, p->stack->len - 1);
		if (!enter_folder(p, at, w, error))
			return false;
	}
	if (w->order->len == 0)
		return true;
	wdr_tree_walk_finish_batch(p, w);
	*ret = g_steal_pointer(&w);
	return true;
}

bool wdr_tree_walk_short_links(
	const WdrTreeWalk *walk, WdrTreeWalkLinkFunc each, void *data, GError **error)
{
	GHashTableIter iter;
	void *value = NULL;

	g_hash_table_iter_init(&iter, walk->links);
	while (g_hash_table_iter_next(&iter, NULL, &value)) {
		const WdrLink *link = value;
		if (!each(data, link->serial, link->seen, error))
			return false;
	}
	return true;
}
