/* Reads every file that may name a disk.
 *
 * Files of the places table by the reader of their format; every other text below the boot volume
 * and /etc is searched for the disk's identifiers. A file that cannot be read, or is too long,
 * gives a warning. */
#include "boot/system/efi_boot.h"
#include "boot/system/system_priv.h"

#include "base/io.h"
#include "base/text.h"
#include "boot/formats/config.h"
#include "boot/formats/extlinux.h"
#include "boot/formats/image.h"
#include "boot/formats/includes.h"
#include "boot/formats/places.h"
#include "boot/formats/search.h"
#include "volume/eachfile.h"

#include <stdlib.h>
#include <string.h>

enum { SEARCHED_BYTES_MAX = 1024 * 1024 };

static const char places_folder[] = "etc/wanderitas/places.d";
static const char not_named[] = "no line of places.d names this file";
static const char in_image[] = "inside an initramfs, which its own tools regenerate";
static const char not_a_place[] = "in a comment, or where nothing reads it";

typedef struct {
	WdrSystem *s;
	const WdrWorld *world; /* NULL: none */
	WdrPlaces *places;
	WdrSearch *search;
	WdrConfigMeaning meaning;
	WdrConfig *config;
	WdrIncludes includes;
	WdrWarnings *early; /* made before the files are read */
	char *cmdline;      /* file of the firmware's kernel arguments; NULL: another flow */
} Scan;

/* One folder tree being walked. */
typedef struct {
	Scan *scan;
	WdrSystemPart *part;
	const char *prefix; /* "boot/" where the boot files are a folder of root */
	bool is_boot;
} Walk;

/* ---- what is where ---- */

static char *read_text(WdrSystemPart *p, const char *path, size_t *ret_len)
{
	char *text = NULL;

	*ret_len = 0;
	if (!p || !p->volume ||
		!wdr_volume_read_file(
			p->volume, path, WDR_BOOT_FILE_BYTES_MAX, &text, ret_len, NULL))
		return NULL;
	return text;
}

static char *read_boot_text(const Scan *c, const char *path, size_t *ret_len)
{
	g_autofree char *full = g_strconcat(c->s->boot_folder, path, NULL);

	return read_text(wdr_system_boot_part(c->s), full, ret_len);
}

static void read_places_text(Scan *c, const char *name, const char *text, size_t len)
{
	WdrReading r = { name, text, len, 0, c->s->mentions, c->s->warnings };

	wdr_places_read(c->places, &r);
}

/* The user's rows on this machine. */
static void read_machine_places(Scan *c, const WdrWorld *world)
{
	g_autofree char *folder = wdr_world_path(world, "/etc/wanderitas/places.d");
	g_autoptr(GDir) dir = g_dir_open(folder, 0, NULL);
	g_autoptr(GPtrArray) names = g_ptr_array_new_with_free_func(g_free);

	for (const char *name; dir && (name = g_dir_read_name(dir));) {
		if (g_str_has_suffix(name, ".conf"))
			g_ptr_array_add(names, g_build_filename(folder, name, NULL));
	}
	g_ptr_array_sort(names, wdr_by_text);
	for (guint i = 0; i < names->len; i++) {
		g_autoptr(GError) error = NULL;
		g_autofree char *text = NULL;
		size_t len = 0;
		if (wdr_read_file(names->pdata[i], SEARCHED_BYTES_MAX, &text, &len, &error))
			read_places_text(c, names->pdata[i], text, len);
		else
			g_ptr_array_add(c->s->warnings, g_strdup(error->message));
	}
}

static bool add_name(void *data, const WdrName *name, GError **error)
{
	(void)error;
	if (g_str_has_suffix(name->name, ".conf"))
		g_ptr_array_add(data, g_strdup(name->name));
	return true;
}

/* The rows that the system has with it. */
static void read_system_places(Scan *c)
{
	g_autoptr(GPtrArray) names = g_ptr_array_new_with_free_func(g_free);
	g_auto(WdrEntry) entry = { 0 };
	WdrNode node = { 0, places_folder };
	bool found = false;

	if (!c->s->root || !c->s->root->volume ||
		!wdr_volume_lookup(
			c->s->root->volume, places_folder, &found, &node.id, &entry, NULL) ||
		!found || entry.kind != WDR_KIND_FOLDER ||
		!wdr_volume_list(c->s->root->volume, &node, add_name, names, NULL))
		return;
	g_ptr_array_sort(names, wdr_by_text);
	for (guint i = 0; i < names->len; i++) {
		g_autofree char *path = g_build_filename(places_folder, names->pdata[i], NULL);
		size_t len = 0;
		g_autofree char *text = read_text(c->s->root, path, &len);
		if (text)
			read_places_text(c, path, text, len);
	}
}

