/* Partition tables: sfdisk, which is not ours, reads what we write and writes what we read. */
#include "support.h"

#include "base/text.h"
#include "disk/parttable.h"
#include "disk/probe.h"

#include <string.h>

Suite *suite_parttable(void);

#define DISK_BYTES (256 * WDR_MIB)

static const char mbr_script[] = "label: dos\nlabel-id: 0x4c1fa2b0\n"
				 "1 : start=8192, size=65536, type=c, bootable\n"
				 "3 : start=73728, size=131072, type=83\n";
static const char gpt_script[] =
	"label: gpt\nlabel-id: 0B1C2D3E-4F50-4162-8394-A5B6C7D8E9F0\n"
	"2 : start=8192, size=65536, type=EBD0A0A2-B9E5-4433-87C0-68B6B72699C7, "
	"uuid=11111111-2222-4333-8444-555555555555, name=\"boot\", attrs=\"LegacyBIOSBootable\"\n"
	"5 : start=73728, size=131072, type=0FC63DAF-8483-4772-8E79-3D69D8477DE4, "
	"uuid=AAAAAAAA-BBBB-4CCC-8DDD-EEEEEEEEEEEE, name=\"reed bed\", attrs=\"GUID:60\"\n";

/* Two logical ones, each behind a sector that describes it and says where the next of these is. */
static const char logical_script[] = "label: dos\nlabel-id: 0x4c1fa2b0\n"
				     "1 : start=8192, size=65536, type=c, bootable\n"
				     "2 : start=73728, size=262144, type=f\n"
				     "4 : start=335872, size=8192, type=83\n"
				     "5 : start=75776, size=65536, type=83\n"
				     "6 : start=143360, size=65536, type=82\n";
#define HEAD_OF_5 (UINT64_C(73728) * 512)
#define HEAD_OF_6 (UINT64_C(141312) * 512)

static void sfdisk(const char *script)
{
	g_autofree char *command = g_strdup_printf("sfdisk -q %s", sup_path("disk"));
	const char *argv[] = { "sh", "-c", command, NULL };

	sup_make_image(sup_path("disk"), DISK_BYTES);
	SupRun run = sup_run(script, argv);
	ck_assert_msg(run.code == 0, "%s", run.err);
}

static WdrPartTable *read_table(void)
{
	g_autoptr(WdrBlockDev) dev = NULL;
	WdrPartTable *table = NULL;

	sup_ok(wdr_blockdev_open(sup_path("disk"), WDR_OPEN_READ, &dev, &error));
	sup_ok(wdr_parttable_read(dev, &table, &error));
	return table;
}

START_TEST(reads_mbr)
{
	sfdisk(mbr_script);
	g_autoptr(WdrPartTable) t = read_table();

	ck_assert_int_eq(t->kind, WDR_TABLE_MBR);
	ck_assert_str_eq(t->id, "4c1fa2b0");
	ck_assert_uint_eq(t->partitions->len, 2);
	const WdrPartition *boot = wdr_parttable_find(t, 1);
	const WdrPartition *root = wdr_parttable_find(t, 3);
	ck_assert_ptr_null(wdr_parttable_find(t, 2));
	ck_assert_uint_eq(boot->start, 4 * WDR_MIB);
	ck_assert_uint_eq(boot->size, 32 * WDR_MIB);
	ck_assert_str_eq(boot->type, "0c");
	ck_assert(boot->is_active && !root->is_active);
	ck_assert_str_eq(root->partuuid, "4c1fa2b0-03");
}
END_TEST

START_TEST(reads_gpt)
{
	sfdisk(gpt_script);
	g_autoptr(WdrPartTable) t = read_table();

	ck_assert_int_eq(t->kind, WDR_TABLE_GPT);
	ck_assert_str_eq(t->id, "0b1c2d3e-4f50-4162-8394-a5b6c7d8e9f0");
	const WdrPartition *boot = wdr_parttable_find(t, 2);
	const WdrPartition *root = wdr_parttable_find(t, 5);
	ck_assert(boot->is_active && !root->is_active);
	ck_assert_ptr_null(boot->attributes);
	ck_assert_str_eq(root->attributes, "GUID:60");
	ck_assert_str_eq(root->name, "reed bed");
	ck_assert_str_eq(root->partuuid, "aaaaaaaa-bbbb-4ccc-8ddd-eeeeeeeeeeee");
	ck_assert_str_eq(root->type, "0fc63daf-8483-4772-8e79-3d69d8477de4");
}
END_TEST

