#include "support.h"

#include "base/text.h"
#include "plan/layout.h"
#include "plan/logical_partitions.h"

#include <stdio.h>
#include <string.h>

Suite *suite_layout(void);

/* Parts as "ROLE[NUMBER]:START+SIZE" in MiB, blanks between. */
static WdrItinerary *itinerary(const char *parts, WdrTableKind table, uint64_t target_mib)
{
	WdrItinerary *it = wdr_itinerary_new();
	g_auto(GStrv) words = g_strsplit(parts, " ", -1);

	it->table = table;
	it->target.size = target_mib * WDR_MIB;
	it->target.sector_size = 512;
	it->target.name = g_strdup("t");
	for (unsigned i = 0; words[i]; i++) {
		WdrItineraryPart *p = g_new0(WdrItineraryPart, 1);
		unsigned start = 0;
		unsigned size = 0;
		ck_assert_int_eq(sscanf(strchr(words[i], ':') + 1, "%u+%u", &start, &size), 2);
		p->number = words[i][1] == ':' ? i + 1 : (unsigned)(words[i][1] - '0');
		p->role = *words[i] == 'b'   ? WDR_ROLE_BOOT
			  : *words[i] == 'r' ? WDR_ROLE_ROOT
					     : WDR_ROLE_DATA;
		p->from.start = start * WDR_MIB;
		p->from.size = size * WDR_MIB;
		g_ptr_array_add(it->parts, p);
	}
	return it;
}

static char *show(const WdrItinerary *it)
{
	GString *text = g_string_new(NULL);

	for (guint i = 0; i < it->parts->len; i++) {
		const WdrItineraryPart *p = it->parts->pdata[i];
		ck_assert_uint_eq(p->to.start % WDR_ALIGN_BYTES, 0);
		g_string_append_printf(text, "%s%u+%u", i ? " " : "",
			(unsigned)(p->to.start / WDR_MIB), (unsigned)(p->to.size / WDR_MIB));
	}
	return g_string_free(text, FALSE);
}

static const struct {
	const char *parts;
	WdrTableKind table;
	unsigned target_mib, leave_mib;
	const char *want;
} cases[] = {
	{ "b:4+128 r:132+468", WDR_TABLE_MBR, 2048, 0, "4+128 132+1916" },
	{ "b:4+128 r:132+468", WDR_TABLE_GPT, 2048, 0, "4+128 132+1912" },
	{ "b:4+128 r:132+468", WDR_TABLE_MBR, 2048, 100, "4+128 132+1816" },
	{ "b:4+128 r:132+468", WDR_TABLE_MBR, 300, 0, "4+128 132+168" },
	{ "b:1+126 r:127+400", WDR_TABLE_MBR, 1024, 0, "4+126 132+892" },
	{ "b:16+128 r:144+468", WDR_TABLE_MBR, 1024, 0, "16+128 144+880" },
	{ "b:4+64 r:68+400 d:468+100", WDR_TABLE_MBR, 1024, 0, "4+64 68+856 924+100" },
	{ "r:4+400 d:404+50", WDR_TABLE_MBR, 1024, 0, "4+968 972+50" },
	{ "b:4+128 r:132+468", WDR_TABLE_MBR, 1027, 0, "4+128 132+892" },
	/* Four MiB before each logical one, for what describes it. */
	{ "b1:4+128 r5:136+468 d6:608+32", WDR_TABLE_MBR, 1024, 0, "4+128 136+852 992+32" },
	{ "b1:4+128 d5:136+32 d6:172+32 r3:208+468", WDR_TABLE_MBR, 1024, 0,
		"4+128 136+32 172+32 204+820" },
	{ "b1:4+128 r5:136+468 d6:608+32", WDR_TABLE_GPT, 1024, 0, "4+128 132+856 988+32" },
	/* Loader and all that is before the first one is kept, whichever that is. */
	{ "r5:136+468 b1:16+64", WDR_TABLE_MBR, 1024, 0, "20+940 960+64" },
};

START_TEST(places)
{
	g_autoptr(WdrItinerary) it =
		itinerary(cases[_i].parts, cases[_i].table, cases[_i].target_mib);

	sup_ok(wdr_layout_arrange(
		it, &(WdrLayoutRoom){ cases[_i].leave_mib * WDR_MIB, 0 }, &error));
	g_autofree char *got = show(it);
	ck_assert_str_eq(got, cases[_i].want);
}
END_TEST

START_TEST(too_small)
{
	g_autoptr(WdrItinerary) it = itinerary("b:4+128 r:132+468", WDR_TABLE_MBR, 140);

	sup_fails(WDR_ERROR_NO_SPACE, "too small by more than 8 MiB",
		wdr_layout_arrange(it, &(WdrLayoutRoom){ 0 }, &error));
	it->target.size = 2048 * WDR_MIB;
	sup_fails(WDR_ERROR_NO_SPACE, "too small",
		wdr_layout_arrange(it, &(WdrLayoutRoom){ 1990 * WDR_MIB, 0 }, &error));
	sup_fails(WDR_ERROR_NO_SPACE, "too small",
		wdr_layout_arrange(it, &(WdrLayoutRoom){ UINT64_MAX, 0 }, &error));
}
END_TEST

static const struct {
	const char *type;
	WdrTableKind from, to;
	const char *want;
} types[] = {
	{ "0c", WDR_TABLE_MBR, WDR_TABLE_MBR, "0c" },
	{ "0c", WDR_TABLE_MBR, WDR_TABLE_GPT, "ebd0a0a2-b9e5-4433-87c0-68b6b72699c7" },
	{ "83", WDR_TABLE_MBR, WDR_TABLE_GPT, "0fc63daf-8483-4772-8e79-3d69d8477de4" },
	{ "b921b045-1df0-41c3-af44-4c6f280d3fae", WDR_TABLE_GPT, WDR_TABLE_MBR, "83" },
	{ "c12a7328-f81f-11d2-ba4b-00a0c93ec93b", WDR_TABLE_GPT, WDR_TABLE_MBR, "ef" },
	{ "a5", WDR_TABLE_MBR, WDR_TABLE_GPT, NULL },
	{ "a5", WDR_TABLE_MBR, WDR_TABLE_MBR, "a5" },
};

START_TEST(partition_types)
{
	ck_assert_pstr_eq(
		wdr_layout_type(types[_i].type, types[_i].from, types[_i].to), types[_i].want);
}
END_TEST

Suite *suite_layout(void)
{
	Suite *s = suite_create("plan/layout");
	TCase *t = tcase_create("layout");

	tcase_add_loop_test(t, places, 0, (int)G_N_ELEMENTS(cases));
	tcase_add_test(t, too_small);
	tcase_add_loop_test(t, partition_types, 0, (int)G_N_ELEMENTS(types));
	suite_add_tcase(s, t);
	return s;
}
