/* Runs GRUB's configuration without GRUB. */
#include "boot/system/grub_shell.h"

#include "volume/lookup.h"

#include <string.h>

enum { DEPTH_MAX = 32, ENVIRONMENT_BYTES_MAX = 64 * 1024 };

/* ---- variables ---- */

static void script_free(void *data)
{
	WdrGrubScript *s = data;

	g_free(s->file);
	g_free(s->text);
	g_array_unref(s->tokens);
	g_free(s);
}

void wdr_grub_shell_begin(WdrGrubShell *sh, const WdrSystem *s)
{
	*sh = (WdrGrubShell){ .s = s, .status = WDR_GRUB_TRUE };
	sh->variables = g_hash_table_new_full(g_str_hash, g_str_equal, g_free, g_free);
	sh->scripts = g_ptr_array_new_with_free_func(script_free);
}

void wdr_grub_shell_memdisk(WdrGrubShell *sh, const void *bytes, size_t len)
{
	WdrBlockDev *dev = len > 0 ? wdr_blockdev_new_memory("memdisk", len) : NULL;

	if (!dev)
		return;
	sh->memdisk.dev = dev;
	if (!wdr_blockdev_write(dev, bytes, len, 0, NULL) ||
		!wdr_fat_volume_open(dev, 0, len, &sh->memdisk.volume, NULL))
		sh->memdisk.volume = NULL;
}

void wdr_grub_shell_end(WdrGrubShell *sh)
{
	wdr_volume_free(sh->memdisk.volume);
	wdr_blockdev_free(sh->memdisk.dev);
	g_hash_table_unref(sh->variables);
	g_ptr_array_unref(sh->scripts);
	g_free(sh->doubt);
	g_free(sh->missed);
}

const char *wdr_grub_get(const WdrGrubShell *sh, const char *name)
{
	const char *value = g_hash_table_lookup(sh->variables, name);

	if (value)
		return value;
	/* What this version can do. */
	return g_str_has_prefix(name, "feature_") ? "y" : "";
}

void wdr_grub_set(WdrGrubShell *sh, const char *name, const char *value)
{
	g_hash_table_insert(sh->variables, g_strdup(name), g_strdup(value));
}

static char *value_of(void *data, const char *name)
{
	const WdrGrubShell *sh = data;

	if (strcmp(name, "?") == 0)
		return g_strdup(sh->status == WDR_GRUB_TRUE    ? "0"
				: sh->status == WDR_GRUB_FALSE ? "1"
							       : "?");
	return g_strdup(wdr_grub_get(sh, name));
}

/* ---- devices and files ---- */

/* Of which disk a part is: 0 for this one, else its place among the others from 1 on. */
static unsigned disk_of(const WdrGrubShell *sh, const WdrSystemPart *part)
{
	for (guint i = 0; sh->others && i < sh->others->len; i++) {
		const WdrSystem *other = sh->others->pdata[i];
		if (g_ptr_array_find(other->parts, part, NULL))
			return i + 1;
	}
	return 0;
}

/* This disk is the first, since the loader is on it. How the others are numbered nobody knows, so
 * those that were found get names that no configuration has. */
char *wdr_grub_device(const WdrGrubShell *sh, const WdrSystemPart *part)
{
	unsigned disk = disk_of(sh, part);
	g_autofree char *name = disk > 0 ? g_strdup_printf("found%u", disk - 1) : g_strdup("hd0");
	const WdrSystem *s = disk > 0 ? sh->others->pdata[disk - 1] : sh->s;

	return g_strdup_printf("%s,%s%u", name, s->table->kind == WDR_TABLE_GPT ? "gpt" : "msdos",
		part->partition->number);
}

/* "hd0,gpt2", ",gpt2" (of the loader's own disk), or a name from above. */
static WdrSystemPart *part_of_device(const WdrGrubShell *sh, const char *device)
{
	const char *comma = strrchr(device, ',');
	const char *number = comma ? comma + strcspn(comma, "0123456789") : NULL;
	const WdrSystem *s = NULL;

	if (!comma || !*number)
		return NULL;
	g_autofree char *disk = g_strndup(device, (size_t)(comma - device));
	if (!*disk || strcmp(disk, "hd0") == 0)
		s = sh->s;
	for (guint i = 0; !s && sh->others && i < sh->others->len; i++) {
		g_autofree char *name = g_strdup_printf("found%u", i);
		s = strcmp(disk, name) == 0 ? sh->others->pdata[i] : NULL;
	}
	return s ? wdr_system_part(s, (unsigned)g_ascii_strtoull(number, NULL, 10)) : NULL;
}

