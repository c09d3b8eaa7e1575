/* Tells which boot loader lies where, and which the packages of the system have. */
#include "change/loader/write_loader_priv.h"

#include "base/command.h"
#include "base/text.h"
#include "boot/board/loaderarea.h"
#include "boot/board/loaderfile.h"
#include "disk/emmc_boot.h"
#include "disk/flash.h"

#include <errno.h>
#include <string.h>

/* Which of its two boot partitions an eMMC starts from, if any, is set in the eMMC itself. */
static void tell_boot_partition(WdrLoaderPlan *p, const char *name)
{
	WdrEmmcBoot b;

	if (!wdr_emmc_boot_read(p->world, name, &b))
		return;
	g_autofree char *disk = g_strndup(name, strlen(name) - strlen("boot0"));
	g_autofree char *from = b.enabled == 0 ? g_strdup("none of its boot partitions")
				: b.enabled == WDR_EMMC_BOOT_USER
					? g_strdup("its main area")
					: g_strdup_printf("%sboot%u", disk, b.enabled - 1);
	wdr_facts_add(p->facts, "eMMC", false, "%s boots from %s; acknowledgement %s", disk, from,
		b.has_ack ? "on" : "off");
}

/* It is slow to read: what the board was asked about is not read again. */
static void tell_flash(WdrLoaderPlan *p)
{
	bool is_known = p->board && p->board->series == 0;
	g_autoptr(GPtrArray) list =
		is_known ? g_ptr_array_ref(p->board->flash) : wdr_board_look_at_flash(p->world);

	for (guint i = 0; i < list->len; i++) {
		const WdrBoardFlash *f = list->pdata[i];
		g_autofree char *size = wdr_format_size(f->size);
		const char *what = f->problem ? f->problem : f->what ? f->what : "empty";
		wdr_facts_add(
			p->facts, f->kind, f->problem != NULL, "%s, %s: %s", f->name, size, what);
		if (g_str_has_suffix(f->name, "boot0"))
			tell_boot_partition(p, f->name);
	}
}

bool wdr_loader_find_area(const WdrDisk *d, WdrLoaderArea *ret, GError **error)
{
	g_autoptr(WdrBlockDev) dev = NULL;
	g_autoptr(WdrPartTable) t = NULL;

	return wdr_blockdev_open(d->path, WDR_OPEN_READ, &dev, error) &&
	       wdr_parttable_read(dev, &t, error) &&
	       (t->kind == WDR_TABLE_NONE || wdr_loader_area_find(dev, t, ret, error));
}

static char *find_in_partitions(const WdrDisk *d)
{
	g_autoptr(WdrBlockDev) dev = NULL;
	g_autoptr(WdrPartTable) t = NULL;

	return wdr_blockdev_open(d->path, WDR_OPEN_READ, &dev, NULL) &&
			       wdr_parttable_read(dev, &t, NULL)
		       ? wdr_loader_in_partitions(dev, t)
		       : NULL;
}

static void tell_disk(WdrLoaderPlan *p, const WdrDisk *d)
{
	g_auto(WdrLoaderArea) area = { 0 };
	g_autoptr(GError) error = NULL;

	p->has_unread |= !wdr_loader_find_area(d, &area, &error);
	g_autofree char *in_partitions = error ? NULL : find_in_partitions(d);
	g_autofree char *command = wdr_command_by_root();
	g_autofree char *by_root = g_strdup_printf("; to run it as root: %s", command);
	if (error)
		wdr_facts_add(p->facts, "medium", true, "%s cannot be read: %s%s", d->name,
			error->message, wdr_error_get_errno(error) == EACCES ? by_root : "");
	else if (in_partitions)
		wdr_facts_add(p->facts, "medium", false, "%s, in partitions of its own: %s",
			d->name, in_partitions);
	else if (area.size > 0)
		wdr_facts_add(p->facts, "medium", false, "%s, before its first partition: %s",
			d->name, area.what);
	else if (d->is_image)
		wdr_facts_add(p->facts, "medium", true, "%s has nothing before its first partition",
			d->name);
}

