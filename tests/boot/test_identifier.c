#include "support.h"

#include "boot/formats/identifier.h"

#include <string.h>

Suite *suite_identifier(void);

static const struct {
	const char *text;
	WdrIdentifierKind kind;
	const char *value;
	bool is_link;
	const char *printed; /* NULL: as it was */
} good[] = {
	{ "UUID=6d1c7a52-0b7e", WDR_BY_UUID, "6d1c7a52-0b7e", false, NULL },
	{ "UUID=\"F3A1-77C2\"", WDR_BY_UUID, "F3A1-77C2", false, "UUID=F3A1-77C2" },
	{ "LABEL=rootfs", WDR_BY_LABEL, "rootfs", false, NULL },
	{ "LABEL='reed bed'", WDR_BY_LABEL, "reed bed", false, "LABEL=reed bed" },
	{ "PARTUUID=4c1fa2b0-02", WDR_BY_PARTUUID, "4c1fa2b0-02", false, NULL },
	{ "PARTLABEL=boot", WDR_BY_PARTLABEL, "boot", false, NULL },
	{ "/dev/disk/by-uuid/F3A1-77C2", WDR_BY_UUID, "F3A1-77C2", true, NULL },
	{ "/dev/disk/by-label/reed\\x20bed", WDR_BY_LABEL, "reed bed", true, NULL },
	{ "/dev/disk/by-partuuid/4c1fa2b0-02", WDR_BY_PARTUUID, "4c1fa2b0-02", true, NULL },
	{ "/dev/mmcblk0p2", WDR_BY_PATH, "/dev/mmcblk0p2", false, NULL },
	{ "/dev/mapper/vault", WDR_BY_PATH, "/dev/mapper/vault", false, NULL },
	{ "dev-disk-by\\x2duuid-F3A1\\x2d77C2.device", WDR_BY_UUID, "F3A1-77C2", true, NULL },
	{ "dev-mmcblk0p2.device", WDR_BY_PATH, "/dev/mmcblk0p2", false, NULL },
	{ "PARTUUID=4c1fa2b0-01/PARTNROFF=1", WDR_BY_PARTUUID, "4c1fa2b0-01", false,
		"PARTUUID=4c1fa2b0-01" },
};

START_TEST(parses_and_prints)
{
	WdrIdentifier a = { 0 };

	ck_assert(wdr_identifier_parse(good[_i].text, &a));
	ck_assert_int_eq(a.kind, good[_i].kind);
	ck_assert_str_eq(a.value, good[_i].value);
	ck_assert(a.is_link == good[_i].is_link);
	g_autofree char *printed = wdr_identifier_format(&a);
	ck_assert_str_eq(printed, good[_i].printed ? good[_i].printed : good[_i].text);
	wdr_identifier_clear(&a);
}
END_TEST

static const char *const none[] = { "", "tmpfs", "proc", "//server/share", "/var/swap", "/dev/",
	"none", "uuid=x", "server:/export", "dev-.device", "foo.device" };

START_TEST(what_is_no_identifier)
{
	WdrIdentifier a = { 0 };

	ck_assert_msg(!wdr_identifier_parse(none[_i], &a), "%s", none[_i]);
}
END_TEST

static const struct {
	const char *path, *disk;
	unsigned number; /* 0: not a partition */
} parts[] = { { "/dev/mmcblk0p2", "mmcblk0", 2 }, { "/dev/nvme0n1p12", "nvme0n1", 12 },
	{ "/dev/sda2", "sda", 2 }, { "/dev/sdab15", "sdab", 15 }, { "/dev/vda1", "vda", 1 },
	{ "/dev/mmcblk0", NULL, 0 }, { "/dev/nvme0n1", NULL, 0 }, { "/dev/sda", NULL, 0 },
	{ "/dev/mapper/x1", NULL, 0 }, { "/dev/md0", NULL, 0 }, { "/dev/loop0p1", "loop0", 1 },
	{ "/dev/sda0", NULL, 0 }, { "/dev/1", NULL, 0 }, { "/dev/sda99999999999", NULL, 0 } };

START_TEST(splits_paths)
{
	g_autofree char *disk = NULL;
	unsigned number = 0;
	bool is_part = wdr_identifier_split_path(parts[_i].path, &disk, &number);

	ck_assert_msg(is_part == (parts[_i].number != 0), "%s", parts[_i].path);
	if (is_part) {
		ck_assert_str_eq(disk, parts[_i].disk);
		ck_assert_uint_eq(number, parts[_i].number);
	}
}
END_TEST

static const struct {
	const char *text;
	bool matches;
} matching[] = { { "UUID=F3A1-77C2", true }, { "UUID=f3a1-77c2", true },
	{ "UUID=F3A1-77C3", false }, { "LABEL=BOOTFS", true }, { "LABEL=bootfs", false },
	{ "PARTUUID=4C1FA2B0-01", true }, { "PARTLABEL=boot", false }, { "/dev/mmcblk0p1", true },
	{ "/dev/mmcblk0p2", false }, { "/dev/sda1", false },
	{ "/dev/disk/by-uuid/F3A1-77C2", true }, { "PARTUUID=4c1fa2b0-00/PARTNROFF=1", true },
	{ "PARTUUID=4c1fa2b0-01/PARTNROFF=1", false },
	{ "/dev/disk/by-id/mmc-RB600_0x2f41c7aa-part1", true },
	{ "/dev/disk/by-id/mmc-RB600_0x2f41c7aa-part11", false },
	{ "/dev/disk/by-id/mmc-RB600_0x00000000-part1", false } };

START_TEST(matches_an_identity)
{
	const WdrIdentity id = { "F3A1-77C2", "BOOTFS", "4c1fa2b0-01", NULL, 1, "mmcblk0",
		"0x2f41c7aa" };
	WdrIdentifier a = { 0 };

	ck_assert(wdr_identifier_parse(matching[_i].text, &a));
	ck_assert_msg(
		wdr_identifier_matches(&a, &id) == matching[_i].matches, "%s", matching[_i].text);
	wdr_identifier_clear(&a);
}
END_TEST

START_TEST(kind_names)
{
	for (WdrIdentifierKind k = WDR_BY_UUID; k <= WDR_BY_PATH; k++) {
		WdrIdentifierKind got;
		ck_assert(wdr_identifier_kind_parse(wdr_identifier_kind_name(k), &got));
		ck_assert_int_eq(got, k);
	}
	WdrIdentifierKind got;
	ck_assert(!wdr_identifier_kind_parse("serial", &got));
}
END_TEST

Suite *suite_identifier(void)
{
	Suite *s = suite_create("boot/identifier");
	TCase *t = tcase_create("identifier");

	tcase_add_loop_test(t, parses_and_prints, 0, (int)G_N_ELEMENTS(good));
	tcase_add_loop_test(t, what_is_no_identifier, 0, (int)G_N_ELEMENTS(none));
	tcase_add_loop_test(t, splits_paths, 0, (int)G_N_ELEMENTS(parts));
	tcase_add_loop_test(t, matches_an_identity, 0, (int)G_N_ELEMENTS(matching));
	tcase_add_test(t, kind_names);
	suite_add_tcase(s, t);
	return s;
}