WdrSystemPart *wdr_grub_locate(WdrGrubShell *sh, const char *path, const char **ret_path)
{
	const char *end = *path == '(' ? strchr(path, ')') : NULL;
	g_autofree char *device = end ? g_strndup(path + 1, (size_t)(end - path) - 1)
				      : g_strdup(wdr_grub_get(sh, "root"));

	*ret_path = end ? end + 1 : path;
	*ret_path += strspn(*ret_path, "/");
	if (strcmp(device, "memdisk") == 0)
		return sh->memdisk.volume ? &sh->memdisk : NULL;
	return part_of_device(sh, device);
}

const WdrGrubScript *wdr_grub_script_of(WdrGrubShell *sh, const char *file, const char *text)
{
	WdrGrubScript *s = g_new0(WdrGrubScript, 1);

	s->file = g_strdup(file);
	s->text = g_strdup(text);
	s->len = strlen(text);
	s->tokens = wdr_grub_tokens(s->text, s->len);
	g_ptr_array_add(sh->scripts, s);
	return s;
}

const WdrGrubScript *wdr_grub_script(WdrGrubShell *sh, WdrSystemPart *part, const char *path)
{
	size_t len = 0;
	g_autofree char *text = part && part->volume ? wdr_follow_read(part->volume, path,
							       WDR_BOOT_FILE_BYTES_MAX, &len)
						     : NULL;

	if (!text || !wdr_includes_take(&sh->includes, len))
		return NULL;
	WdrGrubScript *s = (WdrGrubScript *)wdr_grub_script_of(sh, path, text);
	s->part = part;
	return s;
}

/* ---- conditions ---- */

typedef struct {
	WdrGrubShell *sh;
	char **words;
	size_t at, n;
	unsigned depth;
} Test;

static WdrGrubTruth truth(bool is)
{
	return is ? WDR_GRUB_TRUE : WDR_GRUB_FALSE;
}

static WdrGrubTruth is_file(const Test *t, char option, const char *path)
{
	const char *rest = NULL;
	WdrSystemPart *part = wdr_grub_locate(t->sh, path, &rest);
	g_auto(WdrEntry) entry = { 0 };

	if (!part)
		return *path ? WDR_GRUB_UNKNOWN : WDR_GRUB_FALSE;
	if (!part->volume || !wdr_follow(part->volume, rest, NULL, NULL, &entry))
		return WDR_GRUB_FALSE;
	bool is_folder = entry.kind == WDR_KIND_FOLDER;
	switch (option) {
	case 'd':
		return truth(is_folder);
	case 'f':
		return truth(!is_folder);
	case 's':
		return truth(!is_folder && entry.size > 0);
	default:
		return WDR_GRUB_TRUE;
	}
}

static const char *word_at(const Test *t, size_t k)
{
	return t->at + k < t->n ? t->words[t->at + k] : "";
}

static WdrGrubTruth test_comparison(Test *t)
{
	const char *a = word_at(t, 0);
	const char *op = word_at(t, 1);
	const char *b = word_at(t, 2);
	bool is_known = strcmp(a, "?") != 0 && strcmp(b, "?") != 0;

	t->at += 3;
	if (!is_known)
		return WDR_GRUB_UNKNOWN;
	if (strcmp(op, "=") == 0 || strcmp(op, "==") == 0)
		return truth(strcmp(a, b) == 0);
	if (strcmp(op, "!=") == 0)
		return truth(strcmp(a, b) != 0);
	gint64 x = g_ascii_strtoll(a, NULL, 10);
	gint64 y = g_ascii_strtoll(b, NULL, 10);
	if (strcmp(op, "-eq") == 0)
		return truth(x == y);
	if (strcmp(op, "-ne") == 0)
		return truth(x != y);
	return WDR_GRUB_UNKNOWN;
}

