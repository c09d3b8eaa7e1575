/* After differences were copied: the packing list, and reading back.
 *
 * The list is written anew beside the old one and takes its place by rename. Only what was changed
 * is read back. */
#include "copy/apply_changes.h"

#include "base/record.h"

#include <errno.h>
#include <stdio.h>
#include <string.h>

/* ---- the list ---- */

static bool put_before(
	WdrPacking *to, GPtrArray *diffs, guint *next, const char *path, GError **error)
{
	for (; *next < diffs->len; (*next)++) {
		const WdrDiff *diff = diffs->pdata[*next];
		const char *at = diff->kind == WDR_DIFF_REMOVED ? diff->was.path : diff->now.path;
		if (path && wdr_list_entry_order(at, path) >= 0)
			return true;
		if (diff->kind != WDR_DIFF_REMOVED && !wdr_packing_put(to, &diff->now, error))
			return false;
	}
	return true;
}

/* What becomes of an entry of the old list, the one that was read last. */
static bool put_entry(WdrPacking *to, const WdrPacking *from, GPtrArray *diffs, guint *next,
	const WdrListEntry *old, GError **error)
{
	bool is_replaced = false;

	if (!put_before(to, diffs, next, old->path, error))
		return false;
	for (; *next < diffs->len; (*next)++) {
		const WdrDiff *diff = diffs->pdata[*next];
		bool is_removed = diff->kind == WDR_DIFF_REMOVED;
		if (strcmp(is_removed ? diff->was.path : diff->now.path, old->path) != 0)
			break;
		if (diff->kind == WDR_DIFF_EDITED)
			continue;
		is_replaced = true;
		if (!is_removed && !wdr_packing_put(to, &diff->now, error))
			return false;
	}
	return is_replaced || wdr_packing_copy(to, from, error);
}

bool wdr_apply_list(const char *path, GPtrArray *diffs, int64_t begun, GError **error)
{
	g_autofree char *temporary = g_strconcat(path, ".new", NULL);
	g_autoptr(WdrPacking) from = NULL;
	g_autoptr(WdrPacking) to = NULL;
	const WdrListEntry *old = NULL;
	guint next = 0;

	if (!wdr_packing_open(path, &from, error) ||
		!wdr_packing_create(temporary, begun, &to, error))
		return false;
	for (;;) {
		if (!wdr_packing_next(from, &old, error))
			return false;
		if (!old)
			break;
		if (!put_entry(to, from, diffs, &next, old, error))
			return false;
	}
	if (!put_before(to, diffs, &next, NULL, error) || !wdr_packing_finish(to, error))
		return false;
	return wdr_record_rename(temporary, path, error);
}

/* ---- reading back ---- */

typedef struct {
	WdrVolume *medium;
	WdrHasher *hasher;
	char *folder; /* whose names these are; NULL: none yet */
	uint64_t folder_id;
	bool has_folder;   /* it is there */
	unsigned singles;  /* names that were asked for */
	GHashTable *names; /* char * -> uint64_t: inode; when it is worth it to have them all */
} Check;

/* Names of a folder that are asked for one by one; then all of them are read. */
enum { SINGLE_NAMES_MAX = 8 };

static bool take_name(void *data, const WdrName *name, GError **error)
{
	(void)error;
	g_hash_table_insert(((Check *)data)->names, g_strdup(name->name),
		g_memdup2(&name->id, sizeof(name->id)));
	return true;
}

/* Differences come folder by folder: one at a time is kept. */
static bool enter(Check *c, const char *folder, GError **error)
{
	g_auto(WdrEntry) entry = { 0 };
	bool found = false;

	g_hash_table_remove_all(c->names);
	g_free(c->folder);
	c->folder = g_strdup(folder);
	c->singles = 0;
	if (!wdr_volume_lookup(c->medium, folder, &found, &c->folder_id, &entry, error))
		return false;
	c->has_folder = found && entry.kind == WDR_KIND_FOLDER;
	return true;
}

