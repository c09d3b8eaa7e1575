/* Reads modules.dep, modules.alias, modules.builtin and soft dependencies.
 *
 * The text files, since an image's root may lack the binary ones. What a module only asks for
 * (softdep) counts as needed here: ext4 without its checksum driver mounts nothing. */
#include "boot/kernel/modules.h"

#include <string.h>

enum { FIRMWARE_NAME_MAX = 255 };

struct WdrModules {
	GHashTable *built_in; /* names */
	GHashTable *loadable; /* name -> GPtrArray of names */
	GHashTable *wishes;   /* name -> GPtrArray of WdrModuleWish */
	GHashTable *by_wish;  /* what is wished -> GPtrArray of those, borrowed */
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

/* ---- its firmware ---- */

/* Without patterns, which newer kernels have too, and nothing that leads elsewhere. */
static bool is_firmware_name(const char *name)
{
	for (const char *c = name; *c; c++) {
		if (!g_ascii_isgraph(*c) || *c == '*' || *c == '?')
			return false;
	}
	return *name && *name != '/' && !strstr(name, "..");
}

/* The section .modinfo is a row of texts, each with a zero behind it. */
GPtrArray *wdr_module_firmware(const void *bytes, size_t len)
{
	static const char key[] = "firmware=";
	GPtrArray *names = g_ptr_array_new_with_free_func(g_free);
	const char *end = (const char *)bytes + len;
	const char *at = bytes;

	while ((at = memmem(at, (size_t)(end - at), key, strlen(key))) != NULL) {
		bool is_start = at == (const char *)bytes || !g_ascii_isgraph(at[-1]);
		at += strlen(key);
		const char *zero = memchr(at, '\0', (size_t)(end - at));
		if (!is_start || !zero || zero - at > FIRMWARE_NAME_MAX)
			continue;
		if (is_firmware_name(at) &&
			!g_ptr_array_find_with_equal_func(names, at, g_str_equal, NULL))
			g_ptr_array_add(names, g_strdup(at));
	}
	return names;
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

/* ---- wishes ---- */

static void wish_free(void *data)
{
	WdrModuleWish *w = data;

	g_free(w->name);
	g_ptr_array_unref(w->givers);
	g_free(w);
}

/* The list under that name; it begins empty. */
static GPtrArray *list_in(GHashTable *lists, const char *name, GDestroyNotify item_free)
{
	GPtrArray *list = g_hash_table_lookup(lists, name);

	if (!list) {
		list = g_ptr_array_new_with_free_func(item_free);
		g_hash_table_insert(lists, g_strdup(name), list);
	}
	return list;
}

/* Kernels before 5.2 tell no aliases of what is built in; an algorithm's own module has its name.
 */
static bool has_built_in(const WdrModules *m, const char *name)
{
	static const char crypto[] = "crypto_";
	const char *algorithm = name + (g_str_has_prefix(name, crypto) ? strlen(crypto) : 0);
	g_autofree char *generic = g_strconcat(algorithm, "_generic", NULL);

	return g_hash_table_contains(m->built_in, name) ||
	       g_hash_table_contains(m->built_in, generic);
}

static void add_wish(WdrModules *m, GPtrArray *wishes, const char *word)
{
	g_autofree char *name = wdr_module_name(word);
	WdrModuleWish *w = g_new0(WdrModuleWish, 1);

	w->name = g_strdup(word);
	w->givers = g_ptr_array_new_with_free_func(g_free);
	w->is_built_in = has_built_in(m, name);
	if (g_hash_table_contains(m->loadable, name))
		g_ptr_array_add(w->givers, g_strdup(name));
	g_ptr_array_add(wishes, w);
	g_ptr_array_add(list_in(m->by_wish, name, NULL), w);
}

/* "softdep NAME pre: A B post: C" */
static void add_wishes(WdrModules *m, const char *line)
{
	g_auto(GStrv) words = g_strsplit_set(line, " \t", -1);

	if (g_strv_length(words) < 3 || strcmp(words[0], "softdep") != 0)
		return;
	g_autofree char *name = wdr_module_name(words[1]);
	GPtrArray *wishes = list_in(m->wishes, name, wish_free);
	for (size_t i = 2; words[i]; i++) {
		if (*words[i] && !g_str_has_suffix(words[i], ":"))
			add_wish(m, wishes, words[i]);
	}
}

static const GPtrArray *wishes_called(const WdrModules *m, const char *alias)
{
	g_autofree char *name = wdr_module_name(alias);

	return g_hash_table_lookup(m->by_wish, name);
}

/* "alias crypto-crc32c crc32c_generic": patterns for hardware are nobody's wish. */
static void add_giver(WdrModules *m, const char *line)
{
	const GPtrArray *wishes = NULL;

	if (!g_str_has_prefix(line, "alias ") || strpbrk(line, ":*"))
		return;
	g_auto(GStrv) words = g_strsplit(line, " ", 4);
	wishes = g_strv_length(words) == 3 ? wishes_called(m, words[1]) : NULL;
	for (guint i = 0; wishes && i < wishes->len; i++) {
		WdrModuleWish *w = wishes->pdata[i];
		g_autofree char *name = wdr_module_name(words[2]);
		if (!g_ptr_array_find_with_equal_func(w->givers, name, g_str_equal, NULL))
			g_ptr_array_add(w->givers, g_steal_pointer(&name));
	}
}

/* "crc32c_generic.alias=crypto-crc32c", of what is built in. */
static void add_built_in_giver(WdrModules *m, const char *item)
{
	static const char key[] = ".alias=";
	const char *at = strstr(item, key);
	const GPtrArray *wishes = at ? wishes_called(m, at + strlen(key)) : NULL;

	for (guint i = 0; wishes && i < wishes->len; i++)
		((WdrModuleWish *)wishes->pdata[i])->is_built_in = true;
}

static void find_givers(WdrModules *m, const WdrModuleTexts *texts)
{
	g_auto(GStrv) lines = g_strsplit(texts->alias ? texts->alias : "", "\n", -1);
	const char *end =
		texts->builtin_info ? texts->builtin_info + texts->builtin_info_len : NULL;

	for (size_t i = 0; lines[i]; i++)
		add_giver(m, lines[i]);
	/* What is read from a volume ends with a zero of its own. */
	for (const char *at = texts->builtin_info; at && at < end; at += strlen(at) + 1)
		add_built_in_giver(m, at);
}

WdrModules *wdr_modules_new(const WdrModuleTexts *texts)
{
	WdrModules *m = g_new0(WdrModules, 1);
	g_auto(GStrv) built_in = g_strsplit(texts->builtin ? texts->builtin : "", "\n", -1);
	g_auto(GStrv) lines = g_strsplit(texts->dep ? texts->dep : "", "\n", -1);
	g_auto(GStrv) wishes = g_strsplit(texts->softdep ? texts->softdep : "", "\n", -1);

	m->built_in = g_hash_table_new_full(g_str_hash, g_str_equal, g_free, NULL);
	m->loadable = g_hash_table_new_full(g_str_hash, g_str_equal, g_free, list_free);
	m->wishes = g_hash_table_new_full(g_str_hash, g_str_equal, g_free, list_free);
	m->by_wish = g_hash_table_new_full(g_str_hash, g_str_equal, g_free, list_free);
	m->paths = g_hash_table_new_full(g_str_hash, g_str_equal, g_free, g_free);
	for (size_t i = 0; built_in[i]; i++) {
		if (*built_in[i])
			g_hash_table_add(
				m->built_in, module_name(built_in[i], strlen(built_in[i])));
	}
	for (size_t i = 0; lines[i]; i++)
		add_dependencies(m, lines[i]);
	for (size_t i = 0; wishes[i]; i++)
		add_wishes(m, wishes[i]);
	if (g_hash_table_size(m->by_wish) > 0)
		find_givers(m, texts);
	return m;
}

void wdr_modules_free(WdrModules *m)
{
	if (!m)
		return;
	g_hash_table_unref(m->built_in);
	g_hash_table_unref(m->loadable);
	g_hash_table_unref(m->by_wish);
	g_hash_table_unref(m->wishes);
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

const GPtrArray *wdr_modules_wishes(const WdrModules *m, const char *name)
{
	g_autofree char *wanted = wdr_module_name(name);

	return g_hash_table_lookup(m->wishes, wanted);
}

const char *wdr_modules_path(const WdrModules *m, const char *name)
{
	g_autofree char *wanted = wdr_module_name(name);

	return g_hash_table_lookup(m->paths, wanted);
}
