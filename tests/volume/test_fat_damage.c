/* Damaged FAT volumes: a clear error, never a crash or a hang. */
#include "support.h"

#include "base/cursor.h"
#include "base/text.h"
#include "copy/volume_copy.h"
#include "volume/fat/fat_priv.h"

#include <string.h>

Suite *suite_fat_damage(void);

#define SIZE (16 * WDR_MIB)

static WdrFatLayout layout;

/* A FAT16 volume of 2 KiB clusters with a folder and two files of three clusters. */
static void make(void)
{
	WdrMemoryVolume *m = wdr_memory_volume_new("m");
	g_autoptr(WdrVolume) from = wdr_memory_volume_as_volume(m);
	WdrEntry file = sup_entry(WDR_KIND_FILE, 0644);
	WdrEntry folder = sup_entry(WDR_KIND_FOLDER, 0755);
	WdrFatSpec spec = {
		.width = 16, .sector_bytes = 512, .cluster_bytes = 2048, .serial = 1, .fats = 2
	};
	uint8_t sector[512];

	wdr_memory_volume_add(m, "FOLDER", &folder);
	wdr_memory_volume_generate(
		m, wdr_memory_volume_add(m, "FOLDER/INNER.TXT", &file), 0, 6000, 1);
	wdr_memory_volume_generate(m, wdr_memory_volume_add(m, "OUTER.TXT", &file), 0, 6000, 2);
	wdr_memory_volume_generate(
		m, wdr_memory_volume_add(m, "a long name.text", &file), 0, 100, 3);
	sup_make_image(sup_path("disk"), SIZE);
	sup_build_fat(from, sup_path("disk"), 0, SIZE, &spec);
	sup_peek(sup_path("disk"), 0, sector, sizeof(sector));
	sup_ok(wdr_fat_layout_parse(sector, sizeof(sector), SIZE, &layout, &error));
}

/* Sets an entry in both FATs. */
static void set_fat(uint32_t cluster, uint16_t value)
{
	uint8_t bytes[2];

	wdr_put_le16(bytes, value);
	for (unsigned copy = 0; copy < 2; copy++)
		sup_poke(sup_path("disk"), layout.fat_at + copy * layout.fat_bytes + cluster * 2,
			bytes, 2);
}

/* Where the root's entry with this short name is. */
static uint64_t root_entry(const char *name)
{
	uint8_t d[FAT_DIRENT_BYTES];

	for (uint64_t at = layout.root_at;; at += FAT_DIRENT_BYTES) {
		sup_peek(sup_path("disk"), at, d, sizeof(d));
		ck_assert_uint_ne(d[0], 0);
		if (memcmp(d, name, strlen(name)) == 0)
			return at;
	}
}

static uint32_t first_cluster(const char *name)
{
	uint8_t bytes[2];

	sup_peek(sup_path("disk"), root_entry(name) + 26, bytes, 2);
	return wdr_get_le16(bytes);
}

static void check_fails(const char *text)
{
	g_autoptr(WdrBlockDev) dev = NULL;
	g_autoptr(WdrVolume) v = NULL;
	WdrFatMeasure measure;
	unsigned refused = 0;

	sup_ok(wdr_blockdev_open(sup_path("disk"), WDR_OPEN_READ, &dev, &error));
	sup_ok(wdr_fat_volume_open(dev, 0, SIZE, &v, &error));
	sup_fails(WDR_ERROR_FORMAT, text, wdr_fat_volume_check(v, &measure, &error));
	/* Copying it meets the same damage sooner or later, or is unharmed; it must end. */
	WdrCopy copy = { .source = v };
	sup_either(refused, wdr_copy_volume(sup_world(), &copy, NULL, &error));
}

START_TEST(sound_volume_passes)
{
	g_autoptr(WdrBlockDev) dev = NULL;
	g_autoptr(WdrVolume) v = NULL;
	WdrFatMeasure measure;

	make();
	sup_ok(wdr_blockdev_open(sup_path("disk"), WDR_OPEN_READ, &dev, &error));
	sup_ok(wdr_fat_volume_open(dev, 0, SIZE, &v, &error));
	sup_ok(wdr_fat_volume_check(v, &measure, &error));
	ck_assert_uint_eq(measure.entries, 4);
}
END_TEST

START_TEST(chain_in_a_circle)
{
	make();
	uint32_t c = first_cluster("OUTER   TXT");
	set_fat(c + 1, (uint16_t)c);
	check_fails("/OUTER.TXT uses cluster");
}
END_TEST

START_TEST(folder_in_a_circle)
{
	make();
	uint32_t c = first_cluster("FOLDER  ");
	set_fat(c, (uint16_t)c);
	check_fails("FOLDER");
}
END_TEST

START_TEST(shared_clusters)
{
	uint8_t bytes[2];

	make();
	wdr_put_le16(bytes, (uint16_t)first_cluster("OUTER   TXT"));
	sup_poke(sup_path("disk"), root_entry("FOLDER  ") + 26, bytes, 2);
	check_fails("");
}
END_TEST

START_TEST(chain_too_short)
{
	make();
	set_fat(first_cluster("OUTER   TXT"), 0xffff);
	check_fails("its chain has 1 clusters");
}
END_TEST

START_TEST(chain_into_nothing)
{
	make();
	set_fat(first_cluster("OUTER   TXT"), 0);
	check_fails("the chain breaks off");
	make();
	set_fat(first_cluster("OUTER   TXT"), 0xfff0);
	check_fails("the chain breaks off");
}
END_TEST

