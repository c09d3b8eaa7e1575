/* The table of files that name disks, with the user's rows. */
#include "boot/formats/places.h"

#include <fnmatch.h>
#include <string.h>

static const struct {
	bool is_boot;
	const char *pattern, *format;
} built_in[] = {
	{ true, "cmdline.txt", "kernel-arguments" },
	/* Of folders that take turns as os_prefix. */
	{ true, "*/cmdline.txt", "kernel-arguments" },
	{ true, "config.txt", "config" },
	{ true, "tryboot.txt", "config" },
	{ true, "autoboot.txt", "autoboot" },
	{ true, "*Env.txt", "settings" },
	{ true, "extlinux/extlinux.conf", "extlinux" },
	{ true, "boot/extlinux/extlinux.conf", "extlinux" },
	{ true, "boot.scr", "image" },
	{ true, "boot.scr.uimg", "image" },
	{ true, "uInitrd*", "image" },
	{ true, "boot.cmd", "script" },
	{ true, "loader/entries/*.conf", "loader-entry" },
	{ true, "EFI/*/grub.cfg", "grub" },
	{ true, "EFI/*/*.efi", "efi-program" },
	{ true, "grub/grub.cfg", "grub" },
	{ true, "grub/custom.cfg", "grub" },
	{ true, "grub/grubenv", "grub-environment" },
	{ true, "grub2/grub.cfg", "grub" },
	{ true, "grub2/grubenv", "grub-environment" },
	{ false, "etc/fstab", "fstab" },
	{ false, "etc/crypttab", "crypttab" },
	{ false, "etc/kernel/cmdline", "kernel-arguments" },
	{ false, "etc/default/*", "shell" },
	{ false, "etc/default/grub.d/*.cfg", "shell" },
	{ false, "etc/grub.d/40_custom", "grub" },
	{ false, "etc/u-boot-menu/conf.d/*", "shell" },
	{ false, "etc/dracut.conf", "shell" },
	{ false, "etc/dracut.conf.d/*.conf", "shell" },
	{ false, "etc/initramfs-tools/initramfs.conf", "shell" },
	{ false, "etc/initramfs-tools/conf.d/*", "shell" },
	{ false, "etc/systemd/system/*.mount", "unit" },
	{ false, "etc/systemd/system/*.swap", "unit" },
};

const WdrMadeFile wdr_made_files[] = {
	{ "extlinux/extlinux.conf", "etc/default/u-boot", "u-boot-update" },
	{ "cmdline.txt", "etc/default/raspi-firmware", "the package raspi-firmware" },
	{ "boot.scr", "etc/default/flash-kernel", "flash-kernel" },
	{ "grub/grub.cfg", "etc/default/grub", "update-grub" },
	{ "loader/entries/*.conf", "etc/kernel/cmdline", "kernel-install" },
};
const size_t wdr_n_made_files = G_N_ELEMENTS(wdr_made_files);

static void row_free(void *data)
{
	g_free(((WdrPlaceRow *)data)->pattern);
	g_free(data);
}

void wdr_places_add(WdrPlaces *p, bool is_boot, const char *pattern, const WdrFormat *format)
{
	WdrPlaceRow *row = g_new0(WdrPlaceRow, 1);

	row->is_boot = is_boot;
	row->pattern = g_strdup(pattern + strspn(pattern, "/"));
	row->format = format;
	g_ptr_array_add(p, row);
}

WdrPlaces *wdr_places_new(void)
{
	WdrPlaces *p = g_ptr_array_new_with_free_func(row_free);

	for (size_t i = 0; i < G_N_ELEMENTS(built_in); i++)
		wdr_places_add(p, built_in[i].is_boot, built_in[i].pattern,
			wdr_format_find(built_in[i].format));
	return p;
}

static void read_row(WdrPlaces *p, const WdrReading *r, const WdrLine *line, size_t at)
{
	size_t end = wdr_word_end(r->text, at, line->end);
	WdrSpan name = { wdr_skip_blanks(r->text, end, line->end), 0 };

	name.end = wdr_word_end(r->text, name.at, line->end);
	g_autofree char *pattern = g_strndup(r->text + at, end - at);
	g_autofree char *format = g_strndup(r->text + name.at, name.end - name.at);
	const WdrFormat *found = wdr_format_find(format);
	bool is_boot = g_str_has_prefix(pattern, "boot:");
	bool has_word = is_boot || g_str_has_prefix(pattern, "root:");
	const char *path = pattern + (has_word ? strlen("boot:") : 0);

	if (!found) {
		wdr_reading_warn(r, line, name.at,
			"'%s' is no format: the row has no effect; see 'Places' in wanderitas(1)",
			format);
		return;
	}
	if (wdr_skip_blanks(r->text, name.end, line->end) < line->end)
		wdr_reading_warn(r, line, name.end, "what follows the format has no effect");
	wdr_places_add(p, is_boot, path, found);
}

void wdr_places_read(WdrPlaces *p, const WdrReading *r)
{
	for (WdrLine line = wdr_lines(r->text, r->len); wdr_line_next(&line);) {
		size_t at = wdr_skip_blanks(r->text, line.at, line.end);
		if (at < line.end && r->text[at] != '#')
			read_row(p, r, &line, at);
	}
}

const WdrFormat *wdr_places_find(const WdrPlaces *p, bool is_boot, const char *path)
{
	for (guint i = p->len; i-- > 0;) {
		const WdrPlaceRow *row = p->pdata[i];
		/* FAT does not tell case apart. */
		int flags = FNM_PATHNAME | (is_boot ? FNM_CASEFOLD : 0);
		if (row->is_boot == is_boot && fnmatch(row->pattern, path, flags) == 0)
			return row->format;
	}
	return NULL;
}
