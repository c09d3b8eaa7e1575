/* Root, what started it, sizes and mounts, as they are once the system runs. */
#include "base/command.h"
#include "base/text.h"

#include "boot/formats/fstab.h"
#include "boot/rehearse/boot_entry.h"
#include "check/arrive_priv.h"
#include "disk/users.h"

#include <string.h>

enum { FILLED_PERCENT = 97 };

static void check_root(WdrArriving *a)
{
	const WdrSystemPart *root = a->system->root;
	g_autofree char *name = wdr_disk_partition_name(a->disk, root->partition->number);

	wdr_checks_say(a->checks, WDR_ARRIVED_ROOT, WDR_STATE_OK, NULL,
		"/ is %s (%s%s%s), UUID %s, as it was moved", name, a->disk->medium,
		a->disk->model ? ", " : "", a->disk->model ? a->disk->model : "", root->probe.uuid);
}

/* ---- what started it ---- */

static void check_firmware(WdrArriving *a)
{
	const char *medium = a->board ? wdr_board_booted_from(a->board) : NULL;
	bool is_card = g_strcmp0(medium, "SD card") == 0 && g_strcmp0(a->disk->medium, "eMMC") == 0;

	if (!medium)
		return;
	if (strcmp(medium, a->disk->medium) == 0 || is_card)
		wdr_checks_say(a->checks, WDR_ARRIVED_START, WDR_STATE_OK, NULL,
			"the firmware says that it booted from %s", a->disk->medium);
	else if (a->it->what == WDR_MOVE_ROOT)
		wdr_checks_say(a->checks, WDR_ARRIVED_START, WDR_STATE_OK, NULL,
			"the firmware booted from %s, where the boot files stayed", medium);
	else
		wdr_checks_say(a->checks, WDR_ARRIVED_START, WDR_STATE_STOP,
			"take it out, or put the new disk first in the firmware's boot order",
			"root is on the new disk, but the firmware says that it booted from %s",
			medium);
}

/* UEFI firmware says by which of its entries it booted; some of these name no partition. */
static void check_efi(WdrArriving *a)
{
	const WdrEfiSettings *e = a->board ? a->board->efi : NULL;
	const WdrEfiOption *o =
		e && e->current >= 0 ? wdr_efi_option(e, (unsigned)e->current) : NULL;

	if (!o || a->it->what == WDR_MOVE_ROOT)
		return;
	bool is_here = wdr_parttable_named(a->system->table, o->partuuid) != NULL;
	g_autofree char *fix = wdr_command("order", "--first", a->disk->name, "--write");
	if (is_here || !o->partuuid)
		wdr_checks_say(a->checks, WDR_ARRIVED_START, WDR_STATE_OK, NULL,
			"the firmware booted it by its entry Boot%04X '%s'", o->number, o->name);
	else
		wdr_checks_say(a->checks, WDR_ARRIVED_START, WDR_STATE_STOP, fix,
			"root is on the new disk, but the firmware booted by Boot%04X '%s', which "
			"leads to another disk",
			o->number, o->name);
}

static bool has_all_words(const char *arguments, const char *of)
{
	g_auto(GStrv) words = g_strsplit_set(of, " \t\n", -1);
	g_auto(GStrv) there = g_strsplit_set(arguments, " \t\n", -1);

	for (size_t i = 0; words[i]; i++) {
		/* Variables are the loader's. */
		if (*words[i] && !strchr(words[i], '$') &&
			!g_strv_contains((const char *const *)there, words[i]))
			return false;
	}
	return true;
}

const WdrBootEntry *wdr_arriving_boot_entry(const WdrArriving *a, const WdrBootEntries *entries)
{
	for (guint i = 0; a->arguments && i < entries->list->len; i++) {
		const WdrBootEntry *entry = entries->list->pdata[i];
		if (entry->arguments && has_all_words(a->arguments, entry->arguments))
			return entry;
	}
	return NULL;
}

/* Firmware changes what it hands on; a menu's loader does not. The menu of a root that moved alone
 * is on the old disk. */
static void check_entry(WdrArriving *a)
{
	bool is_efi = g_strcmp0(a->system->flow, "UEFI") == 0;

	if (!a->arguments || a->it->what == WDR_MOVE_ROOT ||
		(!is_efi && g_strcmp0(a->system->flow, "extlinux") != 0))
		return;
	g_autoptr(WdrBootEntries) entries = wdr_boot_entries_find(a->system, a->board, NULL);
	const WdrBootEntry *entry = wdr_arriving_boot_entry(a, entries);
	/* Of these, only the default one is known. */
	if (is_efi && !entry)
		return;
	if (!entry)
		wdr_checks_say(a->checks, WDR_ARRIVED_START, WDR_STATE_WARNING, NULL,
			"no entry of the menu has the kernel arguments that it was booted with");
	else if (entry == entries->list->pdata[0])
		wdr_checks_say(a->checks, WDR_ARRIVED_START, WDR_STATE_OK, NULL,
			"it was booted by %s, the default", entry->name);
	else
		wdr_checks_say(a->checks, WDR_ARRIVED_START, WDR_STATE_WARNING,
			"the entries before it could not be loaded, or another was chosen by hand",
			"it was booted by %s, which is not the default", entry->name);
}

