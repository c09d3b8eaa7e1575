/* Changes of bytes outside of volumes and of firmware settings, with their originals kept.
 *
 * Flash cannot be changed in one step, so a change that the logbook does not call done is put back
 * by rewind, whatever is found there. */
#include "change/raw_change.h"

#include "base/record.h"
#include "boot/board/eeprom.h"
#include "boot/board/loaderarea.h"
#include "change/change.h"
#include "disk/disks.h"
#include "journal/state_folder.h"

#include <string.h>

bool wdr_raw_change_begin(
	const WdrWorld *world, const char *state, WdrRawChange *ret, GError **error)
{
	g_autofree char *path = g_build_filename(state, "logbook.jsonl", NULL);

	*ret = (WdrRawChange){ .world = world, .state = g_strdup(state), .next = 1 };
	return wdr_make_private_folder(state, error) &&
	       wdr_logbook_begin(world, path, NULL, &ret->logbook, error);
}

void wdr_raw_change_clear(WdrRawChange *o)
{
	wdr_logbook_free(o->logbook);
	g_free(o->state);
}

bool wdr_raw_change_end(WdrRawChange *o, GError *failure, GError **error)
{
	if (!failure)
		return wdr_logbook_done(o->logbook, error);
	wdr_logbook_stopped(o->logbook, failure->message);
	g_propagate_error(error, failure);
	return false;
}

char *wdr_raw_change_state(const WdrWorld *world, const char *what)
{
	g_autofree char *base = wdr_world_path(world, WDR_STATE_FOLDER);

	return g_strdup_printf("%s/%s-%" G_GINT64_FORMAT, base, what, wdr_world_now(world));
}

/* ---- where it may be written ---- */

typedef struct {
	uint64_t from, to;
} Bytes;

/* Of a table or a partition; `free` is what lies between the table and its copy at the end. */
static bool is_over(
	const WdrPartTable *t, Bytes free, Bytes bytes, const char *device, GError **error)
{
	uint64_t from = bytes.from;
	uint64_t to = bytes.to;

	if (from < free.from || to > free.to)
		return !wdr_error_set(error, WDR_ERROR_REFUSED,
			"bytes %" G_GUINT64_FORMAT " to %" G_GUINT64_FORMAT
			" of %s are its partition table's",
			from, to, device);
	for (guint i = 0; i < t->partitions->len; i++) {
		const WdrPartition *p = t->partitions->pdata[i];
		bool is_inside = from >= p->start && to <= p->start + p->size;
		if (from < p->start + p->size && to > p->start &&
			!(is_inside && wdr_loader_is_partition(p)))
			return !wdr_error_set(error, WDR_ERROR_REFUSED,
				"bytes %" G_GUINT64_FORMAT " to %" G_GUINT64_FORMAT
				" of %s lie in partition %u, which begins at %" G_GUINT64_FORMAT,
				from, to, device, p->number, p->start);
	}
	return false;
}

static bool check_disk(
	const WdrDisk *disk, const char *device, uint64_t from, uint64_t to, GError **error)
{
	g_autoptr(WdrBlockDev) dev = NULL;
	g_autoptr(WdrPartTable) t = NULL;

	if (!wdr_blockdev_open(disk->path, WDR_OPEN_READ, &dev, error) ||
		!wdr_parttable_read(dev, &t, error) || !wdr_parttable_check(t, dev, error))
		return false;
	uint64_t table = wdr_table_end(t->kind, wdr_blockdev_sector_size(dev));
	/* A GPT has a copy at the end, one sector shorter. */
	uint64_t behind = t->kind == WDR_TABLE_GPT ? table - wdr_blockdev_sector_size(dev) : 0;
	return !is_over(t, (Bytes){ table, wdr_blockdev_size(dev) - behind }, (Bytes){ from, to },
		device, error);
}

static bool is_flash(const WdrWorld *world, const char *name)
{
	g_autoptr(GPtrArray) list = wdr_flash_list(world);

	for (guint i = 0; i < list->len; i++) {
		const WdrFlash *f = list->pdata[i];
		g_autofree char *block = g_str_has_prefix(f->name, "mtd")
						 ? g_strdup_printf("mtdblock%s", f->name + 3)
						 : NULL;
		if (strcmp(f->name, name) == 0 || g_strcmp0(block, name) == 0)
			return true;
	}
	return false;
}

bool wdr_raw_change_check_rest(const WdrWorld *world, const char *device, GError **error)
{
	g_autoptr(WdrDisk) image = NULL;

	return !g_str_has_prefix(device, WDR_DEVICE_IMAGE) ||
	       (wdr_disk_find(world, wdr_device_name(device), &image, error) &&
		       wdr_change_check_rest(world, image, error));
}

