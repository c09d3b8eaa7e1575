/* Reads and writes MBR and GPT tables with libfdisk.
 *
 * A table is written twice: without boot marks while the target is being filled, with them at the
 * end. libfdisk numbers, aligns and checks; what it would change on its own (identifiers, gaps in
 * numbers, protective entries) is set to what the itinerary says. What it warns of while reading is
 * kept for the user. */
#include "disk/parttable.h"

#include "base/text.h"

#include <libfdisk/libfdisk.h>
#include <string.h>

/* GPT: header and entries at the end, in whole MiB so that partitions end aligned. MBR counts
 * sectors in 32 bits. */
enum { GPT_END_BYTES = 1024 * 1024 };
#define BOOT_ATTRIBUTE "LegacyBIOSBootable"
#define MBR_SECTORS_MAX UINT64_C(0xffffffff)

typedef struct fdisk_context FdiskContext;
typedef struct fdisk_table FdiskTable;
typedef struct fdisk_partition FdiskPartition;
G_DEFINE_AUTOPTR_CLEANUP_FUNC(FdiskContext, fdisk_unref_context)
G_DEFINE_AUTOPTR_CLEANUP_FUNC(FdiskTable, fdisk_unref_table)
G_DEFINE_AUTOPTR_CLEANUP_FUNC(FdiskPartition, fdisk_unref_partition)

WdrPartition *wdr_partition_new(void)
{
	return g_new0(WdrPartition, 1);
}

static void partition_free(void *data)
{
	WdrPartition *p = data;

	g_free(p->type);
	g_free(p->type_name);
	g_free(p->partuuid);
	g_free(p->name);
	g_free(p->attributes);
	g_free(p);
}

WdrPartTable *wdr_parttable_new(WdrTableKind kind)
{
	WdrPartTable *t = g_new0(WdrPartTable, 1);

	t->kind = kind;
	t->partitions = g_ptr_array_new_with_free_func(partition_free);
	return t;
}

void wdr_parttable_free(WdrPartTable *t)
{
	if (!t)
		return;
	g_ptr_array_unref(t->partitions);
	g_free(t->id);
	g_free(t->damage);
	g_free(t);
}

WdrPartition *wdr_parttable_add(WdrPartTable *t)
{
	WdrPartition *p = wdr_partition_new();

	g_ptr_array_add(t->partitions, p);
	return p;
}

const WdrPartition *wdr_parttable_find(const WdrPartTable *t, unsigned number)
{
	for (guint i = 0; i < t->partitions->len; i++) {
		const WdrPartition *p = t->partitions->pdata[i];
		if (p->number == number)
			return p;
	}
	return NULL;
}

const WdrPartition *wdr_parttable_named(const WdrPartTable *t, const char *partuuid)
{
	for (guint i = 0; partuuid && i < t->partitions->len; i++) {
		const WdrPartition *p = t->partitions->pdata[i];
		if (p->partuuid && g_ascii_strcasecmp(p->partuuid, partuuid) == 0)
			return p;
	}
	return NULL;
}

const char *wdr_table_kind_name(WdrTableKind kind)
{
	static const char *const names[] = { "none", "MBR", "GPT" };

	return names[kind];
}

char *wdr_partuuid_mbr(const char *id, unsigned number)
{
	return g_strdup_printf("%s-%02x", id, number);
}

/* ---- reading ---- */

/* libfdisk asks and warns through this; warnings about the table are kept. */
static int on_ask(FdiskContext *cxt, struct fdisk_ask *ask, void *data)
{
	GString *damage = data;

	(void)cxt;
	switch (fdisk_ask_get_type(ask)) {
	case FDISK_ASKTYPE_WARN:
	case FDISK_ASKTYPE_WARNX:
		/* A table made for another size of disk (an image on a larger card) is not damaged.
		 */
		if (strstr(fdisk_ask_print_get_mesg(ask), "primary GPT table is corrupt"))
			g_string_append(
				damage, "the primary GPT is damaged (its backup can be read)");
		return 0;
	case FDISK_ASKTYPE_INFO:
		return 0;
	default:
		return -EINVAL;
	}
}

