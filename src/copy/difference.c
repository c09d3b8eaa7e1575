/* Compares a source with its packing list in one pass over both.
 *
 * The walk over the source and the list have the same order, so this is a merge of two sorted
 * streams. For most entries the listing of a folder is enough (inode, size, times); only others are
 * looked at closely, and hashed where times leave a doubt: a file that changed within thirty
 * seconds before the list was begun may have changed again without another time. Nobody but the
 * kernel sets the change time, so it may be trusted otherwise.
 *
 * A new name counts as renamed only if its content is that of a removed one. Inode numbers are used
 * again, and programs set the modification time. */
#include "copy/difference.h"

#include "copy/volume_copy_priv.h"
#include "volume/swap.h"

#include <string.h>

typedef struct {
	const WdrDifference *d;
	WdrPacking *list;
	WdrHasher *hasher;
	GPtrArray *diffs;
	GHashTable *removed; /* &id -> WdrDiff, files only */
	GHashTable *remade;  /* paths where something else is now */
	gint read_failures;  /* in a row */
} Search;

const char *wdr_diff_name(WdrDiffKind kind)
{
	static const char *const names[] = { "removed", "new", "changed", "metadata", "metadata",
		"edited" };

	return names[kind];
}

static void diff_free(void *data)
{
	WdrDiff *diff = data;

	wdr_list_entry_clear(&diff->was);
	wdr_list_entry_clear(&diff->now);
	g_array_unref(diff->missing);
	g_free(diff->renamed_from);
	g_free(diff);
}

static WdrListEntry copy_of(const WdrListEntry *p)
{
	WdrListEntry copy = *p;

	copy.path = g_strdup(p->path);
	copy.link = g_strdup(p->link);
	return copy;
}

WdrDiff *wdr_diff_new(WdrDiffKind kind)
{
	WdrDiff *diff = g_new0(WdrDiff, 1);

	diff->kind = kind;
	diff->missing = g_array_new(FALSE, FALSE, sizeof(WdrRange));
	return diff;
}

GPtrArray *wdr_diffs_new(void)
{
	return g_ptr_array_new_with_free_func(diff_free);
}

static WdrDiff *add(Search *s, WdrDiffKind kind, const WdrListEntry *was, const WdrListEntry *now)
{
	WdrDiff *diff = wdr_diff_new(kind);

	if (was)
		diff->was = copy_of(was);
	if (now)
		diff->now = copy_of(now);
	g_ptr_array_add(s->diffs, diff);
	return diff;
}

static void add_removed(Search *s, const WdrListEntry *was)
{
	WdrDiff *diff = add(s, WDR_DIFF_REMOVED, was, NULL);

	if (!was->is_link && was->kind == WDR_KIND_FILE)
		g_hash_table_insert(s->removed, &diff->was.id, diff);
}

/* ---- one entry ---- */

/* It may have changed again without another change time: the kernel's clock for these ticks every
 * 10 ms at most, and see WDR_SETTLED_AFTER_S. */
static bool is_doubtful(const Search *s, WdrTime changed)
{
	return changed.sec >= wdr_packing_begun(s->list) - WDR_SETTLED_AFTER_S;
}

static bool has_other_metadata(const WdrListEntry *was, const WdrListEntry *now)
{
	return was->mode != now->mode || was->uid != now->uid || was->gid != now->gid ||
	       !wdr_time_equal(was->mtime, now->mtime) || !wdr_time_equal(was->ctime, now->ctime) ||
	       !wdr_hash_equal(was->metadata, now->metadata);
}

static const WdrUnreadable *missing_of(const Search *s, const char *path)
{
	return s->d->missing ? wdr_unreadable_find(s->d->missing, s->d->partition, path) : NULL;
}

/* What cannot be read counts as zeros, as it did when it was copied; of what is gone nothing is
 * left. */
static bool hash_content(
	Search *s, const WdrNode *node, WdrEntry *entry, WdrHash *ret, GError **error)
{
	g_autoptr(WdrDamage) damage = wdr_damage_new(&s->read_failures);
	g_autoptr(WdrContent) content = NULL;

	if (!wdr_swap_open_content(s->d->source, node, entry, &content, error))
		return false;
	content->damage = damage;
	return wdr_content_hash(content, entry->size, s->hasher, ret, error);
}

static bool hash_job(Search *s, WdrJob *job, WdrHash *ret, GError **error)
{
	WdrNode node = { job->id, job->path };

	return hash_content(s, &node, &job->entry, ret, error);
}

