/* GRUB's menu: which entry starts by itself, and what it loads. Its configuration is run up to the
 * menu, then the chosen entry's commands.
 *
 * GRUB takes the entry that the variable "default" names by number, id or title; a number or name
 * behind > chooses within a submenu; what names none means the first. When an entry fails, GRUB
 * goes back to its menu: no other one is tried. */
#include "boot/system/efi_boot_priv.h"
#include "boot/system/grub_shell.h"

#include "volume/lookup.h"

#include <string.h>

enum { SUBMENUS_MAX = 16 };

/* An entry of the menu, not run yet. */
typedef struct {
	char *title, *id;
	bool is_submenu;
	const WdrGrubScript *script;
	guint at, end; /* its tokens */
	unsigned line;
} Item;

typedef struct {
	WdrGrubShell shell;
	WdrEfiBoot *ret;
	GPtrArray *menus;   /* of GPtrArray of Item */
	GPtrArray *items;   /* of the menu that is being read; one of those */
	WdrEfiEntry *entry; /* that is being run; NULL: the menu is read */
} Menu;

static void item_free(void *data)
{
	Item *i = data;

	g_free(i->title);
	g_free(i->id);
	g_free(i);
}

/* ---- commands ---- */

/* "menuentry TITLE --class x --id ID"; grub-mkconfig writes --id as a variable. */
static void add_item(Menu *m, char *const *words, const WdrGrubToken *first, guint at, guint end)
{
	Item *i = g_new0(Item, 1);

	i->title = g_strdup(words[1] ? words[1] : "");
	i->is_submenu = strcmp(words[0], "submenu") == 0;
	i->script = m->shell.script;
	i->at = at;
	i->end = end;
	i->line = first->line;
	for (size_t k = 2; words[1] && words[k]; k++) {
		if (strcmp(words[k], "--id") == 0 && words[k + 1])
			i->id = g_strdup(words[k + 1]);
		else if (g_str_has_prefix(words[k], "--id="))
			i->id = g_strdup(words[k] + strlen("--id="));
	}
	g_ptr_array_add(m->items, i);
}

static WdrGrubTruth run_file(Menu *m, const char *path)
{
	const char *rest = NULL;
	WdrSystemPart *part = wdr_grub_locate(&m->shell, path, &rest);
	const WdrGrubScript *script = wdr_grub_script(&m->shell, part, rest);

	if (!script) {
		if (m->ret->faults->len == 0)
			g_ptr_array_add(m->ret->faults,
				g_strdup_printf("GRUB's configuration %s is not there%s%s", path,
					m->shell.missed ? ": "
					: part          ? ""
							: ": its device is not on this disk",
					m->shell.missed ? m->shell.missed : ""));
		m->ret->misses_names |= m->shell.missed != NULL;
		return WDR_GRUB_FALSE;
	}
	wdr_grub_run(&m->shell, script, 0, script->tokens->len);
	return WDR_GRUB_TRUE;
}

static void set_once(char **where, const char *value)
{
	g_free(*where);
	*where = g_strdup(value);
}

/* As GRUB hands them to the kernel: words with a blank between quotes. */
static char *join_arguments(char *const *words)
{
	GString *out = g_string_new(NULL);

	for (size_t i = 0; words[i]; i++) {
		bool is_quoted = strchr(words[i], ' ') != NULL;
		g_string_append_printf(out, "%s%s%s%s", i ? " " : "", is_quoted ? "\"" : "",
			words[i], is_quoted ? "\"" : "");
	}
	return g_string_free(out, FALSE);
}

/* The part that a file is on; a doubt where nobody knows. NULL after it. */
static const char *place(Menu *m, const char *path, unsigned line)
{
	const char *rest = NULL;
	WdrEfiEntry *e = m->entry;
	WdrSystemPart *part = wdr_grub_locate(&m->shell, path, &rest);

	if (!part || !part->partition) {
		g_ptr_array_add(m->ret->faults,
			g_strdup_printf(
				"%s:%u: GRUB does not find the partition of %s on this disk",
				m->shell.script->file, line, path));
		return NULL;
	}
	if (e->part && e->part != part && !e->doubt)
		e->doubt = g_strdup_printf(
			"%s:%u: its files lie on two partitions", m->shell.script->file, line);
	e->part = part;
	return rest;
}

static void load_kernel(Menu *m, char *const *words, unsigned line)
{
	WdrEfiEntry *e = m->entry;
	const char *path = words[1] ? place(m, words[1], line) : NULL;

	if (!path)
		return;
	set_once(&e->kernel.path, path);
	g_free(e->arguments);
	e->arguments = join_arguments(words + 2);
	e->kernel_line = e->arguments_line = line;
	set_once(&e->config, m->shell.script->file);
	const WdrSystemPart *on = m->shell.script->part;
	e->number = on && on->partition ? on->partition->number : 0;
}