/* The dump of a table that we wrote is the dump of the table that we read. */
static void round_trip(const char *script)
{
	sfdisk(script);
	g_autofree char *before = g_strdup(SUP_TOOL("sfdisk", "-d", sup_path("disk")));
	g_autoptr(WdrPartTable) t = read_table();
	g_autoptr(WdrBlockDev) dev = NULL;

	sup_make_image(sup_path("disk"), DISK_BYTES);
	sup_ok(wdr_blockdev_open(sup_path("disk"), WDR_OPEN_WRITE, &dev, &error));
	sup_ok(wdr_parttable_write(dev, t, false, &error));
	ck_assert_ptr_null(strstr(SUP_TOOL("sfdisk", "-d", sup_path("disk")), "ootable"));
	sup_ok(wdr_parttable_write(dev, t, true, &error));
	ck_assert_str_eq(SUP_TOOL("sfdisk", "-d", sup_path("disk")), before);
	SUP_TOOL("sfdisk", "--verify", sup_path("disk"));
}

START_TEST(writes_mbr_as_sfdisk_does)
{
	round_trip(mbr_script);
}
END_TEST

START_TEST(writes_logical_partitions_as_sfdisk_does)
{
	round_trip(logical_script);
}
END_TEST

START_TEST(writes_gpt_as_sfdisk_does)
{
	round_trip(gpt_script);
}
END_TEST

START_TEST(gpt_for_large_sectors)
{
	sfdisk(gpt_script);
	g_autoptr(WdrPartTable) t = read_table();
	g_autoptr(WdrBlockDev) dev = NULL;
	g_autoptr(WdrPartTable) again = NULL;

	sup_make_image(sup_path("disk"), DISK_BYTES);
	sup_ok(wdr_blockdev_open(sup_path("disk"), WDR_OPEN_WRITE, &dev, &error));
	wdr_blockdev_set_sector_size(dev, 4096);
	sup_ok(wdr_parttable_write(dev, t, true, &error));
	g_clear_pointer(&dev, wdr_blockdev_free);
	ck_assert_ptr_nonnull(strstr(
		SUP_TOOL("fdisk", "-b", "4096", "-o", "device,start,name", "-l", sup_path("disk")),
		"disk5  9216 reed bed"));
	/* Found out from the table alone when the image is opened again. */
	sup_ok(wdr_blockdev_open(sup_path("disk"), WDR_OPEN_READ, &dev, &error));
	sup_ok(wdr_parttable_read(dev, &again, &error));
	ck_assert_uint_eq(wdr_blockdev_sector_size(dev), 4096);
	ck_assert_uint_eq(wdr_parttable_find(again, 5)->start, 36 * WDR_MIB);
}
END_TEST

START_TEST(no_table_is_no_error)
{
	sup_make_image(sup_path("disk"), DISK_BYTES);
	g_autoptr(WdrPartTable) t = read_table();

	ck_assert_int_eq(t->kind, WDR_TABLE_NONE);
	ck_assert_uint_eq(t->partitions->len, 0);
}
END_TEST

static void check_fails(const char *text)
{
	g_autoptr(WdrPartTable) t = read_table();
	g_autoptr(WdrBlockDev) dev = NULL;

	sup_ok(wdr_blockdev_open(sup_path("disk"), WDR_OPEN_READ, &dev, &error));
	sup_fails(WDR_ERROR_FORMAT, text, wdr_parttable_check(t, dev, &error));
}

START_TEST(overlapping_partitions)
{
	const uint8_t start[4] = { 0x00, 0x30, 0x00, 0x00 }; /* 12288: inside the first */

	sfdisk(mbr_script);
	sup_poke(sup_path("disk"), 446 + 2 * 16 + 8, start, sizeof(start));
	check_fails("partitions 1 and 3 overlap");
}
END_TEST

/* Offsets within a describing sector: start and size of the partition (from there), and of the next
 * such sector (from the first). */
static const struct {
	uint64_t at;
	uint8_t le32[4];
	const char *want;
} heads[] = {
	{ HEAD_OF_5 + 446 + 12, { 0, 0, 2, 0 }, "partitions 5 and 6 overlap" },
	{ HEAD_OF_6 + 446 + 12, { 0, 0, 4, 0 }, "does not lie within the extended one" },
	{ HEAD_OF_6 + 446 + 8, { 0, 0, 3, 0 }, "does not lie within the extended one" },
};

START_TEST(logical_partitions_out_of_place)
{
	sfdisk(logical_script);
	sup_poke(sup_path("disk"), heads[_i].at, heads[_i].le32, 4);
	check_fails(heads[_i].want);
}
END_TEST

/* Flips every byte of what describes the logical partitions, so that the chain leads into nothing,
 * and back to itself; reading ends. */
