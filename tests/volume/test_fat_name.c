#include "support.h"

#include "volume/fat/fat_priv.h"

#include <string.h>

Suite *suite_fat_name(void);

static const struct {
	const char *name, *want; /* NULL: needs a long name */
} plain[] = { { "README.TXT", "README  TXT" }, { "X", "X          " }, { "A.B", "A       B  " },
	{ "TWELVE~1.DTB", "TWELVE~1DTB" }, { "readme.txt", NULL }, { "NINECHARS", NULL },
	{ "A.LONG", NULL }, { "A.B.C", NULL }, { "A B", NULL }, { ".HIDDEN", NULL },
	{ "TRAIL.", NULL }, { "PLUS+", NULL },
	{ "R\xc3\x89"
	  "ED",
		NULL },
	{ "", NULL } };

START_TEST(plain_names)
{
	uint8_t got[WDR_FAT_NAME_BYTES];
	bool is_plain = wdr_fat_text_to_short(plain[_i].name, got);

	ck_assert_msg(is_plain == (plain[_i].want != NULL), "%s", plain[_i].name);
	if (is_plain)
		ck_assert_mem_eq(got, plain[_i].want, FAT_SHORT_BYTES);
}
END_TEST

START_TEST(numbered_names)
{
	static const struct {
		const char *name, *want;
	} steps[] = { { "config.txt", "CONFIG  TXT" }, { "Config.Txt", "CONFIG~1TXT" },
		{ "bcm2711-rpi-4-b.dtb", "BCM271~1DTB" }, { "bcm2712-rpi-5-b.dtb", "BCM271~2DTB" },
		{ "a long name", "ALONGN~1   " }, { ".profile", "PROFILE    " },
		{ "...", "_~1        " },
		{ "r\xc3\xa9"
		  "edbed.tar.gz",
			"R_EDBE~1GZ " } };
	g_autoptr(GHashTable) taken = wdr_fat_taken_new();
	g_autoptr(GHashTable) numbers = wdr_fat_taken_new();

	for (size_t i = 0; i < G_N_ELEMENTS(steps); i++) {
		uint8_t got[WDR_FAT_NAME_BYTES];
		sup_ok(wdr_fat_make_short(taken, numbers, steps[i].name, got, &error));
		if (i == 5)
			continue; /* ".profile": any valid name will do */
		ck_assert_msg(memcmp(got, steps[i].want, FAT_SHORT_BYTES) == 0, "%s: %.11s",
			steps[i].name, (const char *)got);
	}
}
END_TEST

START_TEST(many_alike_stay_different)
{
	g_autoptr(GHashTable) taken = wdr_fat_taken_new();
	g_autoptr(GHashTable) numbers = wdr_fat_taken_new();

	for (unsigned i = 0; i < 12000; i++) {
		uint8_t got[WDR_FAT_NAME_BYTES];
		g_autofree char *name = g_strdup_printf("observation frame %u.csv", i);
		sup_ok(wdr_fat_make_short(taken, numbers, name, got, &error));
		g_autofree char *shown = wdr_fat_short_to_text(got);
		ck_assert_ptr_nonnull(shown);
	}
	ck_assert_uint_eq(g_hash_table_size(taken), 12000);
}
END_TEST

static const struct {
	const char *raw; /* 11 bytes */
	uint8_t flags;
	const char *want; /* NULL: not a name */
} shown[] = { { "README  TXT", 0, "README.TXT" }, { "README  TXT", 0x18, "readme.txt" },
	{ "README  TXT", 0x08, "readme.TXT" }, { "NOEXT      ", 0x10, "NOEXT" },
	{ "\x05"
	  "BCDEFG   ",
		0,
		"\xcf\x83"
		"BCDEFG" },
	{ "\x81"
	  "BER     ",
		0,
		"\xc3\xbc"
		"BER" },
	{ "        TXT", 0, NULL }, { "A/B     TXT", 0, NULL }, { "A\x01 B    TXT", 0, NULL } };