START_TEST(names_that_cannot_be)
{
	make();
	sup_poke(sup_path("disk"), root_entry("OUTER   TXT"), "OU/ER", 5);
	check_fails("a name that cannot be a name");
}
END_TEST

START_TEST(fats_that_differ)
{
	make();
	sup_poke(sup_path("disk"), layout.fat_at + layout.fat_bytes + 100, "\x11\x22", 2);
	check_fails("its FATs differ");
}
END_TEST

START_TEST(orphaned_long_name_gives_way_to_the_short)
{
	g_autoptr(WdrBlockDev) dev = NULL;
	g_autoptr(WdrVolume) v = NULL;
	g_auto(WdrEntry) entry = { 0 };
	bool found = false;

	make();
	/* The checksum in the long entry before the short one no longer fits. */
	sup_poke(sup_path("disk"), root_entry("ALONGN~1TEX") - FAT_DIRENT_BYTES + 13, "\x5a", 1);
	sup_ok(wdr_blockdev_open(sup_path("disk"), WDR_OPEN_READ, &dev, &error));
	sup_ok(wdr_fat_volume_open(dev, 0, SIZE, &v, &error));
	sup_ok(wdr_volume_lookup(v, "ALONGN~1.TEX", &found, NULL, &entry, &error));
	ck_assert(found);
}
END_TEST

static const struct {
	size_t at;
	const char *bytes;
	size_t len;
	const char *text;
} boot_damage[] = { { 0x0b, "\0\0", 2, "sector size" }, { 0x0b, "\x03\x02", 2, "sector size" },
	{ 0x0d, "\x03", 1, "sectors per cluster" }, { 0x0d, "\0", 1, "sectors per cluster" },
	{ 0x0e, "\0\0", 2, "reserved sectors" }, { 0x10, "\0", 1, "number of FATs" },
	{ 0x10, "\x09", 1, "number of FATs" }, { 0x11, "\0\0", 2, "root entries" },
	{ 0x13, "\xff\xff", 2, "more sectors than" }, { 0x16, "\xff\xff", 2, "no room behind" },
	{ 0x16, "\x01\x00", 2, "too small for clusters" },
	{ 510, "\0\0", 2, "no FAT boot sector" } };

START_TEST(boot_sector_damage)
{
	uint8_t sector[512];
	WdrFatLayout got;

	make();
	sup_peek(sup_path("disk"), 0, sector, sizeof(sector));
	memcpy(sector + boot_damage[_i].at, boot_damage[_i].bytes, boot_damage[_i].len);
	sup_fails(WDR_ERROR_FORMAT, boot_damage[_i].text,
		wdr_fat_layout_parse(sector, sizeof(sector), SIZE, &got, &error));
	sup_fails(WDR_ERROR_FORMAT, "no FAT boot sector",
		wdr_fat_layout_parse(sector, 100, SIZE, &got, &error));
}
END_TEST

/* Every byte of the boot sector, of the first FAT's start and of the root folder, flipped. */
START_TEST(flipped_bytes)
{
	make();
	const struct {
		uint64_t at, len;
	} spans[] = { { 0, 64 }, { layout.fat_at, 64 }, { layout.root_at, 200 } };
	unsigned refused = 0;

	for (uint64_t k = 0; k < spans[_i].len; k++) {
		g_autoptr(WdrBlockDev) dev = NULL;
		g_autoptr(WdrVolume) v = NULL;
		WdrFatMeasure measure;
		uint8_t byte = 0;
		sup_peek(sup_path("disk"), spans[_i].at + k, &byte, 1);
		uint8_t flipped = (uint8_t)~byte;
		sup_poke(sup_path("disk"), spans[_i].at + k, &flipped, 1);
		sup_ok(wdr_blockdev_open(sup_path("disk"), WDR_OPEN_READ, &dev, &error));
		sup_either(refused, wdr_fat_volume_open(dev, 0, SIZE, &v, &error));
		if (v) {
			WdrCopy copy = { .source = v };
			sup_either(refused, wdr_fat_volume_check(v, &measure, &error));
			sup_either(refused, wdr_copy_volume(sup_world(), &copy, NULL, &error));
		}
		sup_poke(sup_path("disk"), spans[_i].at + k, &byte, 1);
	}
	ck_assert_uint_gt(refused, 0);
}
END_TEST

Suite *suite_fat_damage(void)
{
	Suite *s = suite_create("volume/fat_damage");
	TCase *t = tcase_create("damage");

	tcase_add_checked_fixture(t, sup_setup, sup_teardown);
	tcase_add_test(t, sound_volume_passes);
	tcase_add_test(t, chain_in_a_circle);
	tcase_add_test(t, folder_in_a_circle);
	tcase_add_test(t, shared_clusters);
	tcase_add_test(t, chain_too_short);
	tcase_add_test(t, chain_into_nothing);
	tcase_add_test(t, names_that_cannot_be);
	tcase_add_test(t, fats_that_differ);
	tcase_add_test(t, orphaned_long_name_gives_way_to_the_short);
	tcase_add_loop_test(t, boot_sector_damage, 0, (int)G_N_ELEMENTS(boot_damage));
	tcase_add_loop_test(t, flipped_bytes, 0, 3);
	suite_add_tcase(s, t);
	return s;
}
