/* A loader script, followed as far as its usual shapes go: variables are set and filled in, a
 * settings file is imported, files are loaded by name, and booti or the like ends it. A script is a
 * program: where a line decides by what only the running loader knows, that line is a doubt, and
 * both of its branches are passed over. */
#include "boot/image.h"
#include "boot/way.h"

#include <string.h>

enum { DEPTH_MAX = 16, VALUE_BYTES_MAX = 16384 };

typedef enum { BRANCH_TAKEN, BRANCH_PASSED, BRANCH_UNKNOWN } Branch;

typedef struct {
	WdrWays *ways;
	WdrWay *way;
	const char *folder; /* that the script lies in */
	const char *file;
	GHashTable *variables;
	GHashTable *loaded; /* address -> path */
	Branch branches[DEPTH_MAX];
	unsigned depth, line;
	bool has_started;
} Script;

static void doubt(Script *s, const char *line)
{
	if (!s->way->doubt)
		s->way->doubt = g_strdup_printf("%s:%u: %s", s->file, s->line, line);
}

/* ${name} and $name filled in; what is not set becomes nothing, as in the loader. */
static char *fill_in(const Script *s, const char *text)
{
	g_autoptr(GString) out = g_string_new(NULL);

	for (const char *at = text; *at && out->len < VALUE_BYTES_MAX; at++) {
		if (*at != '$') {
			g_string_append_c(out, *at);
			continue;
		}
		bool is_braced = at[1] == '{';
		const char *name = at + 1 + is_braced;
		size_t len = is_braced ? strcspn(name, "}") : 0;
		while (!is_braced && (g_ascii_isalnum(name[len]) || name[len] == '_'))
			len++;
		g_autofree char *key = g_strndup(name, len);
		const char *value = g_hash_table_lookup(s->variables, key);
		g_string_append(out, value ? value : "");
		at = name + len - (is_braced && name[len] == '}' ? 0 : 1);
	}
	return g_string_free(g_steal_pointer(&out), FALSE);
}

/* The words of a line, quotes taken off and variables filled in. */
static GPtrArray *words_of(const Script *s, const char *line)
{
	GPtrArray *words = g_ptr_array_new_with_free_func(g_free);

	for (const char *at = line; *at;) {
		g_autoptr(GString) word = g_string_new(NULL);
		char quote = 0;
		at += strspn(at, " \t");
		if (*at == '\0')
			break;
		for (; *at && (quote || !strchr(" \t", *at)); at++) {
			if (quote ? *at == quote : *at == '"' || *at == '\'')
				quote = quote ? 0 : *at;
			else
				g_string_append_c(word, *at);
		}
		g_ptr_array_add(words, fill_in(s, word->str));
	}
	return words;
}

static const char *word(const GPtrArray *words, guint i)
{
	return i < words->len ? words->pdata[i] : "";
}

static char *path_of(const Script *s, const char *name)
{
	while (*name == '/')
		name++;
	/* Paths count from the volume's root, and scripts are usually run with a prefix of "/" or
	 * of the folder that they lie in. */
	return wdr_ways_has(s->ways, name) || *s->folder == '\0'
		       ? g_strdup(name)
		       : g_strconcat(s->folder, name, NULL);
}

static void set(Script *s, const char *name, char *value)
{
	g_hash_table_replace(s->variables, g_strdup(name), value);
}

/* "env import -t ADDRESS SIZE": lines of KEY=VALUE of the file that was loaded there. */
static void import(Script *s, const GPtrArray *words)
{
	const char *path = NULL;
	size_t len = 0;

	for (guint i = 2; i < words->len && !path; i++)
		path = g_hash_table_lookup(s->loaded, words->pdata[i]);
	g_autofree char *text = path ? wdr_ways_text(s->ways, path, &len) : NULL;
	if (!text)
		return;
	g_auto(GStrv) lines = g_strsplit(text, "\n", -1);
	for (size_t i = 0; lines[i]; i++) {
		char *equals = strchr(lines[i], '=');
		if (*lines[i] == '#' || !equals)
			continue;
		*equals = '\0';
		g_strchomp(equals + 1);
		set(s, lines[i], g_strdup(equals + 1));
	}
}