static bool begin(
	WdrBlockDev *dev, bool is_reading, GString *damage, FdiskContext **ret, GError **error)
{
	g_autoptr(FdiskContext) cxt = fdisk_new_context();
	unsigned sector = wdr_blockdev_sector_size(dev);

	if (!cxt || wdr_blockdev_fd(dev) < 0)
		return wdr_error_set(error, WDR_ERROR_IO, "%s cannot have a partition table",
			wdr_blockdev_name(dev));
	fdisk_set_ask(cxt, on_ask, damage);
	fdisk_disable_dialogs(cxt, 1);
	fdisk_save_user_sector_size(cxt, sector, sector);
	int failed = fdisk_assign_device_by_fd(
		cxt, wdr_blockdev_fd(dev), wdr_blockdev_name(dev), is_reading ? 1 : 0);
	if (failed)
		return wdr_error_set_errno(error, -failed, "reading the partition table of %s",
			wdr_blockdev_name(dev));
	*ret = g_steal_pointer(&cxt);
	return true;
}

/* The words for the other attributes; *is_active: the boot mark. */
static char *split_attributes(const char *all, bool *is_active)
{
	g_auto(GStrv) words = g_strsplit(all ? all : "", " ", -1);
	g_autoptr(GString) rest = g_string_new(NULL);

	*is_active = false;
	for (size_t i = 0; words[i]; i++) {
		if (strcmp(words[i], BOOT_ATTRIBUTE) == 0)
			*is_active = true;
		else if (*words[i])
			g_string_append_printf(rest, "%s%s", rest->len ? " " : "", words[i]);
	}
	return rest->len ? g_string_free(g_steal_pointer(&rest), FALSE) : NULL;
}

static void take_partition(FdiskContext *cxt, FdiskPartition *from, WdrPartTable *t)
{
	struct fdisk_parttype *type = fdisk_partition_get_type(from);
	uint64_t sector = fdisk_get_sector_size(cxt);
	WdrPartition *p = wdr_parttable_add(t);
	const char *name = fdisk_partition_get_name(from);

	p->number = (unsigned)fdisk_partition_get_partno(from) + 1;
	p->start = fdisk_partition_get_start(from) * sector;
	p->size = fdisk_partition_get_size(from) * sector;
	p->type_name = g_strdup(type ? fdisk_parttype_get_name(type) : NULL);
	p->is_extended = fdisk_partition_is_container(from);
	p->is_logical = fdisk_partition_is_nested(from);
	if (t->kind == WDR_TABLE_MBR) {
		p->type = g_strdup_printf("%02x", type ? fdisk_parttype_get_code(type) : 0);
		p->partuuid = wdr_partuuid_mbr(t->id, p->number);
		p->is_active = fdisk_partition_is_bootable(from) == 1;
		return;
	}
	const char *guid = type ? fdisk_parttype_get_string(type) : NULL;
	const char *uuid = fdisk_partition_get_uuid(from);
	p->type = g_ascii_strdown(guid ? guid : "", -1);
	p->partuuid = g_ascii_strdown(uuid ? uuid : "", -1);
	p->name = name && *name ? g_strdup(name) : NULL;
	p->attributes = split_attributes(fdisk_partition_get_attrs(from), &p->is_active);
}

static char *read_id(FdiskContext *cxt, WdrTableKind kind)
{
	char *id = NULL;

	if (fdisk_get_disklabel_id(cxt, &id) != 0 || !id)
		return g_strdup("");
	char *ret = g_ascii_strdown(
		kind == WDR_TABLE_MBR && g_str_has_prefix(id, "0x") ? id + 2 : id, -1);
	free(id);
	return ret;
}

static int by_start(const void *a, const void *b)
{
	const WdrPartition *x = *(WdrPartition *const *)a;
	const WdrPartition *y = *(WdrPartition *const *)b;

	return x->start < y->start ? -1 : x->start > y->start;
}

static bool take_all(FdiskContext *cxt, WdrPartTable *t, GError **error)
{
	g_autoptr(FdiskTable) table = NULL;
	struct fdisk_iter *iter = fdisk_new_iter(FDISK_ITER_FORWARD);
	FdiskPartition *p = NULL;

	if (!iter || fdisk_get_partitions(cxt, &table) != 0) {
		fdisk_free_iter(iter);
		return wdr_error_set(error, WDR_ERROR_FORMAT, "its partition table cannot be read");
	}
	while (fdisk_table_next_partition(table, iter, &p) == 0) {
		if (fdisk_partition_has_partno(p) && fdisk_partition_has_start(p) &&
			fdisk_partition_has_size(p))
			take_partition(cxt, p, t);
	}
	fdisk_free_iter(iter);
	g_ptr_array_sort(t->partitions, by_start);
	return true;
}

