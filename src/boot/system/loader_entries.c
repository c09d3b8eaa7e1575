/* The menu of systemd-boot: loader.conf, the entries, and unified kernel images.
 * Formats: the UAPI group's Boot Loader Specification and Version Format Specification;
 * systemd-boot(7), loader.conf(5); the order of entries as in systemd 252, tried in the lab. */
#include "boot/system/efi_boot_priv.h"

#include "boot/formats/lines.h"
#include "volume/lookup.h"

#include <fnmatch.h>
#include <string.h>

typedef struct {
	char *id; /* the file's name, without the count of tries, in lower case */
	char *sort_key, *version, *machine;
	WdrEfiEntry *entry;
	unsigned tries_done;
} Item;

typedef struct {
	const WdrSystem *s;
	WdrSystemPart *esp;
	WdrEfiBoot *ret;
	GPtrArray *items;
	char *chosen; /* loader.conf's default; NULL: none */
} Menu;

static void item_free(void *data)
{
	Item *i = data;

	g_free(i->id);
	g_free(i->sort_key);
	g_free(i->version);
	g_free(i->machine);
	if (i->entry)
		wdr_efi_entry_free(i->entry);
	g_free(i);
}

/* ---- the order ---- */

static bool is_of_version(char c)
{
	return g_ascii_isalnum(c) || (c && strchr("~-^.", c));
}

/* What counts before everything else: ~ sorts before the end, - and ^ and . in this order. */
static int separator_rank(char c)
{
	switch (c) {
	case '~':
		return -1;
	case '-':
		return 1;
	case '^':
		return 2;
	case '.':
		return 3;
	default:
		return c ? 4 : 0;
	}
}

static int compare_digits(const char **a, const char **b)
{
	*a += strspn(*a, "0");
	*b += strspn(*b, "0");
	size_t x = strspn(*a, "0123456789");
	size_t y = strspn(*b, "0123456789");
	int r = x != y ? (x > y) - (x < y) : strncmp(*a, *b, x);

	*a += x;
	*b += y;
	return r;
}

static int compare_letters(const char **a, const char **b)
{
	size_t x = 0;
	size_t y = 0;

	while (g_ascii_isalpha((*a)[x]))
		x++;
	while (g_ascii_isalpha((*b)[y]))
		y++;
	int r = strncmp(*a, *b, MIN(x, y));
	if (r == 0)
		r = (x > y) - (x < y);
	*a += x;
	*b += y;
	return r;
}

/* As the Version Format Specification has it: below 0 when a is the older one. */
static int compare_versions(const char *a, const char *b)
{
	int r = 0;

	a = a ? a : "";
	b = b ? b : "";
	while (r == 0 && (*a || *b)) {
		while (*a && !is_of_version(*a))
			a++;
		while (*b && !is_of_version(*b))
			b++;
		int x = separator_rank(*a);
		int y = separator_rank(*b);
		if (x < 4 || y < 4) {
			r = (x > y) - (x < y);
			a += *a && x < 4 ? 1 : 0;
			b += *b && y < 4 ? 1 : 0;
		} else if (g_ascii_isdigit(*a) || g_ascii_isdigit(*b)) {
			r = compare_digits(&a, &b);
		} else {
			r = compare_letters(&a, &b);
		}
	}
	return r;
}

static int compare_keys(const Item *a, const Item *b)
{
	int r = (a->sort_key == NULL) - (b->sort_key == NULL);

	if (r != 0 || !a->sort_key)
		return r;
	r = strcmp(a->sort_key, b->sort_key);
	if (r == 0)
		r = g_strcmp0(a->machine, b->machine);
	return r ? r : -compare_versions(a->version, b->version);
}

/* Entries without tries left come last; then by sort-key, and newer ones first. */
static int by_order(const void *x, const void *y)
{
	const Item *a = *(Item *const *)x;
	const Item *b = *(Item *const *)y;
	int r = (a->entry->tries_left == 0) - (b->entry->tries_left == 0);

	if (r == 0)
		r = compare_keys(a, b);
	if (r == 0)
		r = -compare_versions(a->id, b->id);
	if (r == 0)
		r = b->entry->tries_left - a->entry->tries_left;
	return r ? r : (a->tries_done > b->tries_done) - (a->tries_done < b->tries_done);
}

/* ---- entries ---- */

/* "name+3-1.conf": three tries are left, one was made. */
static void take_name(Item *item, const char *file)
{
	const char *dot = strrchr(file, '.');
	const char *plus = strrchr(file, '+');
	char *end = NULL;
	guint64 left = plus ? g_ascii_strtoull(plus + 1, &end, 10) : 0;
	guint64 made = end && *end == '-' ? g_ascii_strtoull(end + 1, &end, 10) : 0;
	bool is_counted = plus && dot && end == dot && end > plus + 1;
	g_autofree char *id = is_counted ? g_strdup_printf("%.*s%s", (int)(plus - file), file, dot)
					 : g_strdup(file);

	item->id = g_ascii_strdown(id, -1);
	item->entry->tries_left = is_counted ? (int)MIN(left, 99) : -1;
	item->tries_done = is_counted ? (unsigned)MIN(made, 99) : 0;
}

