/* The old disk: what still names it and uses it, and why it came up after all when it did. */
#include "base/io.h"

#include "base/command.h"
#include "boot/board/boot_support.h"
#include "boot/rehearse/rehearse.h"
#include "boot/system/survey.h"
#include "check/arrive_priv.h"
#include "disk/users.h"

#include <string.h>

enum { TOLD_MAX = 8 };

/* ---- mentions ---- */

/* It names a part of the old disk, and none of this one. */
static bool names_old(const WdrArriving *a, const WdrMention *m)
{
	unsigned count = 0;
	/* A root that moved alone mounts the old one, for the boot files there. */
	bool is_needed = a->it->what == WDR_MOVE_ROOT && strcmp(m->file, "etc/fstab") == 0;

	if (is_needed || m->identifier.kind == WDR_BY_NUMBER ||
		g_strcmp0(m->frozen, WDR_FROZEN_COMMENT) == 0 ||
		wdr_system_resolve(a->system, &m->identifier, &count))
		return false;
	for (guint i = 0; i < a->old->len; i++) {
		if (wdr_identifier_matches(&m->identifier, &g_array_index(a->old, WdrIdentity, i)))
			return true;
	}
	return false;
}

static void check_mentions(WdrArriving *a)
{
	g_autofree char *fix = wdr_command("readdress", "--running", "--write");
	g_autofree char *all = wdr_command("survey", "--mentions");
	unsigned found = 0;

	for (guint i = 0; i < a->system->mentions->len; i++) {
		const WdrMention *m = a->system->mentions->pdata[i];
		if (!names_old(a, m) || ++found > TOLD_MAX)
			continue;
		wdr_checks_say(a->checks, WDR_ARRIVED_OLD, WDR_STATE_WARNING,
			/* What a volume of data is called now, readdress cannot know. */
			m->frozen || m->use == WDR_USE_OTHER
				? "edit it by hand, if it is still needed"
				: fix,
			"/%s:%u still names it: %s", m->file, m->line, m->text);
	}
	if (found > TOLD_MAX)
		wdr_checks_say(a->checks, WDR_ARRIVED_OLD, WDR_STATE_WARNING, all, "and %u more",
			found - TOLD_MAX);
	if (found == 0)
		wdr_checks_say(a->checks, WDR_ARRIVED_OLD, WDR_STATE_OK, NULL,
			"no file of the system names the old disk");
}

/* ---- the disk itself ---- */

/* The disk, if it is in: by its name, and still what it was. */
static WdrDisk *find(const WdrArriving *a, const WdrItineraryDisk *then)
{
	g_autoptr(GPtrArray) disks = NULL;

	if (then->is_image || !wdr_disks_list(a->world, &disks, NULL))
		return NULL;
	for (guint i = 0; i < disks->len; i++) {
		const WdrDisk *d = disks->pdata[i];
		if (d->size == then->size && g_strcmp0(d->serial, then->serial) == 0 &&
			g_strcmp0(d->model, then->model) == 0)
			return g_ptr_array_steal_index(disks, i);
	}
	return NULL;
}

static void check_use(WdrArriving *a)
{
	g_autoptr(WdrDisk) old = find(a, &a->it->source);
	g_autofree char *user = old ? wdr_disk_user(a->world, old) : NULL;
	bool is_needed = a->it->what == WDR_MOVE_ROOT;

	if (!old || is_needed)
		return;
	wdr_checks_say(a->checks, WDR_ARRIVED_OLD, user ? WDR_STATE_WARNING : WDR_STATE_OK,
		user ? "unmount it, and remove the line that mounts it" : NULL,
		user ? "it is still plugged in and in use: %s"
		     : "it is still plugged in (%s), and not in use",
		user ? user : old->name);
}

void wdr_arrive_old(WdrArriving *a)
{
	check_mentions(a);
	check_use(a);
}

/* ---- why the old disk came up ---- */

/* What the new disk would do alone. */
static bool rehearse(WdrArriving *a, const WdrDisk *target)
{
	g_autoptr(WdrSystem) system = NULL;
	g_autoptr(GError) error = NULL;

	if (!wdr_system_open(a->world, target, &system, &error)) {
		wdr_checks_say(a->checks, WDR_ARRIVED_WHY, WDR_STATE_STOP, NULL,
			"%s cannot be read: %s", target->name, error->message);
		return false;
	}
	g_autoptr(WdrRehearsal) r = wdr_rehearse(
		system, &(WdrRehearsing){ .board = a->board, .fix_on = a->it->target.name });
	if (r->verdict != WDR_VERDICT_FAILS)
		return true;
	wdr_checks_say(a->checks, WDR_ARRIVED_WHY, WDR_STATE_STOP, r->reason->hint,
		"%s does not boot: %s", target->name, r->reason->text);
	return false;
}

static bool leads_to(const WdrEfiOption *o, const WdrDisk *disk)
{
	g_autoptr(WdrBlockDev) dev = NULL;
	g_autoptr(WdrPartTable) table = NULL;

	return o && o->is_active && wdr_disk_open_source(disk, &dev, NULL) &&
	       wdr_parttable_read(dev, &table, NULL) && wdr_parttable_named(table, o->partuuid);
}

