/* Firmware with a FAT boot partition: config.txt says what it loads, or its defaults do. */
#include "boot/config.h"
#include "boot/way.h"

#include <string.h>

enum { INCLUDES_MAX = 64 };

typedef struct {
	const char *name;       /* in words */
	const char *kernels[4]; /* defaults, in the order in which they are looked for */
	const char *needs[4];   /* firmware files that must lie beside them */
	const char *tree;       /* its first board's device tree */
} Series;

/* By the firmware's documentation; [pi4] and the like in config.txt are seen as "on some boards".
 */
static const Series all_series[] = {
	{ "5 series", { "kernel_2712.img", "kernel8.img", NULL }, { NULL }, "bcm2712-rpi-5-b.dtb" },
	{ "4 series", { "kernel8.img", "kernel7l.img", NULL }, { "start4.elf", "fixup4.dat", NULL },
		"bcm2711-rpi-4-b.dtb" },
	{ "3 series", { "kernel8.img", "kernel7.img", NULL },
		{ "bootcode.bin", "start.elf", "fixup.dat", NULL }, "bcm2710-rpi-3-b.dtb" },
};

static void read_config(const WdrWays *w, const char *file, WdrConfig *to, unsigned depth)
{
	g_autoptr(GPtrArray) mentions = wdr_mentions_new();
	g_autoptr(GPtrArray) remarks = wdr_remarks_new();
	size_t len = 0;
	g_autofree char *text = wdr_ways_text(w, file, &len);
	WdrReading r = { file, text ? text : "", len, 0, mentions, remarks };
	guint first = to->len;

	if (!text || depth > INCLUDES_MAX)
		return;
	wdr_config_parse(&r, to);
	for (guint i = first; i < to->len; i++) {
		const WdrConfigLine *l = to->pdata[i];
		if (strcmp(l->key, "include") == 0) {
			g_autofree char *included = g_strdup(l->value);
			read_config(w, included, to, depth + 1);
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

static const char *prefix_of(const WdrConfig *config)
{
	const WdrConfigLine *l = setting(config, "os_prefix");

	return l ? l->value : "";
}

static void say(WdrWayFile *f, const WdrConfig *config, const WdrConfigLine *line, const char *name)
{
	f->path = g_strconcat(prefix_of(config), line ? line->value : name, NULL);
	f->said = line ? g_strdup_printf("config.txt:%u", line->line) : NULL;
}

/* With kernel= the name is given; else the first default that is there, for the series that the
 * files are for. */
static const Series *choose_kernel(const WdrWays *w, const WdrConfig *config, WdrWay *way)
{
	const WdrConfigLine *line = setting(config, "kernel");
	const Series *chosen = NULL;

	for (size_t i = 0; i < G_N_ELEMENTS(all_series); i++) {
		const Series *s = &all_series[i];
		bool has_all = true;
		for (size_t k = 0; s->needs[k]; k++)
			has_all &= wdr_ways_has(w, s->needs[k]);
		for (size_t k = 0; has_all && !line && !way->kernel.path && s->kernels[k]; k++) {
			g_autofree char *path = g_strconcat(prefix_of(config), s->kernels[k], NULL);
			if (!wdr_ways_has(w, path))
				continue;
			say(&way->kernel, config, NULL, s->kernels[k]);
			chosen = s;
		}
		if (has_all && line && !chosen)
			chosen = s;
	}
	if (line)
		say(&way->kernel, config, line, NULL);
	return chosen;
}

/* auto_initramfs=1: "initramfs" in place of "kernel", "8" and the like kept. */
static void choose_initramfs(const WdrConfig *config, WdrWay *way)
{
	const WdrConfigLine *named = setting(config, "initramfs");
	const WdrConfigLine *automatic = setting(config, "auto_initramfs");
	const char *base = way->kernel.path ? strrchr(way->kernel.path, '/') : NULL;

	base = base ? base + 1 : way->kernel.path;
	if (named) {
		say(&way->initramfs, config, named, NULL);
	} else if (automatic && g_ascii_strtoull(automatic->value, NULL, 10) != 0 && base &&
		   g_str_has_prefix(base, "kernel")) {
		g_autofree char *rest = g_strndup(base + 6, strcspn(base + 6, "."));
		g_autofree char *name = g_strconcat("initramfs", rest, NULL);
		say(&way->initramfs, config, NULL, name);
		way->initramfs.said = g_strdup_printf("config.txt:%u", automatic->line);
	}
}

/* The firmware reads the first line only, and cuts lines of config.txt, not this one. */
static void read_arguments(WdrWays *w, const WdrConfig *config, WdrWay *way)
{
	const WdrConfigLine *line = setting(config, "cmdline");
	g_autofree char *file =
		g_strconcat(prefix_of(config), line ? line->value : "cmdline.txt", NULL);
	size_t len = 0;
	g_autofree char *text = wdr_ways_text(w, file, &len);

	if (!text) {
		g_ptr_array_add(w->remarks,
			g_strdup_printf("%s is not there: the kernel gets no arguments", file));
		way->arguments = g_strdup("");
		way->arguments_said = g_steal_pointer(&file);
		return;
	}
	size_t end = strcspn(text, "\r\n");
	if (text[end] && text[end + strspn(text + end, "\r\n ")])
		g_ptr_array_add(w->remarks,
			g_strdup_printf(
				"%s has more than one line: the firmware reads the first", file));
	way->arguments = g_strndup(text, end);
	way->arguments_said = g_strdup_printf("%s:1", file);
}

static void choose_tree(
	const WdrWays *w, const WdrConfig *config, const Series *series, WdrWay *way)
{
	const WdrConfigLine *line = setting(config, "device_tree");

	if (line) {
		if (*line->value)
			say(&way->device_tree, config, line, NULL);
		return;
	}
	if (series && wdr_ways_has(w, series->tree))
		way->device_tree.path = g_strdup(series->tree);
}

void wdr_ways_of_firmware(const WdrSystem *s, WdrWays *w)
{
	g_autoptr(GPtrArray) config = wdr_config_new();
	WdrWay *way = wdr_ways_add(w);

	(void)s;
	if (!wdr_ways_has(w, "config.txt"))
		g_ptr_array_add(w->remarks,
			g_strdup("config.txt is not there: boards of the 5 series want one"));
	read_config(w, "config.txt", config, 0);
	const Series *series = choose_kernel(w, config, way);
	way->name = series ? g_strdup_printf(
				     "%s, as on boards of the %s,", way->kernel.path, series->name)
			   : g_strdup(way->kernel.path);
	if (!way->kernel.path) {
		g_ptr_array_add(w->faults,
			g_strdup(
				"no kernel for any board whose firmware files are here: kernel8.img, "
				"kernel_2712.img, kernel7l.img, kernel7.img"));
		g_ptr_array_set_size(w->ways, 0);
		return;
	}
	choose_initramfs(config, way);
	read_arguments(w, config, way);
	choose_tree(w, config, series, way);
}