static void load_initramfs(Menu *m, char *const *words, unsigned line)
{
	WdrEfiEntry *e = m->entry;

	g_ptr_array_set_size(e->early, 0);
	for (size_t i = 1; words[i]; i++) {
		const char *path = place(m, words[i], line);
		if (!path)
			return;
		if (i > 1)
			g_ptr_array_add(e->early, g_strdup(e->initramfs.path));
		set_once(&e->initramfs.path, path);
		e->initramfs_line = line;
	}
}

static void run_in_entry(Menu *m, char *const *words, unsigned line)
{
	static const char *const others[] = { "chainloader", "multiboot", "multiboot2",
		"configfile", "normal", "loopback", "blscfg", NULL };
	WdrEfiEntry *e = m->entry;

	if (wdr_grub_is_linux(words[0])) {
		load_kernel(m, words, line);
	} else if (wdr_grub_is_initrd(words[0])) {
		load_initramfs(m, words, line);
	} else if (strcmp(words[0], "devicetree") == 0 && words[1]) {
		const char *path = place(m, words[1], line);
		set_once(&e->device_tree, path);
	} else if (g_strv_contains(others, words[0]) && !e->doubt) {
		e->doubt = g_strdup_printf("%s:%u: what '%s' starts is not followed",
			m->shell.script->file, line, words[0]);
	}
}

static WdrGrubTruth run_command(
	WdrGrubShell *sh, char **words, const WdrGrubToken *first, guint body, guint body_end)
{
	Menu *m = sh->data;
	bool is_file = strcmp(words[0], "configfile") == 0 || strcmp(words[0], "source") == 0 ||
		       strcmp(words[0], ".") == 0 || strcmp(words[0], "normal") == 0;

	if (body > 0 && (strcmp(words[0], "menuentry") == 0 || strcmp(words[0], "submenu") == 0))
		add_item(m, words, first, body, body_end);
	else if (m->entry)
		run_in_entry(m, words, first->line);
	else if (is_file && words[1])
		return run_file(m, words[1]);
	else if (strcmp(words[0], "blscfg") == 0 && !sh->doubt)
		sh->doubt = g_strdup_printf("%s:%u: the entries that blscfg reads are not followed",
			sh->script->file, first->line);
	/* Whether a font loads, or a module is there, decides nothing about what starts. */
	return WDR_GRUB_UNKNOWN;
}

static bool matters(char *const *words)
{
	static const char *const commands[] = { "menuentry", "submenu", "configfile", "source", ".",
		"linux", "linuxefi", "initrd", "initrdefi", "search", "search.fs_uuid",
		"search.fs_label", "search.file", "blscfg", "chainloader", NULL };
	static const char *const variables[] = { "default=", "root=", "prefix=" };
	const char *set = strcmp(words[0], "set") == 0 && words[1] ? words[1] : "";

	for (size_t i = 0; i < G_N_ELEMENTS(variables); i++) {
		if (g_str_has_prefix(set, variables[i]))
			return true;
	}
	/* The entry behind all others that leads into the firmware's settings; its title is in the
	 * language of the system. */
	bool is_firmware = g_strv_contains((const char *const *)words, "uefi-firmware");
	return !is_firmware && g_strv_contains(commands, words[0]);
}

/* ---- choosing ---- */

/* Of "a>b" the first, taken off; the caller's. */
static char *take_first(const char **spec)
{
	const char *end = *spec;

	/* ">>" is a > in a name. */
	while (*end && (*end != '>' || end[1] == '>'))
		end += *end == '>' ? 2 : 1;
	char *first = g_strndup(*spec, (size_t)(end - *spec));
	*spec = *end ? end + 1 : end;
	return first;
}

static const Item *find(const GPtrArray *items, const char *name)
{
	char *end = NULL;
	guint64 number = g_ascii_strtoull(name, &end, 10);

	if (g_ascii_isdigit(*name) && *end == '\0')
		return number < items->len ? items->pdata[number] : NULL;
	for (guint i = 0; i < items->len; i++) {
		const Item *item = items->pdata[i];
		if (g_strcmp0(item->id, name) == 0 || strcmp(item->title, name) == 0)
			return item;
	}
	return NULL;
}

static const Item *choose(Menu *m, const GPtrArray *items, const char **spec)
{
	g_autofree char *name = take_first(spec);
	const Item *found = *name ? find(items, name) : NULL;

	if (*name && !found) {
		g_ptr_array_add(m->ret->warnings,
			g_strdup_printf(
				"GRUB's default '%s' names no entry: the first one is taken",
				name));
		*spec = "";
	}
	return found ? found : items->len > 0 ? items->pdata[0] : NULL;
}