/* ---- sizes ---- */

static void check_size(WdrArriving *a, const WdrItineraryPart *p)
{
	const WdrSystemPart *now = wdr_arriving_part(a, p);
	g_autofree char *planned = wdr_format_size(p->to.size);

	if (!now) {
		wdr_checks_say(a->checks, WDR_ARRIVED_SIZES, WDR_STATE_STOP, NULL,
			"partition %u is not there", p->number);
		return;
	}
	g_autofree char *size = wdr_format_size(now->partition->size);
	bool is_ext = wdr_itinerary_method(p) == WDR_METHOD_EXT;
	bool is_filled = !is_ext || now->ext.size_bytes / 100 >=
					    now->partition->size / 100 * FILLED_PERCENT / 100;
	if (now->partition->size != p->to.size)
		wdr_checks_say(a->checks, WDR_ARRIVED_SIZES, WDR_STATE_WARNING, NULL,
			"partition %u has %s, not the %s that it was made with",
			now->partition->number, size, planned);
	else
		wdr_checks_say(a->checks, WDR_ARRIVED_SIZES,
			is_filled ? WDR_STATE_OK : WDR_STATE_WARNING,
			is_filled ? NULL : "resize2fs",
			is_filled ? "partition %u (%s) has %s, as planned"
				  : "partition %u (%s) has %s; its file system does not fill it",
			now->partition->number,
			*wdr_role_name(p->role) ? wdr_role_name(p->role) : p->fs, size);
}

/* ---- mounts ---- */

static bool is_as_planned(const WdrArriving *a, const WdrFstabLine *l, unsigned number)
{
	g_autofree char *name = wdr_disk_partition_name(a->disk, number);
	g_autofree char *device = g_strconcat("/dev/", name, NULL);
	g_autofree char *point = wdr_disk_mount_point(a->world, a->disk, number);

	return strcmp(l->type, "swap") == 0 ? g_strv_contains((const char *const *)a->swaps, device)
					    : g_strcmp0(point, l->point) == 0;
}

/* false: the line is about something that is no part of the moved disk. */
static bool check_line(WdrArriving *a, const WdrFstabLine *l, unsigned *wrong)
{
	WdrIdentifier identifier = { 0 };
	unsigned count = 0;

	if (wdr_fstab_has_option(l, "noauto") || !wdr_identifier_parse(l->device, &identifier))
		return false;
	const WdrSystemPart *part = wdr_system_resolve(a->system, &identifier, &count);
	wdr_identifier_clear(&identifier);
	if (!part)
		return false;
	if (is_as_planned(a, l, part->partition->number))
		return true;
	bool may_fail = wdr_fstab_has_option(l, "nofail");
	g_autofree char *name = wdr_disk_partition_name(a->disk, part->partition->number);
	(*wrong)++;
	wdr_checks_say(a->checks, WDR_ARRIVED_MOUNTS, may_fail ? WDR_STATE_WARNING : WDR_STATE_STOP,
		"mount shows what is there instead; journalctl -b shows why",
		"etc/fstab:%u: %s is not %s %s", l->line, name,
		strcmp(l->type, "swap") == 0 ? "in use as" : "mounted at", l->point);
	return true;
}

static void check_mounts(WdrArriving *a)
{
	unsigned checked = 0;
	unsigned wrong = 0;

	for (guint i = 0; i < a->fstab->len; i++)
		checked += check_line(a, a->fstab->pdata[i], &wrong) ? 1 : 0;
	if (checked == 0)
		wdr_checks_say(a->checks, WDR_ARRIVED_MOUNTS, WDR_STATE_WARNING, NULL,
			"no entry of etc/fstab names this disk");
	else if (wrong == 0)
		wdr_checks_say(a->checks, WDR_ARRIVED_MOUNTS, WDR_STATE_OK, NULL,
			"%u entr%s of etc/fstab name%s this disk, and %s mounted from it", checked,
			checked == 1 ? "y" : "ies", checked == 1 ? "s" : "",
			checked == 1 ? "is" : "all are");
}

void wdr_arrive_start(WdrArriving *a)
{
	check_root(a);
	check_firmware(a);
	check_efi(a);
	check_entry(a);
	for (guint i = 0; i < a->it->parts->len; i++)
		check_size(a, a->it->parts->pdata[i]);
	check_mounts(a);
}
