/* An extlinux menu, as U-Boot 2023.01 follows it: the default first, and when that fails the others
 * in the order of the file. */
#include "boot/formats/extlinux.h"

#include "boot/rehearse/boot_entry.h"

#include <string.h>

typedef enum {
	LINE_KERNEL,
	LINE_INITRD,
	LINE_APPEND,
	LINE_TREE,
	LINE_TREE_FOLDER,
	LINE_PASSED
} Line;

static const struct {
	const char *word;
	Line line;
} words[] = { { "kernel", LINE_KERNEL }, { "linux", LINE_KERNEL }, { "fit", LINE_KERNEL },
	{ "initrd", LINE_INITRD }, { "append", LINE_APPEND }, { "fdt", LINE_TREE },
	{ "devicetree", LINE_TREE }, { "fdtdir", LINE_TREE_FOLDER },
	{ "devicetreedir", LINE_TREE_FOLDER }, { "label", LINE_PASSED }, { "menu", LINE_PASSED },
	{ "fdtoverlays", LINE_PASSED }, { "devicetree-overlay", LINE_PASSED },
	{ "ipappend", LINE_PASSED }, { "localboot", LINE_PASSED }, { "kaslrseed", LINE_PASSED } };

typedef struct {
	WdrBootEntries *entries;
	const char *file;
	char *folder; /* of the file: what paths without a slash in front count from */
	const char *text;
	size_t len;
} Menu;

static bool find_word(const Menu *m, WdrSpan word, Line *ret)
{
	for (size_t i = 0; i < G_N_ELEMENTS(words); i++) {
		if (wdr_word_is(m->text, word.at, word.end, words[i].word)) {
			*ret = words[i].line;
			return true;
		}
	}
	return false;
}

static void set_file(const Menu *m, WdrBootEntryFile *f, const char *value, unsigned line)
{
	g_free(f->path);
	g_free(f->said);
	const char *plain = value;
	while (*plain == '/')
		plain++;
	f->path = *value == '/' ? g_strdup(plain) : g_build_filename(m->folder, value, NULL);
	f->said = g_strdup_printf("%s:%u", m->file, line);
}

static void take_line(
	const Menu *m, WdrBootEntry *entry, Line kind, const char *value, unsigned line)
{
	switch (kind) {
	case LINE_KERNEL:
		set_file(m, &entry->kernel, value, line);
		break;
	case LINE_INITRD:
		set_file(m, &entry->initramfs, value, line);
		break;
	case LINE_TREE:
	case LINE_TREE_FOLDER:
		set_file(m, &entry->device_tree, value, line);
		entry->has_tree_folder = kind == LINE_TREE_FOLDER;
		break;
	case LINE_APPEND:
		g_free(entry->arguments);
		g_free(entry->arguments_said);
		entry->arguments = g_strdup(value);
		entry->arguments_said = g_strdup_printf("%s:%u", m->file, line);
		break;
	case LINE_PASSED:
		break;
	}
}

static void take_entry(const Menu *m, const WdrExtlinuxEntry *e, WdrBootEntry *entry)
{
	WdrLine line = wdr_lines(m->text, m->len);

	entry->name = g_strdup_printf("entry %s", e->label);
	while (wdr_line_next(&line)) {
		if (line.start < e->start || line.start >= e->end)
			continue;
		size_t at = wdr_skip_blanks(m->text, line.at, line.end);
		WdrSpan word = { at, wdr_word_end(m->text, at, line.end) };
		size_t value = wdr_skip_blanks(m->text, word.end, line.end);
		Line kind = LINE_PASSED;
		if (at == line.end || m->text[at] == '#')
			continue;
		/* U-Boot loses what follows a word that it does not know. */
		if (!find_word(m, word, &kind))
			return;
		/* A CR at the line's end belongs to the value. */
		size_t end = wdr_trim_blanks(m->text, value, line.end);
		if (line.end < m->len && m->text[line.end] == '\r')
			end = line.end + 1;
		g_autofree char *text = g_strndup(m->text + value, end - value);
		take_line(m, entry, kind, text, line.number);
	}
}

/* All entries, those of included menus too; *ret_default is the name in force. */
static void read_menu(WdrBootEntries *w, const char *file, unsigned depth, char **ret_default)
{
	g_autoptr(GPtrArray) mentions = wdr_mentions_new();
	g_autoptr(GPtrArray) warnings = wdr_warnings_new();
	size_t len = 0;
	g_autofree char *text = wdr_boot_entries_included(w, file, &len);
	g_autofree char *folder = g_path_get_dirname(file);
	WdrReading r = { file, text ? text : "", len, 0, mentions, warnings };
	Menu m = { w, file, folder, text, len };

	if (!text && w->includes.has_ended)
		return;
	if (!text) {
		g_ptr_array_add(w->faults, g_strdup_printf("%s is not there%s", file,
						   depth ? ": U-Boot ignores the whole menu" : ""));
		return;
	}
	g_autoptr(WdrExtlinux) x = wdr_extlinux_parse(&r);
	if (x->default_name) {
		g_free(*ret_default);
		*ret_default = g_strdup(x->default_name);
	}
	for (guint i = 0; i < x->entries->len; i++)
		take_entry(&m, x->entries->pdata[i], wdr_boot_entries_add(w));
	for (guint i = 0; i < x->includes->len; i++) {
		const char *name = x->includes->pdata[i];
		g_autofree char *path =
			*name == '/' ? g_strdup(name + 1) : g_build_filename(folder, name, NULL);
		read_menu(w, path, depth + 1, ret_default);
	}
}

/* The last entry of that name is the default; without one it is the first of all. */
static void put_default_first(WdrBootEntries *w, const char *name)
{
	g_autofree char *wanted = name ? g_strdup_printf("entry %s", name) : NULL;

	for (guint i = w->list->len; wanted && i > 0; i--) {
		if (strcmp(((WdrBootEntry *)w->list->pdata[i - 1])->name, wanted) != 0)
			continue;
		g_ptr_array_insert(w->list, 0, g_ptr_array_steal_index(w->list, i - 1));
		return;
	}
	if (wanted)
		g_ptr_array_add(w->warnings,
			g_strdup_printf(
				"the default '%s' names no entry: the first one is taken", name));
}

void wdr_boot_entries_of_menu(const WdrSystem *s, WdrBootEntries *w)
{
	g_autofree char *file = g_strconcat(s->boot_folder, "extlinux/extlinux.conf", NULL);
	g_autofree char *chosen = NULL;

	read_menu(w, file, 0, &chosen);
	put_default_first(w, chosen);
	for (guint i = w->list->len; i > 0; i--) {
		const WdrBootEntry *entry = w->list->pdata[i - 1];
		if (entry->kernel.path)
			continue;
		g_ptr_array_add(w->faults, g_strdup_printf("%s has no kernel", entry->name));
		g_ptr_array_remove_index(w->list, i - 1);
	}
	if (w->list->len == 0 && w->faults->len == 0)
		g_ptr_array_add(w->faults, g_strdup_printf("%s has no entries", file));
}