static WdrGrubTruth test_one(Test *t)
{
	static const char *const operators[] = { "=", "==", "!=", "-eq", "-ne", "-lt", "-le", "-gt",
		"-ge", "<", "<=", ">", ">=", NULL };
	const char *word = word_at(t, 0);

	if (strcmp(word, "!") == 0 && ++t->depth < DEPTH_MAX) {
		t->at++;
		WdrGrubTruth other = test_one(t);
		return other == WDR_GRUB_UNKNOWN ? other : truth(other == WDR_GRUB_FALSE);
	}
	if (t->at + 2 < t->n && g_strv_contains(operators, word_at(t, 1)))
		return test_comparison(t);
	bool has_operand = t->at + 1 < t->n && word[0] == '-' && word[1] && !word[2] &&
			   strchr("znsefd", word[1]);
	const char *operand = word_at(t, 1);
	t->at += has_operand ? 2 : 1;
	if (!has_operand)
		return truth(*word != '\0');
	if (word[1] == 'z' || word[1] == 'n')
		return truth((word[1] == 'z') == (*operand == '\0'));
	return is_file(t, word[1], operand);
}

/* -a binds more than -o. */
static WdrGrubTruth test(WdrGrubShell *sh, char **words, size_t n)
{
	Test t = { sh, words, 0, n, 0 };
	WdrGrubTruth any = WDR_GRUB_FALSE;
	WdrGrubTruth all = test_one(&t);

	while (t.at < n) {
		bool is_and = strcmp(word_at(&t, 0), "-a") == 0;
		t.at++;
		WdrGrubTruth next = test_one(&t);
		if (is_and) {
			all = all == WDR_GRUB_FALSE || next == WDR_GRUB_FALSE ? WDR_GRUB_FALSE
									      : MAX(all, next);
			continue;
		}
		any = any == WDR_GRUB_TRUE || all == WDR_GRUB_TRUE ? WDR_GRUB_TRUE : MAX(any, all);
		all = next;
	}
	return any == WDR_GRUB_TRUE || all == WDR_GRUB_TRUE ? WDR_GRUB_TRUE : MAX(any, all);
}

/* ---- the shell's own commands ---- */

static void set_variable(WdrGrubShell *sh, const char *word)
{
	const char *equals = strchr(word, '=');

	if (!equals)
		return;
	g_autofree char *name = g_strndup(word, (size_t)(equals - word));
	wdr_grub_set(sh, name, equals + 1);
}

/* What save_env stored: lines of name=value, and padding. */
static void load_environment(WdrGrubShell *sh)
{
	g_autofree char *file = g_strconcat(wdr_grub_get(sh, "prefix"), "/grubenv", NULL);
	const char *path = NULL;
	WdrSystemPart *part = wdr_grub_locate(sh, file, &path);
	size_t len = 0;
	g_autofree char *text = part && part->volume ? wdr_follow_read(part->volume, path,
							       ENVIRONMENT_BYTES_MAX, &len)
						     : NULL;
	g_auto(GStrv) lines = g_strsplit(text ? text : "", "\n", -1);

	for (size_t i = 0; lines[i]; i++) {
		if (*lines[i] != '#')
			set_variable(sh, lines[i]);
	}
}

static WdrSystemPart *with_file(const WdrSystem *s, const char *name)
{
	for (guint i = 0; i < s->parts->len; i++) {
		WdrSystemPart *p = s->parts->pdata[i];
		g_auto(WdrEntry) entry = { 0 };
		if (p->volume &&
			wdr_follow(p->volume, name + strspn(name, "/"), NULL, NULL, &entry))
			return p;
	}
	return NULL;
}

static WdrSystemPart *look_on(const WdrSystem *s, const WdrGrubSearch *what, const char *name)
{
	WdrIdentifier a = { .kind = what->by == WDR_GRUB_BY_UUID ? WDR_BY_UUID : WDR_BY_LABEL,
		.value = (char *)name };
	unsigned count = 0;

	if (what->by == WDR_GRUB_BY_FILE)
		return with_file(s, name);
	return what->by == WDR_GRUB_BY_NONE ? NULL : wdr_system_resolve(s, &a, &count);
}

static WdrGrubTruth look_for(WdrGrubShell *sh, const WdrGrubSearch *what, const char *name)
{
	WdrSystemPart *found = look_on(sh->s, what, name);

	for (guint i = 0; !found && sh->others && i < sh->others->len; i++)
		found = look_on(sh->others->pdata[i], what, name);
	g_autofree char *device = found ? wdr_grub_device(sh, found) : NULL;
	if (device)
		wdr_grub_set(sh, what->variable ? what->variable : "root", device);
	return truth(found != NULL);
}

