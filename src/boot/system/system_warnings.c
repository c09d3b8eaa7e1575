/* What is to be said of a system's boot files as a whole: files that packages make anew, and a
 * script that is not its source's. */
#include "boot/formats/image.h"
#include "boot/formats/places.h"
#include "boot/system/system_priv.h"

#include <fnmatch.h>
#include <string.h>

static char *read_boot_text(const WdrSystem *s, const char *path, size_t *ret_len)
{
	g_autofree char *full = g_strconcat(s->boot_folder, path, NULL);
	WdrSystemPart *p = wdr_system_boot_part(s);
	char *text = NULL;

	*ret_len = 0;
	if (!p || !p->volume ||
		!wdr_volume_read_file(
			p->volume, full, WDR_BOOT_FILE_BYTES_MAX, &text, ret_len, NULL))
		return NULL;
	return text;
}

static bool is_mentioned(const WdrSystem *s, const char *file)
{
	for (guint i = 0; i < s->mentions->len; i++) {
		const WdrMention *m = s->mentions->pdata[i];
		if (!m->frozen && strcmp(m->file, file) == 0)
			return true;
	}
	return false;
}

static bool has_file(WdrSystemPart *p, const char *path)
{
	g_auto(WdrEntry) entry = { 0 };
	bool found = false;

	return p && p->volume && wdr_volume_lookup(p->volume, path, &found, NULL, &entry, NULL) &&
	       found;
}

/* A mention in a file that a pattern fits; NULL: there is none. */
static const char *mentioned_by(const WdrSystem *s, const char *pattern)
{
	for (guint i = 0; i < s->mentions->len; i++) {
		const WdrMention *m = s->mentions->pdata[i];
		if (!m->frozen && fnmatch(pattern, m->file, FNM_PATHNAME) == 0)
			return m->file;
	}
	return NULL;
}

static void warn_of_made_files(const WdrSystem *s)
{
	const char *other = s->other_folder ? s->other_folder : s->boot_folder;

	for (size_t i = 0; i < wdr_n_made_files; i++) {
		const WdrMadeFile *f = &wdr_made_files[i];
		g_autofree char *pattern = g_strconcat(s->boot_folder, f->made, NULL);
		g_autofree char *other_pattern = g_strconcat(other, f->made, NULL);
		const char *made = mentioned_by(s, pattern);
		made = made ? made : mentioned_by(s, other_pattern);
		if (!made || !has_file(s->root, f->settings))
			continue;
		g_ptr_array_add(s->warnings,
			is_mentioned(s, f->settings)
				? g_strdup_printf(
					  "%s regenerates /%s from /%s, so both files are edited",
					  f->maker, made, f->settings)
				: g_strdup_printf(
					  "%s regenerates /%s from /%s, which names no disk: it uses "
					  "the root of the running system",
					  f->maker, made, f->settings));
	}
}

/* boot.scr is made from boot.cmd by hand: two that differ are a trap for whoever does it next. */
static void compare_script(const WdrSystem *s)
{
	size_t len = 0;
	size_t source_len = 0;
	g_autofree char *bytes = read_boot_text(s, "boot.scr", &len);
	g_autofree char *source = read_boot_text(s, "boot.cmd", &source_len);
	WdrLoaderImage image;

	if (!bytes || !source || !wdr_loader_image_parse(bytes, len, &image, NULL) ||
		image.type != WDR_IMAGE_SCRIPT)
		return;
	if (image.text_bytes != source_len ||
		memcmp(bytes + image.text_at, source, source_len) != 0)
		g_ptr_array_add(s->warnings,
			g_strdup_printf(
				"%sboot.scr was not made from the boot.cmd beside it: their "
				"texts differ; each is edited by itself",
				s->boot_folder));
}

void wdr_scan_warn(WdrSystem *s)
{
	warn_of_made_files(s);
	compare_script(s);
}