START_TEST(every_byte_of_a_chain_flipped)
{
	const uint64_t at = (_i == 0 ? HEAD_OF_5 : HEAD_OF_6) + 446;
	const uint8_t itself[16] = { [4] = 0x05, [12] = 0xff, [13] = 0xff };
	uint8_t entries[66];
	unsigned refused = 0;

	sfdisk(logical_script);
	sup_peek(sup_path("disk"), at, entries, sizeof(entries));
	for (size_t i = 0; i <= sizeof(entries); i++) {
		uint8_t changed[sizeof(entries)];
		g_autoptr(WdrBlockDev) dev = NULL;
		g_autoptr(WdrPartTable) t = NULL;
		memcpy(changed, entries, sizeof(entries));
		if (i < sizeof(entries))
			changed[i] = (uint8_t)~changed[i];
		else
			memcpy(changed + 16, itself, sizeof(itself));
		sup_poke(sup_path("disk"), at, changed, sizeof(changed));
		sup_ok(wdr_blockdev_open(sup_path("disk"), WDR_OPEN_READ, &dev, &error));
		sup_either(refused, wdr_parttable_read(dev, &t, &error));
		if (t)
			sup_either(refused, wdr_parttable_check(t, dev, &error));
	}
	sup_poke(sup_path("disk"), at, entries, sizeof(entries));
	ck_assert_uint_gt(refused, 0);
	g_autoptr(WdrPartTable) t = read_table();
	ck_assert_uint_eq(t->partitions->len, 5);
}
END_TEST

START_TEST(partition_past_the_end)
{
	const uint8_t size[4] = { 0, 0, 0, 0x7f };

	sfdisk(mbr_script);
	sup_poke(sup_path("disk"), 446 + 2 * 16 + 12, size, sizeof(size));
	check_fails("partition 3 ends past the end");
}
END_TEST

START_TEST(damaged_primary_gpt)
{
	sfdisk(gpt_script);
	sup_poke(sup_path("disk"), 512 + 40, "damage", 6);
	check_fails("primary GPT is damaged");
}
END_TEST

START_TEST(both_gpts_damaged)
{
	sfdisk(gpt_script);
	sup_poke(sup_path("disk"), 512, "damage", 6);
	sup_poke(sup_path("disk"), DISK_BYTES - 512, "damage", 6);
	check_fails("the GPT is damaged and so is its backup");
}
END_TEST

START_TEST(every_byte_of_an_mbr_flipped)
{
	uint8_t sector[512];
	unsigned refused = 0;

	sfdisk(mbr_script);
	sup_peek(sup_path("disk"), 0, sector, sizeof(sector));
	for (size_t at = 440; at < 512; at++) {
		uint8_t flipped = (uint8_t)~sector[at];
		g_autoptr(WdrBlockDev) dev = NULL;
		g_autoptr(WdrPartTable) t = NULL;
		sup_poke(sup_path("disk"), at, &flipped, 1);
		sup_ok(wdr_blockdev_open(sup_path("disk"), WDR_OPEN_READ, &dev, &error));
		sup_either(refused, wdr_parttable_read(dev, &t, &error));
		if (t)
			sup_either(refused, wdr_parttable_check(t, dev, &error));
		sup_poke(sup_path("disk"), at, &sector[at], 1);
	}
	ck_assert_uint_gt(refused, 0);
	g_autoptr(WdrPartTable) t = read_table();
	ck_assert_uint_eq(t->partitions->len, 2);
}
END_TEST

/* New identifiers: all else stays, loader code in the first sector too. */
static const char *const labels[] = {
	"label: dos\nstart=8192, size=16384, type=c, bootable\nstart=24576, type=83\n",
	"label: gpt\nstart=8192, size=16384, name=boot, attrs=LegacyBIOSBootable\nstart=24576, size=4096, name=\"reed bed\"\n"
};

START_TEST(identifiers_can_be_renewed)
{
	g_autoptr(WdrBlockDev) dev = NULL;
	g_autoptr(WdrPartTable) t = NULL;
	uint8_t code[16] = "loader code";
	uint8_t got[16];

	sup_make_image(sup_path("disk"), 64 * WDR_MIB);
	sup_run(labels[_i], (const char *const[]){ "sfdisk", "-q", sup_path("disk"), NULL });
	sup_poke(sup_path("disk"), 16, code, sizeof(code));
	g_autofree char *before = g_strdup(SUP_TOOL("sfdisk", "-d", sup_path("disk")));
	sup_ok(wdr_blockdev_open(sup_path("disk"), WDR_OPEN_WRITE, &dev, &error));
	sup_ok(wdr_parttable_read(dev, &t, &error));
	g_free(t->id);
	t->id = g_strdup(_i == 0 ? "9d8e7f60" : "9d8e7f60-1111-4222-8333-444455556666");
	for (guint i = 0; i < t->partitions->len; i++) {
		WdrPartition *p = t->partitions->pdata[i];
		g_free(p->partuuid);
		p->partuuid = _i == 0 ? wdr_partuuid_mbr(t->id, p->number)
				      : g_strdup_printf("9d8e7f60-1111-4222-8333-44445555777%u", i);
	}
	sup_ok(wdr_parttable_rename(dev, t, &error));
	g_clear_pointer(&dev, wdr_blockdev_free);
	sup_peek(sup_path("disk"), 16, got, sizeof(got));
	ck_assert_mem_eq(got, code, sizeof(code));
	SUP_TOOL("sfdisk", "--verify", sup_path("disk"));
	const char *after = SUP_TOOL("sfdisk", "-d", sup_path("disk"));
	ck_assert_ptr_nonnull(strcasestr(after, _i == 0 ? "0x9d8e7f60" : t->id));
	/* Without the identifiers both dumps are the same. */
	g_autoptr(GRegex) ids = g_regex_new("label-id:.*|uuid=[0-9A-F-]*", 0, 0, NULL);
	g_autofree char *was = g_regex_replace(ids, before, -1, 0, "", 0, NULL);
	g_autofree char *is = g_regex_replace(ids, after, -1, 0, "", 0, NULL);
	ck_assert_str_eq(was, is);
}
END_TEST

