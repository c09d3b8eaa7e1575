/* The boot sector and the FAT's entries.
 *
 *   0x00B 2 bytes per sector      0x00D 1 sectors per cluster   0x00E 2 reserved sectors
 *   0x010 1 number of FATs        0x011 2 root entries          0x013 2 sectors (16 bit)
 *   0x015 1 media                 0x016 2 sectors per FAT       0x020 4 sectors (32 bit)
 *   FAT32: 0x024 4 sectors per FAT  0x02C 4 root cluster  0x030 2 FSInfo  0x032 2 backup
 *          0x041 1 state  0x043 4 serial  0x047 11 label
 *   FAT12/16: 0x025 1 state  0x027 4 serial  0x02B 11 label
 */
#include "volume/fat/fat_priv.h"

#include "base/cursor.h"
#include "base/text.h"

#include <string.h>

enum {
	BPB_SECTOR_BYTES = 0x00b,
	BPB_SECTORS_16 = 0x013,
	BPB_SECTORS_32 = 0x020,
	FAT32_FAT_SECTORS = 0x024,
	FAT32_ROOT_CLUSTER = 0x02c,
	FAT32_STATE = 0x041,
	FAT16_STATE = 0x025,
	SIGNATURE_AT = 510,
	FAT12_CLUSTERS_END = 4085,
	FAT16_CLUSTERS_END = 65525,
};

/* The fields as they are on the disk, before they are checked. */
typedef struct {
	uint32_t sector_bytes, cluster_sectors, reserved, fats, root_entries, sectors, fat_sectors;
	bool is_32;
} Fields;

static bool is_power_of_two(uint32_t n)
{
	return n != 0 && (n & (n - 1)) == 0;
}

static bool bad(GError **error, const char *what, uint64_t value)
{
	return wdr_error_set(error, WDR_ERROR_FORMAT,
		"the FAT boot sector is damaged: %s %" G_GUINT64_FORMAT, what, value);
}

static void read_fields(const uint8_t *sector, size_t len, Fields *f, WdrFatLayout *l)
{
	WdrCursor c = wdr_cursor(sector, len);

	wdr_cursor_seek(&c, BPB_SECTOR_BYTES);
	f->sector_bytes = wdr_cursor_le16(&c);
	f->cluster_sectors = wdr_cursor_u8(&c);
	f->reserved = wdr_cursor_le16(&c);
	f->fats = wdr_cursor_u8(&c);
	f->root_entries = wdr_cursor_le16(&c);
	f->sectors = wdr_cursor_le16(&c);
	l->media = wdr_cursor_u8(&c);
	f->fat_sectors = wdr_cursor_le16(&c);
	f->is_32 = f->fat_sectors == 0;
	wdr_cursor_seek(&c, BPB_SECTORS_32);
	uint32_t sectors_32 = wdr_cursor_le32(&c);
	f->sectors = f->sectors ? f->sectors : sectors_32;
	if (f->is_32) {
		f->fat_sectors = wdr_cursor_le32(&c);
		wdr_cursor_seek(&c, FAT32_ROOT_CLUSTER);
		l->root_cluster = wdr_cursor_le32(&c);
		l->fsinfo_sector = wdr_cursor_le16(&c);
		l->backup_sector = wdr_cursor_le16(&c);
	}
	wdr_cursor_seek(&c, f->is_32 ? FAT32_STATE : FAT16_STATE);
	l->is_dirty = wdr_cursor_u8(&c) & 1;
	wdr_cursor_skip(&c, 1);
	l->serial = wdr_cursor_le32(&c);
	const uint8_t *label = wdr_cursor_bytes(&c, WDR_FAT_LABEL_BYTES);
	if (label)
		memcpy(l->boot_label, label, WDR_FAT_LABEL_BYTES);
}

static bool check_fields(const uint8_t *sector, const Fields *f, uint64_t size, GError **error)
{
	if (sector[SIGNATURE_AT] != 0x55 || sector[SIGNATURE_AT + 1] != 0xaa)
		return wdr_error_set(error, WDR_ERROR_FORMAT, "there is no FAT boot sector");
	if (!is_power_of_two(f->sector_bytes) || f->sector_bytes < 512 || f->sector_bytes > 4096)
		return bad(error, "sector size", f->sector_bytes);
	if (!is_power_of_two(f->cluster_sectors))
		return bad(error, "sectors per cluster", f->cluster_sectors);
	if (f->reserved == 0)
		return bad(error, "reserved sectors", f->reserved);
	if (f->fats == 0 || f->fats > 4)
		return bad(error, "number of FATs", f->fats);
	if (f->fat_sectors == 0 || f->sectors == 0)
		return bad(error, "sectors", f->sectors);
	if (f->is_32 != (f->root_entries == 0))
		return bad(error, "root entries", f->root_entries);
	if ((uint64_t)f->sectors * f->sector_bytes > size)
		return bad(error, "more sectors than its partition has:", f->sectors);
	return true;
}