/* ---- the loaders' own configuration, which names more files ---- */

static void too_many(Scan *c)
{
	if (!g_ptr_array_find_with_equal_func(c->early, wdr_includes_ended, g_str_equal, NULL))
		g_ptr_array_add(c->early, g_strdup(wdr_includes_ended));
}

/* config.txt with what it includes; warnings come when the files themselves are read. */
static void read_config(Scan *c, const char *file)
{
	g_autoptr(GPtrArray) unused = wdr_warnings_new();
	size_t len = 0;
	g_autofree char *text = read_boot_text(c, file, &len);
	WdrReading r = { file, text ? text : "", len, 0, c->s->mentions, unused };
	guint first = c->config->len;

	if (!wdr_includes_take(&c->includes, len)) {
		too_many(c);
		return;
	}
	wdr_config_parse(&r, NULL, c->config);
	guint end = c->config->len;
	for (guint i = first; i < end; i++) {
		const WdrConfigLine *l = c->config->pdata[i];
		if (strcmp(l->key, "include") != 0)
			continue;
		g_autofree char *included = g_strdup(l->value);
		wdr_places_add(c->places, true, included, wdr_format_find("config"));
		read_config(c, included);
	}
}

static void read_firmware(Scan *c)
{
	if (g_strcmp0(c->s->flow, "firmware") != 0)
		return;
	read_config(c, "config.txt");
	c->meaning = wdr_config_mean(c->config);
	c->s->has_initramfs = c->meaning.has_initramfs;
	c->cmdline = g_strconcat(c->meaning.os_prefix ? c->meaning.os_prefix : "",
		c->meaning.cmdline ? c->meaning.cmdline : "cmdline.txt", NULL);
	wdr_places_add(c->places, true, c->cmdline, wdr_format_find("kernel-arguments"));
	/* Named for some boards only: kernel arguments all the same. */
	for (guint i = 0; i < c->config->len; i++) {
		const WdrConfigLine *l = c->config->pdata[i];
		if (strcmp(l->key, "cmdline") == 0 && l->applies == WDR_APPLIES_SOMETIMES)
			wdr_places_add(
				c->places, true, l->value, wdr_format_find("kernel-arguments"));
	}
}

/* Menus that the menu includes. A path without a slash in front is relative to the menu's folder.
 */
static void read_menu(Scan *c, const char *file, unsigned depth)
{
	g_autoptr(GPtrArray) unused = wdr_warnings_new();
	size_t len = 0;
	g_autofree char *text = read_boot_text(c, file, &len);
	WdrReading r = { file, text ? text : "", len, 0, c->s->mentions, unused };
	if (!wdr_includes_take(&c->includes, len)) {
		too_many(c);
		return;
	}
	g_autoptr(WdrExtlinux) x = wdr_extlinux_parse(&r);
	g_autofree char *folder = g_path_get_dirname(file);

	if (!text && depth > 0)
		g_ptr_array_add(c->early,
			g_strdup_printf(
				"%s%s is included by the menu and is not there: U-Boot ignores the whole menu",
				c->s->boot_folder, file));

	c->s->has_initramfs |= wdr_extlinux_default(x) && wdr_extlinux_default(x)->has_initrd;
	for (guint i = 0; i < x->includes->len; i++) {
		const char *name = x->includes->pdata[i];
		g_autofree char *path =
			*name == '/' ? g_strdup(name + 1) : g_build_filename(folder, name, NULL);
		wdr_places_add(c->places, true, path, wdr_format_find("extlinux"));
		read_menu(c, path, depth + 1);
	}
}

static bool has_name(void *data, const WdrName *name, GError **error)
{
	bool *has = data;

	(void)error;
	*has |= g_str_has_prefix(name->name, "uInitrd") ||
		g_str_has_prefix(name->name, "initrd.img");
	return true;
}