START_TEST(usable_end)
{
	ck_assert_uint_eq(wdr_table_usable_end(WDR_TABLE_GPT, 64 * WDR_MIB, 512), 63 * WDR_MIB);
	ck_assert_uint_eq(wdr_table_usable_end(WDR_TABLE_MBR, 64 * WDR_MIB, 512), 64 * WDR_MIB);
	ck_assert_uint_eq(wdr_table_usable_end(WDR_TABLE_MBR, UINT64_C(4) << 40, 512),
		UINT64_C(0xffffffff) * 512);
	ck_assert_uint_eq(wdr_table_usable_end(WDR_TABLE_GPT, 1000, 512), 0);
}
END_TEST

START_TEST(probes_what_mkfs_made)
{
	g_autoptr(WdrBlockDev) dev = NULL;
	g_auto(WdrProbe) fat = { 0 };
	g_auto(WdrProbe) ext = { 0 };
	g_auto(WdrProbe) none = { 0 };

	sup_make_image(sup_path("disk"), 64 * WDR_MIB);
	SUP_TOOL("mkfs.vfat", "-F", "16", "-i", "f3a177c2", "-n", "BOOTFS", sup_path("disk"),
		"16384");
	SUP_TOOL("mkfs.ext4", "-q", "-F", "-L", "rootfs", "-E", "offset=33554432", sup_path("disk"),
		"16m");
	sup_ok(wdr_blockdev_open(sup_path("disk"), WDR_OPEN_READ, &dev, &error));
	sup_ok(wdr_probe_read(dev, 0, 16 * WDR_MIB, &fat, &error));
	ck_assert_str_eq(fat.type, "vfat");
	ck_assert_str_eq(fat.uuid, "F3A1-77C2");
	ck_assert_str_eq(fat.label, "BOOTFS");
	sup_ok(wdr_probe_read(dev, 32 * WDR_MIB, 16 * WDR_MIB, &ext, &error));
	ck_assert_str_eq(ext.type, "ext4");
	ck_assert_str_eq(ext.label, "rootfs");
	sup_ok(wdr_probe_read(dev, 20 * WDR_MIB, 4 * WDR_MIB, &none, &error));
	ck_assert_ptr_null(none.type);
	ck_assert(!wdr_probe_is_unfinished(dev, 0));
}
END_TEST

Suite *suite_parttable(void)
{
	Suite *s = suite_create("disk/parttable");
	TCase *t = tcase_create("parttable");

	tcase_add_checked_fixture(t, sup_setup, sup_teardown);
	tcase_add_test(t, reads_mbr);
	tcase_add_test(t, reads_gpt);
	tcase_add_test(t, writes_mbr_as_sfdisk_does);
	tcase_add_test(t, writes_gpt_as_sfdisk_does);
	tcase_add_test(t, gpt_for_large_sectors);
	tcase_add_test(t, no_table_is_no_error);
	tcase_add_test(t, overlapping_partitions);
	tcase_add_loop_test(t, logical_partitions_out_of_place, 0, G_N_ELEMENTS(heads));
	tcase_add_loop_test(t, every_byte_of_a_chain_flipped, 0, 2);
	tcase_add_test(t, writes_logical_partitions_as_sfdisk_does);
	tcase_add_test(t, partition_past_the_end);
	tcase_add_test(t, damaged_primary_gpt);
	tcase_add_test(t, both_gpts_damaged);
	tcase_add_test(t, every_byte_of_an_mbr_flipped);
	tcase_add_loop_test(t, identifiers_can_be_renewed, 0, (int)G_N_ELEMENTS(labels));
	tcase_add_test(t, usable_end);
	tcase_add_test(t, probes_what_mkfs_made);
	suite_add_tcase(s, t);
	return s;
}
