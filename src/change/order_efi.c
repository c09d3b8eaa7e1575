/* The order of UEFI firmware: its boot entries, what each leads to, and a new one for a disk. */
#include "change/order_priv.h"

#include "base/command.h"
#include "boot/board/boot_support.h"
#include "boot/formats/edit.h"
#include "boot/system/efi_boot.h"
#include "boot/system/survey.h"

#include <string.h>

/* ---- what there is ---- */

/* The partition that an entry leads to, "mmcblk0p1"; NULL: of no disk that is plugged in. */
static char *partition_named(const GPtrArray *disks, const char *partuuid)
{
	for (guint i = 0; partuuid && i < disks->len; i++) {
		const WdrDisk *d = disks->pdata[i];
		g_autoptr(WdrBlockDev) dev = NULL;
		g_autoptr(WdrPartTable) table = NULL;
		if (!wdr_disk_open_source(d, &dev, NULL) || !wdr_parttable_read(dev, &table, NULL))
			continue;
		const WdrPartition *p = wdr_parttable_named(table, partuuid);
		g_autofree char *path = p ? wdr_identifier_path(d->name, p->number) : NULL;
		if (path)
			return g_strdup(path + strlen("/dev/"));
	}
	return NULL;
}

static char *describe(const WdrEfiOption *o, const GPtrArray *disks, bool *ret_is_lost)
{
	g_autofree char *on = partition_named(disks, o->partuuid);
	const char *file = o->file ? o->file : "";

	*ret_is_lost = o->partuuid && !on;
	if (!o->partuuid)
		return g_strdup_printf("'%s'", o->name);
	if (*ret_is_lost)
		return g_strdup_printf("'%s': /%s on a disk that is not plugged in (PARTUUID %s)",
			o->name, file, o->partuuid);
	return g_strdup_printf("'%s': /%s on %s", o->name, file, on);
}

/* One line for each entry, in the order. */
static char *list(const WdrOrderPlan *p, const GPtrArray *disks, const char *order)
{
	g_auto(GStrv) numbers = g_strsplit(order, ",", -1);
	GString *out = g_string_new(NULL);

	for (size_t i = 0; numbers[i] && *numbers[i]; i++) {
		unsigned number = (unsigned)g_ascii_strtoull(numbers[i], NULL, 16);
		const WdrEfiFirst *f = &p->efi_first;
		const WdrEfiOption made = { number, true, f->name, f->partuuid, f->file };
		const WdrEfiOption *o = f->is_new && number == f->number
						? &made
						: wdr_efi_option(p->board->efi, number);
		bool is_lost = false;
		g_autofree char *text = o ? describe(o, disks, &is_lost) : g_strdup("no entry");
		g_string_append_printf(out, "Boot%s %s\n", numbers[i], text);
	}
	return g_string_free(out, FALSE);
}

/* The same for programs. */
static void tell_order(WdrOrderPlan *p, const GPtrArray *disks, const char *name, const char *order)
{
	WdrOrderTold *told = wdr_order_told(p, name, order);
	g_autofree char *text = list(p, disks, order);
	g_auto(GStrv) lines = g_strsplit(text, "\n", -1);

	for (size_t i = 0; lines[i] && *lines[i]; i++)
		g_ptr_array_add(told->tries, g_strdup(lines[i]));
}

static void tell_entry(WdrOrderPlan *p, const GPtrArray *disks, unsigned number, const char *name)
{
	const WdrEfiOption *o = wdr_efi_option(p->board->efi, number);
	bool is_lost = false;

	if (!o) {
		wdr_facts_add(
			p->facts, name, true, "Boot%04X is in the order, and is no entry", number);
		return;
	}
	g_autofree char *text = describe(o, disks, &is_lost);
	wdr_facts_add(p->facts, name, is_lost, "Boot%04X %s%s", number, text,
		o->is_active ? "" : " (switched off)");
}

static void tell(WdrOrderPlan *p, const GPtrArray *disks)
{
	const WdrEfiSettings *e = p->board->efi;
	g_autofree char *order = wdr_efi_order_text(e, NULL);

	tell_order(p, disks, "order", order);
	if (e->problem)
		wdr_facts_add(p->facts, "firmware", true, "%s", e->problem);
	if (e->current >= 0)
		tell_entry(p, disks, (unsigned)e->current, "this boot");
	if (e->next >= 0)
		tell_entry(p, disks, (unsigned)e->next, "next boot");
	for (guint i = 0; i < e->order->len; i++) {
		unsigned number = g_array_index(e->order, unsigned, i);
		tell_entry(p, disks, number, "order");
	}
	if (e->order->len == 0)
		wdr_facts_add(p->facts, "order", true,
			"no entry: the firmware starts EFI/BOOT/BOOT*.EFI of the first disk that has it");
}

/* ---- a disk first ---- */