/* A script's initramfs lies beside it; whether it is loaded only the script knows. */
static void look_for_initramfs(Scan *c)
{
	WdrSystemPart *p = wdr_system_boot_part(c->s);
	g_auto(WdrEntry) entry = { 0 };
	WdrNode node = { 0, c->s->boot_folder };
	bool found = false;

	if (wdr_volume_lookup(p->volume, c->s->boot_folder, &found, &node.id, &entry, NULL) &&
		found && !wdr_volume_list(p->volume, &node, has_name, &c->s->has_initramfs, NULL))
		c->s->has_initramfs = false;
}

/* ---- reading one file ---- */

/* Links by a disk's bus or serial are known to the machine that it is plugged into. */
static void follow_link(const Walk *w, WdrMention *m)
{
	if (!w->scan->world || m->identifier.kind != WDR_BY_PATH ||
		!g_str_has_prefix(m->identifier.value, "/dev/disk/"))
		return;
	g_autofree char *link = wdr_world_path(w->scan->world, m->identifier.value);
	char *real = realpath(link, NULL);
	if (!real)
		return;
	g_autofree char *name = g_path_get_basename(real);
	m->identifier.node = g_strconcat("/dev/", name, NULL);
	free(real);
}

/* Readers that see whether an initramfs is loaded along. */
static bool knows_itself(const WdrFormat *format)
{
	static const char *const names[] = { "extlinux", "loader-entry", "grub", "efi-program",
		NULL };

	return g_strv_contains(names, format->name);
}

/* What only the system as a whole can tell of a mention. */
static void complete(const Walk *w, const char *path, const WdrFormat *format, guint first)
{
	const WdrSystem *s = w->scan->s;

	for (guint i = first; i < s->mentions->len; i++) {
		WdrMention *m = s->mentions->pdata[i];
		m->number = w->part->partition->number;
		m->format = format;
		follow_link(w, m);
		if (!m->is_kernel || knows_itself(format))
			continue;
		m->has_initramfs = s->has_initramfs;
		if (strcmp(format->name, "kernel-arguments") == 0)
			m->is_default = w->is_boot && w->scan->cmdline &&
					g_ascii_strcasecmp(path, w->scan->cmdline) == 0;
		else if (!w->is_boot)
			m->is_default = false;
	}
}

/* A cpio archive as it is, behind the header. */
static bool is_plain_archive(const WdrReading *r)
{
	static const char magic[] = "07070";

	return r->len > WDR_IMAGE_HEADER_BYTES + strlen(magic) &&
	       memcmp(r->text + WDR_IMAGE_HEADER_BYTES, magic, strlen(magic)) == 0;
}

/* What the reader left. Of an image that is a script, its text; of another, all bytes. */
static void search_named(const Walk *w, const WdrFormat *format, const WdrReading *r, guint first)
{
	const WdrSearch *search = w->scan->search;
	WdrLoaderImage image;

	if (!format->is_image) {
		wdr_search_text(
			search, r, first, strcmp(format->name, "text") == 0 ? NULL : not_a_place);
		return;
	}
	if (strcmp(format->name, "image") != 0 ||
		!wdr_loader_image_parse(r->text, r->len, &image, NULL))
		return;
	bool is_script = image.type == WDR_IMAGE_SCRIPT;
	/* What is compressed shows no text. */
	if (!is_script && !is_plain_archive(r))
		return;
	WdrReading inner = *r;
	inner.text += is_script ? image.text_at : 0;
	inner.len = is_script ? image.text_bytes : r->len;
	inner.base = is_script ? image.text_at : 0;
	wdr_search_text(search, &inner, first, is_script ? not_a_place : in_image);
}

/* path: with the prefix; the row sees it without. */
static void read_named(
	const Walk *w, const char *path, const WdrFormat *format, const char *text, size_t len)
{
	WdrSystem *s = w->scan->s;
	g_autoptr(GError) error = NULL;
	guint first = s->mentions->len;
	WdrReading r = { path, text, len, 0, s->mentions, s->warnings };

	if (!format->is_image && memchr(text, '\0', len)) {
		g_ptr_array_add(s->warnings,
			g_strdup_printf("%s: it holds 0 bytes: no text, and not read", path));
		g_ptr_array_add(s->unread, g_strdup(path));
		return;
	}
	if (!format->read(&r, &error))
		g_ptr_array_add(s->warnings, g_strdup(error->message));
	search_named(w, format, &r, first);
	complete(w, path + strlen(w->prefix), format, first);
}

