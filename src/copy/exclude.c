/* Decides which entries stay behind: patterns, sockets, our own state.
 *
 * A pattern without a slash is for names anywhere, one with a slash for paths from the root. Of a
 * running tree sockets, /lost+found and the state of this program stay behind, too: they are of no
 * use on the target. */
#include "copy/exclude.h"

#include <fnmatch.h>
#include <string.h>

struct WdrExclude {
	GPtrArray *patterns; /* char *: see local_pattern() */
	GHashTable *paths;
	bool sockets;
};

static void left_free(void *data)
{
	g_free(((WdrLeft *)data)->pattern);
	g_free(data);
}

GPtrArray *wdr_left_new(char *const *patterns)
{
	GPtrArray *left = g_ptr_array_new_with_free_func(left_free);

	for (size_t i = 0; patterns && patterns[i]; i++) {
		WdrLeft *l = g_new0(WdrLeft, 1);
		l->pattern = g_strdup(patterns[i]);
		g_ptr_array_add(left, l);
	}
	return left;
}

bool wdr_exclude_check(char *const *patterns, GError **error)
{
	for (size_t i = 0; patterns && patterns[i]; i++) {
		const char *p = patterns[i];
		size_t len = strlen(p);
		const char *why = len == 0                      ? "it is empty"
				  : strchr(p, '/') && *p != '/' ? "a path begins with /"
				  : p[len - 1] == '/'           ? "it ends in /"
				  : strstr(p, "//")             ? "it contains //"
				  : strstr(p, "**")             ? "** means no more than *"
								: NULL;
		if (why)
			return wdr_error_set(error, WDR_ERROR_USAGE,
				"--leave-behind '%s' would match nothing: %s", p, why);
	}
	return true;
}

/* The part of a system path that lies below the point; NULL: it lies elsewhere. */
static const char *below(const char *path, const char *point)
{
	size_t len = strlen(point);

	while (len > 0 && point[len - 1] == '/')
		len--;
	if (strncmp(path, point, len) != 0 || path[len] != '/')
		return NULL;
	return path + len + 1;
}

/* A pattern as it is matched on the volume: "/" and a path of the volume, or a name. NULL: nothing
 * on this volume can match. */
static char *local_pattern(const char *pattern, const char *point)
{
	const char *path = *pattern == '/' && point ? below(pattern, point) : NULL;

	if (*pattern != '/')
		return g_strdup(pattern);
	return path ? g_strconcat("/", path, NULL) : NULL;
}

WdrExclude *wdr_exclude_new(char *const *patterns, const char *point)
{
	WdrExclude *l = g_new0(WdrExclude, 1);

	l->patterns = g_ptr_array_new_with_free_func(g_free);
	l->paths = g_hash_table_new_full(g_str_hash, g_str_equal, g_free, NULL);
	for (size_t i = 0; patterns && patterns[i]; i++)
		g_ptr_array_add(l->patterns, local_pattern(patterns[i], point));
	return l;
}

void wdr_exclude_free(WdrExclude *l)
{
	if (!l)
		return;
	g_ptr_array_unref(l->patterns);
	g_hash_table_unref(l->paths);
	g_free(l);
}

void wdr_exclude_sockets(WdrExclude *l)
{
	l->sockets = true;
}

void wdr_exclude_path(WdrExclude *l, const char *path)
{
	g_hash_table_add(l->paths, g_strdup(path));
}

/* fnmatch() turns both texts into wide characters each time, for every entry and pattern: what
 * comes before a pattern's first special character decides most of them. */
static bool matches(const char *pattern, const char *text)
{
	size_t plain = strcspn(pattern, "*?[\\");

	return strncmp(pattern, text, plain) == 0 && fnmatch(pattern, text, FNM_PATHNAME) == 0;
}

int wdr_exclude_rule(const WdrExclude *l, const char *path, WdrKind kind)
{
	const char *slash = strrchr(path, '/');
	const char *name = slash ? slash + 1 : path;

	if (!l)
		return WDR_EXCLUDE_COPIED;
	for (guint i = 0; i < l->patterns->len; i++) {
		const char *p = l->patterns->pdata[i];
		if (p && matches(*p == '/' ? p + 1 : p, *p == '/' ? path : name))
			return (int)i;
	}
	if ((l->sockets && kind == WDR_KIND_SOCKET) || g_hash_table_contains(l->paths, path))
		return WDR_EXCLUDE_OURS;
	return WDR_EXCLUDE_COPIED;
}