START_TEST(short_names_shown)
{
	uint8_t raw[WDR_FAT_NAME_BYTES];

	memset(raw, ' ', sizeof(raw));
	memcpy(raw, shown[_i].raw, MIN(strlen(shown[_i].raw), FAT_SHORT_BYTES));
	raw[FAT_SHORT_BYTES] = shown[_i].flags;
	g_autofree char *got = wdr_fat_short_to_text(raw);
	ck_assert_msg(g_strcmp0(got, shown[_i].want) == 0, "%s", got ? got : "no name");
}
END_TEST

static const char *const forbidden[] = { "a*b", "a:b", "a?b", "a\"b", "a<b", "a>b", "a|b", "a\\b",
	"a\nb", "ends.", "ends ", "lat\xe9n" };

START_TEST(names_that_fat_forbids)
{
	uint16_t *units = NULL;
	size_t len = 0;

	sup_fails(WDR_ERROR_UNSUPPORTED, "FAT cannot hold",
		wdr_fat_text_to_units(forbidden[_i], &units, &len, &error));
}
END_TEST

START_TEST(long_names_count_units)
{
	uint16_t *units = NULL;
	size_t len = 0;
	g_autofree char *fits = g_strnfill(255, 'n');
	g_autofree char *longer = g_strnfill(256, 'n');

	sup_ok(wdr_fat_text_to_units(fits, &units, &len, &error));
	ck_assert_uint_eq(len, 255);
	g_free(units);
	sup_fails(WDR_ERROR_UNSUPPORTED, "this long",
		wdr_fat_text_to_units(longer, &units, &len, &error));
	sup_ok(wdr_fat_text_to_units("\xf0\x9f\x90\xa6", &units, &len, &error));
	ck_assert_uint_eq(len, 2); /* a pair of surrogates */
	g_free(units);
}
END_TEST

static const struct {
	int64_t sec, want;
} times[] = { { 0, 0 }, { 315532800, 315532800 }, { 315532799, 0 }, { 1777876200, 1777876200 },
	{ 1777876201, 1777876200 }, { 2524608000, 2524608000 } /* 2050 */,
	{ 4354819198, 4354819198 },
	{ 4354819200, 4323283200 } /* 2108 is beyond it: 2107 is the last year */ };

START_TEST(times_round_trip)
{
	uint16_t date = 1;
	uint16_t time = 1;

	wdr_fat_encode_time(times[_i].sec, &date, &time);
	ck_assert_int_eq(wdr_fat_decode_time(date, time), times[_i].want);
}
END_TEST

START_TEST(a_day_that_no_month_has)
{
	const uint16_t february_30_of_2000 = 20 << 9 | 2 << 5 | 30;

	ck_assert_int_eq(wdr_fat_decode_time(february_30_of_2000, 0), 951868800); /* 1 March */
}
END_TEST

START_TEST(sum_of_a_short_name)
{
	/* From the specification's algorithm, by hand for a name of one letter. */
	uint8_t name[FAT_SHORT_BYTES] = "A          ";
	unsigned want = 0;

	for (size_t i = 0; i < FAT_SHORT_BYTES; i++)
		want = ((want & 1 ? 0x80 : 0) + (want >> 1) + name[i]) % 256;
	ck_assert_uint_eq(wdr_fat_name_sum(name), want);
}
END_TEST

Suite *suite_fat_name(void)
{
	Suite *s = suite_create("volume/fat_name");
	TCase *t = tcase_create("names");

	tcase_add_checked_fixture(t, sup_setup, sup_teardown);
	tcase_add_loop_test(t, plain_names, 0, (int)G_N_ELEMENTS(plain));
	tcase_add_test(t, numbered_names);
	tcase_add_test(t, many_alike_stay_different);
	tcase_add_loop_test(t, short_names_shown, 0, (int)G_N_ELEMENTS(shown));
	tcase_add_loop_test(t, names_that_fat_forbids, 0, (int)G_N_ELEMENTS(forbidden));
	tcase_add_test(t, long_names_count_units);
	tcase_add_test(t, a_day_that_no_month_has);
	tcase_add_loop_test(t, times_round_trip, 0, (int)G_N_ELEMENTS(times));
	tcase_add_test(t, sum_of_a_short_name);
	suite_add_tcase(s, t);
	return s;
}