static void read_file(void *data, const WdrNode *node, WdrEntry *entry)
{
	const Walk *w = data;
	WdrSystem *s = w->scan->s;
	g_autoptr(GError) error = NULL;
	g_autofree char *text = NULL;
	guint first = s->mentions->len;
	const WdrFormat *format =
		wdr_places_find(w->scan->places, w->is_boot, node->path + strlen(w->prefix));

	if (entry->size == 0 && !format)
		return;
	/* Large or binary files are no text that anybody edits. */
	if (!format && entry->size > SEARCHED_BYTES_MAX)
		return;
	if (!wdr_volume_read_node(w->part->volume, node, entry,
		    format ? format->bytes_max : SEARCHED_BYTES_MAX, &text, &error)) {
		g_ptr_array_add(s->warnings, g_strdup(error->message));
		if (format)
			g_ptr_array_add(s->unread, g_strdup(node->path));
		return;
	}
	size_t len = (size_t)entry->size;
	if (format) {
		read_named(w, node->path, format, text, len);
		return;
	}
	if (memchr(text, '\0', len))
		return;
	WdrReading r = { node->path, text, len, 0, s->mentions, s->warnings };
	wdr_search_text(w->scan->search, &r, first, not_named);
	for (guint i = first; i < s->mentions->len; i++)
		((WdrMention *)s->mentions->pdata[i])->number = w->part->partition->number;
}

/* ---- walking ---- */

static void walk_from(Walk *w, const char *path)
{
	if (w->part && w->part->volume)
		wdr_each_file(w->part->volume, path, read_file, w, w->scan->s->warnings);
}

/* Rows for files of the root volume that the walks do not come to. */
static void walk_elsewhere(const Scan *c)
{
	Walk w = { (Scan *)c, c->s->root, "", false };

	for (guint i = 0; i < c->places->len; i++) {
		const WdrPlaceRow *row = c->places->pdata[i];
		if (row->is_boot || g_str_has_prefix(row->pattern, "etc/"))
			continue;
		size_t literal = strcspn(row->pattern, "*?[\\");
		g_autofree char *path = g_strndup(row->pattern, literal);
		char *slash = strrchr(path, '/');
		bool is_literal = row->pattern[literal] == '\0';
		if (!is_literal && slash)
			*slash = '\0';
		/* A pattern in the first folder would walk the whole volume: too much asked. */
		if (is_literal || slash)
			walk_from(&w, path);
	}
}

/* Paths such as /dev/mmcblk0p2 name a disk of the machine that the system ran on. For an image
 * nobody knows that name but its own root=, its fstab or its settings. */
static void find_home(WdrSystem *s)
{
	for (unsigned round = 0; round < 2 && !s->home; round++) {
		for (guint i = 0; i < s->mentions->len && !s->home; i++) {
			const WdrMention *m = s->mentions->pdata[i];
			unsigned number = 0;
			if (m->use == WDR_USE_ROOT && m->identifier.kind == WDR_BY_PATH &&
				!m->frozen && (round > 0 || m->is_default))
				(void)wdr_identifier_split_path(
					m->identifier.value, &s->home, &number);
		}
	}
}

/* Which of a menu's entries starts by itself is known when its loader is followed; readers of one
 * file take the first. */
static void find_efi_default(WdrSystem *s)
{
	g_autofree char *program = wdr_efi_first_program(s->boot);
	g_autoptr(WdrEfiBoot) boot = wdr_efi_boot_follow(s, NULL, program);
	const WdrEfiEntry *e = boot->list->len > 0 ? boot->list->pdata[0] : NULL;
	WdrMention *found = NULL;

	if (!e || !e->config)
		return;
	s->has_initramfs = e->initramfs.path != NULL;
	for (guint i = 0; i < s->mentions->len; i++) {
		WdrMention *m = s->mentions->pdata[i];
		if (m->is_kernel && m->use == WDR_USE_ROOT && m->number == e->number &&
			m->line == e->arguments_line && strcmp(m->file, e->config) == 0)
			found = m;
	}
	for (guint i = 0; found && i < s->mentions->len; i++) {
		WdrMention *m = s->mentions->pdata[i];
		m->is_default = m->is_kernel && m->number == e->number &&
				m->line == e->arguments_line && strcmp(m->file, e->config) == 0;
	}
}

