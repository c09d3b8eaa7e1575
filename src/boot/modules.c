#include "boot/modules.h"

#include <string.h>

struct WdrModules {
	GHashTable *built_in; /* names */
	GHashTable *loadable; /* name -> GPtrArray of names */
	GHashTable *wanted;   /* the same of what it would like to have loaded before it */
	GHashTable *paths;    /* name -> path below the folder of that kernel's modules */
};

static char *module_name(const char *path, size_t len)
{
	const char *slash = memrchr(path, '/', len);
	const char *base = slash ? slash + 1 : path;
	size_t base_len = len - (size_t)(base - path);
	const char *end = memmem(base, base_len, ".ko", 3);

	return g_strdelimit(g_strndup(base, end ? (size_t)(end - base) : base_len), "-", '_');
}

char *wdr_module_name(const char *path)
{
	return module_name(path, strlen(path));
}

bool wdr_module_is_named(const char *a, const char *b)
{
	g_autofree char *first = wdr_module_name(a);
	g_autofree char *second = wdr_module_name(b);

	return strcmp(first, second) == 0;
}

bool wdr_module_is(const char *path, const char *name)
{
	return strstr(path, ".ko") && wdr_module_is_named(path, name);
}

static void list_free(void *list)
{
	g_ptr_array_unref(list);
}

static void add_dependencies(WdrModules *m, const char *line)
{
	const char *colon = strchr(line, ':');
	GPtrArray *needs = g_ptr_array_new_with_free_func(g_free);

	if (!colon) {
		g_ptr_array_unref(needs);
		return;
	}
	g_auto(GStrv) words = g_strsplit_set(colon + 1, " \t", -1);
	for (size_t i = 0; words[i]; i++) {
		if (*words[i])
			g_ptr_array_add(needs, module_name(words[i], strlen(words[i])));
	}
	g_hash_table_replace(m->paths, module_name(line, (size_t)(colon - line)),
		g_strndup(line, (size_t)(colon - line)));
	g_hash_table_replace(m->loadable, module_name(line, (size_t)(colon - line)), needs);
}

/* "softdep NAME pre: A B post: C" */
static void add_wanted(WdrModules *m, const char *line)
{
	g_auto(GStrv) words = g_strsplit_set(line, " \t", -1);
	GPtrArray *wanted = g_ptr_array_new_with_free_func(g_free);

	if (g_strv_length(words) < 3 || strcmp(words[0], "softdep") != 0) {
		g_ptr_array_unref(wanted);
		return;
	}
	for (size_t i = 2; words[i]; i++) {
		if (*words[i] && !g_str_has_suffix(words[i], ":"))
			g_ptr_array_add(wanted, wdr_module_name(words[i]));
	}
	g_hash_table_replace(m->wanted, wdr_module_name(words[1]), wanted);
}

WdrModules *wdr_modules_new(const char *builtin, const char *dependencies, const char *wanted)
{
	WdrModules *m = g_new0(WdrModules, 1);
	g_auto(GStrv) built_in = g_strsplit(builtin ? builtin : "", "\n", -1);
	g_auto(GStrv) lines = g_strsplit(dependencies ? dependencies : "", "\n", -1);
	g_auto(GStrv) wishes = g_strsplit(wanted ? wanted : "", "\n", -1);

	m->built_in = g_hash_table_new_full(g_str_hash, g_str_equal, g_free, NULL);
	m->loadable = g_hash_table_new_full(g_str_hash, g_str_equal, g_free, list_free);
	m->wanted = g_hash_table_new_full(g_str_hash, g_str_equal, g_free, list_free);
	m->paths = g_hash_table_new_full(g_str_hash, g_str_equal, g_free, g_free);
	for (size_t i = 0; built_in[i]; i++) {
		if (*built_in[i])
			g_hash_table_add(
				m->built_in, module_name(built_in[i], strlen(built_in[i])));
	}
	for (size_t i = 0; lines[i]; i++)
		add_dependencies(m, lines[i]);
	for (size_t i = 0; wishes[i]; i++)
		add_wanted(m, wishes[i]);
	return m;
}

void wdr_modules_free(WdrModules *m)
{
	if (!m)
		return;
	g_hash_table_unref(m->built_in);
	g_hash_table_unref(m->loadable);
	g_hash_table_unref(m->wanted);
	g_hash_table_unref(m->paths);
	g_free(m);
}

WdrModuleState wdr_modules_state(const WdrModules *m, const char *name)
{
	g_autofree char *wanted = wdr_module_name(name);

	if (g_hash_table_contains(m->built_in, wanted))
		return WDR_MODULE_BUILT_IN;
	return g_hash_table_contains(m->loadable, wanted) ? WDR_MODULE_LOADABLE : WDR_MODULE_ABSENT;
}

const GPtrArray *wdr_modules_needs(const WdrModules *m, const char *name)
{
	g_autofree char *wanted = wdr_module_name(name);

	return g_hash_table_lookup(m->loadable, wanted);
}

const GPtrArray *wdr_modules_wants(const WdrModules *m, const char *name)
{
	g_autofree char *wanted = wdr_module_name(name);

	return g_hash_table_lookup(m->wanted, wanted);
}

const char *wdr_modules_path(const WdrModules *m, const char *name)
{
	g_autofree char *wanted = wdr_module_name(name);

	return g_hash_table_lookup(m->paths, wanted);
}
