/* New identifiers for a disk: table and partitions by libfdisk, volumes in place.
 *
 * ext by tune2fs, since its checksums depend on the UUID; FAT serials and swap areas by our own
 * code. Volumes come first, the table last. The old identifiers are in the logbook before anything
 * is changed, and doing it again after an interruption gives the same result. */
#include "change/renew_identifiers.h"

#include "base/cleanup.h"
#include "base/io.h"
#include "disk/probe.h"
#include "volume/fat/fat.h"
#include "volume/swap.h"

#include <string.h>

enum { PARTS_MAX = 128 };

static void part_free(void *data)
{
	WdrIdentifiedPart *p = data;

	g_free(p->fs);
	g_free(p->uuid);
	g_free(p->partuuid);
	g_free(p);
}

static WdrIdentifiers *identifiers_new(const char *table_id)
{
	WdrIdentifiers *ids = g_new0(WdrIdentifiers, 1);

	ids->table_id = g_strdup(table_id);
	ids->parts = g_ptr_array_new_with_free_func(part_free);
	return ids;
}

void wdr_identifiers_free(WdrIdentifiers *ids)
{
	if (!ids)
		return;
	g_ptr_array_unref(ids->parts);
	g_free(ids->table_id);
	g_free(ids);
}

static void add(WdrIdentifiers *ids, const WdrIdentifiedPart *part)
{
	WdrIdentifiedPart *p = g_memdup2(part, sizeof(*part));

	p->fs = g_strdup(part->fs);
	p->uuid = g_strdup(part->uuid);
	p->partuuid = g_strdup(part->partuuid);
	g_ptr_array_add(ids->parts, p);
}

WdrIdentifiers *wdr_identifiers_of(const WdrItinerary *it, bool is_new)
{
	WdrIdentifiers *ids = identifiers_new(is_new ? it->table_id : it->source.table_id);

	for (guint i = 0; i < it->parts->len; i++) {
		const WdrItineraryPart *p = it->parts->pdata[i];
		const WdrItineraryVolume *place = is_new ? &p->to : &p->from;
		add(ids, &(WdrIdentifiedPart){ p->number, p->from.start, p->from.size, p->fs,
				 place->uuid, place->partuuid });
	}
	return ids;
}

char *wdr_identifiers_to_json(const WdrIdentifiers *ids)
{
	json_t *parts = json_array();

	for (guint i = 0; i < ids->parts->len; i++) {
		const WdrIdentifiedPart *p = ids->parts->pdata[i];
		json_array_append_new(
			parts, json_pack("{s:i, s:I, s:I, s:s, s:s, s:s}", "number", (int)p->number,
				       "start", (json_int_t)p->start, "size", (json_int_t)p->size,
				       "fs", p->fs, "uuid", p->uuid ? p->uuid : "", "partuuid",
				       p->partuuid ? p->partuuid : ""));
	}
	g_autoptr(json_t) root =
		json_pack("{s:s, s:o}", "table_id", ids->table_id, "partitions", parts);
	return json_dumps(root, JSON_COMPACT);
}

static char *or_null(const char *text)
{
	return *text ? (char *)text : NULL;
}

bool wdr_identifiers_from_json(const char *text, WdrIdentifiers **ret, GError **error)
{
	g_autoptr(json_t) root = json_loads(text, JSON_REJECT_DUPLICATES, NULL);
	json_t *parts = NULL, *part = NULL;
	const char *table_id = NULL;
	size_t i = 0;

	if (!root ||
		json_unpack(root, "{s:s, s:o}", "table_id", &table_id, "partitions", &parts) != 0)
		return wdr_error_set(error, WDR_ERROR_FORMAT, "the identifiers cannot be read");
	g_autoptr(WdrIdentifiers) ids = identifiers_new(table_id);
	json_array_foreach(parts, i, part)
	{
		const char *fs = NULL, *uuid = NULL, *partuuid = NULL;
		json_int_t start = 0, size = 0;
		int number = 0;
		if (json_unpack(part, "{s:i, s:I, s:I, s:s, s:s, s:s}", "number", &number, "start",
			    &start, "size", &size, "fs", &fs, "uuid", &uuid, "partuuid",
			    &partuuid) != 0 ||
			number < 1 || number > PARTS_MAX || start < 0 || size <= 0)
			return wdr_error_set(error, WDR_ERROR_FORMAT,
				"the identifiers of a partition make no sense");
		add(ids, &(WdrIdentifiedPart){ (unsigned)number, (uint64_t)start, (uint64_t)size,
				 (char *)fs, or_null(uuid), or_null(partuuid) });
	}
	*ret = g_steal_pointer(&ids);
	return true;
}

/* ---- setting ---- */

static bool run(const WdrWorld *world, const char *const *argv, int ok_below, GError **error)
{
	g_auto(WdrRun) r = { 0 };

	if (!wdr_world_run(world, argv, NULL, &r, error))
		return false;
	return r.exit_code < ok_below ||
	       wdr_error_set(error, WDR_ERROR_IO, "%s: %s", argv[0], g_strstrip(r.output));
}

/* tune2fs makes all checksums anew, which depend on the UUID, and wants a volume that was checked
 * since it was last written to. Both take '?' in a name for the start of options: a link of ours,
 * in a folder of ours, means the disk. */
