/* A loader script, followed as far as its usual shapes go: variables are set and filled in, a
 * settings file is imported, files are loaded by name, and booti or the like ends it. A script is a
 * program: where a line decides by what only the running loader knows, or has a command that is not
 * known here, that line is a doubt, and its branches are passed over. */
#include "boot/formats/image.h"

#include "boot/rehearse/boot_entry.h"

#include <string.h>

enum { DEPTH_MAX = 16, VALUE_BYTES_MAX = 16384 };

/* Of a command: it succeeds, it fails, nobody can tell. */
typedef enum {
	BRANCH_TAKEN,
	BRANCH_PASSED,
	BRANCH_UNKNOWN,
	BRANCH_DONE /* an earlier one was taken */
} Branch;

typedef struct {
	WdrBootEntries *entries;
	WdrBootEntry *entry;
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
	if (!s->entry->doubt)
		s->entry->doubt = g_strdup_printf("%s:%u: %s", s->file, s->line, line);
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
	return wdr_boot_entries_has(s->entries, name) || *s->folder == '\0'
		       ? g_strdup(name)
		       : g_strconcat(s->folder, name, NULL);
}

static void set(Script *s, const char *name, char *value)
{
	g_hash_table_replace(s->variables, g_strdup(name), value);
}

/* "env import -t ADDRESS SIZE": lines of KEY=VALUE of the file that was loaded there. */
static Branch import(Script *s, const GPtrArray *words)
{
	const char *path = NULL;
	size_t len = 0;

	for (guint i = 2; i < words->len && !path; i++)
		path = g_hash_table_lookup(s->loaded, words->pdata[i]);
	g_autofree char *text = path ? wdr_boot_entries_text(s->entries, path, &len) : NULL;
	if (!text)
		return BRANCH_PASSED;
	g_auto(GStrv) lines = g_strsplit(text, "\n", -1);
	for (size_t i = 0; lines[i]; i++) {
		char *equals = strchr(lines[i], '=');
		if (*lines[i] == '#' || !equals)
			continue;
		*equals = '\0';
		g_strchomp(equals + 1);
		set(s, lines[i], g_strdup(equals + 1));
	}
	return BRANCH_TAKEN;
}

/* "load DEVTYPE NUMBER ADDRESS FILE". Without an address in a variable that we know, the place is
 * its own name: only what is loaded there later matters. */
static Branch load(Script *s, const char *line, const GPtrArray *words)
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
		return BRANCH_UNKNOWN;
	char *path = path_of(s, file);
	bool is_there = wdr_boot_entries_has(s->entries, path);
	const char *filled = words->len >= 5 ? words->pdata[3] : "";
	g_hash_table_replace(s->loaded, g_strdup(*filled ? filled : where), path);
	g_hash_table_replace(s->loaded, g_steal_pointer(&where), g_strdup(path));
	return is_there ? BRANCH_TAKEN : BRANCH_PASSED;
}

static const char *loaded_at(const Script *s, const char *filled, const char *raw)
{
	const char *path = *filled ? g_hash_table_lookup(s->loaded, filled) : NULL;

	return path ? path : g_hash_table_lookup(s->loaded, raw);
}

/* "booti KERNEL INITRAMFS[:SIZE]|- TREE". */
static void start(Script *s, const char *line)
{
	WdrBootEntryFile *files[] = { &s->entry->kernel, &s->entry->initramfs,
		&s->entry->device_tree };
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
	s->entry->arguments = g_strdup(arguments ? arguments : "");
	s->entry->arguments_said = g_strdup_printf("%s:%u", s->file, s->line);
	s->has_started = true;
}

/* All variables in the text were set by what was followed; others only the running loader has. */
static bool knows_all(const Script *s, const char *text)
{
	for (const char *at = strchr(text, '$'); at; at = strchr(at + 1, '$')) {
		const char *name = at + 1 + (at[1] == '{');
		size_t len = 0;
		while (g_ascii_isalnum(name[len]) || name[len] == '_')
			len++;
		g_autofree char *key = g_strndup(name, len);
		if (!g_hash_table_contains(s->variables, key))
			return false;
	}
	return true;
}

static Branch when(bool is_true)
{
	return is_true ? BRANCH_TAKEN : BRANCH_PASSED;
}