static bool compare_edited(Search *s, const WdrHash *made_from, const WdrListEntry *was,
	WdrListEntry *now, WdrJob *job, GError **error)
{
	WdrHash hash = wdr_hash("", 0);

	if (job->entry.size > 0 && !hash_job(s, job, &hash, error))
		return false;
	if (!wdr_hash_equal(hash, *made_from))
		add(s, WDR_DIFF_EDITED, was, now);
	return true;
}

static bool compare_file(
	Search *s, const WdrListEntry *was, WdrListEntry *now, WdrJob *job, GError **error)
{
	const WdrHash *made_from =
		s->d->edited ? g_hash_table_lookup(s->d->edited, now->path) : NULL;
	bool is_same = was->size == now->size && was->id == now->id &&
		       wdr_time_equal(was->mtime, now->mtime) &&
		       wdr_time_equal(was->ctime, now->ctime);

	if (made_from)
		return compare_edited(s, made_from, was, now, job, error);
	now->content = was->content;
	if (is_same && !is_doubtful(s, now->ctime))
		return true;
	bool is_other = was->size != now->size ||
			(was->id == now->id && !wdr_time_equal(was->mtime, now->mtime));
	if (!is_other && job->entry.size > 0) {
		if (!hash_job(s, job, &now->content, error))
			return false;
		is_other = !wdr_hash_equal(now->content, was->content);
	}
	if (is_other)
		add(s, WDR_DIFF_CONTENT, was, now);
	else if (!is_same || has_other_metadata(was, now))
		add(s, WDR_DIFF_METADATA, was, now);
	return true;
}

/* The same path, then and now. */
static bool compare(
	Search *s, const WdrListEntry *was, WdrListEntry *now, WdrJob *job, GError **error)
{
	bool is_same_kind = was->is_link == now->is_link && g_strcmp0(was->link, now->link) == 0 &&
			    (was->is_link || was->kind == now->kind);
	/* What a link points to, a device's numbers: there is nothing to keep of such an inode. */
	bool is_remade = was->is_link
				 ? g_hash_table_contains(s->remade, was->link)
				 : was->kind != WDR_KIND_FILE && was->kind != WDR_KIND_FOLDER &&
					   !wdr_hash_equal(was->metadata, now->metadata);

	if (!is_same_kind || is_remade) {
		add_removed(s, was);
		const WdrDiff *diff = add(s, WDR_DIFF_NEW, NULL, now);
		g_hash_table_add(s->remade, diff->now.path);
		return true;
	}
	if (!was->is_link && was->kind == WDR_KIND_FILE)
		return compare_file(s, was, now, job, error);
	if (has_other_metadata(was, now) || was->size != now->size || was->id != now->id)
		add(s, was->is_link ? WDR_DIFF_LINE : WDR_DIFF_METADATA, was, now);
	return true;
}

/* ---- the walk ---- */

/* All that the list has before this path is gone. */
static bool pass_removed(Search *s, const char *path, const WdrListEntry **ret, GError **error)
{
	for (;;) {
		if (!wdr_packing_next(s->list, ret, error))
			return false;
		if (!*ret || (path && wdr_list_entry_order((*ret)->path, path) >= 0))
			return true;
		add_removed(s, *ret);
	}
}

/* All that changes an entry changes its change time too. */
static bool is_untouched(const Search *s, const WdrListEntry *was, const WdrJob *job)
{
	const WdrEntry *now = &job->entry;
	bool is_link = job->link_to != NULL;

	if (is_doubtful(s, now->ctime) || was->is_link != is_link || was->id != job->id ||
		!wdr_time_equal(was->ctime, now->ctime) || !wdr_time_equal(was->mtime, now->mtime))
		return false;
	return is_link ? g_strcmp0(was->link, job->link_to) == 0 &&
				 !g_hash_table_contains(s->remade, was->link)
		       : was->kind == now->kind && was->size == now->size;
}

/* All that is known of it. */
static bool look_closely(Search *s, WdrJob *job, WdrListEntry *ret, GError **error)
{
	WdrCopied copied = { job->path, &job->entry, job->link_to, { 0, 0 }, job->id, 0 };
	WdrNode node = { job->id, job->path };
	g_autoptr(GError) local = NULL;
	g_auto(WdrEntry) entry = { 0 };

	if (wdr_volume_stat(s->d->source, &node, &entry, &local)) {
		/* What the names of its content told is older than this look. */
		if (entry.kind == job->entry.kind) {
			entry.links = job->entry.links;
			wdr_entry_clear(&job->entry);
			job->entry = entry;
			entry = (WdrEntry){ 0 };
		}
	} else if (!wdr_volume_is_gone(s->d->source, local)) {
		g_propagate_error(error, g_steal_pointer(&local));
		return false;
	}
	wdr_list_entry_describe(s->hasher, &copied, ret);
	return true;
}