/* By its name, or the only one of a medium that has programs of UEFI. */
static bool find_disk(const WdrOrderPlan *p, const GPtrArray *disks, const char *first,
	WdrDisk **ret, WdrSystem **ret_system, GError **error)
{
	const char *medium = wdr_medium_of_word(first);
	unsigned count = 0;

	if (!medium)
		return wdr_disk_find(p->world, first, ret, error) &&
		       wdr_system_open(p->world, *ret, ret_system, error);
	for (guint i = 0; i < disks->len; i++) {
		const WdrDisk *d = disks->pdata[i];
		g_autoptr(WdrSystem) s = NULL;
		if (g_strcmp0(d->medium, medium) != 0 || !wdr_system_open(p->world, d, &s, NULL) ||
			g_strcmp0(s->flow, "UEFI") != 0)
			continue;
		if (count++ > 0)
			continue;
		*ret_system = g_steal_pointer(&s);
		if (!wdr_disk_find(p->world, d->name, ret, error))
			return false;
	}
	if (count == 1)
		return true;
	wdr_error_set(error, WDR_ERROR_REFUSED,
		count ? "more than one %s has programs for UEFI firmware"
		      : "no %s has programs for UEFI firmware",
		medium);
	g_autofree char *survey = wdr_command("survey");
	wdr_error_hint(error, "name the disk instead; to see all: %s", survey);
	return false;
}

static bool has_program(const WdrSystem *s, const char *file)
{
	g_autoptr(GPtrArray) all = wdr_efi_programs(s->boot);

	for (guint i = 0; file && i < all->len; i++) {
		if (g_ascii_strcasecmp(all->pdata[i], file) == 0)
			return true;
	}
	return false;
}

static bool leads_to(const WdrEfiOption *o, const WdrSystem *s)
{
	return o->partuuid && o->file && s->boot->partition->partuuid &&
	       g_ascii_strcasecmp(o->partuuid, s->boot->partition->partuuid) == 0 &&
	       has_program(s, o->file);
}

/* The program that this machine was started by, where the disk has it too. */
static void choose_program(
	const WdrEfiSettings *e, const WdrSystem *s, const WdrDisk *d, WdrEfiFirst *ret)
{
	const WdrEfiOption *now = e->current >= 0 ? wdr_efi_option(e, (unsigned)e->current) : NULL;
	bool has_same = now && has_program(s, now->file);
	const char *name = has_same ? now->name : s->os_name ? s->os_name : "Linux";

	ret->file = has_same ? g_strdup(now->file) : wdr_efi_installed(s->boot);
	ret->name = g_strdup_printf("%s (%s)", name, d->medium);
}

static bool find_first(WdrOrderPlan *p, const GPtrArray *disks, const char *first, GError **error)
{
	const WdrEfiSettings *e = p->board->efi;
	g_autoptr(WdrDisk) d = NULL;
	g_autoptr(WdrSystem) s = NULL;

	if (!find_disk(p, disks, first, &d, &s, error))
		return false;
	if (d->is_image)
		return wdr_error_set(error, WDR_ERROR_REFUSED,
			"%s is an image: the firmware boots disks", d->name);
	if (g_strcmp0(s->flow, "UEFI") != 0 || !s->boot->partition->partuuid)
		return wdr_error_set(error, WDR_ERROR_REFUSED,
			"%s has no EFI system partition with a program that the firmware could start",
			d->name);
	for (guint i = 0; i < e->options->len; i++) {
		const WdrEfiOption *o = e->options->pdata[i];
		if (!o->is_active || !leads_to(o, s))
			continue;
		p->efi_first.number = o->number;
		return true;
	}
	choose_program(e, s, d, &p->efi_first);
	if (!p->efi_first.file)
		return wdr_error_set(
			error, WDR_ERROR_REFUSED, "%s has no program for UEFI firmware", d->name);
	p->efi_first.is_new = true;
	p->efi_first.number = wdr_efi_free_number(e);
	p->efi_first.disk = g_strdup(d->path);
	p->efi_first.partition = s->boot->partition->number;
	p->efi_first.partuuid = g_strdup(s->boot->partition->partuuid);
	return true;
}

static void plan_diff(WdrOrderPlan *p, const GPtrArray *disks)
{
	g_autofree char *before = wdr_efi_order_text(p->board->efi, NULL);
	g_autofree char *after = wdr_efi_order_text(p->board->efi, &p->efi_first);
	g_autofree char *old_list = list(p, disks, before);
	g_autofree char *new_list = list(p, disks, after);

	if (strcmp(before, after) == 0)
		return;
	tell_order(p, disks, "then", after);
	p->has_efi_work = true;
	p->diff = wdr_diff("the firmware's boot order", old_list, strlen(old_list), new_list,
		strlen(new_list));
}

bool wdr_order_of_efi(WdrOrderPlan *p, const WdrOrderOptions *o, GError **error)
{
	g_autoptr(GPtrArray) disks = NULL;

	if (o->targets || o->initial || o->number || o->sets_fuse)
		return wdr_error_set(error, WDR_ERROR_USAGE,
			"this machine has UEFI firmware: --first DISK is the option for it");
	if (!wdr_disks_list(p->world, &disks, error))
		return false;
	tell(p, disks);
	if (!o->first)
		return true;
	if (p->board->efi->problem)
		return wdr_error_set(error, WDR_ERROR_IO, "%s", p->board->efi->problem);
	if (!find_first(p, disks, o->first, error))
		return false;
	plan_diff(p, disks);
	return true;
}