static WdrGrubTruth search(WdrGrubShell *sh, char **words, unsigned line)
{
	static const char *const kinds[] = { "", "UUID", "label", "file" };
	WdrGrubSearch what;

	if (!wdr_grub_search_parse(words, &what) || what.name == 0)
		return WDR_GRUB_UNKNOWN;
	WdrGrubTruth found = look_for(sh, &what, words[what.name]);
	if (found == WDR_GRUB_FALSE) {
		g_free(sh->missed);
		sh->missed = g_strdup_printf("%s:%u searches for the %s %s, which no partition has",
			sh->script->file, line, kinds[what.by], words[what.name]);
	}
	g_free(what.variable);
	return found;
}

static void doubt(WdrGrubShell *sh, const WdrGrubToken *at, char *const *words)
{
	g_autofree char *said = g_strjoinv(" ", (char **)words);

	if (!sh->doubt)
		sh->doubt =
			g_strdup_printf("%s:%u: '%s' depends on what only the running loader knows",
				sh->script->file, at->line, said);
}

static WdrGrubTruth run_command(
	WdrGrubShell *sh, char **words, const WdrGrubToken *first, guint body, guint body_end)
{
	size_t n = g_strv_length(words);

	if (strcmp(words[0], "[") == 0 && n > 1 && strcmp(words[n - 1], "]") == 0)
		return test(sh, words + 1, n - 2);
	if (strcmp(words[0], "test") == 0)
		return test(sh, words + 1, n - 1);
	if (strcmp(words[0], "false") == 0)
		return WDR_GRUB_FALSE;
	if (strcmp(words[0], "set") == 0 && n > 1)
		set_variable(sh, words[1]);
	else if (n == 1 && strchr(words[0], '=') && !strchr("\"'[-", *words[0]))
		set_variable(sh, words[0]);
	else if (strcmp(words[0], "unset") == 0 && n > 1)
		g_hash_table_remove(sh->variables, words[1]);
	else if (strcmp(words[0], "load_env") == 0)
		load_environment(sh);
	else if (strncmp(words[0], "search", 6) == 0)
		return search(sh, words, first->line);
	else
		return sh->command(sh, words, first, body, body_end);
	return WDR_GRUB_TRUE;
}

/* ---- running ---- */

typedef struct {
	WdrGrubShell *sh;
	const WdrGrubScript *script;
	const WdrGrubToken *tokens;
	guint at, end;
	unsigned depth;
} Run;

static bool is_word(const Run *r, guint at, const char *word)
{
	if (at >= r->end || r->tokens[at].kind != WDR_GRUB_WORD)
		return false;
	WdrSpan s = r->tokens[at].span;
	return s.end - s.at == strlen(word) &&
	       memcmp(r->script->text + s.at, word, strlen(word)) == 0;
}

static bool is_any(const Run *r, const char *const *words)
{
	for (size_t i = 0; words[i]; i++) {
		if (is_word(r, r->at, words[i]))
			return true;
	}
	return false;
}

/* Where the block that is opened at `at` ends: behind its closing brace. */
static guint block_end(const Run *r, guint at)
{
	unsigned depth = 0;

	for (; at < r->end; at++) {
		depth += r->tokens[at].kind == WDR_GRUB_OPEN ? 1 : 0;
		if (r->tokens[at].kind == WDR_GRUB_CLOSE && --depth == 0)
			return at + 1;
	}
	return at;
}

static void run_simple(Run *r, WdrGrubMode mode)
{
	guint first = r->at;
	guint stop = first;
	g_autoptr(GPtrArray) words = g_ptr_array_new_with_free_func(g_free);

	while (stop < r->end && r->tokens[stop].kind == WDR_GRUB_WORD)
		stop++;
	bool has_block = stop < r->end && r->tokens[stop].kind == WDR_GRUB_OPEN;
	guint after = has_block ? block_end(r, stop) : stop;
	r->at = MAX(after, first + 1);
	if (mode == WDR_GRUB_PASSED)
		return;
	for (guint i = first; i < stop; i++) {
		char *word = wdr_grub_word(r->script->text, &r->tokens[i], value_of, r->sh);
		bool is_quoted = r->script->text[r->tokens[i].span.at] == '"' ||
				 r->script->text[r->tokens[i].span.at] == '\'';
		/* A variable without a value is no word. */
		if (*word || is_quoted)
			g_ptr_array_add(words, word);
		else
			g_free(word);
	}
	g_ptr_array_add(words, NULL);
	char **list = (char **)words->pdata;
	if (!list[0])
		return;
	if (mode == WDR_GRUB_TAKEN)
		r->sh->status = run_command(r->sh, list, &r->tokens[first],
			has_block ? stop + 1 : 0, has_block ? after - 1 : 0);
	else if (r->sh->matters(list))
		doubt(r->sh, &r->tokens[first], list);
}

