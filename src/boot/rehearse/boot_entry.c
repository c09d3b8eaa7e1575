/* Lists of boot entries, and which of them is tried first. */
#include "boot/rehearse/boot_entry.h"

#include "volume/lookup.h"

#include <string.h>

static void file_clear(WdrBootEntryFile *f)
{
	g_free(f->path);
	g_free(f->said);
}

static void entry_free(void *data)
{
	WdrBootEntry *w = data;

	file_clear(&w->kernel);
	file_clear(&w->initramfs);
	file_clear(&w->device_tree);
	g_free(w->name);
	g_free(w->arguments);
	g_free(w->arguments_said);
	g_free(w->doubt);
	g_clear_pointer(&w->early, g_ptr_array_unref);
	g_free(w);
}

const WdrSystemPart *wdr_boot_entry_part(const WdrBootEntries *w, const WdrBootEntry *entry)
{
	return entry->part ? entry->part : w->part;
}

void wdr_boot_entries_free(WdrBootEntries *w)
{
	if (!w)
		return;
	g_ptr_array_unref(w->list);
	g_ptr_array_unref(w->faults);
	g_ptr_array_unref(w->warnings);
	g_ptr_array_unref(w->steps);
	g_free(w->program);
	g_free(w);
}

WdrBootEntry *wdr_boot_entries_add(WdrBootEntries *w)
{
	WdrBootEntry *entry = g_new0(WdrBootEntry, 1);

	g_ptr_array_add(w->list, entry);
	return entry;
}

char *wdr_boot_entries_text(const WdrBootEntries *w, const char *path, size_t *ret_len)
{
	*ret_len = 0;
	return w->part && w->part->volume
		       ? wdr_follow_read(w->part->volume, path, WDR_BOOT_FILE_BYTES_MAX, ret_len)
		       : NULL;
}

char *wdr_boot_entries_included(WdrBootEntries *w, const char *path, size_t *ret_len)
{
	bool had_ended = w->includes.has_ended;
	g_autofree char *text = wdr_boot_entries_text(w, path, ret_len);

	if (!text || wdr_includes_take(&w->includes, *ret_len))
		return g_steal_pointer(&text);
	if (!had_ended)
		g_ptr_array_add(w->warnings, g_strdup_printf("%s: %s", path, wdr_includes_ended));
	return NULL;
}

bool wdr_boot_entries_has(const WdrBootEntries *w, const char *path)
{
	g_auto(WdrEntry) entry = { 0 };

	return w->part && w->part->volume && wdr_follow(w->part->volume, path, NULL, NULL, &entry);
}

WdrBootEntries *wdr_boot_entries_find(
	const WdrSystem *s, const WdrBoard *board, const GPtrArray *others)
{
	static const struct {
		const char *flow;
		void (*find)(const WdrSystem *s, WdrBootEntries *ret);
	} flows[] = { { "firmware", wdr_boot_entries_of_firmware },
		{ "extlinux", wdr_boot_entries_of_menu },
		{ "loader script", wdr_boot_entries_of_script },
		{ "UEFI", wdr_boot_entries_of_efi } };
	WdrBootEntries *w = g_new0(WdrBootEntries, 1);

	w->list = g_ptr_array_new_with_free_func(entry_free);
	w->faults = g_ptr_array_new_with_free_func(g_free);
	w->warnings = g_ptr_array_new_with_free_func(g_free);
	w->steps = g_ptr_array_new_with_free_func(g_free);
	w->board = board;
	w->others = others;
	w->part = wdr_system_boot_part(s);
	for (size_t i = 0; i < G_N_ELEMENTS(flows); i++) {
		if (g_strcmp0(s->flow, flows[i].flow) == 0)
			flows[i].find(s, w);
	}
	if (!s->flow)
		g_ptr_array_add(w->faults,
			g_strdup("no boot files: no config.txt or cmdline.txt on a FAT volume, no "
				 "extlinux.conf, no boot.scr, no UEFI program"));
	return w;
}