/* "load DEVTYPE NUMBER ADDRESS FILE". Without an address in a variable that we know, the place is
 * its own name: only what is loaded there later matters. */
static void load(Script *s, const char *line, const GPtrArray *words)
{
	g_auto(GStrv) raw = g_strsplit_set(line, " \t", -1);
	const char *file = words->len >= 4 ? words->pdata[words->len - 1] : NULL;
	g_autofree char *where = NULL;
	unsigned seen = 0;

	for (size_t i = 0; raw[i]; i++) {
		if (*raw[i] && seen++ == 3)
			where = g_strdup(raw[i]);
	}
	if (!file || !where)
		return;
	char *path = path_of(s, file);
	const char *filled = words->len >= 5 ? words->pdata[3] : "";
	g_hash_table_replace(s->loaded, g_strdup(*filled ? filled : where), path);
	g_hash_table_replace(s->loaded, g_steal_pointer(&where), g_strdup(path));
}

static const char *loaded_at(const Script *s, const char *filled, const char *raw)
{
	const char *path = *filled ? g_hash_table_lookup(s->loaded, filled) : NULL;

	return path ? path : g_hash_table_lookup(s->loaded, raw);
}

/* "booti KERNEL INITRAMFS[:SIZE]|- TREE". */
static void start(Script *s, const char *line)
{
	WdrWayFile *files[] = { &s->way->kernel, &s->way->initramfs, &s->way->device_tree };
	g_auto(GStrv) raw = g_strsplit_set(line, " \t", -1);
	const char *arguments = g_hash_table_lookup(s->variables, "bootargs");
	size_t n = 0;

	for (size_t i = 1; raw[i] && n < G_N_ELEMENTS(files); i++) {
		if (*raw[i] == '\0')
			continue;
		/* The initramfs may have its size behind it. */
		const char *colon = strchr(raw[i], ':');
		g_autofree char *place =
			g_strndup(raw[i], colon ? (size_t)(colon - raw[i]) : strlen(raw[i]));
		g_autofree char *filled = fill_in(s, place);
		const char *path = loaded_at(s, filled, place);
		files[n]->path = g_strdup(path);
		files[n]->said = g_strdup_printf("%s:%u", s->file, s->line);
		n++;
	}
	s->way->arguments = g_strdup(arguments ? arguments : "");
	s->way->arguments_said = g_strdup_printf("%s:%u", s->file, s->line);
	s->has_started = true;
}

/* "if test -e ${devtype} ${devnum} FILE; then": whether a file is there is all that can be told. */
static Branch judge(const Script *s, const GPtrArray *words)
{
	bool is_file = words->len >= 6 && strcmp(word(words, 1), "test") == 0 &&
		       strcmp(word(words, 2), "-e") == 0;

	if (!is_file)
		return BRANCH_UNKNOWN;
	g_autofree char *name = g_strndup(word(words, 5), strcspn(word(words, 5), ";"));
	g_autofree char *path = path_of(s, name);
	return wdr_ways_has(s->ways, path) ? BRANCH_TAKEN : BRANCH_PASSED;
}

static bool is_passed(const Script *s)
{
	for (unsigned i = 0; i < s->depth; i++) {
		if (s->branches[i] != BRANCH_TAKEN)
			return true;
	}
	return false;
}

static bool branch(Script *s, const char *line, const GPtrArray *words)
{
	if (strcmp(word(words, 0), "if") == 0) {
		if (s->depth == DEPTH_MAX) {
			doubt(s, line);
			return true;
		}
		Branch b = is_passed(s) ? BRANCH_PASSED : judge(s, words);
		if (b == BRANCH_UNKNOWN)
			doubt(s, line);
		/* "if …; then COMMAND; fi" on one line changes nothing below it. */
		if (!g_str_has_suffix(line, " fi"))
			s->branches[s->depth++] = b;
		return true;
	}
	if (s->depth > 0 && strcmp(word(words, 0), "else") == 0) {
		Branch *b = &s->branches[s->depth - 1];
		*b = *b == BRANCH_TAKEN ? BRANCH_PASSED : *b == BRANCH_PASSED ? BRANCH_TAKEN : *b;
		return true;
	}
	if (s->depth > 0 && strcmp(word(words, 0), "fi") == 0) {
		s->depth--;
		return true;
	}
	return strcmp(word(words, 0), "then") == 0;
}