static bool find(Check *c, const char *path, WdrNamed *ret, GError **error)
{
	const char *slash = strrchr(path, '/');
	const char *name = slash ? slash + 1 : path;
	g_autofree char *folder = g_strndup(path, slash ? (size_t)(slash - path) : 0);

	*ret = (WdrNamed){ *path == '\0', c->medium->root_id, WDR_KIND_FOLDER };
	if (ret->is_there)
		return true;
	if (g_strcmp0(c->folder, folder) != 0 && !enter(c, folder, error))
		return false;
	WdrNode node = { c->folder_id, folder };
	if (!c->has_folder)
		return true;
	if (++c->singles <= SINGLE_NAMES_MAX)
		return wdr_volume_find(c->medium, &node, name, ret, error);
	if (c->singles == SINGLE_NAMES_MAX + 1 &&
		!wdr_volume_list(c->medium, &node, take_name, c, error))
		return false;
	const uint64_t *id = g_hash_table_lookup(c->names, name);
	ret->is_there = id != NULL;
	ret->id = id ? *id : 0;
	return true;
}

static bool hash_node(Check *c, const WdrNode *node, WdrEntry *entry, WdrHash *ret, GError **error)
{
	g_autoptr(WdrContent) content = NULL;

	return wdr_volume_open(c->medium, node, entry, &content, error) &&
	       wdr_content_hash(content, entry->size, c->hasher, ret, error);
}

static bool check_entry(Check *c, const WdrDiff *diff, uint64_t id, GError **error)
{
	WdrNode node = { id, diff->now.path };
	g_auto(WdrEntry) entry = { 0 };
	g_auto(WdrListEntry) got = { 0 };
	WdrHash content = diff->now.content;
	bool is_read = diff->now.has_content &&
		       (diff->kind == WDR_DIFF_CONTENT || diff->kind == WDR_DIFF_NEW);

	if (!wdr_volume_stat(c->medium, &node, &entry, error) ||
		(is_read && !hash_node(c, &node, &entry, &content, error)))
		return false;
	WdrCopied copied = { diff->now.path, &entry, NULL, content, 0, 0 };
	wdr_list_entry_describe(c->hasher, &copied, &got);
	g_autofree char *what = wdr_list_entry_difference(&diff->now, &got);
	return !what || wdr_error_set(error, WDR_ERROR_IO,
				"read back from the target: %s of '%s' is not as copied", what,
				diff->now.path);
}

/* `after` is the next difference: what replaced what was removed. */
static bool check_diff(Check *c, const WdrDiff *diff, const WdrDiff *after, GError **error)
{
	bool is_removed = diff->kind == WDR_DIFF_REMOVED;
	const char *path = is_removed ? diff->was.path : diff->now.path;
	bool is_replaced = is_removed && after && after->kind == WDR_DIFF_NEW &&
			   strcmp(after->now.path, path) == 0;
	WdrNamed it;

	if (diff->kind == WDR_DIFF_EDITED || diff->kind == WDR_DIFF_LINE || is_replaced)
		return true;
	if (!find(c, path, &it, error))
		return false;
	if (is_removed)
		return !it.is_there ||
		       wdr_error_set(error, WDR_ERROR_IO,
			       "read back from the target: '%s' is still there", path);
	if (!it.is_there)
		return wdr_error_set(
			error, WDR_ERROR_IO, "read back from the target: '%s' is missing", path);
	return diff->now.is_link || check_entry(c, diff, it.id, error);
}

bool wdr_apply_verify(WdrVolume *medium, GPtrArray *diffs, GError **error)
{
	g_autoptr(WdrHasher) hasher = wdr_hasher_new();
	g_autoptr(GHashTable) names =
		g_hash_table_new_full(g_str_hash, g_str_equal, g_free, g_free);
	Check c = { .medium = medium, .hasher = hasher, .names = names };
	bool is_fine = true;

	for (guint i = 0; is_fine && i < diffs->len; i++)
		is_fine = check_diff(&c, diffs->pdata[i],
			i + 1 < diffs->len ? diffs->pdata[i + 1] : NULL, error);
	g_free(c.folder);
	return is_fine;
}