static void find_sector_size(WdrBlockDev *dev)
{
	char signature[8];

	/* A device says its sector size itself; only images can be mistaken. */
	if (wdr_blockdev_sector_size(dev) == 512 &&
		wdr_blockdev_read(dev, signature, sizeof(signature), 512, NULL) &&
		memcmp(signature, "EFI PART", sizeof(signature)) != 0 &&
		wdr_blockdev_read(dev, signature, sizeof(signature), 4096, NULL) &&
		memcmp(signature, "EFI PART", sizeof(signature)) == 0)
		wdr_blockdev_set_sector_size(dev, 4096);
}

/* A lone partition of type ee is what protects a GPT that cannot be read any more. */
static bool is_lost_gpt(const WdrPartTable *t)
{
	const WdrPartition *p = t->partitions->len ? t->partitions->pdata[0] : NULL;

	return t->kind == WDR_TABLE_MBR && p && strcmp(p->type, "ee") == 0;
}

bool wdr_parttable_read(WdrBlockDev *dev, WdrPartTable **ret, GError **error)
{
	g_autoptr(GString) damage = g_string_new(NULL);
	g_autoptr(FdiskContext) cxt = NULL;

	if (wdr_blockdev_size(dev) < wdr_blockdev_sector_size(dev))
		return wdr_error_set(error, WDR_ERROR_FORMAT,
			"%s is too small for a disk: %" G_GUINT64_FORMAT " bytes",
			wdr_blockdev_name(dev), wdr_blockdev_size(dev));
	find_sector_size(dev);
	if (!begin(dev, true, damage, &cxt, error))
		return false;
	WdrTableKind kind = fdisk_is_label(cxt, GPT)   ? WDR_TABLE_GPT
			    : fdisk_is_label(cxt, DOS) ? WDR_TABLE_MBR
						       : WDR_TABLE_NONE;
	if (kind == WDR_TABLE_NONE && fdisk_has_label(cxt))
		return wdr_error_set(error, WDR_ERROR_UNSUPPORTED,
			"%s has a partition table that is neither MBR nor GPT",
			wdr_blockdev_name(dev));
	g_autoptr(WdrPartTable) t = wdr_parttable_new(kind);
	if (kind != WDR_TABLE_NONE) {
		t->id = read_id(cxt, kind);
		if (!take_all(cxt, t, error)) {
			g_prefix_error(error, "%s: ", wdr_blockdev_name(dev));
			return false;
		}
	}
	if (is_lost_gpt(t))
		g_string_assign(damage, "the GPT is damaged and so is its backup");
	t->damage = damage->len ? g_strdup(damage->str) : NULL;
	*ret = g_steal_pointer(&t);
	return true;
}

bool wdr_parttable_check(const WdrPartTable *t, const WdrBlockDev *dev, GError **error)
{
	const char *name = wdr_blockdev_name(dev);
	/* Of the partitions of the table itself, and of the logical ones among themselves. */
	uint64_t end[2] = { 0, 0 };
	unsigned before[2] = { 0, 0 };
	uint64_t inside = 0;
	uint64_t outside = 0;

	if (t->damage)
		return wdr_error_set(error, WDR_ERROR_FORMAT, "%s: %s", name, t->damage);
	for (guint i = 0; i < t->partitions->len; i++) {
		const WdrPartition *p = t->partitions->pdata[i];
		if (p->size == 0 || p->start < wdr_blockdev_sector_size(dev))
			return wdr_error_set(error, WDR_ERROR_FORMAT,
				"%s: partition %u lies where the table is, or is empty", name,
				p->number);
		if (p->size > wdr_blockdev_size(dev) || p->start > wdr_blockdev_size(dev) - p->size)
			return wdr_error_set(error, WDR_ERROR_FORMAT,
				"%s: partition %u ends past the end of the disk", name, p->number);
		size_t k = p->is_logical ? 1 : 0;
		if (p->start < end[k])
			return wdr_error_set(error, WDR_ERROR_FORMAT,
				"%s: partitions %u and %u overlap", name, before[k], p->number);
		end[k] = p->start + p->size;
		before[k] = p->number;
		if (p->is_extended) {
			inside = p->start;
			outside = p->start + p->size;
		}
		if (p->is_logical && (p->start <= inside || p->start + p->size > outside))
			return wdr_error_set(error, WDR_ERROR_FORMAT,
				"%s: partition %u does not lie within the extended one", name,
				p->number);
	}
	return true;
}

