/* Finds the initramfs that belongs to a kernel, by name. */
#include "boot/kernel/naming.h"

#include "boot/formats/configlines.h"
#include "boot/formats/lines.h"
#include "volume/lookup.h"

#include <string.h>

enum { INITRAMFS_BYTES_MAX = 512 * 1024 * 1024 };

/* The names that the firmware's auto_initramfs=1 takes. */
static const struct {
	const char *kernel, *initramfs;
} automatic[] = { { "kernel_2712.img", "initramfs_2712" }, { "kernel8.img", "initramfs8" },
	{ "kernel7l.img", "initramfs7l" }, { "kernel7.img", "initramfs7" },
	{ "kernel.img", "initramfs" } };

/* ---- finding it ---- */

static WdrInitramfs *read_one(WdrVolume *boot, const char *path, const char *release)
{
	g_autoptr(WdrInitramfs) i = NULL;
	size_t len = 0;
	g_autofree char *bytes = wdr_follow_read(boot, path, INITRAMFS_BYTES_MAX, &len);

	if (!bytes || !wdr_initramfs_read_file(bytes, len, &i, NULL) || !i->has_init ||
		(release && g_strcmp0(i->release, release) != 0))
		return NULL;
	return g_steal_pointer(&i);
}

static char *beside(const char *kernel, const char *name)
{
	const char *slash = strrchr(kernel, '/');

	return g_strdup_printf("%.*s%s", slash ? (int)(slash - kernel) + 1 : 0, kernel, name);
}

static void add_names(GPtrArray *names, const char *kernel, const char *release)
{
	static const char *const forms[] = { "initrd.img-", "initrd-", "initramfs-", "uInitrd-" };
	const char *slash = strrchr(kernel, '/');
	const char *base = slash ? slash + 1 : kernel;

	for (size_t i = 0; i < G_N_ELEMENTS(automatic); i++) {
		if (g_ascii_strcasecmp(base, automatic[i].kernel) == 0)
			g_ptr_array_add(names, g_strdup(automatic[i].initramfs));
	}
	for (size_t i = 0; release && i < G_N_ELEMENTS(forms); i++) {
		g_ptr_array_add(names, g_strconcat(forms[i], release, NULL));
		g_ptr_array_add(names, g_strconcat(forms[i], release, ".img", NULL));
	}
}

WdrInitramfs *wdr_initramfs_beside(
	WdrVolume *boot, const char *kernel, const char *release, char **ret_path)
{
	g_autoptr(GPtrArray) names = g_ptr_array_new_with_free_func(g_free);

	add_names(names, kernel, release);
	for (guint i = 0; i < names->len; i++) {
		g_autofree char *path = beside(kernel, names->pdata[i]);
		WdrInitramfs *found = read_one(boot, path, release);
		if (!found)
			continue;
		*ret_path = g_steal_pointer(&path);
		return found;
	}
	return NULL;
}

/* ---- naming it ---- */

/* Behind the kernel's line, indented like it. */
static GBytes *with_initrd(const char *text, size_t len, unsigned number, const char *path)
{
	g_autofree char *line = NULL;

	for (WdrLine l = wdr_lines(text, len); !line && wdr_line_next(&l);) {
		size_t word = wdr_skip_blanks(text, l.at, l.end);
		if (l.number == number)
			line = g_strdup_printf(
				"%.*sinitrd /%s", (int)(word - l.at), text + l.at, path);
	}
	return wdr_text_with_line_behind(text, len, number, line ? line : "", "\n");
}

static char *config_line(const char *path)
{
	for (size_t i = 0; i < G_N_ELEMENTS(automatic); i++) {
		if (strcmp(path, automatic[i].initramfs) == 0)
			return g_strdup("auto_initramfs=1");
	}
	return g_strdup_printf("initramfs %s followkernel", path);
}

void wdr_named_in_clear(WdrNamedIn *in)
{
	g_free(in->file);
	g_free(in->before);
}

GBytes *wdr_initramfs_named(
	WdrVolume *boot, const char *flow, const char *said, const char *path, WdrNamedIn *ret_in)
{
	bool is_firmware = g_strcmp0(flow, "firmware") == 0;
	bool is_menu = g_strcmp0(flow, "extlinux") == 0;
	const char *colon = said ? strrchr(said, ':') : NULL;

	if (!is_firmware && !(is_menu && colon))
		return NULL;
	g_autofree char *file =
		is_firmware ? g_strdup("config.txt") : g_strndup(said, (size_t)(colon - said));
	ret_in->before = wdr_follow_read(boot, file, WDR_BOOT_FILE_BYTES_MAX, &ret_in->before_len);
	if (!ret_in->before)
		return NULL;
	ret_in->file = g_steal_pointer(&file);
	if (!is_firmware)
		return with_initrd(ret_in->before, ret_in->before_len,
			(unsigned)g_ascii_strtoull(colon + 1, NULL, 10), path);
	g_autofree char *line = config_line(path);
	return wdr_config_with_line(ret_in->before, ret_in->before_len, line);
}