bool wdr_fat_layout_parse(
	const uint8_t *sector, size_t len, uint64_t size, WdrFatLayout *ret, GError **error)
{
	WdrFatLayout l = { 0 };
	Fields f = { 0 };

	if (len < 512)
		return wdr_error_set(error, WDR_ERROR_FORMAT, "there is no FAT boot sector");
	read_fields(sector, len, &f, &l);
	if (!check_fields(sector, &f, size, error))
		return false;
	uint64_t root_bytes =
		wdr_round_up((uint64_t)f.root_entries * FAT_DIRENT_BYTES, f.sector_bytes);
	l.sector_bytes = f.sector_bytes;
	l.cluster_bytes = f.sector_bytes * f.cluster_sectors;
	l.size_bytes = (uint64_t)f.sectors * f.sector_bytes;
	l.fat_at = (uint64_t)f.reserved * f.sector_bytes;
	l.fat_bytes = (uint64_t)f.fat_sectors * f.sector_bytes;
	l.fats = f.fats;
	l.root_entries = f.root_entries;
	l.root_at = l.fat_at + l.fat_bytes * f.fats;
	l.data_at = l.root_at + root_bytes;
	if (l.data_at >= l.size_bytes)
		return bad(error, "no room behind FATs of sectors", f.fat_sectors);
	uint64_t clusters = (l.size_bytes - l.data_at) / l.cluster_bytes;
	l.width = f.is_32 ? 32 : clusters < FAT12_CLUSTERS_END ? 12 : 16;
	if (!f.is_32 && clusters >= FAT16_CLUSTERS_END)
		return bad(error, "too many clusters for its kind:", clusters);
	if ((clusters + FAT_FIRST_CLUSTER) * l.width > l.fat_bytes * 8 || clusters >= 0x0ffffff5)
		return bad(error, "its FATs are too small for clusters:", clusters);
	l.clusters = (uint32_t)clusters;
	if (f.is_32 && !wdr_fat_is_cluster(&l, l.root_cluster))
		return bad(error, "root cluster", l.root_cluster);
	if (l.fsinfo_sector >= f.reserved)
		l.fsinfo_sector = 0;
	if (l.backup_sector >= f.reserved)
		l.backup_sector = 0;
	*ret = l;
	return true;
}

uint64_t wdr_fat_cluster_at(const WdrFatLayout *l, uint32_t cluster)
{
	return l->data_at + (uint64_t)(cluster - FAT_FIRST_CLUSTER) * l->cluster_bytes;
}

bool wdr_fat_is_cluster(const WdrFatLayout *l, uint32_t cluster)
{
	return cluster >= FAT_FIRST_CLUSTER && cluster - FAT_FIRST_CLUSTER < l->clusters;
}

bool wdr_fat_is_end(const WdrFatLayout *l, uint32_t value)
{
	return value >= (l->width == 32 ? 0x0ffffff8 : l->width == 16 ? 0xfff8 : 0xff8);
}

uint32_t wdr_fat_get(const WdrFatLayout *l, const uint8_t *fat, uint32_t cluster)
{
	if (l->width == 32)
		return wdr_get_le32(fat + (size_t)cluster * 4) & 0x0fffffff;
	if (l->width == 16)
		return wdr_get_le16(fat + (size_t)cluster * 2);
	unsigned pair = wdr_get_le16(fat + (size_t)cluster + cluster / 2);
	return cluster & 1 ? pair >> 4 : pair & 0xfff;
}

void wdr_fat_set(const WdrFatLayout *l, uint8_t *fat, uint32_t cluster, uint32_t value)
{
	if (l->width == 32) {
		uint8_t *at = fat + (size_t)cluster * 4;
		wdr_put_le32(at, (wdr_get_le32(at) & 0xf0000000) | (value & 0x0fffffff));
	} else if (l->width == 16) {
		wdr_put_le16(fat + (size_t)cluster * 2, (uint16_t)value);
	} else {
		uint8_t *at = fat + (size_t)cluster + cluster / 2;
		unsigned pair = wdr_get_le16(at);
		pair = cluster & 1 ? (pair & 0x00f) | (value & 0xfff) << 4
				   : (pair & 0xf000) | (value & 0xfff);
		wdr_put_le16(at, (uint16_t)pair);
	}
}