static bool set_ext(
	const WdrWorld *world, const WdrDisk *disk, const WdrIdentifiedPart *p, GError **error)
{
	g_autoptr(GError) local = NULL;
	g_autofree char *folder = g_dir_make_tmp("wanderitas-XXXXXX", &local);
	if (!folder)
		return wdr_error_set(error, WDR_ERROR_IO,
			"no folder for scratch files can be made: %s", local->message);
	g_autofree char *link = g_build_filename(folder, "disk", NULL);
	g_autofree char *full = g_canonicalize_filename(disk->path, NULL);
	g_autofree char *where = g_strdup_printf("%s?offset=%" G_GUINT64_FORMAT, link, p->start);
	const char *check[] = { "e2fsck", "-f", "-p", where, NULL };
	const char *tune[] = { "tune2fs", "-U", p->uuid, where, NULL };

	bool is_fine = symlink(full, link) == 0
			       ? run(world, check, 2, error) && run(world, tune, 1, error)
			       : wdr_error_set_errno(error, errno, "making the link %s", link);
	wdr_remove_folder(folder);
	return is_fine;
}

static bool set_swap(WdrBlockDev *dev, const WdrIdentifiedPart *p, GError **error)
{
	uint8_t bytes[WDR_SWAP_UUID_BYTES];

	if (!wdr_swap_parse_uuid(p->uuid, bytes))
		return wdr_error_set(error, WDR_ERROR_FORMAT, "'%s' is no UUID", p->uuid);
	return wdr_blockdev_write(dev, bytes, sizeof(bytes), p->start + WDR_SWAP_UUID_AT, error) &&
	       wdr_blockdev_flush(dev, error);
}

static bool set_in_place(const WdrDisk *disk, const WdrIdentifiedPart *p, GError **error)
{
	g_autoptr(WdrBlockDev) dev = NULL;

	if (!wdr_blockdev_open(disk->path, WDR_OPEN_WRITE, &dev, error))
		return false;
	return strcmp(p->fs, "vfat") == 0 ? wdr_fat_set_serial(dev, p->start, p->size,
						    wdr_fat_serial_of(p->uuid), error)
					  : set_swap(dev, p, error);
}

/* As libblkid sees it afterwards. */
static bool has_uuid(const WdrDisk *disk, const WdrIdentifiedPart *p, bool *ret, GError **error)
{
	g_autoptr(WdrBlockDev) dev = NULL;
	g_auto(WdrProbe) probe = { 0 };

	if (!wdr_blockdev_open(disk->path, WDR_OPEN_MEDIUM, &dev, error) ||
		!wdr_probe_read(dev, p->start, p->size, &probe, error))
		return false;
	*ret = g_strcmp0(probe.uuid, p->uuid) == 0;
	return true;
}

static bool set_volume(
	const WdrWorld *world, const WdrDisk *disk, const WdrIdentifiedPart *p, GError **error)
{
	bool is_ext = strcmp(p->fs, "ext4") == 0;
	bool is_known = is_ext || strcmp(p->fs, "vfat") == 0 || strcmp(p->fs, "swap") == 0;
	bool is_set = false;

	if (!p->uuid || !is_known)
		return true;
	if (!has_uuid(disk, p, &is_set, error) || is_set)
		return is_set;
	if (!(is_ext ? set_ext(world, disk, p, error) : set_in_place(disk, p, error)) ||
		!has_uuid(disk, p, &is_set, error))
		return false;
	return is_set || wdr_error_set(error, WDR_ERROR_IO,
				 "partition %u: its volume still has its old UUID", p->number);
}

static bool set_table(const WdrDisk *disk, const WdrIdentifiers *ids, GError **error)
{
	g_autoptr(WdrBlockDev) dev = NULL;
	g_autoptr(WdrPartTable) table = NULL;

	if (!wdr_blockdev_open(disk->path, WDR_OPEN_WRITE, &dev, error) ||
		!wdr_parttable_read(dev, &table, error) || !wdr_parttable_check(table, dev, error))
		return false;
	g_free(table->id);
	table->id = g_strdup(ids->table_id);
	for (guint i = 0; i < table->partitions->len; i++) {
		WdrPartition *p = table->partitions->pdata[i];
		/* No volume lies there, but it is named by the new identifier like the others. */
		if (p->is_extended) {
			g_free(p->partuuid);
			p->partuuid = wdr_partuuid_mbr(table->id, p->number);
		}
		for (guint k = 0; k < ids->parts->len; k++) {
			const WdrIdentifiedPart *with = ids->parts->pdata[k];
			if (with->number != p->number)
				continue;
			g_free(p->partuuid);
			p->partuuid = g_strdup(with->partuuid);
		}
	}
	return wdr_parttable_rename(dev, table, error);
}

bool wdr_identifiers_set(
	const WdrWorld *world, const WdrDisk *disk, const WdrIdentifiers *ids, GError **error)
{
	for (guint i = 0; i < ids->parts->len; i++) {
		const WdrIdentifiedPart *p = ids->parts->pdata[i];
		wdr_world_step(world, "giving partition %u its identifiers", p->number);
		if (!set_volume(world, disk, p, error)) {
			g_prefix_error(error, "partition %u: ", p->number);
			return false;
		}
	}
	return set_table(disk, ids, error);
}
