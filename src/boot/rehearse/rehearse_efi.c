/* Whether UEFI firmware starts a program from this disk. */
#include "base/command.h"
#include "boot/rehearse/rehearse_priv.h"
#include "boot/system/efi_boot.h"

#include <string.h>

/* An entry that is tried before, and whose disk stays in. */
static void warn_of_earlier(WdrWalk *w, const WdrEfiSettings *e, const WdrEfiOption *ours)
{
	for (guint i = 0; w->others && i < e->order->len; i++) {
		const WdrEfiOption *o = wdr_efi_option(e, g_array_index(e->order, unsigned, i));
		if (o == ours && o)
			return;
		for (guint k = 0; o && o->is_active && k < w->others->len; k++) {
			const WdrSystem *other = w->others->pdata[k];
			if (other == w->s || !wdr_parttable_named(other->table, o->partuuid))
				continue;
			wdr_walk_say(w, WDR_STAGE_MEDIUM, WDR_STATE_WARNING, "take it out",
				"Boot%04X '%s' comes first, and starts %s", o->number, o->name,
				other->home ? other->home : "another disk");
			return;
		}
	}
}

/* The command that has the firmware's entry made. The caller's. */
static char *make_entry(const WdrWalk *w)
{
	const char *home = w->s->home;

	return wdr_command("order", "--first", home && *home ? home : "DISK", "--write");
}

static bool fail_program(WdrWalk *w)
{
	g_autofree char *command = make_entry(w);
	bool is_planned = w->how->is_planned;
	g_autofree char *fix =
		g_strdup_printf("%s%s", is_planned ? "after the move: " : "", command);

	wdr_walk_say(w, WDR_STAGE_MEDIUM, is_planned ? WDR_STATE_WARNING : WDR_STATE_STOP, fix,
		"the firmware has no entry for this disk, and /EFI/BOOT/BOOT*.EFI, which needs "
		"none, is missing");
	return is_planned;
}

/* Nobody knows what the firmware has stored: of an image, of another machine, or without rights. */
static void say_unknown(WdrWalk *w, const WdrBootEntries *entries)
{
	const char *problem = w->board && w->board->efi ? w->board->efi->problem : NULL;
	g_autofree char *install = wdr_system_command("grub-install", "--force-extra-removable");
	g_autofree char *hint = g_strdup_printf(
		"to have any firmware start it, where GRUB is used, on the system itself: %s",
		install);

	if (entries->program)
		wdr_walk_say(w, WDR_STAGE_MEDIUM, WDR_STATE_OK, NULL,
			"firmware without an entry for this disk starts /%s", entries->program);
	else
		wdr_walk_say(w, WDR_STAGE_MEDIUM, WDR_STATE_UNKNOWN, hint,
			"/EFI/BOOT/BOOT*.EFI is missing: only firmware with an entry for this disk "
			"boots it%s%s",
			problem ? "; " : "", problem ? problem : "");
}

static bool check_entry(WdrWalk *w, const WdrBootEntries *entries)
{
	const WdrEfiSettings *e = w->board ? w->board->efi : NULL;
	const WdrEfiOption *o = entries->option;

	if (!e || e->problem) {
		say_unknown(w, entries);
		return true;
	}
	if (!entries->program)
		return fail_program(w);
	if (o)
		wdr_walk_say(w, WDR_STAGE_MEDIUM, WDR_STATE_OK, NULL,
			"the firmware's entry Boot%04X '%s' starts /%s", o->number, o->name,
			entries->program);
	else
		wdr_walk_say(w, WDR_STAGE_MEDIUM, WDR_STATE_OK, NULL,
			"the firmware has no entry for this disk, and starts /%s",
			entries->program);
	warn_of_earlier(w, e, o);
	return true;
}

/* Firmware looks for the type; some takes any FAT volume. */
static void check_type(WdrWalk *w, const WdrSystemPart *boot)
{
	bool is_right = wdr_efi_is_system_partition(w->s, boot->partition);

	wdr_walk_say(w, WDR_STAGE_MEDIUM, is_right ? WDR_STATE_OK : WDR_STATE_WARNING,
		is_right ? NULL
			 : "give it the type of an EFI system partition (sfdisk --part-type)",
		is_right ? "%s; partition %u is an EFI system partition"
			 : "%s; partition %u is no EFI system partition by its type: some firmware "
			   "does not look at it",
		wdr_table_kind_name(w->s->table->kind), boot->partition->number);
}

bool wdr_walk_efi(WdrWalk *w, const WdrBootEntries *entries)
{
	const WdrEfiSettings *e = w->board ? w->board->efi : NULL;

	check_type(w, entries->part);
	if (!check_entry(w, entries))
		return false;
	if (e && e->checks_signatures)
		wdr_walk_say(w, WDR_STAGE_MEDIUM, WDR_STATE_OK, NULL,
			"Secure Boot is on: it checks signatures, which are not checked here");
	for (guint i = 0; i < entries->steps->len; i++)
		wdr_walk_say(w, WDR_STAGE_BOOT, WDR_STATE_OK, NULL, "%s",
			(const char *)entries->steps->pdata[i]);
	return true;
}