/* "test -e DEVTYPE NUMBER FILE", comparing texts, and asking whether there is any. */
static Branch judge(const Script *s, const char *command, const GPtrArray *words)
{
	const char *what = word(words, 1);

	if (strcmp(what, "-e") == 0 && words->len == 5) {
		g_autofree char *path = path_of(s, word(words, 4));
		return when(wdr_boot_entries_has(s->entries, path));
	}
	if (!knows_all(s, command))
		return BRANCH_UNKNOWN;
	if (words->len <= 3 && strcmp(what, "-n") == 0)
		return when(*word(words, 2) != '\0');
	if (words->len <= 3 && strcmp(what, "-z") == 0)
		return when(*word(words, 2) == '\0');
	bool is_equal = strcmp(what, word(words, 3)) == 0;
	if (words->len == 4 && strcmp(word(words, 2), "=") == 0)
		return when(is_equal);
	return words->len == 4 && strcmp(word(words, 2), "!=") == 0 ? when(!is_equal)
								    : BRANCH_UNKNOWN;
}

static void setenv_line(Script *s, const GPtrArray *words)
{
	g_autoptr(GString) value = g_string_new(NULL);

	for (guint i = 2; i < words->len; i++)
		g_string_append_printf(value, "%s%s", i > 2 ? " " : "", word(words, i));
	set(s, word(words, 1), g_string_free(g_steal_pointer(&value), FALSE));
}

/* One command. What it does is either known here, or of no matter for which kernel starts with
 * which arguments, or a doubt. */
static Branch run(Script *s, const char *command)
{
	static const char *const loads[] = { "load", "ext4load", "ext2load", "fatload", NULL };
	static const char *const starts[] = { "booti", "bootz", "bootm", NULL };
	static const char *const says[] = { "echo", "printenv", "sleep", "true", NULL };
	static const char *const devices[] = { "fdt", "mmc", "usb", "nvme", "scsi", "pci", "led",
		"gpio", "cls", "dcache", "icache", NULL };
	g_autoptr(GPtrArray) words = words_of(s, command);
	const char *name = word(words, 0);

	if (strcmp(name, "test") == 0)
		return judge(s, command, words);
	if (g_strv_contains(says, name))
		return BRANCH_TAKEN;
	if (g_strv_contains(devices, name))
		return BRANCH_UNKNOWN;
	if (strcmp(name, "false") == 0)
		return BRANCH_PASSED;
	if (strcmp(name, "setenv") == 0) {
		setenv_line(s, words);
		return BRANCH_TAKEN;
	}
	if (strcmp(name, "env") == 0 && strcmp(word(words, 1), "import") == 0)
		return import(s, words);
	if (g_strv_contains(loads, name))
		return load(s, command, words);
	if (g_strv_contains(starts, name)) {
		start(s, command);
		return BRANCH_TAKEN;
	}
	doubt(s, command);
	return BRANCH_UNKNOWN;
}

/* The next command of a chain, without blanks around it, and what follows it: '&' for "&&",
 * '|' for "||", ';', or 0. The caller's; NULL: there is none. */
static char *next_command(const char **at, char *ret_behind)
{
	const char *start = *at + strspn(*at, " \t");
	const char *end = start;
	char quote = 0;

	if (*start == '\0')
		return NULL;
	for (; *end; end++) {
		bool is_double = (*end == '&' || *end == '|') && end[1] == *end;
		if (quote ? *end == quote : *end == '"' || *end == '\'')
			quote = quote ? 0 : *end;
		else if (!quote && (*end == ';' || is_double))
			break;
	}
	*ret_behind = *end;
	*at = end + (*end == '\0' ? 0 : *end == ';' ? 1 : 2);
	return g_strchomp(g_strndup(start, (size_t)(end - start)));
}

/* The first command of `*at`, and those that "&&" and "||" join to it. */
static Branch chain(Script *s, const char *first, char behind, const char **at)
{
	Branch result = run(s, first);

	while (behind == '&' || behind == '|') {
		char then = 0;
		g_autofree char *command = next_command(at, &then);
		bool is_reached = result == (behind == '&' ? BRANCH_TAKEN : BRANCH_PASSED);
		if (result == BRANCH_UNKNOWN && command && !g_str_has_prefix(command, "echo"))
			doubt(s, command);
		else if (command && is_reached)
			result = run(s, command);
		behind = command ? then : 0;
	}
	return result;
}

/* What a chain joins, without doing it. */
static void pass_chain(char behind, const char **at)
{
	while (behind == '&' || behind == '|')
		g_free(next_command(at, &behind));
}

