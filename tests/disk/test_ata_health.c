/* What a SATA disk answers, byte by byte: places by the standards. */
#include "support.h"

#include "disk/health/ata_health.h"

#include <string.h>

Suite *suite_ata_health(void);

enum { IDENTIFY, ATTRIBUTES, STATISTICS, STATUS, NOWHERE };

/* A disk whose SMART is on, that is well, and has used 3 % of its life. */
static void make_well(WdrAtaAnswers *a)
{
	static const uint8_t sense[] = { 0x72, 0x01, 0x00, 0x1d, 0, 0, 0, 14, 0x09, 0x0c, 0, 0, 0,
		0, 0, 0, 0, 0x4f, 0, 0xc2, 0, 0x50 };

	memset(a, 0, sizeof(*a));
	a->identify[2 * 82] = 1;
	a->identify[2 * 85] = 1;
	a->attributes[0] = 16;
	a->attributes[2] = 5;
	a->statistics[2] = 7;
	a->statistics[8] = 3;
	a->statistics[15] = 0xc0;
	memcpy(a->status, sense, sizeof(sense));
}

static uint8_t *page_of(WdrAtaAnswers *a, int page)
{
	uint8_t *const pages[] = { a->identify, a->attributes, a->statistics, a->status,
		a->identify };

	return pages[page];
}

static const struct {
	int page;
	size_t at;
	uint8_t bytes[12];
	size_t len;
	WdrAtaHealth want;
} cases[] = {
	{ NOWHERE, 0, { 0 }, 0, { true, true, false, true, 0, 0, 0, true, 3 } },
	{ IDENTIFY, 2 * 82, { 0 }, 1, { 0 } },
	{ IDENTIFY, 2 * 85, { 0 }, 1, { 0 } },
	{ STATUS, 17, { 0xf4, 0, 0x2c }, 3, { true, true, true, true, 0, 0, 0, true, 3 } },
	/* No registers, or none of these: the disk did not say. */
	{ STATUS, 17, { 0xf4, 0, 0xc2 }, 3, { true, false, false, true, 0, 0, 0, true, 3 } },
	{ STATUS, 0, { 0x70 }, 1, { true, false, false, true, 0, 0, 0, true, 3 } },
	{ STATUS, 8, { 0x00 }, 1, { true, false, false, true, 0, 0, 0, true, 3 } },
	{ ATTRIBUTES, 2, { 5, 0, 0, 100, 100, 0x34, 0x12, 0, 0, 7, 7 }, 11,
		{ true, true, false, true, 0x1234, 0, 0, true, 3 } },
	{ ATTRIBUTES, 2 + 29 * 12, { 197, 0, 0, 100, 100, 9 }, 6,
		{ true, true, false, true, 0, 9, 0, true, 3 } },
	{ ATTRIBUTES, 14, { 198, 0, 0, 100, 100, 2 }, 6,
		{ true, true, false, true, 0, 0, 2, true, 3 } },
	{ ATTRIBUTES, 2, { 194 }, 1, { true, true, false, false, 0, 0, 0, true, 3 } },
	{ STATISTICS, 8, { 130 }, 1, { true, true, false, true, 0, 0, 0, true, 130 } },
	{ STATISTICS, 15, { 0x80 }, 1, { true, true, false, true, 0, 0, 0, false, 0 } },
	{ STATISTICS, 2, { 1 }, 1, { true, true, false, true, 0, 0, 0, false, 0 } },
};

static void add_sum(uint8_t *page)
{
	uint8_t sum = 0;

	for (size_t i = 0; i + 1 < WDR_ATA_PAGE_BYTES; i++)
		sum = (uint8_t)(sum + page[i]);
	page[WDR_ATA_PAGE_BYTES - 1] = (uint8_t)-sum;
}

START_TEST(decoded)
{
	const WdrAtaHealth *want = &cases[_i].want;
	WdrAtaAnswers a;
	WdrAtaHealth got;

	make_well(&a);
	memcpy(page_of(&a, cases[_i].page) + cases[_i].at, cases[_i].bytes, cases[_i].len);
	add_sum(a.attributes);
	wdr_ata_health_decode(&a, &got);
	ck_assert_int_eq(got.is_told, want->is_told);
	ck_assert_int_eq(got.has_status, want->has_status);
	ck_assert_int_eq(got.is_failing, want->is_failing);
	ck_assert_int_eq(got.has_attributes, want->has_attributes);
	ck_assert_uint_eq(got.reallocated, want->reallocated);
	ck_assert_uint_eq(got.pending, want->pending);
	ck_assert_uint_eq(got.uncorrectable, want->uncorrectable);
	ck_assert_int_eq(got.has_used, want->has_used);
	ck_assert_uint_eq(got.used, want->used);
}
END_TEST

/* A table that does not add up is none; neither is one of zeros. */
START_TEST(a_table_that_does_not_add_up)
{
	WdrAtaAnswers a;
	WdrAtaHealth got;

	make_well(&a);
	add_sum(a.attributes);
	a.attributes[100]++;
	wdr_ata_health_decode(&a, &got);
	ck_assert(!got.has_attributes);
	memset(a.attributes, 0, sizeof(a.attributes));
	wdr_ata_health_decode(&a, &got);
	ck_assert(!got.has_attributes);
}
END_TEST

Suite *suite_ata_health(void)
{
	Suite *s = suite_create("disk/ata_health");
	TCase *t = tcase_create("ata_health");

	tcase_add_loop_test(t, decoded, 0, (int)G_N_ELEMENTS(cases));
	tcase_add_test(t, a_table_that_does_not_add_up);
	suite_add_tcase(s, t);
	return s;
}