static bool look_at(Search *s, WdrJob *job, GError **error)
{
	g_auto(WdrListEntry) now = { 0 };
	const WdrListEntry *was = NULL;

	if (!pass_removed(s, job->path, &was, error))
		return false;
	bool is_known = was && strcmp(was->path, job->path) == 0;
	const WdrUnreadable *missing = is_known ? missing_of(s, job->path) : NULL;
	/* It could not be looked at then: there is nothing to compare with. */
	if (is_known && ((missing && !missing->ranges) || is_untouched(s, was, job)))
		return true;
	if (!look_closely(s, job, &now, error))
		return false;
	if (is_known)
		return compare(s, was, &now, job, error);
	if (was)
		wdr_packing_back(s->list);
	add(s, WDR_DIFF_NEW, NULL, &now);
	return true;
}

/* The content that a new name has now is what the removed one had. Inode, size and times do not
 * tell: a file system gives a removed file's inode to the next one, and programs set times. */
static bool has_content_of(
	Search *s, const WdrDiff *from, const WdrDiff *diff, bool *ret, GError **error)
{
	WdrNode node = { diff->now.id, diff->now.path };
	g_auto(WdrEntry) entry = { 0 };
	g_autoptr(GError) local = NULL;
	WdrHash hash = from->was.content;

	*ret = false;
	if (!wdr_volume_stat(s->d->source, &node, &entry, &local)) {
		if (wdr_volume_is_gone(s->d->source, local))
			return true;
		g_propagate_error(error, g_steal_pointer(&local));
		return false;
	}
	if (entry.kind != WDR_KIND_FILE || entry.size != from->was.size)
		return true;
	if (entry.size > 0 && !hash_content(s, &node, &entry, &hash, error))
		return false;
	*ret = wdr_hash_equal(hash, from->was.content);
	return true;
}

/* The same file under another name, as it was copied. */
static bool note_renames(Search *s, GError **error)
{
	for (guint i = 0; i < s->diffs->len; i++) {
		WdrDiff *diff = s->diffs->pdata[i];
		bool is_file = diff->kind == WDR_DIFF_NEW && !diff->now.is_link &&
			       diff->now.kind == WDR_KIND_FILE;
		WdrDiff *from = is_file ? g_hash_table_lookup(s->removed, &diff->now.id) : NULL;
		bool is_same = from && from->was.size == diff->now.size &&
			       wdr_time_equal(from->was.mtime, diff->now.mtime);
		if (is_same && !has_content_of(s, from, diff, &is_same, error))
			return false;
		if (!is_same)
			continue;
		diff->renamed_from = g_strdup(from->was.path);
		diff->was = copy_of(&from->was);
		diff->now.content = from->was.content;
		g_hash_table_remove(s->removed, &diff->now.id);
	}
	return true;
}

static bool walk(Search *s, WdrTreeWalk *plan, GError **error)
{
	const WdrListEntry *rest = NULL;

	for (;;) {
		g_autoptr(WdrBatch) w = NULL;
		if (!wdr_tree_walk_next(plan, &w, error))
			return false;
		if (!w)
			return pass_removed(s, NULL, &rest, error);
		for (guint i = 0; i < w->jobs->len; i++) {
			if (!look_at(s, w->jobs->pdata[i], error))
				return false;
		}
	}
}

static bool may_miss(void *data, const char *path)
{
	return missing_of(data, path) != NULL;
}

bool wdr_difference_find(const WdrDifference *d, WdrPacking *list, GPtrArray **ret,
	int64_t *ret_begun, GError **error)
{
	g_autoptr(WdrHasher) hasher = wdr_hasher_new();
	g_autoptr(GPtrArray) diffs = g_ptr_array_new_with_free_func(diff_free);
	g_autoptr(GHashTable) removed = g_hash_table_new(g_int64_hash, g_int64_equal);
	g_autoptr(GHashTable) remade = g_hash_table_new(g_str_hash, g_str_equal);
	Search s = { d, list, hasher, diffs, removed, remade, 0 };
	WdrCopy copy = { .source = d->source,
		.exclude = d->exclude,
		.glances = true,
		.may_miss = may_miss,
		.miss_data = &s };
	WdrTreeWalk *plan = wdr_tree_walk_new(&copy, wdr_world_now(d->world));

	*ret_begun = wdr_world_stamp(d->world);
	bool is_fine = walk(&s, plan, error);
	wdr_tree_walk_free(plan);
	if (!is_fine || !note_renames(&s, error))
		return false;
	*ret = g_steal_pointer(&diffs);
	return true;
}