/* ---- writing ---- */

static bool fdisk_failed(GError **error, WdrBlockDev *dev, int failed, const char *what)
{
	return wdr_error_set_errno(error, -failed, "%s: %s", wdr_blockdev_name(dev), what);
}

static struct fdisk_parttype *type_of(FdiskContext *cxt, const WdrPartTable *t, const char *text)
{
	struct fdisk_label *label = fdisk_get_label(cxt, NULL);

	if (t->kind == WDR_TABLE_MBR) {
		unsigned code = (unsigned)g_ascii_strtoull(text, NULL, 16);
		struct fdisk_parttype *known = fdisk_label_get_parttype_from_code(label, code);
		return known ? known : fdisk_new_unknown_parttype(code, NULL);
	}
	struct fdisk_parttype *known = fdisk_label_get_parttype_from_string(label, text);
	return known ? known : fdisk_new_unknown_parttype(0, text);
}

static bool add_partition(FdiskContext *cxt, WdrBlockDev *dev, const WdrPartTable *t,
	const WdrPartition *p, GError **error)
{
	g_autoptr(FdiskPartition) pa = fdisk_new_partition();
	uint64_t sector = fdisk_get_sector_size(cxt);

	if (p->start % sector || p->size % sector)
		return wdr_error_set(error, WDR_ERROR_FORMAT,
			"partition %u does not lie on whole sectors of %" G_GUINT64_FORMAT " bytes",
			p->number, sector);
	fdisk_partition_set_partno(pa, p->number - 1);
	fdisk_partition_set_start(pa, p->start / sector);
	fdisk_partition_set_size(pa, p->size / sector);
	fdisk_partition_size_explicit(pa, 1);
	fdisk_partition_set_type(pa, type_of(cxt, t, p->type));
	if (t->kind == WDR_TABLE_GPT) {
		fdisk_partition_set_uuid(pa, p->partuuid);
		if (p->name)
			fdisk_partition_set_name(pa, p->name);
	}
	size_t number = 0;
	int failed = fdisk_add_partition(cxt, pa, &number);
	return failed ? fdisk_failed(error, dev, failed, "adding a partition to the table") : true;
}

static bool put_marks(FdiskContext *cxt, WdrBlockDev *dev, const WdrPartTable *t,
	const WdrPartition *p, bool with_marks, GError **error)
{
	bool is_marked = p->is_active && with_marks;
	int failed = 0;

	if (t->kind == WDR_TABLE_MBR) {
		if (is_marked)
			failed = fdisk_toggle_partition_flag(cxt, p->number - 1, DOS_FLAG_ACTIVE);
	} else if (is_marked || p->attributes) {
		g_autoptr(FdiskPartition) pa = fdisk_new_partition();
		g_autofree char *words = g_strjoin(p->attributes && is_marked ? " " : "",
			p->attributes ? p->attributes : "", is_marked ? BOOT_ATTRIBUTE : "", NULL);
		fdisk_partition_set_attrs(pa, words);
		failed = fdisk_set_partition(cxt, p->number - 1, pa);
	}
	return failed ? fdisk_failed(error, dev, failed, "marking a partition") : true;
}

static bool same_text(const char *a, const char *b)
{
	return g_strcmp0(a ? a : "", b ? b : "") == 0;
}

static bool same_partition(const WdrPartition *a, const WdrPartition *b, bool with_marks)
{
	return a && b && a->start == b->start && a->size == b->size &&
	       g_ascii_strcasecmp(a->type, b->type) == 0 &&
	       g_ascii_strcasecmp(a->partuuid, b->partuuid) == 0 && same_text(a->name, b->name) &&
	       same_text(a->attributes, b->attributes) &&
	       b->is_active == (a->is_active && with_marks);
}