static bool check_image(
	const WdrWorld *world, const char *device, uint64_t from, uint64_t to, GError **error)
{
	const char *path = wdr_device_name(device);
	g_autoptr(WdrDisk) image = NULL;

	return wdr_disk_find(world, path, &image, error) &&
	       wdr_change_check_rest(world, image, error) &&
	       check_disk(image, path, from, to, error);
}

bool wdr_raw_change_check(
	const WdrWorld *world, const char *device, uint64_t offset, uint64_t len, GError **error)
{
	g_autoptr(GPtrArray) disks = NULL;
	g_autofree char *name = g_path_get_basename(device);

	if (g_str_has_prefix(device, WDR_DEVICE_IMAGE))
		return check_image(world, device, offset, offset + len, error);
	if (!g_str_has_prefix(device, "/dev/") || is_flash(world, name))
		return true;
	if (!wdr_disks_list(world, &disks, error))
		return false;
	for (guint i = 0; i < disks->len; i++) {
		const WdrDisk *d = disks->pdata[i];
		if (strcmp(d->name, name) == 0)
			return check_disk(d, device, offset, offset + len, error);
	}
	return wdr_error_set(error, WDR_ERROR_UNSUPPORTED,
		"%s is neither a flash nor a disk: nothing is written there", device);
}

/* ---- writing ---- */

static void tell(void *data, uint64_t done, uint64_t total)
{
	const WdrRawChange *o = data;
	WdrProgress p = { .bytes_done = done, .bytes_total = total };

	wdr_world_progress(o->world, &p);
}

bool wdr_raw_change_write(
	WdrRawChange *o, const char *device, uint64_t offset, GBytes *bytes, GError **error)
{
	g_autoptr(WdrChange) change = g_new0(WdrChange, 1);
	g_autofree uint8_t *before = NULL;
	g_autofree char *name = g_path_get_basename(device);
	size_t new_len = 0;
	const uint8_t *new_bytes = g_bytes_get_data(bytes, &new_len);
	uint64_t at = offset;
	uint64_t whole = new_len;

	/* What is erased is kept, the neighbours in the same block too: a power cut takes them. */
	if (!wdr_flash_erased(o->world, device, &at, &whole, error) ||
		!wdr_flash_read_at(o->world, device, (int64_t)at, (size_t)whole, &before, error))
		return false;
	size_t len = (size_t)whole;
	g_autofree uint8_t *data = g_memdup2(before, len);
	memcpy(data + (offset - at), new_bytes, new_len);
	change->number = o->next++;
	change->disk = g_strdup(device);
	change->region = g_strdup(device);
	change->region_at = at;
	change->region_size = len;
	change->after = wdr_hash(data, len);
	if (!wdr_change_keep(o->state, change, name, before, len, error) ||
		!wdr_logbook_step(o->logbook, error, "writing to %s", wdr_device_name(device)) ||
		!wdr_logbook_change(o->logbook, change, error))
		return false;
	o->has_begun = true;
	WdrFlashWrite write = { device, at, data, len, tell, o };
	return wdr_flash_write(o->world, &write, error) &&
	       wdr_logbook_changed(o->logbook, change->number, error);
}

bool wdr_raw_change_settings(WdrRawChange *o, const char *before, const char *after, GError **error)
{
	g_autoptr(WdrChange) change = g_new0(WdrChange, 1);

	change->number = o->next++;
	change->disk = g_strdup("firmware");
	change->is_settings = true;
	change->after = wdr_eeprom_hash(after);
	if (!wdr_change_keep(o->state, change, "bootconf.txt", before, strlen(before), error) ||
		!wdr_logbook_step(o->logbook, error, "handing the firmware its settings") ||
		!wdr_logbook_change(o->logbook, change, error))
		return false;
	o->has_begun = true;
	bool is_read = false;
	if (!wdr_eeprom_apply(o->world, after, &is_read, error))
		return false;
	o->has_unread |= !is_read;
	return wdr_logbook_changed(o->logbook, change->number, error);
}

bool wdr_raw_change_efi_order(
	WdrRawChange *o, const WdrEfiSettings *before, const WdrEfiFirst *first, GError **error)
{
	g_autoptr(WdrChange) change = g_new0(WdrChange, 1);
	g_autofree char *way_back = wdr_efi_way_back(before, first);
	g_autofree char *after = wdr_efi_order_text(before, first);

	change->number = o->next++;
	change->disk = g_strdup("firmware");
	change->is_settings = true;
	change->after = wdr_hash(after, strlen(after));
	if (!wdr_change_keep(
		    o->state, change, "boot-order.txt", way_back, strlen(way_back), error) ||
		!wdr_logbook_step(o->logbook, error, "putting Boot%04X first", first->number) ||
		!wdr_logbook_change(o->logbook, change, error))
		return false;
	o->has_begun = true;
	return wdr_efi_put_first(o->world, before, first, error) &&
	       wdr_logbook_changed(o->logbook, change->number, error);
}
