/* Finds where each file of a loader goes on the flash or disk that was named.
 *
 * The file that the chip reads first is written last: until then the old one is whole. */
#include "change/loader/write_loader_priv.h"

#include "base/command.h"
#include "base/text.h"
#include "boot/board/loaderarea.h"
#include "boot/board/loaderfile.h"
#include "disk/emmc_boot.h"
#include "disk/flash.h"

#include <string.h>

enum { HEAD_BYTES = 4096, SECTOR_BYTES = 512 };

static const WdrLoaderPart *part_at(const WdrLoaderSet *s, guint i)
{
	return s->parts->pdata[i];
}

static void add_write(WdrLoaderPlan *p, const char *device, uint64_t at, const WdrLoaderPart *part)
{
	const char *slash = strrchr(part->file, '/');
	WdrLoaderWrite *w = g_new0(WdrLoaderWrite, 1);

	w->device = g_strdup(device);
	w->at = at;
	w->bytes = g_bytes_ref(part->bytes);
	w->file = slash ? slash + 1 : part->file;
	g_ptr_array_insert(p->writes, 0, w);
}

/* ---- SPI flash ---- */

static const char *base_of(const char *device)
{
	const char *slash = strrchr(device, '/');

	return slash ? slash + 1 : device;
}

static const WdrFlash *flash_named(const GPtrArray *list, const char *name)
{
	for (guint i = 0; i < list->len; i++) {
		const WdrFlash *f = list->pdata[i];
		bool is_block = g_str_has_prefix(name, "mtdblock") &&
				g_str_has_prefix(f->name, "mtd") &&
				strcmp(name + strlen("mtdblock"), f->name + strlen("mtd")) == 0;
		if (strcmp(f->name, name) == 0 || is_block)
			return f;
	}
	return NULL;
}

static bool is_spi(const WdrFlash *f)
{
	return g_str_has_prefix(f->name, "mtd");
}

static const WdrFlash *first_spi(const GPtrArray *list)
{
	for (guint i = 0; i < list->len; i++) {
		if (is_spi(list->pdata[i]))
			return list->pdata[i];
	}
	return NULL;
}

/* SPI flash takes the file from its first byte on. */
static bool aim_at_flash(WdrLoaderPlan *p, const WdrFlash *f, const char *device, GError **error)
{
	const WdrLoaderPart *first = part_at(p->set, 0);
	size_t len = g_bytes_get_size(first->bytes);
	g_autofree char *size = wdr_format_size(f->size);
	g_autofree char *needed = wdr_format_size(len);

	if (!p->set->fits_flash || p->set->parts->len > 1)
		return wdr_loader_refuse(error, NULL,
			"%s is made for a medium (it begins where the chip looks there), not for SPI "
			"flash",
			first->file);
	if (len > f->size)
		return wdr_loader_refuse(error, NULL, "%s has %s, and %s holds %s", first->file,
			needed, f->name, size);
	add_write(p, device, 0, first);
	return true;
}

/* ---- an eMMC boot partition ---- */

/* What the chip maker signs is in no package. */
static bool check_needs(const WdrLoaderPlan *p, const char *device, uint64_t at, GError **error)
{
	g_autofree uint8_t *head = NULL;

	if (!p->set->needs)
		return true;
	if (!wdr_flash_read_at(p->world, device, (int64_t)at, SECTOR_BYTES, &head, error))
		return false;
	for (size_t i = 0; i < SECTOR_BYTES; i++) {
		if (head[i] != 0 && head[i] != 0xff)
			return true;
	}
	return wdr_loader_refuse(error, NULL,
		"%s is not on %s at byte %" G_GUINT64_FORMAT ", and it boots by that",
		p->set->needs, wdr_device_name(device), at);
}