static void run_entry(Menu *m, const Item *item)
{
	WdrEfiEntry *e = wdr_efi_boot_add(m->ret);
	guint faults = m->ret->faults->len;

	e->name = g_strdup_printf("menu entry '%s'", item->title);
	e->config = g_strdup(item->script->file);
	m->entry = e;
	wdr_grub_run(&m->shell, item->script, item->at, item->end);
	m->entry = NULL;
	if (m->shell.doubt && !e->doubt)
		e->doubt = g_strdup(m->shell.doubt);
	if (!e->kernel.path && !e->doubt && m->ret->faults->len == faults)
		g_ptr_array_add(m->ret->faults, g_strdup_printf("%s:%u: %s loads no kernel",
							item->script->file, item->line, e->name));
	if (!e->kernel.path && !e->doubt)
		g_ptr_array_remove_index(m->ret->list, m->ret->list->len - 1);
}

static void begin_menu(Menu *m)
{
	m->items = g_ptr_array_new_with_free_func(item_free);
	g_ptr_array_add(m->menus, m->items);
}

/* Submenus are read when they are chosen. */
static void start_default(Menu *m)
{
	g_autofree char *chosen = g_strdup(wdr_grub_get(&m->shell, "default"));
	const char *spec = chosen;
	const Item *item = choose(m, m->items, &spec);

	for (unsigned i = 0; item && item->is_submenu && i < SUBMENUS_MAX; i++) {
		begin_menu(m);
		wdr_grub_run(&m->shell, item->script, item->at, item->end);
		item = choose(m, m->items, &spec);
	}
	if (item && !item->is_submenu)
		run_entry(m, item);
	else if (m->ret->faults->len == 0)
		g_ptr_array_add(m->ret->faults, g_strdup("GRUB's menu has no entries"));
}

static void warn_of_waiting(Menu *m)
{
	const char *timeout = wdr_grub_get(&m->shell, "timeout");

	if (*timeout == '-')
		g_ptr_array_add(m->ret->warnings,
			g_strdup("GRUB's menu waits for a key for ever (timeout=-1)"));
}

/* ---- starting ---- */

static void set_first_variables(Menu *m, const WdrGrubStart *start)
{
	WdrGrubShell *sh = &m->shell;
	g_autofree char *device = wdr_grub_device(sh, start->part);
	g_autofree char *cmdpath = g_strdup_printf("(%s)/%s", device, start->folder);
	const char *built_in = start->prefix ? start->prefix : "/boot/grub";
	bool has_device = *built_in == '(';
	g_autofree char *prefix =
		has_device ? g_strdup(built_in) : g_strdup_printf("(%s)%s", device, built_in);

	wdr_grub_set(sh, "root", device);
	wdr_grub_set(sh, "cmdpath", cmdpath);
	wdr_grub_set(sh, "prefix", prefix);
	wdr_grub_set(sh, "grub_platform", "efi");
	wdr_grub_set(sh, "grub_cpu", start->processor);
	/* What a program built for a disk calls it is a device of that disk. */
	const char *rest = NULL;
	WdrSystemPart *part = has_device ? wdr_grub_locate(sh, prefix, &rest) : NULL;
	g_autofree char *root = part ? wdr_grub_device(sh, part) : NULL;
	if (root)
		wdr_grub_set(sh, "root", root);
}

void wdr_grub_follow(const WdrSystem *s, const WdrGrubStart *start, WdrEfiBoot *ret)
{
	Menu m = { .ret = ret };

	m.menus = g_ptr_array_new_with_free_func((GDestroyNotify)g_ptr_array_unref);
	begin_menu(&m);
	wdr_grub_shell_begin(&m.shell, s);
	m.shell.others = start->others;
	m.shell.command = run_command;
	m.shell.matters = matters;
	m.shell.data = &m;
	if (start->memdisk)
		wdr_grub_shell_memdisk(&m.shell, start->memdisk, start->memdisk_bytes);
	set_first_variables(&m, start);
	if (start->config) {
		g_autofree char *file =
			g_strdup_printf("the configuration inside /%s", start->folder);
		const WdrGrubScript *script = wdr_grub_script_of(&m.shell, file, start->config);
		wdr_grub_run(&m.shell, script, 0, script->tokens->len);
	}
	if (m.items->len == 0 && ret->faults->len == 0) {
		g_autofree char *path =
			g_strconcat(wdr_grub_get(&m.shell, "prefix"), "/grub.cfg", NULL);
		(void)run_file(&m, path);
	}
	if (m.items->len > 0 || ret->faults->len == 0)
		start_default(&m);
	warn_of_waiting(&m);
	g_ptr_array_unref(m.menus);
	wdr_grub_shell_end(&m.shell);
}
