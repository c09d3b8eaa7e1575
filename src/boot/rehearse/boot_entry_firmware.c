/* Firmware with a FAT boot partition: config.txt says what it loads, or its defaults do. */
#include "boot/formats/config.h"

#include "boot/rehearse/boot_entry.h"

#include <string.h>

typedef struct {
	unsigned number;
	const char *kernels[3]; /* defaults, in the order in which they are looked for */
	const char *start;      /* what its firmware files are called: "start4" and "fixup4" */
	bool has_bootcode;      /* bootcode.bin comes before them */
	const char *tree;       /* its first board's device tree */
} Series;

/* By the firmware's documentation. Without a board the newest series is taken whose files are all
 * there. */
static const Series all_series[] = {
	{ 5, { "kernel_2712.img", "kernel8.img" }, NULL, false, "bcm2712-rpi-5-b.dtb" },
	{ 4, { "kernel8.img", "kernel7l.img" }, "4", false, "bcm2711-rpi-4-b.dtb" },
	{ 3, { "kernel8.img", "kernel7.img" }, "", true, "bcm2710-rpi-3-b.dtb" },
	{ 2, { "kernel7.img" }, "", true, "bcm2709-rpi-2-b.dtb" },
	{ 1, { "kernel.img" }, "", true, "bcm2708-rpi-b-plus.dtb" },
};

static void read_config(WdrBootEntries *w, const char *file, WdrConfig *to)
{
	g_autoptr(GPtrArray) mentions = wdr_mentions_new();
	g_autoptr(GPtrArray) warnings = wdr_warnings_new();
	size_t len = 0;
	g_autofree char *text = wdr_boot_entries_included(w, file, &len);
	WdrReading r = { file, text ? text : "", len, 0, mentions, warnings };
	guint first = to->len;

	if (!text)
		return;
	wdr_config_parse(&r, w->board ? w->board->filters : NULL, to);
	/* What an included file adds it has looked through itself. */
	guint end = to->len;
	for (guint i = first; i < end; i++) {
		const WdrConfigLine *l = to->pdata[i];
		if (strcmp(l->key, "include") == 0) {
			g_autofree char *included = g_strdup(l->value);
			read_config(w, included, to);
		}
	}
}

/* The last line of this key that holds on every board; NULL: there is none. */
static const WdrConfigLine *setting(const WdrConfig *config, const char *key)
{
	const WdrConfigLine *found = NULL;

	for (guint i = 0; i < config->len; i++) {
		const WdrConfigLine *l = config->pdata[i];
		if (strcmp(l->key, key) == 0 && l->applies == WDR_APPLIES_ALWAYS)
			found = l;
	}
	return found;
}

/* Boards with adapters that announce themselves need no such line. */
static bool switches_pcie(const WdrConfig *config)
{
	bool is_on = false;

	for (guint i = 0; i < config->len; i++) {
		const WdrConfigLine *l = config->pdata[i];
		is_on |= l->applies == WDR_APPLIES_ALWAYS && strcmp(l->key, "dtparam") == 0 &&
			 (strcmp(l->value, "nvme") == 0 || strcmp(l->value, "pciex1") == 0);
	}
	return is_on;
}

static const char *prefix_of(const WdrConfig *config)
{
	const WdrConfigLine *l = setting(config, "os_prefix");

	return l ? l->value : "";
}

static void say(
	WdrBootEntryFile *f, const WdrConfig *config, const WdrConfigLine *line, const char *name)
{
	f->path = g_strconcat(prefix_of(config), line ? line->value : name, NULL);
	f->said = line ? g_strdup_printf("config.txt:%u", line->line) : NULL;
}

static bool is_on(const WdrConfig *config, const char *key, bool otherwise)
{
	const WdrConfigLine *l = setting(config, key);

	return l ? g_ascii_strtoull(l->value, NULL, 10) != 0 : otherwise;
}