static char *plain_path(const char *value)
{
	return g_strdup(value + strspn(value, "/\\"));
}

static void set(char **where, const char *value)
{
	g_free(*where);
	*where = g_strdup(value);
}

static void take_initramfs(WdrEfiEntry *e, const char *value, unsigned line)
{
	/* Several are loaded one behind the other. */
	if (e->initramfs.path)
		g_ptr_array_add(e->early, e->initramfs.path);
	e->initramfs.path = plain_path(value);
	e->initramfs_line = line;
}

static void take_options(WdrEfiEntry *e, const char *value, unsigned line)
{
	char *joined = e->arguments ? g_strconcat(e->arguments, " ", value, NULL) : g_strdup(value);

	g_free(e->arguments);
	e->arguments = joined;
	e->arguments_line = line;
}

static void take_line(Item *item, const char *key, const char *value, unsigned line)
{
	WdrEfiEntry *e = item->entry;

	if (strcmp(key, "linux") == 0) {
		g_free(e->kernel.path);
		e->kernel.path = plain_path(value);
		e->kernel_line = line;
	} else if (strcmp(key, "initrd") == 0) {
		take_initramfs(e, value, line);
	} else if (strcmp(key, "options") == 0) {
		take_options(e, value, line);
	} else if (strcmp(key, "devicetree") == 0) {
		g_free(e->device_tree);
		e->device_tree = plain_path(value);
	} else if (strcmp(key, "sort-key") == 0) {
		set(&item->sort_key, value);
	} else if (strcmp(key, "version") == 0) {
		set(&item->version, value);
	} else if (strcmp(key, "machine-id") == 0) {
		set(&item->machine, value);
	} else if (strcmp(key, "efi") == 0) {
		set(&e->doubt, "it starts another program, whose arguments are its own");
	}
}

typedef void (*TakeFunc)(void *data, const char *key, const char *value, unsigned line);

/* "key value" lines. */
static void each_line(const char *text, size_t len, TakeFunc take, void *data)
{
	for (WdrLine line = wdr_lines(text, len); wdr_line_next(&line);) {
		size_t at = wdr_skip_blanks(text, line.at, line.end);
		size_t end = wdr_word_end(text, at, line.end);
		size_t value = wdr_skip_blanks(text, end, line.end);
		size_t value_end = wdr_trim_blanks(text, value, line.end);
		if (at == line.end || text[at] == '#' || value >= value_end)
			continue;
		g_autofree char *key = g_strndup(text + at, end - at);
		g_autofree char *said = g_strndup(text + value, value_end - value);
		take(data, key, said, line.number);
	}
}

static void take_entry_line(void *data, const char *key, const char *value, unsigned line)
{
	take_line(data, key, value, line);
}

static Item *new_item(Menu *m, WdrSystemPart *part, const char *file)
{
	Item *item = g_new0(Item, 1);

	item->entry = g_new0(WdrEfiEntry, 1);
	item->entry->early = g_ptr_array_new_with_free_func(g_free);
	item->entry->part = part;
	item->entry->number = part->partition->number;
	take_name(item, file);
	g_ptr_array_add(m->items, item);
	return item;
}

static void read_entry(Menu *m, WdrSystemPart *part, const char *folder, const char *file)
{
	g_autofree char *path = g_build_filename(folder, file, NULL);
	size_t len = 0;
	g_autofree char *text = wdr_follow_read(part->volume, path, WDR_BOOT_FILE_BYTES_MAX, &len);

	if (!text)
		return;
	Item *item = new_item(m, part, file);
	item->entry->config = g_strdup(path);
	item->entry->name = g_strdup_printf("entry %s", file);
	each_line(text, len, take_entry_line, item);
}

static void take_release(void *data, const char *key, const char *value)
{
	Item *item = data;
	g_autofree char *plain = g_shell_unquote(value, NULL);

	if (!plain)
		return;
	if (strcmp(key, "IMAGE_ID") == 0 || (strcmp(key, "ID") == 0 && !item->sort_key))
		set(&item->sort_key, plain);
	if (strcmp(key, "IMAGE_VERSION") == 0 || (strcmp(key, "VERSION_ID") == 0 && !item->version))
		set(&item->version, plain);
}

/* What a unified image says of its system is a section of its own, like os-release. */
static void read_release(Item *item, const char *text, size_t len)
{
	for (WdrLine line = wdr_lines(text, len); wdr_line_next(&line);) {
		const char *equals = memchr(text + line.at, '=', line.end - line.at);
		if (!equals)
			continue;
		size_t value = (size_t)(equals - text) + 1;
		g_autofree char *key = g_strndup(text + line.at, value - 1 - line.at);
		g_autofree char *said = g_strndup(text + value, line.end - value);
		take_release(item, key, said);
	}
}

