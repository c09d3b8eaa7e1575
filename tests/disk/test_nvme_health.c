/* What an NVMe drive answers, byte by byte: places and scales by the specification. */
#include "support.h"

#include "disk/health/nvme_health.h"

#include <string.h>

Suite *suite_nvme_health(void);

static const struct {
	bool in_identify;
	size_t at;
	uint8_t bytes[16];
	WdrNvmeHealth want;
} cases[] = {
	{ false, 0, { 0 }, { 0 } },
	{ false, 0, { 0x01 }, { .is_low_on_spares = true } },
	{ false, 0, { 0x04 }, { .is_unreliable = true } },
	{ false, 0, { 0x08 }, { .is_read_only = true } },
	/* Temperature, and the volatile memory's backup: nothing that is told from here. */
	{ false, 0, { 0x12 }, { 0 } },
	{ false, 1, { 0x3b, 0x01 }, { .degrees = 42 } },
	{ false, 1, { 0x11, 0x01 }, { 0 } },
	{ false, 3, { 100, 10, 255 }, { .spare = 100, .spare_threshold = 10, .used = 255 } },
	{ false, 144, { 0, 1 }, { .power_losses = 256 } },
	{ false, 160, { 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0x7f },
		{ .media_errors = UINT64_MAX / 2 } },
	{ false, 160, { 1, 0, 0, 0, 0, 0, 0, 0, 1 }, { .media_errors = UINT64_MAX } },
	{ true, 2048, { 0x39, 0x03 }, { .max_milliwatts = 8250 } },
	{ true, 2048, { 0x50, 0xc3, 0, 1 }, { .max_milliwatts = 5000 } },
	{ true, 2048, { 0xff, 0xff }, { .max_milliwatts = 655350 } },
	/* There is one power state alone. */
	{ true, 2080, { 0x39, 0x03 }, { 0 } },
};

START_TEST(decoded)
{
	uint8_t log[WDR_NVME_LOG_BYTES] = { 0 };
	uint8_t identify[WDR_NVME_IDENTIFY_BYTES] = { 0 };
	WdrNvmeHealth got;

	memcpy((cases[_i].in_identify ? identify : log) + cases[_i].at, cases[_i].bytes,
		sizeof(cases[_i].bytes));
	wdr_nvme_health_decode(log, identify, &got);
	ck_assert_int_eq(got.is_low_on_spares, cases[_i].want.is_low_on_spares);
	ck_assert_int_eq(got.is_unreliable, cases[_i].want.is_unreliable);
	ck_assert_int_eq(got.is_read_only, cases[_i].want.is_read_only);
	ck_assert_uint_eq(got.spare, cases[_i].want.spare);
	ck_assert_uint_eq(got.spare_threshold, cases[_i].want.spare_threshold);
	ck_assert_uint_eq(got.used, cases[_i].want.used);
	ck_assert_int_eq(got.degrees, cases[_i].want.degrees);
	ck_assert_uint_eq(got.media_errors, cases[_i].want.media_errors);
	ck_assert_uint_eq(got.power_losses, cases[_i].want.power_losses);
	ck_assert_uint_eq(got.max_milliwatts, cases[_i].want.max_milliwatts);
}
END_TEST

/* The largest of all its states; a number of states that cannot be is no reason to read further. */
START_TEST(all_power_states)
{
	uint8_t log[WDR_NVME_LOG_BYTES] = { 0 };
	g_autofree uint8_t *identify = g_malloc(WDR_NVME_IDENTIFY_BYTES);
	WdrNvmeHealth got;

	memset(identify, 0, WDR_NVME_IDENTIFY_BYTES);
	identify[263] = 2;
	identify[2048] = 100;
	identify[2048 + 64] = 200;
	identify[2048 + 96] = 250;
	wdr_nvme_health_decode(log, identify, &got);
	ck_assert_uint_eq(got.max_milliwatts, 2000);
	memset(identify, 0xff, WDR_NVME_IDENTIFY_BYTES);
	wdr_nvme_health_decode(log, identify, &got);
	ck_assert_uint_eq(got.max_milliwatts, 6553);
}
END_TEST

Suite *suite_nvme_health(void)
{
	Suite *s = suite_create("disk/nvme_health");
	TCase *t = tcase_create("nvme_health");

	tcase_add_loop_test(t, decoded, 0, (int)G_N_ELEMENTS(cases));
	tcase_add_test(t, all_power_states);
	suite_add_tcase(s, t);
	return s;
}
