/* After differences were carried: the packing list, and reading back. */
#include "move/apply.h"

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
		if (path && wdr_packed_order(at, path) >= 0)
			return true;
		if (diff->kind != WDR_DIFF_REMOVED && !wdr_packing_put(to, &diff->now, error))
			return false;
	}
	return true;
}

/* What becomes of an entry of the old list. */
static bool put_entry(
	WdrPacking *to, GPtrArray *diffs, guint *next, const WdrPacked *old, GError **error)
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
	return is_replaced || wdr_packing_put(to, old, error);
}

bool wdr_apply_list(const char *path, GPtrArray *diffs, int64_t begun, GError **error)
{
	g_autofree char *temporary = g_strconcat(path, ".new", NULL);
	g_autoptr(WdrPacking) from = NULL;
	g_autoptr(WdrPacking) to = NULL;
	const WdrPacked *old = NULL;
	guint next = 0;

	if (!wdr_packing_open(path, &from, error) ||
		!wdr_packing_create(temporary, begun, &to, error))
		return false;
	for (;;) {
		if (!wdr_packing_next(from, &old, error))
			return false;
		if (!old)
			break;
		if (!put_entry(to, diffs, &next, old, error))
			return false;
	}
	if (!put_before(to, diffs, &next, NULL, error) || !wdr_packing_finish(to, error))
		return false;
	return rename(temporary, path) == 0 ||
	       wdr_error_set_errno(error, errno, "replacing the packing list %s", path);
}

/* ---- reading back ---- */

typedef struct {
	WdrVolume *medium;
	WdrHasher *hasher;
	char *folder;      /* whose names these are; NULL: none yet */
	GHashTable *names; /* char * -> uint64_t: inode */
} Check;

static bool take_name(void *data, const WdrName *name, GError **error)
{
	(void)error;
	g_hash_table_insert(((Check *)data)->names, g_strdup(name->name),
		g_memdup2(&name->id, sizeof(name->id)));
	return true;
}

/* Differences come folder by folder: the names of one at a time are kept. */
static bool find(Check *c, const char *path, const uint64_t **ret, GError **error)
{
	const char *slash = strrchr(path, '/');
	g_autofree char *folder = g_strndup(path, slash ? (size_t)(slash - path) : 0);
	g_auto(WdrEntry) entry = { 0 };
	WdrNode node = { 0, folder };
	bool found = false;

	*ret = NULL;
	if (*path == '\0') {
		*ret = &c->medium->root_id;
		return true;
	}
	if (g_strcmp0(c->folder, folder) != 0) {
		g_hash_table_remove_all(c->names);
		g_free(c->folder);
		c->folder = g_strdup(folder);
		if (!wdr_volume_lookup(c->medium, folder, &found, &node.id, &entry, error))
			return false;
		if (found && entry.kind == WDR_KIND_FOLDER &&
			!wdr_volume_list(c->medium, &node, take_name, c, error))
			return false;
	}
	*ret = g_hash_table_lookup(c->names, slash ? slash + 1 : path);
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
	g_auto(WdrPacked) got = { 0 };
	WdrHash content = diff->now.content;
	bool is_read = diff->now.has_content &&
		       (diff->kind == WDR_DIFF_CONTENT || diff->kind == WDR_DIFF_NEW);

	if (!wdr_volume_stat(c->medium, &node, &entry, error) ||
		(is_read && !hash_node(c, &node, &entry, &content, error)))
		return false;
	WdrCarried carried = { diff->now.path, &entry, NULL, content, 0 };
	wdr_packed_describe(c->hasher, &carried, &got);
	g_autofree char *what = wdr_packed_difference(&diff->now, &got);
	return !what || wdr_error_set(error, WDR_ERROR_IO,
				"read back from the target: %s of '%s' is not as carried", what,
				diff->now.path);
}

/* `after` is the next difference: what stands in the place of what was removed. */
static bool check_diff(Check *c, const WdrDiff *diff, const WdrDiff *after, GError **error)
{
	bool is_removed = diff->kind == WDR_DIFF_REMOVED;
	const char *path = is_removed ? diff->was.path : diff->now.path;
	bool is_replaced = is_removed && after && after->kind == WDR_DIFF_NEW &&
			   strcmp(after->now.path, path) == 0;
	const uint64_t *id = NULL;

	if (diff->kind == WDR_DIFF_EDITED || diff->kind == WDR_DIFF_LINE || is_replaced)
		return true;
	if (!find(c, path, &id, error))
		return false;
	if (is_removed)
		return !id || wdr_error_set(error, WDR_ERROR_IO,
				      "read back from the target: '%s' is still there", path);
	if (!id)
		return wdr_error_set(
			error, WDR_ERROR_IO, "read back from the target: '%s' is missing", path);
	return diff->now.is_link || check_entry(c, diff, *id, error);
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
