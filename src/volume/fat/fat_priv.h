/* What the parts of the FAT back end share. */
#pragma once

#include "volume/fat/fat.h"

enum {
	FAT_DIRENT_BYTES = 32,
	FAT_SHORT_BYTES = 11,
	FAT_LONG_UNITS = 13, /* UTF-16 units in one long entry */
	FAT_NAME_UNITS_MAX = 255,
	FAT_FOLDER_BYTES_MAX = 65536 * FAT_DIRENT_BYTES,
	FAT_FIRST_CLUSTER = 2,

	FAT_DELETED = 0xe5, /* first byte of an entry that is free again */

	FAT_ATTR_READ_ONLY = 0x01,
	FAT_ATTR_LABEL = 0x08,
	FAT_ATTR_FOLDER = 0x10,
	FAT_ATTR_ARCHIVE = 0x20,
	FAT_ATTR_LONG = 0x0f,
	FAT_ATTR_KEPT = 0x27, /* read-only, hidden, system, archive */

	FAT_CASE_BASE = 0x08,
	FAT_CASE_EXTENSION = 0x10,
};

/* Where the units of a name are in a long entry. */
extern const uint8_t wdr_fat_long_at[FAT_LONG_UNITS];

/* Where things lie; offsets are bytes from the volume's start. All checked against the volume. */
typedef struct {
	unsigned width;
	uint32_t sector_bytes, cluster_bytes;
	uint64_t size_bytes;
	uint64_t fat_at, fat_bytes; /* the first FAT, and the length of each */
	unsigned fats;
	uint64_t root_at; /* FAT12/16: the fixed root folder */
	uint32_t root_entries;
	uint32_t root_cluster; /* FAT32 */
	uint64_t data_at;
	uint32_t clusters;      /* numbered from 2 */
	uint32_t fsinfo_sector; /* 0: none */
	uint32_t backup_sector; /* 0: none */
	uint32_t serial;
	char boot_label[WDR_FAT_LABEL_BYTES + 1];
	uint8_t media;
	bool is_dirty; /* bit 0 of the boot sector's state byte */
} WdrFatLayout;

/* Decodes and checks a boot sector (at least 512 bytes) of a volume in `size` bytes. */
bool wdr_fat_layout_parse(const uint8_t *sector, size_t len, uint64_t size, WdrFatLayout *ret,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
uint64_t wdr_fat_cluster_at(const WdrFatLayout *l, uint32_t cluster);
bool wdr_fat_is_cluster(const WdrFatLayout *l, uint32_t cluster);
bool wdr_fat_is_end(const WdrFatLayout *l, uint32_t value);
/* The value of an entry in a FAT image, and setting it (which keeps FAT32's upper four bits). */
uint32_t wdr_fat_get(const WdrFatLayout *l, const uint8_t *fat, uint32_t cluster);
void wdr_fat_set(const WdrFatLayout *l, uint8_t *fat, uint32_t cluster, uint32_t value);

/* ---- the opened volume (fat.c) ---- */

typedef struct {
	WdrVolume volume;
	WdrBlockDev *dev;
	uint64_t offset;
	WdrFatLayout layout;
	GHashTable *pages; /* of the first FAT, read as they are needed */
	/* One of them; NULL: none. As with the table, callers take turns. */
	const uint8_t *last_page;
	uint64_t last_number;
} WdrFat;

/* The chain's next cluster. FORMAT when the value is neither a cluster nor an end. */
bool wdr_fat_next(WdrFat *f, uint32_t cluster, uint32_t *ret, bool *is_end,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* A folder's bytes; cluster 0 is the root. Fails when it is larger than a folder can be. *ret_at,
 * if not NULL, gets a GArray of uint64_t: the offset of each FAT_DIRENT_BYTES. */
bool wdr_fat_read_folder(WdrFat *f, uint32_t cluster, GByteArray **ret, GArray **ret_at,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* One entry of a folder, decoded. */
typedef struct {
	char *name; /* UTF-8 */
	uint8_t attributes;
	uint8_t fat_name[WDR_FAT_NAME_BYTES];
	uint32_t cluster;
	uint32_t size;
	size_t index; /* of its short entry in the folder */
} WdrFatFound;
typedef bool (*WdrFatEach)(void *data, const WdrFatFound *found, GError **error);
/* Every file and folder but "." and "..". */
bool wdr_fat_each(const GByteArray *folder, WdrFatEach each, void *data,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* ---- names and times (fat_name.c) ---- */

uint8_t wdr_fat_name_sum(const uint8_t short_name[FAT_SHORT_BYTES]);
/* The name that a short name alone shows; NULL: not a name. */
char *wdr_fat_short_to_text(const uint8_t fat_name[WDR_FAT_NAME_BYTES]);
/* The short name for a name of capital letters that needs no long one; false: it needs one. */
bool wdr_fat_text_to_short(const char *name, uint8_t ret[WDR_FAT_NAME_BYTES]);
/* A short name for a long one, its capitals or with ~N, not among `taken` (a set of 11-byte keys,
 * see wdr_fat_taken_new()); it is added there. */
bool wdr_fat_make_short(GHashTable *taken, GHashTable *last_number, const char *name,
	uint8_t ret[WDR_FAT_NAME_BYTES], GError **error) G_GNUC_WARN_UNUSED_RESULT;
GHashTable *wdr_fat_taken_new(void);
bool wdr_fat_taken_add(
	GHashTable *taken, const uint8_t name[FAT_SHORT_BYTES]); /* false: was there */

/* A long name as UTF-16, checked for what FAT forbids. */
bool wdr_fat_text_to_units(const char *name, uint16_t **ret, size_t *ret_len,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;

int64_t wdr_fat_decode_time(uint16_t date, uint16_t time); /* 0: none */
void wdr_fat_encode_time(int64_t seconds, uint16_t *date, uint16_t *time);

/* ---- mkfs (fat_spec.c) ---- */

bool wdr_fat_make_empty(const WdrWorld *world, const WdrFatSpec *spec, uint64_t size,
	const char *path, GError **error) G_GNUC_WARN_UNUSED_RESULT;