static bool aim_at_boot_partition(
	WdrLoaderPlan *p, const WdrFlash *f, const char *device, GError **error)
{
	const WdrLoaderSet *s = p->set;
	const WdrLoaderPart *first = part_at(s, 0);

	if (!s->has_boot_part || s->place == WDR_LOADER_FLASH)
		return wdr_loader_refuse(error, NULL,
			"%s is an %s, and it is not known that chips of %s boot from one", f->name,
			f->kind, s->family);
	if (!check_needs(p, device, s->needs_at + s->boot_part_at - first->at, error))
		return false;
	for (guint i = 0; i < s->parts->len; i++) {
		const WdrLoaderPart *part = part_at(s, i);
		uint64_t at = s->boot_part_at + (part->at - first->at);
		size_t len = g_bytes_get_size(part->bytes);
		/* The later stages that have partitions of their own stay in these. */
		if (part->partitions && i > 0)
			continue;
		if (at > f->size || len > f->size - at)
			return wdr_loader_refuse(
				error, NULL, "%s is too large for %s", part->file, f->name);
		add_write(p, device, at, part);
	}
	p->boot_partition = g_strdup(f->name);
	return true;
}

/* ---- partitions of its own ---- */

static bool is_named(const WdrPartition *part, const char *const *names)
{
	for (size_t i = 0; names[i]; i++) {
		if (g_strcmp0(part->name, names[i]) == 0 ||
			(part->type && g_ascii_strcasecmp(part->type, names[i]) == 0))
			return true;
	}
	return false;
}

static bool aim_at_partitions_of(WdrLoaderPlan *p, const WdrLoaderPart *part, const WdrPartTable *t,
	const char *device, GError **error)
{
	size_t len = g_bytes_get_size(part->bytes);
	bool is_found = false;

	for (guint i = 0; i < t->partitions->len; i++) {
		const WdrPartition *at = t->partitions->pdata[i];
		g_autofree char *size = wdr_format_size(at->size);
		g_autofree char *needed = wdr_format_size(len);
		if (!is_named(at, part->partitions))
			continue;
		if (len > at->size)
			return wdr_loader_refuse(error, NULL,
				"%s has %s, and partition %u of %s holds %s", part->file, needed,
				at->number, p->disk->name, size);
		is_found = true;
		add_write(p, device, at->start, part);
	}
	return is_found || wdr_loader_refuse(error, NULL,
				   "%s has no partition with the name or type %s, which takes %s",
				   p->disk->name, part->partitions[0], part->file);
}

static bool aim_at_partitions(WdrLoaderPlan *p, const char *device, GError **error)
{
	g_autoptr(WdrBlockDev) dev = NULL;
	g_autoptr(WdrPartTable) t = NULL;

	if (!wdr_blockdev_open(p->disk->path, WDR_OPEN_READ, &dev, error) ||
		!wdr_parttable_read(dev, &t, error) || !wdr_parttable_check(t, dev, error))
		return false;
	for (guint i = 0; i < p->set->parts->len; i++) {
		if (!aim_at_partitions_of(p, part_at(p->set, i), t, device, error))
			return false;
	}
	for (guint i = 0; i < p->writes->len; i++) {
		const WdrLoaderWrite *w = p->writes->pdata[i];
		if (!wdr_raw_change_check(
			    p->world, device, w->at, g_bytes_get_size(w->bytes), error))
			return false;
	}
	return true;
}

/* ---- before the first partition ---- */

static bool check_places(const WdrLoaderPlan *p, const char *device, uint64_t start, GError **error)
{
	const WdrLoaderSet *s = p->set;

	for (guint i = 0; i < s->parts->len; i++) {
		const WdrLoaderPart *part = part_at(s, i);
		if (!wdr_raw_change_check(p->world, device, start + part->at - part_at(s, 0)->at,
			    g_bytes_get_size(part->bytes), error))
			return false;
	}
	return true;
}

/* One of this family lies there. */
static bool is_there(const WdrLoaderPlan *p, const char *device, uint64_t at)
{
	g_auto(WdrLoaderFile) there = { 0 };
	g_autofree uint8_t *head = NULL;

	if (!wdr_flash_read_at(p->world, device, (int64_t)at, HEAD_BYTES, &head, NULL))
		return false;
	wdr_loader_file_look(head, HEAD_BYTES, &there);
	return !there.is_whole && g_strcmp0(there.family, p->set->family) == 0;
}

/* What the user can do about a partition in the way. */
static void hint_at_room(const WdrLoaderSet *s, GError **error)
{
	uint64_t end = 0;

	for (guint i = 0; i < s->parts->len; i++) {
		const WdrLoaderPart *part = part_at(s, i);
		end = MAX(end, part->at + g_bytes_get_size(part->bytes));
	}
	g_autofree char *from = wdr_format_size(wdr_round_up(end, WDR_MIB));
	wdr_error_hint(error,
		"nothing was changed; this loader needs a disk whose first partition begins at %s or "
		"later",
		from);
}