/* ---- all of it ---- */

static WdrSearch *new_search(const WdrSystem *s)
{
	g_autoptr(GArray) ids = g_array_new(FALSE, FALSE, sizeof(WdrIdentity));

	for (guint i = 0; i < s->parts->len; i++) {
		WdrIdentity id = wdr_system_identity(s, s->parts->pdata[i]);
		g_array_append_val(ids, id);
	}
	if (s->sought)
		g_array_append_vals(ids, s->sought->data, s->sought->len);
	return wdr_search_new((const WdrIdentity *)(void *)ids->data, ids->len);
}

/* Where autoboot.txt lets two boot volumes take turns, the other one is booted some day, too; and
 * that file itself names partitions. */
static void walk_alternates(Scan *c)
{
	for (guint i = 0; i < c->s->parts->len; i++) {
		WdrSystemPart *p = c->s->parts->pdata[i];
		bool is_one = p == c->s->autoboot || p->partition->number == c->s->autoboot_trial;
		Walk w = { c, p, "", true };
		if (is_one && p != c->s->boot)
			walk_from(&w, "");
	}
}

/* With UEFI the menu and the kernels mostly lie beside the EFI system partition. */
static void walk_other_boot(Scan *c)
{
	const char *folder = c->s->other_folder;
	Walk w = { c, c->s->other_boot, folder, true };
	g_autofree char *path = g_strndup(folder, strlen(folder) - (*folder ? 1 : 0));

	walk_from(&w, path);
}

static void walk_all(Scan *c)
{
	Walk boot = { c, wdr_system_boot_part(c->s), c->s->boot_folder, true };
	Walk etc = { c, c->s->root, "", false };
	g_autofree char *folder = g_strndup(
		c->s->boot_folder, strlen(c->s->boot_folder) - (*c->s->boot_folder ? 1 : 0));

	g_ptr_array_set_size(c->s->mentions, 0);
	g_ptr_array_set_size(c->s->warnings, 0);
	g_ptr_array_set_size(c->s->unread, 0);
	g_clear_pointer(&c->search, wdr_search_free);
	c->search = new_search(c->s);
	if (c->s->flow)
		walk_from(&boot, folder);
	if (c->s->autoboot)
		walk_alternates(c);
	if (c->s->other_boot)
		walk_other_boot(c);
	walk_from(&etc, "etc");
	walk_elsewhere(c);
}

void wdr_scan(WdrSystem *s, const WdrWorld *world)
{
	Scan c = { .s = s, .world = world, .places = wdr_places_new(), .config = wdr_config_new() };
	bool had_home = s->home != NULL;
	g_autoptr(GPtrArray) early = wdr_warnings_new();

	g_ptr_array_set_size(s->mentions, 0);
	g_ptr_array_set_size(s->warnings, 0);
	s->has_initramfs = false;
	if (world)
		read_machine_places(&c, world);
	read_system_places(&c);
	/* The walks start from empty lists. */
	c.early = early;
	for (guint i = 0; i < s->warnings->len; i++)
		g_ptr_array_add(early, g_strdup(s->warnings->pdata[i]));
	read_firmware(&c);
	if (g_strcmp0(s->flow, "extlinux") == 0)
		read_menu(&c, "extlinux/extlinux.conf", 0);
	else if (g_strcmp0(s->flow, "loader script") == 0)
		look_for_initramfs(&c);
	walk_all(&c);
	if (g_strcmp0(s->flow, "UEFI") == 0)
		find_efi_default(s);
	find_home(s);
	/* With a name for the disk, device paths can be searched for as well. */
	if (!had_home && s->home) {
		walk_all(&c);
		if (g_strcmp0(s->flow, "UEFI") == 0)
			find_efi_default(s);
	}
	for (guint i = 0; i < early->len; i++)
		g_ptr_array_add(s->warnings, g_strdup(early->pdata[i]));
	wdr_scan_warn(s);
	wdr_search_free(c.search);
	g_ptr_array_unref(c.places);
	g_ptr_array_unref(c.config);
	g_free(c.cmdline);
}
