/* Partition tables (MBR and GPT) as found on a disk and as to be written, through libfdisk. Offsets
 * and sizes are bytes. Objects and their strings belong to the caller. */
#pragma once

#include "disk/blockdev.h"

typedef enum {
	WDR_TABLE_NONE,
	WDR_TABLE_MBR,
	WDR_TABLE_GPT,
} WdrTableKind;

typedef struct {
	unsigned number; /* from 1 */
	uint64_t start, size;
	char *type;       /* MBR: two hex digits; GPT: GUID, lower case */
	char *type_name;  /* in words */
	char *partuuid;   /* as written in PARTUUID=, lower case */
	char *name;       /* GPT: PARTLABEL; NULL: none */
	char *attributes; /* GPT: libfdisk's words for them, less the boot mark; NULL: none */
	bool is_active;   /* MBR: active flag; GPT: legacy BIOS bootable */
	bool is_extended, is_logical; /* MBR */
} WdrPartition;

typedef struct {
	WdrTableKind kind;
	char *id; /* MBR: disk signature, eight hex digits; GPT: disk GUID, lower case */
	GPtrArray *partitions; /* WdrPartition, by start */
	char *damage; /* what libfdisk found wrong though it could read it; NULL: nothing */
} WdrPartTable;

WdrPartTable *wdr_parttable_new(WdrTableKind kind);
WdrPartition *wdr_partition_new(void);
void wdr_parttable_free(WdrPartTable *t);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(WdrPartTable, wdr_parttable_free)
WdrPartition *wdr_parttable_add(WdrPartTable *t); /* borrowed */
/* NULL: there is no such number. */
const WdrPartition *wdr_parttable_find(const WdrPartTable *t, unsigned number);
/* The one that has this PARTUUID, in whatever capitals; NULL: none, or partuuid is NULL. */
const WdrPartition *wdr_parttable_named(const WdrPartTable *t, const char *partuuid);
const char *wdr_table_kind_name(WdrTableKind kind); /* "none", "MBR", "GPT" */
/* What PARTUUID= names the partition by: from the table's id on MBR. The caller's. */
char *wdr_partuuid_mbr(const char *id, unsigned number);

/* A disk without a table gives kind NONE, not an error. A GPT image that was made for 4096-byte
 * sectors sets the device's sector size to that. */
bool wdr_parttable_read(
	WdrBlockDev *dev, WdrPartTable **ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* FORMAT: damaged, overlapping partitions, partitions past the end or before the table's own. */
bool wdr_parttable_check(
	const WdrPartTable *t, const WdrBlockDev *dev, GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* Writes a new table in place of whatever is there, flushes, reads it back and compares. is_active
 * is left out of all partitions unless with_marks. */
bool wdr_parttable_write(WdrBlockDev *dev, const WdrPartTable *t, bool with_marks,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* Gives a table and its partitions other identifiers and leaves all else as it is, loader code in
 * the first sector included: those of `t`, which has the same partitions. Flushes, reads back,
 * compares. */
bool wdr_parttable_rename(
	WdrBlockDev *dev, const WdrPartTable *t, GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* Where partitions may lie in a new table of this kind. */
uint64_t wdr_table_usable_end(WdrTableKind kind, uint64_t disk_size, uint32_t sector_size);