static void run_list(Run *r, WdrGrubMode mode);

static WdrGrubMode branch(WdrGrubMode mode, WdrGrubTruth before, WdrGrubTruth is)
{
	if (mode == WDR_GRUB_PASSED || before == WDR_GRUB_TRUE || is == WDR_GRUB_FALSE)
		return WDR_GRUB_PASSED;
	return is == WDR_GRUB_UNKNOWN || before == WDR_GRUB_UNKNOWN ? WDR_GRUB_PERHAPS : mode;
}

static void run_if(Run *r, WdrGrubMode mode)
{
	WdrGrubTruth before = WDR_GRUB_FALSE;

	for (r->at++;;) {
		WdrGrubMode asked = branch(mode, before, WDR_GRUB_TRUE);
		r->sh->status = WDR_GRUB_UNKNOWN;
		run_list(r, asked);
		if (!is_word(r, r->at, "then"))
			return;
		r->at++;
		/* What was not run has no answer. */
		WdrGrubTruth is = asked == WDR_GRUB_TAKEN ? r->sh->status : WDR_GRUB_UNKNOWN;
		run_list(r, branch(mode, before, is));
		before = before == WDR_GRUB_FALSE  ? is
			 : before == WDR_GRUB_TRUE ? before
						   : WDR_GRUB_UNKNOWN;
		bool has_more = is_word(r, r->at, "elif");
		bool has_else = is_word(r, r->at, "else");
		if (has_more || has_else)
			r->at++;
		if (has_else)
			run_list(r, branch(mode, before, WDR_GRUB_TRUE));
		if (has_more)
			continue;
		if (is_word(r, r->at, "fi"))
			r->at++;
		return;
	}
}

/* A loop's words are known when it runs; what is in it is seen once. */
static void run_loop(Run *r, WdrGrubMode mode)
{
	run_list(r, WDR_GRUB_PASSED);
	if (is_word(r, r->at, "do"))
		r->at++;
	run_list(r, mode == WDR_GRUB_TAKEN ? WDR_GRUB_PERHAPS : mode);
	if (is_word(r, r->at, "done"))
		r->at++;
}

/* Up to a word that ends a branch. */
static void run_list(Run *r, WdrGrubMode mode)
{
	static const char *const ends[] = { "then", "elif", "else", "fi", "do", "done", NULL };
	static const char *const loops[] = { "while", "until", "for", NULL };

	if (++r->depth > DEPTH_MAX)
		r->at = r->end;
	while (r->at < r->end && !is_any(r, ends)) {
		if (r->tokens[r->at].kind != WDR_GRUB_WORD) {
			r->at++;
		} else if (is_word(r, r->at, "if")) {
			run_if(r, mode);
		} else if (is_any(r, loops)) {
			r->at++;
			run_loop(r, mode);
		} else {
			/* A function's body is run where it is called, and nothing that matters is
			 * in those that there are. */
			bool is_function = is_word(r, r->at, "function");
			run_simple(r, is_function ? WDR_GRUB_PASSED : mode);
		}
	}
	r->depth--;
}

void wdr_grub_run(WdrGrubShell *sh, const WdrGrubScript *script, guint at, guint end)
{
	const WdrGrubScript *before = sh->script;
	Run r = { .sh = sh,
		.script = script,
		.tokens = (const WdrGrubToken *)(const void *)script->tokens->data,
		.at = at,
		.end = MIN(end, script->tokens->len) };

	if (sh->depth == DEPTH_MAX)
		return;
	sh->depth++;
	sh->script = script;
	while (r.at < r.end) {
		run_list(&r, WDR_GRUB_TAKEN);
		/* A word that ends nothing. */
		r.at++;
	}
	sh->script = before;
	sh->depth--;
}