/* Where that family's loader lies on the medium now; failing that, where its chips look first. */
static bool find_start(WdrLoaderPlan *p, const char *device, uint64_t *ret, GError **error)
{
	const WdrLoaderSet *s = p->set;
	const uint64_t *places = wdr_loader_locations(s->family);
	g_autoptr(GError) first_error = NULL;
	uint64_t usual = part_at(s, 0)->at;

	*ret = usual;
	for (size_t i = 0; places[i]; i++) {
		if ((!s->board || places[i] == usual || places[i] == s->other_at) &&
			is_there(p, device, places[i])) {
			*ret = places[i];
			return check_places(p, device, *ret, error);
		}
	}
	if (usual == 0)
		return wdr_loader_refuse(error, NULL,
			"chips of %s look at 33 KiB or at 32 KiB, and it is unknown which one %s needs",
			s->family, wdr_device_name(device));
	if (check_places(p, device, usual, &first_error))
		return true;
	*ret = s->other_at;
	if (s->other_at != 0 && check_places(p, device, s->other_at, NULL))
		return true;
	g_propagate_error(error, g_steal_pointer(&first_error));
	hint_at_room(s, error);
	return false;
}

static bool aim_before_partitions(WdrLoaderPlan *p, const char *device, GError **error)
{
	const WdrLoaderSet *s = p->set;
	uint64_t start = 0;

	/* A GPT lies where that stage would be: then what is read there is not it. */
	if (!find_start(p, device, &start, error) ||
		(s->needs && !wdr_raw_change_check(
				     p->world, device, s->needs_at, SECTOR_BYTES, error)) ||
		!check_needs(p, device, s->needs_at, error))
		return false;
	for (guint i = 0; i < s->parts->len; i++) {
		const WdrLoaderPart *part = part_at(s, i);
		add_write(p, device, start + part->at - part_at(s, 0)->at, part);
	}
	return true;
}

static bool aim_at_disk(WdrLoaderPlan *p, const char *device, GError **error)
{
	if (p->set->place == WDR_LOADER_FLASH)
		return wdr_loader_refuse(error, NULL, "%s is made for SPI flash, not for a medium",
			part_at(p->set, 0)->file);
	return part_at(p->set, 0)->partitions ? aim_at_partitions(p, device, error)
					      : aim_before_partitions(p, device, error);
}

/* ---- all of it ---- */

bool wdr_loader_is_for_flash(const WdrLoaderPlan *p, const WdrLoaderOptions *o)
{
	return !p->disk && !(o->on && g_str_has_prefix(base_of(o->on), "mmcblk"));
}

bool wdr_loader_is_flash(const WdrWorld *world, const char *on)
{
	g_autoptr(GPtrArray) flash = wdr_flash_list(world);

	return flash_named(flash, base_of(on)) != NULL;
}

bool wdr_loader_aim(WdrLoaderPlan *p, const WdrLoaderOptions *o, GError **error)
{
	if (p->disk) {
		g_autofree char *full = g_canonicalize_filename(p->disk->path, NULL);
		g_autofree char *device = wdr_loader_is_of_image(p)
						  ? g_strconcat(WDR_DEVICE_IMAGE, full, NULL)
						  : g_strdup_printf("/dev/%s", p->disk->name);
		return aim_at_disk(p, device, error);
	}
	g_autoptr(GPtrArray) flash = wdr_flash_list(p->world);
	const WdrFlash *f = o->on ? flash_named(flash, base_of(o->on)) : first_spi(flash);
	if (!f) {
		wdr_error_set(error, WDR_ERROR_UNSUPPORTED,
			"the kernel knows no SPI flash on this board");
		wdr_error_hint(error, "--on DISK names a medium; nothing was changed");
		return false;
	}
	g_autofree char *device = g_strdup_printf("/dev/%s", o->on ? base_of(o->on) : f->name);
	return is_spi(f) ? aim_at_flash(p, f, device, error)
			 : aim_at_boot_partition(p, f, device, error);
}