/* Of UEFI firmware's entries the first that leads to either disk decides. */
static void blame_efi(WdrArriving *a, const WdrDisk *target)
{
	const WdrEfiSettings *e = a->board->efi;
	bool is_first = false;

	for (guint i = 0; !is_first && i < e->order->len; i++) {
		const WdrEfiOption *o = wdr_efi_option(e, g_array_index(e->order, unsigned, i));
		is_first = leads_to(o, target);
		if (leads_to(o, a->disk))
			break;
	}
	g_autofree char *fix = wdr_command("order", "--first", target->name, "--write");
	if (is_first)
		wdr_checks_say(a->checks, WDR_ARRIVED_WHY, WDR_STATE_WARNING,
			"power off and take the old disk out; if nothing boots then, check cable, "
			"power and connector of the new one",
			"the firmware's entry for %s comes first, but that did not answer in time "
			"or could not be read",
			target->name);
	else
		wdr_checks_say(a->checks, WDR_ARRIVED_WHY, WDR_STATE_WARNING, fix,
			"%s would boot by itself; the firmware tries another disk first",
			target->name);
}

/* It would boot, so it was not asked, or came later. */
static void blame_order(WdrArriving *a, const WdrDisk *target)
{
	const WdrBoard *b = a->board;
	unsigned old = 0;
	unsigned new = 0;

	if (b && b->efi) {
		blame_efi(a, target);
		return;
	}
	if (!b || !b->has_order || !wdr_boot_order_tries(&b->order, target->medium, &new)) {
		wdr_checks_say(a->checks, WDR_ARRIVED_WHY, WDR_STATE_WARNING,
			"power off, take it out, power on",
			"%s would boot by itself; the loader tries the %s first", target->name,
			a->disk->medium);
		return;
	}
	g_autofree char *words = wdr_boot_order_words(&b->order);
	g_autofree char *better = wdr_boot_order_with_first(&b->order, target->medium);
	bool is_earlier = wdr_boot_order_tries(&b->order, a->disk->medium, &old) && old < new;
	g_autofree char *set =
		wdr_command("order", "--first", wdr_medium_word(target->medium), "--write");
	/* What is set already is no advice. */
	g_autofree char *hint =
		is_earlier
			? g_strdup_printf("power off and take it out; or store BOOT_ORDER=%s: %s",
				  better ? better : "with the new disk first", set)
			: g_strdup(
				  "power off and take the old disk out; if nothing boots then, check "
				  "cable, power and connector of the new one");
	wdr_checks_say(a->checks, WDR_ARRIVED_WHY, WDR_STATE_WARNING, hint,
		is_earlier ? "the boot order %s tries the old disk first: %s"
			   : "the boot order %s tries the new disk first (%s), but it did not "
			     "answer in time or could not be read",
		b->order_text, words);
}

/* A root that moved alone is named by the boot files that stayed. */
static void blame_entry(WdrArriving *a)
{
	g_autoptr(WdrBootEntries) entries = wdr_boot_entries_find(a->system, a->board, NULL);
	const WdrBootEntry *first = entries->list->len ? entries->list->pdata[0] : NULL;
	const WdrBootEntry *entry = wdr_arriving_boot_entry(a, entries);
	g_autofree char *look = wdr_command("survey", "--mentions");

	if (entry && entry != first)
		wdr_checks_say(a->checks, WDR_ARRIVED_WHY, WDR_STATE_WARNING,
			"choose the default entry at the next boot",
			"it was booted by %s (the default is %s): the default could not be "
			"loaded, or another was chosen",
			entry->name, first->name);
	else
		wdr_checks_say(a->checks, WDR_ARRIVED_WHY, WDR_STATE_WARNING, look,
			"it was booted by %s: the boot files were restored, or other boot files "
			"loaded the kernel",
			entry ? entry->name : "no entry of the boot files");
}

/* It was started before the move was drawn up. */
static bool was_not_restarted(const WdrArriving *a)
{
	g_autofree char *path = wdr_world_path(a->world, "/proc/uptime");
	g_autofree char *line = wdr_read_line(path);

	return line &&
	       wdr_world_now(a->world) - (int64_t)g_ascii_strtod(line, NULL) < a->it->made_at;
}

void wdr_arrive_why(WdrArriving *a)
{
	const WdrSystemPart *root = a->system->root;
	g_autofree char *name = wdr_disk_partition_name(a->disk, root->partition->number);
	g_autoptr(WdrDisk) target = find(a, &a->it->target);

	wdr_checks_say(a->checks, WDR_ARRIVED_ROOT, WDR_STATE_STOP, NULL,
		"/ is %s (%s): the old disk booted, not %s", name, a->disk->medium,
		a->it->target.name);
	if (was_not_restarted(a))
		wdr_checks_say(a->checks, WDR_ARRIVED_WHY, WDR_STATE_WARNING,
			"power off, take the old disk out, power on",
			"the machine was not restarted since the move began");
	else if (!target)
		wdr_checks_say(a->checks, WDR_ARRIVED_WHY, WDR_STATE_STOP,
			"check cable, power and connector; dmesg shows what the kernel found",
			"no disk like %s (%s) is plugged in, or the kernel does not see it",
			a->it->target.name,
			a->it->target.model ? a->it->target.model : a->it->target.medium);
	else if (a->it->what == WDR_MOVE_ROOT)
		blame_entry(a);
	else if (rehearse(a, target))
		blame_order(a, target);
}