/* "x", "db" or "cd": other builds of the same firmware, which some settings ask for. */
static const char *build_of(const WdrConfig *config)
{
	const WdrConfigLine *memory = setting(config, "gpu_mem");

	if (is_on(config, "start_x", false))
		return "x";
	if (is_on(config, "start_debug", false))
		return "db";
	return memory && g_ascii_strtoull(memory->value, NULL, 10) == 16 ? "cd" : "";
}

/* One of a pair of firmware files: "start4x.elf", "start_x.elf", or as a setting names it. */
static char *firmware_file(const WdrConfig *config, const Series *s, const char *key,
	const char *name, const char *end)
{
	const WdrConfigLine *named = setting(config, key);
	const char *build = build_of(config);

	if (named)
		return g_strdup(named->value);
	return g_strdup_printf(
		"%s%s%s%s%s", name, s->start, *s->start || !*build ? "" : "_", build, end);
}

/* The first firmware file that a series wants and that is not there; NULL: none. The caller's. */
static char *missing_firmware(const WdrBootEntries *w, const WdrConfig *config, const Series *s)
{
	if (!s->start)
		return NULL;
	if (s->has_bootcode && !wdr_boot_entries_has(w, "bootcode.bin"))
		return g_strdup("bootcode.bin");
	g_autofree char *start = firmware_file(config, s, "start_file", "start", ".elf");
	g_autofree char *fixup = firmware_file(config, s, "fixup_file", "fixup", ".dat");
	if (!wdr_boot_entries_has(w, start))
		return g_steal_pointer(&start);
	return wdr_boot_entries_has(w, fixup) ? NULL : g_steal_pointer(&fixup);
}

/* A 64-bit kernel is passed over by boards that are not to start one. */
static bool may_start(const WdrConfig *config, const Series *s, const char *kernel)
{
	bool is_64_bit = strcmp(kernel, "kernel8.img") == 0;

	return !is_64_bit || s->number == 5 || is_on(config, "arm_64bit", s->number >= 4);
}

static void choose_default(
	const WdrBootEntries *w, const WdrConfig *config, const Series *s, WdrBootEntry *entry)
{
	for (size_t k = 0; k < G_N_ELEMENTS(s->kernels) && s->kernels[k]; k++) {
		g_autofree char *path = g_strconcat(prefix_of(config), s->kernels[k], NULL);
		if (!may_start(config, s, s->kernels[k]) || !wdr_boot_entries_has(w, path))
			continue;
		say(&entry->kernel, config, NULL, s->kernels[k]);
		return;
	}
}

/* With kernel= the name is given; else the first default that is there, for the board's series, or
 * for the newest whose files are there. */
static const Series *choose_kernel(WdrBootEntries *w, const WdrConfig *config, WdrBootEntry *entry)
{
	const WdrConfigLine *line = setting(config, "kernel");
	unsigned known = w->board ? w->board->series : 0;
	const Series *chosen = NULL;

	if (line)
		say(&entry->kernel, config, line, NULL);
	for (size_t i = 0; !chosen && i < G_N_ELEMENTS(all_series); i++) {
		const Series *s = &all_series[i];
		g_autofree char *missing = missing_firmware(w, config, s);
		if (known && s->number != known)
			continue;
		if (known && missing)
			g_ptr_array_add(w->faults,
				g_strdup_printf("boards of the %u series need the firmware file %s",
					s->number, missing));
		if (missing)
			continue;
		if (!line)
			choose_default(w, config, s, entry);
		chosen = entry->kernel.path ? s : NULL;
	}
	return chosen;
}

