/* What UEFI firmware starts from a disk by itself: the program of the first of its entries that
 * leads to this disk, failing that the one at the path for removable media; and what the loader
 * that comes of it loads. */
#include "boot/rehearse/boot_entry.h"
#include "boot/system/efi_boot.h"

#include <string.h>

static bool leads_here(const WdrSystem *s, const WdrEfiOption *o)
{
	const WdrPartition *p = wdr_parttable_named(s->table, o->partuuid);

	return p && p == s->boot->partition;
}

/* The firmware passes over entries whose disk is not there. */
static const WdrEfiOption *first_option(const WdrSystem *s, const WdrEfiSettings *e)
{
	for (guint i = 0; e && i < e->order->len; i++) {
		const WdrEfiOption *o = wdr_efi_option(e, g_array_index(e->order, unsigned, i));
		if (o && o->is_active && leads_here(s, o))
			return o;
	}
	return NULL;
}

static char *said(const WdrEfiEntry *e, unsigned line)
{
	return line > 0 ? g_strdup_printf("%s:%u", e->config, line) : g_strdup(e->config);
}

static void take_file(
	WdrBootEntryFile *to, const WdrEfiFile *from, const WdrEfiEntry *e, unsigned line)
{
	to->path = g_strdup(from->path);
	to->said = from->path ? said(e, line) : NULL;
	to->at = from->at;
	to->bytes = from->bytes;
}

static void take_entry(WdrBootEntries *w, const WdrEfiEntry *e)
{
	WdrBootEntry *entry = wdr_boot_entries_add(w);

	entry->name = g_strdup(e->name);
	entry->part = e->part;
	take_file(&entry->kernel, &e->kernel, e, e->kernel_line);
	take_file(&entry->initramfs, &e->initramfs, e, e->initramfs_line);
	entry->device_tree.path = g_strdup(e->device_tree);
	entry->early = g_ptr_array_ref(e->early);
	entry->arguments = g_strdup(e->arguments);
	entry->arguments_said = said(e, e->arguments_line);
	entry->doubt = g_strdup(e->doubt);
}

static void take_texts(GPtrArray *to, const GPtrArray *from)
{
	for (guint i = 0; i < from->len; i++)
		g_ptr_array_add(to, g_strdup(from->pdata[i]));
}

/* systemd-boot gives an entry so many boots, unless one of them ends well. */
static void tell_count(WdrBootEntries *w, const WdrEfiEntry *e)
{
	if (e->tries_left == 0)
		g_ptr_array_add(w->warnings,
			g_strdup_printf(
				"%s has no tries left: none of its boots was marked as good",
				e->name));
	else if (e->tries_left > 0)
		g_ptr_array_add(w->steps,
			g_strdup_printf("%s has %d tries left, until a boot is marked as good",
				e->name, e->tries_left));
}

void wdr_boot_entries_of_efi(const WdrSystem *s, WdrBootEntries *w)
{
	const WdrEfiOption *o = first_option(s, w->board ? w->board->efi : NULL);

	w->option = o;
	w->program = o && o->file ? g_strdup(o->file) : wdr_efi_removable(s->boot);
	/* Where no entry is known, or it is made later, it will lead to what is installed. */
	g_autofree char *likely = w->program ? NULL : wdr_efi_first_program(s->boot);
	const char *program = w->program ? w->program : likely;
	if (!program)
		return;
	g_autoptr(WdrEfiBoot) b = wdr_efi_boot_follow(s, w->others, program);
	w->misses_names = b->misses_names;
	take_texts(w->steps, b->steps);
	take_texts(w->faults, b->faults);
	take_texts(w->warnings, b->warnings);
	if (b->list->len == 0)
		return;
	take_entry(w, b->list->pdata[0]);
	tell_count(w, b->list->pdata[0]);
}