static void read_unified(Menu *m, WdrSystemPart *part, const char *folder, const char *file)
{
	g_autofree char *path = g_build_filename(folder, file, NULL);
	size_t len = 0;
	g_autofree char *bytes = wdr_follow_read(part->volume, path, WDR_EDITED_BYTES_MAX, &len);
	WdrEfiProgram p;

	if (!bytes || !wdr_efi_program_parse(bytes, len, &p, NULL) || p.kind != WDR_EFI_UNIFIED)
		return;
	Item *item = new_item(m, part, file);
	read_release(item, bytes + p.release.at, p.release.bytes);
	(void)wdr_efi_unified_take(part, path, item->entry);
}

static void read_part(Menu *m, WdrSystemPart *part)
{
	static const struct {
		const char *folder, *suffix;
		void (*read)(Menu *m, WdrSystemPart *part, const char *folder, const char *file);
	} kinds[] = { { "loader/entries", ".conf", read_entry },
		{ "EFI/Linux", ".efi", read_unified } };

	for (size_t k = 0; k < G_N_ELEMENTS(kinds); k++) {
		g_autofree char *folder = NULL;
		g_autoptr(GPtrArray) names =
			wdr_follow_names(part->volume, kinds[k].folder, &folder);
		for (guint i = 0; folder && i < names->len; i++) {
			g_autofree char *low = g_ascii_strdown(names->pdata[i], -1);
			if (g_str_has_suffix(low, kinds[k].suffix))
				kinds[k].read(m, part, folder, names->pdata[i]);
		}
	}
}

/* ---- loader.conf ---- */

static void take_setting(void *data, const char *key, const char *value, unsigned line)
{
	Menu *m = data;

	if (strcmp(key, "default") == 0)
		set(&m->chosen, value);
	else if (strcmp(key, "timeout") == 0 && strcmp(value, "menu-force") == 0)
		g_ptr_array_add(m->ret->warnings,
			g_strdup_printf(
				"loader/loader.conf:%u: timeout menu-force: the menu waits for "
				"a key for ever",
				line));
}

static void read_settings(Menu *m)
{
	size_t len = 0;
	g_autofree char *text = wdr_follow_read(
		m->esp->volume, "loader/loader.conf", WDR_BOOT_FILE_BYTES_MAX, &len);

	if (text)
		each_line(text, len, take_setting, m);
}

/* The first in the order that the pattern fits. */
static guint find_default(Menu *m)
{
	g_autofree char *pattern = m->chosen ? g_ascii_strdown(m->chosen, -1) : NULL;

	if (!pattern)
		return 0;
	if (*pattern == '@') {
		g_ptr_array_add(m->ret->warnings,
			g_strdup_printf("loader/loader.conf: default %s is known to the firmware "
					"alone: the first entry is taken here",
				m->chosen));
		return 0;
	}
	for (guint i = 0; i < m->items->len; i++) {
		if (fnmatch(pattern, ((Item *)m->items->pdata[i])->id, 0) == 0)
			return i;
	}
	g_ptr_array_add(m->ret->warnings,
		g_strdup_printf(
			"loader/loader.conf: the default %s fits no entry: the first one is taken",
			m->chosen));
	return 0;
}

static void hand_over(Menu *m, guint i)
{
	Item *item = m->items->pdata[i];

	if (item->entry)
		g_ptr_array_add(m->ret->list, g_steal_pointer(&item->entry));
}

void wdr_loader_entries_follow(const WdrSystem *s, WdrSystemPart *esp, WdrEfiBoot *ret)
{
	g_autoptr(GPtrArray) items = g_ptr_array_new_with_free_func(item_free);
	Menu m = { .s = s, .esp = esp, .ret = ret, .items = items };
	const char *folder = NULL;
	WdrSystemPart *other = wdr_efi_other_boot(s, &folder);

	read_settings(&m);
	read_part(&m, esp);
	/* The loader reads a FAT volume of the type for it, and no other. */
	if (other && other->volume && *folder == '\0' && other != esp &&
		g_strcmp0(other->probe.type, "vfat") == 0)
		read_part(&m, other);
	g_ptr_array_sort(items, by_order);
	if (items->len == 0)
		g_ptr_array_add(ret->faults,
			g_strdup("systemd-boot finds no entry: no loader/entries/*.conf, no "
				 "EFI/Linux/*.efi"));
	guint first = items->len > 0 ? find_default(&m) : 0;
	/* One that is counted gives way to the next when its tries are used up. */
	for (guint i = first; i < items->len; i++)
		hand_over(&m, i);
	g_free(m.chosen);
}