static bool read_back(WdrBlockDev *dev, const WdrPartTable *want, bool with_marks, GError **error)
{
	g_autoptr(WdrPartTable) got = NULL;

	if (!wdr_parttable_read(dev, &got, error))
		return false;
	bool is_same = got->kind == want->kind && same_text(got->id, want->id) && !got->damage &&
		       got->partitions->len == want->partitions->len;
	for (guint i = 0; is_same && i < want->partitions->len; i++) {
		const WdrPartition *p = want->partitions->pdata[i];
		is_same = same_partition(p, wdr_parttable_find(got, p->number), with_marks);
	}
	return is_same ? true
		       : wdr_error_set(error, WDR_ERROR_IO,
				 "%s: the partition table read back is not the one that was written",
				 wdr_blockdev_name(dev));
}

bool wdr_parttable_write(WdrBlockDev *dev, const WdrPartTable *t, bool with_marks, GError **error)
{
	g_autoptr(GString) damage = g_string_new(NULL);
	g_autoptr(FdiskContext) cxt = NULL;
	g_autofree char *id = g_strconcat(t->kind == WDR_TABLE_MBR ? "0x" : "", t->id, NULL);

	if (!begin(dev, false, damage, &cxt, error))
		return false;
	int failed = fdisk_create_disklabel(cxt, t->kind == WDR_TABLE_MBR ? "dos" : "gpt");
	if (!failed)
		failed = fdisk_set_disklabel_id_from_string(cxt, id);
	if (failed)
		return fdisk_failed(error, dev, failed, "making a partition table");
	for (guint i = 0; i < t->partitions->len; i++) {
		if (!add_partition(cxt, dev, t, t->partitions->pdata[i], error) ||
			!put_marks(cxt, dev, t, t->partitions->pdata[i], with_marks, error))
			return false;
	}
	failed = fdisk_write_disklabel(cxt);
	if (failed)
		return fdisk_failed(error, dev, failed, "writing the partition table");
	g_clear_pointer(&cxt, fdisk_unref_context);
	return wdr_blockdev_flush(dev, error) && read_back(dev, t, with_marks, error);
}

static bool rename_partition(
	FdiskContext *cxt, WdrBlockDev *dev, const WdrPartition *p, GError **error)
{
	g_autoptr(FdiskPartition) pa = NULL;
	int failed = fdisk_get_partition(cxt, p->number - 1, &pa);

	if (!failed)
		failed = fdisk_partition_set_uuid(pa, p->partuuid);
	if (!failed)
		failed = fdisk_set_partition(cxt, p->number - 1, pa);
	return !failed || fdisk_failed(error, dev, failed, "giving a partition a new GUID");
}

bool wdr_parttable_rename(WdrBlockDev *dev, const WdrPartTable *t, GError **error)
{
	g_autoptr(GString) damage = g_string_new(NULL);
	g_autoptr(FdiskContext) cxt = NULL;
	g_autofree char *id = g_strconcat(t->kind == WDR_TABLE_MBR ? "0x" : "", t->id, NULL);

	if (!begin(dev, false, damage, &cxt, error))
		return false;
	int failed = fdisk_set_disklabel_id_from_string(cxt, id);
	if (failed)
		return fdisk_failed(error, dev, failed, "giving the disk a new identifier");
	for (guint i = 0; t->kind == WDR_TABLE_GPT && i < t->partitions->len; i++) {
		if (!rename_partition(cxt, dev, t->partitions->pdata[i], error))
			return false;
	}
	failed = fdisk_write_disklabel(cxt);
	if (failed)
		return fdisk_failed(error, dev, failed, "writing the partition table");
	g_clear_pointer(&cxt, fdisk_unref_context);
	return wdr_blockdev_flush(dev, error) && read_back(dev, t, true, error);
}

uint64_t wdr_table_usable_end(WdrTableKind kind, uint64_t disk_size, uint32_t sector_size)
{
	if (kind == WDR_TABLE_GPT)
		return disk_size > GPT_END_BYTES ? disk_size - GPT_END_BYTES : 0;
	return MIN(disk_size, MBR_SECTORS_MAX * sector_size);
}
