/* Follows paths and links within a volume.
 *
 * A link never leads out of the volume, and a chain of links has a limit. On FAT capitals do not
 * count, as for the loaders that read it. */
#include "volume/lookup.h"

#include <string.h>

enum { LINKS_MAX = 40 };

typedef struct {
	const char *wanted;
	bool ignores_case;
	char *found; /* as it is written there */
} Search;

static bool take_name(void *data, const WdrName *name, GError **error)
{
	Search *s = data;

	(void)error;
	if (!s->found && (s->ignores_case ? g_ascii_strcasecmp(name->name, s->wanted) == 0
					  : strcmp(name->name, s->wanted) == 0))
		s->found = g_strdup(name->name);
	return true;
}

/* The name in a folder that matches this one. The caller's; NULL: there is none. */
static char *find_name(WdrVolume *v, const char *folder, const char *name)
{
	bool ignores_case = strcmp(v->ops->type, "vfat") == 0;
	Search s = { name, ignores_case, NULL };
	g_auto(WdrEntry) entry = { 0 };
	WdrNode node = { 0, folder };
	bool found = false;

	if (!ignores_case)
		return g_strdup(name);
	if (!wdr_volume_lookup(v, folder, &found, &node.id, &entry, NULL) || !found ||
		entry.kind != WDR_KIND_FOLDER || !wdr_volume_list(v, &node, take_name, &s, NULL))
		return NULL;
	return s.found;
}

/* What a link in `folder` leads to, with what follows it. The caller's. */
static char *join_link(const char *folder, const char *target, char *const *rest)
{
	g_autofree char *behind = g_strjoinv("/", (char **)rest);
	const char *base = *target == '/' ? "" : folder;

	return g_strconcat(base, "/", target, *behind ? "/" : "", behind, NULL);
}

static void go_up(char *path)
{
	char *slash = strrchr(path, '/');

	*(slash ? slash : path) = '\0';
}

/* Step by step; *ret_next is the path to start again with when a link was met. */
static bool walk(WdrVolume *v, const char *path, char **ret_path, uint64_t *ret_id, WdrEntry *ret,
	char **ret_next)
{
	g_auto(GStrv) names = g_strsplit(path, "/", -1);
	g_autofree char *at = g_strdup("");
	bool found = false;

	for (size_t i = 0; names[i]; i++) {
		g_auto(WdrEntry) entry = { 0 };
		if (*names[i] == '\0' || strcmp(names[i], ".") == 0)
			continue;
		if (strcmp(names[i], "..") == 0) {
			go_up(at);
			continue;
		}
		g_autofree char *name = find_name(v, at, names[i]);
		char *next = name ? wdr_volume_path(at, name) : NULL;
		if (!next || !wdr_volume_lookup(v, next, &found, NULL, &entry, NULL) || !found) {
			g_free(next);
			return false;
		}
		if (entry.kind == WDR_KIND_SYMLINK) {
			*ret_next = join_link(at, entry.target, names + i + 1);
			g_free(next);
			return false;
		}
		g_free(at);
		at = next;
	}
	if (!wdr_volume_lookup(v, at, &found, ret_id, ret, NULL) || !found)
		return false;
	*ret_path = g_steal_pointer(&at);
	return true;
}

bool wdr_follow(WdrVolume *v, const char *path, char **ret_path, uint64_t *ret_id, WdrEntry *ret)
{
	g_autofree char *at = g_strdup(path);
	g_autofree char *end = NULL;

	for (unsigned links = 0; links < LINKS_MAX; links++) {
		g_autofree char *next = NULL;
		if (walk(v, at, &end, ret_id, ret, &next)) {
			if (ret_path)
				*ret_path = g_steal_pointer(&end);
			return true;
		}
		if (!next)
			return false;
		g_free(at);
		at = g_steal_pointer(&next);
	}
	return false;
}

char *wdr_follow_read(WdrVolume *v, const char *path, size_t limit, size_t *ret_len)
{
	g_auto(WdrEntry) entry = { 0 };
	g_autofree char *end = NULL;
	uint64_t id = 0;
	char *text = NULL;

	*ret_len = 0;
	if (!wdr_follow(v, path, &end, &id, &entry) || entry.kind != WDR_KIND_FILE ||
		entry.size > limit)
		return NULL;
	WdrNode node = { id, end };
	if (!wdr_volume_read_node(v, &node, &entry, limit, &text, NULL))
		return NULL;
	*ret_len = (size_t)entry.size;
	return text;
}

static bool add_name(void *names, const WdrName *name, GError **error)
{
	(void)error;
	if (name->kind == WDR_KIND_FILE || name->kind == WDR_KIND_SYMLINK)
		g_ptr_array_add(names, g_strdup(name->name));
	return true;
}

GPtrArray *wdr_follow_names(WdrVolume *v, const char *path, char **ret_path)
{
	GPtrArray *names = g_ptr_array_new_with_free_func(g_free);
	g_auto(WdrEntry) entry = { 0 };
	g_autofree char *end = NULL;
	WdrNode node = { v->root_id, "" };

	if (*path &&
		(!wdr_follow(v, path, &end, &node.id, &entry) || entry.kind != WDR_KIND_FOLDER))
		return names;
	if (!*path)
		end = g_strdup("");
	node.path = end;
	if (!wdr_volume_list(v, &node, add_name, names, NULL)) {
		g_ptr_array_set_size(names, 0);
		return names;
	}
	if (ret_path)
		*ret_path = g_steal_pointer(&end);
	return names;
}