static void tell_disks(WdrLoaderPlan *p)
{
	g_autoptr(GPtrArray) disks = NULL;

	if (!wdr_disks_list(p->world, &disks, NULL))
		return;
	for (guint i = 0; i < disks->len; i++)
		tell_disk(p, disks->pdata[i]);
}

static void tell_set(WdrLoaderPlan *p, const WdrLoaderBoard *b, bool for_flash)
{
	const WdrLoaderFolder *folder = &p->packages;
	g_autoptr(WdrLoaderSet) s = NULL;
	g_autoptr(GError) error = NULL;
	g_autoptr(GString) files = g_string_new(NULL);

	if (!wdr_loader_set_read(folder, b, for_flash, &s, &error)) {
		wdr_facts_add(p->facts, "installed", true, "%s", error->message);
		return;
	}
	if (!s)
		return;
	for (guint i = 0; i < s->parts->len; i++) {
		const WdrLoaderPart *part = s->parts->pdata[i];
		const char *slash = strrchr(part->file, '/');
		g_string_append_printf(
			files, "%s%s", i > 0 ? " + " : "", slash ? slash + 1 : part->file);
	}
	wdr_facts_add(p->facts, "installed", false, "%s/%s: %s%s%s, for %s (%s)", folder->shown,
		b->name, s->family, s->version ? ", " : "", s->version ? s->version : "",
		wdr_loader_place_name(s->place), files->str);
}

static void tell_installed(WdrLoaderPlan *p)
{
	bool is_known = wdr_loader_family_of(wdr_loader_names(p)) || p->of_image.model;

	if (!is_known)
		return;
	wdr_loader_find_packages(p);
	if (!p->boards) {
		wdr_facts_add(p->facts, "installed", false,
			"no package with boot loaders (there is no /usr/lib/u-boot)");
		return;
	}
	g_autoptr(GPtrArray) mine = wdr_loader_mine(p);
	if (mine->len == 0)
		wdr_facts_add(p->facts, "installed", false, "nothing in %s is for this board",
			p->packages.shown);
	for (guint i = 0; i < mine->len; i++) {
		const WdrLoaderBoard *b = mine->pdata[i];
		tell_set(p, b, false);
		tell_set(p, b, true);
		if (b->rows->len == 0)
			wdr_facts_add(p->facts, "installed", true,
				"%s/%s cannot be written as it is: %s", p->packages.shown, b->name,
				b->not_alone ? b->not_alone : "it has no complete loader");
		p->has_installed = mine->len == 1 && b->rows->len > 0;
	}
}

void wdr_loader_tell(WdrLoaderPlan *p)
{
	/* What this machine has says nothing of an image that is made here for another. */
	if (wdr_loader_is_of_image(p)) {
		tell_disk(p, p->disk);
		if (p->of_image.said)
			wdr_facts_add(p->facts, "board", false, "%s, as %s says",
				p->of_image.model ? p->of_image.model : p->of_image.names[0],
				p->of_image.said);
		tell_installed(p);
		return;
	}
	if (p->board && p->board->names[0])
		wdr_facts_add(p->facts, "board", false, "%s", p->board->names[0]);
	tell_flash(p);
	tell_disks(p);
	tell_installed(p);
	if (p->board && p->board->series > 0)
		wdr_facts_add(p->facts, "firmware", false,
			p->board->series >= 4
				? "this board's is in an EEPROM; the command order shows it"
				: "this board's is in files on its boot volume (bootcode.bin, *.elf)");
	else if (p->facts->len <= 1 && !p->has_unread)
		wdr_facts_add(p->facts, "loader", true,
			"the kernel knows no SPI flash here, and no disk has anything before its "
			"first partition");
}