/* auto_initramfs=1: "initramfs" in place of "kernel", "8" and the like kept. */
static void choose_initramfs(const WdrConfig *config, WdrBootEntry *entry)
{
	const WdrConfigLine *named = setting(config, "initramfs");
	const WdrConfigLine *automatic = setting(config, "auto_initramfs");
	const char *base = entry->kernel.path ? strrchr(entry->kernel.path, '/') : NULL;

	base = base ? base + 1 : entry->kernel.path;
	if (named) {
		say(&entry->initramfs, config, named, NULL);
	} else if (automatic && g_ascii_strtoull(automatic->value, NULL, 10) != 0 && base &&
		   g_str_has_prefix(base, "kernel")) {
		g_autofree char *rest = g_strndup(base + 6, strcspn(base + 6, "."));
		g_autofree char *name = g_strconcat("initramfs", rest, NULL);
		say(&entry->initramfs, config, NULL, name);
		entry->initramfs.said = g_strdup_printf("config.txt:%u", automatic->line);
	}
}

/* The firmware reads the first line only, and cuts lines of config.txt, not this one. */
static void read_arguments(WdrBootEntries *w, const WdrConfig *config, WdrBootEntry *entry)
{
	const WdrConfigLine *line = setting(config, "cmdline");
	g_autofree char *file =
		g_strconcat(prefix_of(config), line ? line->value : "cmdline.txt", NULL);
	size_t len = 0;
	g_autofree char *text = wdr_boot_entries_text(w, file, &len);

	if (!text) {
		g_ptr_array_add(w->warnings,
			g_strdup_printf("%s is not there: the kernel gets no arguments", file));
		entry->arguments = g_strdup("");
		entry->arguments_said = g_steal_pointer(&file);
		return;
	}
	size_t end = strcspn(text, "\r\n");
	if (text[end] && text[end + strspn(text + end, "\r\n ")])
		g_ptr_array_add(w->warnings,
			g_strdup_printf(
				"%s has more than one line: the firmware reads the first", file));
	entry->arguments = g_strndup(text, end);
	entry->arguments_said = g_strdup_printf("%s:1", file);
}

static void choose_tree(
	const WdrBootEntries *w, const WdrConfig *config, const Series *series, WdrBootEntry *entry)
{
	const WdrConfigLine *line = setting(config, "device_tree");

	if (line) {
		if (*line->value)
			say(&entry->device_tree, config, line, NULL);
		return;
	}
	if (series && wdr_boot_entries_has(w, series->tree))
		entry->device_tree.path = g_strdup(series->tree);
}

static char *no_kernel(const WdrBootEntries *w)
{
	unsigned known = w->board ? w->board->series : 0;

	for (size_t i = 0; i < G_N_ELEMENTS(all_series); i++) {
		const Series *s = &all_series[i];
		if (s->number == known)
			return g_strdup_printf(
				"no kernel that boards of the %u series look for: %s%s%s", known,
				s->kernels[0], s->kernels[1] ? ", " : "",
				s->kernels[1] ? s->kernels[1] : "");
	}
	return g_strdup("no kernel for any board whose firmware files are here: kernel8.img, "
			"kernel_2712.img, kernel7l.img, kernel7.img, kernel.img");
}

void wdr_boot_entries_of_firmware(const WdrSystem *s, WdrBootEntries *w)
{
	g_autoptr(GPtrArray) config = wdr_config_new();
	WdrBootEntry *entry = wdr_boot_entries_add(w);

	(void)s;
	if (!wdr_boot_entries_has(w, "config.txt"))
		g_ptr_array_add(w->warnings,
			g_strdup("config.txt is not there: boards of the 5 series want one"));
	read_config(w, "config.txt", config);
	w->switches_pcie = switches_pcie(config);
	const Series *series = choose_kernel(w, config, entry);
	if (!entry->kernel.path || w->faults->len) {
		if (w->faults->len == 0)
			g_ptr_array_add(w->faults, no_kernel(w));
		g_ptr_array_set_size(w->list, 0);
		return;
	}
	entry->name = series ? g_strdup_printf("%s, as on boards of the %u series,",
				       entry->kernel.path, series->number)
			     : g_strdup(entry->kernel.path);
	choose_initramfs(config, entry);
	read_arguments(w, config, entry);
	choose_tree(w, config, series, entry);
}