static void setenv_line(Script *s, const GPtrArray *words)
{
	g_autoptr(GString) value = g_string_new(NULL);

	for (guint i = 2; i < words->len; i++)
		g_string_append_printf(value, "%s%s", i > 2 ? " " : "", word(words, i));
	set(s, word(words, 1), g_string_free(g_steal_pointer(&value), FALSE));
}

static void take_line(Script *s, const char *line)
{
	static const char *const loads[] = { "load", "ext4load", "ext2load", "fatload" };
	static const char *const starts[] = { "booti", "bootz", "bootm" };
	g_autoptr(GPtrArray) words = words_of(s, line);
	const char *command = word(words, 0);

	if (*command == '\0' || *command == '#' || branch(s, line, words) || is_passed(s))
		return;
	if (strcmp(command, "setenv") == 0)
		setenv_line(s, words);
	else if (strcmp(command, "env") == 0 && strcmp(word(words, 1), "import") == 0)
		import(s, words);
	for (size_t i = 0; i < G_N_ELEMENTS(loads); i++) {
		if (strcmp(command, loads[i]) == 0)
			load(s, line, words);
	}
	for (size_t i = 0; i < G_N_ELEMENTS(starts); i++) {
		if (strcmp(command, starts[i]) == 0)
			start(s, line);
	}
}

static void follow(Script *s, const char *text)
{
	g_auto(GStrv) lines = g_strsplit(text, "\n", -1);

	for (size_t i = 0; lines[i] && !s->has_started; i++) {
		s->line = (unsigned)i + 1;
		take_line(s, g_strstrip(lines[i]));
	}
}

static char *script_text(const WdrWays *w, const char *file, GError **error)
{
	g_autofree char *bytes = NULL;
	WdrLoaderImage image;
	size_t len = 0;

	bytes = wdr_ways_text(w, file, &len);
	if (!bytes) {
		wdr_error_set(error, WDR_ERROR_FORMAT, "it is not there");
		return NULL;
	}
	if (!wdr_loader_image_parse(bytes, len, &image, error))
		return NULL;
	if (image.type != WDR_IMAGE_SCRIPT) {
		wdr_error_set(error, WDR_ERROR_FORMAT, "it is a loader image, and no script");
		return NULL;
	}
	return g_strndup(bytes + image.text_at, image.text_bytes);
}

static void follow_all(
	WdrWays *w, WdrWay *way, const char *folder, const char *file, const char *text)
{
	Script s = { .ways = w, .way = way, .folder = folder, .file = file };

	s.variables = g_hash_table_new_full(g_str_hash, g_str_equal, g_free, g_free);
	s.loaded = g_hash_table_new_full(g_str_hash, g_str_equal, g_free, g_free);
	follow(&s, text);
	g_hash_table_unref(s.variables);
	g_hash_table_unref(s.loaded);
	if (s.has_started && !way->kernel.path && !way->doubt)
		way->doubt = g_strdup_printf("%s:%u: which kernel it starts", file, s.line);
	if (!s.has_started && !way->doubt)
		way->doubt = g_strdup_printf("%s: no booti, bootz or bootm is come to", file);
}

void wdr_ways_of_script(const WdrSystem *sys, WdrWays *w)
{
	g_autofree char *file = g_strconcat(sys->boot_folder, "boot.scr", NULL);
	g_autoptr(GError) error = NULL;
	g_autofree char *text = script_text(w, file, &error);

	if (!text) {
		g_ptr_array_add(w->faults, g_strdup_printf("%s: %s", file, error->message));
		return;
	}
	WdrWay *way = wdr_ways_add(w);
	way->name = g_strdup(file);
	follow_all(w, way, sys->boot_folder, file, text);
}