static bool is_passed(const Script *s)
{
	for (unsigned i = 0; i < s->depth; i++) {
		if (s->branches[i] != BRANCH_TAKEN)
			return true;
	}
	return false;
}

/* "if CONDITION" or "elif CONDITION": is it to be asked? */
static void condition(Script *s, const char *command, bool is_asked, char behind, const char **at)
{
	Branch *b = &s->branches[s->depth - 1];

	if (!is_asked) {
		pass_chain(behind, at);
		return;
	}
	*b = chain(s, command, behind, at);
	if (*b == BRANCH_UNKNOWN) {
		g_autofree char *asked = g_strconcat("if ", command, NULL);
		doubt(s, asked);
	}
}

static const char *behind_word(const char *text, const char *keyword)
{
	size_t len = strlen(keyword);

	return g_str_has_prefix(text, keyword) && (text[len] == '\0' || strchr(" \t", text[len]))
		       ? text + len + strspn(text + len, " \t")
		       : NULL;
}

/* A branch that was taken stays the only one. */
static void turn(Branch *b)
{
	*b = *b == BRANCH_TAKEN || *b == BRANCH_DONE ? BRANCH_DONE
	     : *b == BRANCH_PASSED                   ? BRANCH_TAKEN
						     : BRANCH_UNKNOWN;
}

static void take_command(Script *s, const char *command, char behind, const char **at)
{
	const char *rest = NULL;

	if ((rest = behind_word(command, "if"))) {
		bool is_asked = !is_passed(s);
		if (s->depth == DEPTH_MAX) {
			doubt(s, command);
			return;
		}
		/* Of one that is passed over, no part is to be taken. */
		s->branches[s->depth++] = is_asked ? BRANCH_PASSED : BRANCH_DONE;
		condition(s, rest, is_asked, behind, at);
	} else if (s->depth > 0 && (rest = behind_word(command, "elif"))) {
		Branch *b = &s->branches[s->depth - 1];
		turn(b);
		condition(s, rest, *b == BRANCH_TAKEN, behind, at);
	} else if (s->depth > 0 && (rest = behind_word(command, "else"))) {
		turn(&s->branches[s->depth - 1]);
		if (*rest)
			take_command(s, rest, behind, at);
	} else if ((rest = behind_word(command, "then"))) {
		if (*rest)
			take_command(s, rest, behind, at);
	} else if (s->depth > 0 && behind_word(command, "fi")) {
		s->depth--;
	} else if (is_passed(s)) {
		pass_chain(behind, at);
	} else {
		(void)chain(s, command, behind, at);
	}
}

static void take_line(Script *s, const char *line)
{
	char behind = 0;

	for (const char *at = line; *line != '#' && !s->has_started;) {
		g_autofree char *command = next_command(&at, &behind);
		if (!command)
			return;
		if (*command)
			take_command(s, command, behind, &at);
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

static char *script_text(const WdrBootEntries *w, const char *file, GError **error)
{
	g_autofree char *bytes = NULL;
	WdrLoaderImage image;
	size_t len = 0;

	bytes = wdr_boot_entries_text(w, file, &len);
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

static void follow_all(WdrBootEntries *w, WdrBootEntry *entry, const char *folder, const char *file,
	const char *text)
{
	Script s = { .entries = w, .entry = entry, .folder = folder, .file = file };

	s.variables = g_hash_table_new_full(g_str_hash, g_str_equal, g_free, g_free);
	s.loaded = g_hash_table_new_full(g_str_hash, g_str_equal, g_free, g_free);
	follow(&s, text);
	g_hash_table_unref(s.variables);
	g_hash_table_unref(s.loaded);
	if (s.has_started && !entry->kernel.path && !entry->doubt)
		entry->doubt = g_strdup_printf("%s:%u: which kernel it boots", file, s.line);
	if (!s.has_started && !entry->doubt)
		entry->doubt = g_strdup_printf("%s: it never reaches booti, bootz or bootm", file);
}

void wdr_boot_entries_of_script(const WdrSystem *sys, WdrBootEntries *w)
{
	g_autofree char *file = g_strconcat(sys->boot_folder, "boot.scr", NULL);
	g_autoptr(GError) error = NULL;
	g_autofree char *text = script_text(w, file, &error);

	if (!text) {
		g_ptr_array_add(w->faults, g_strdup_printf("%s: %s", file, error->message));
		return;
	}
	WdrBootEntry *entry = wdr_boot_entries_add(w);
	entry->name = g_strdup(file);
	follow_all(w, entry, sys->boot_folder, file, text);
}
