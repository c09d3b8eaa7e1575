/* How figures are told, and held against each other. */
#include "support.h"

#include "present/show_pace.h"

#include <string.h>

Suite *suite_pace(void);

static WdrPaceFigure figure(double median, double spread)
{
	return (WdrPaceFigure){ .is_there = true,
		.median = median,
		.min = median * (1 - spread),
		.max = median * (1 + spread) };
}

static const struct {
	double value;
	const char *text;
} numbers[] = { { 0.123, "0.12" }, { 9.994, "9.99" }, { 9.996, "10.0" }, { 43.84, "43.8" },
	{ 99.96, "100" }, { 397.4, "397" }, { 148189, "148189" } };

START_TEST(number)
{
	g_autofree char *text = wdr_pace_number(numbers[_i].value);

	ck_assert_str_eq(text, numbers[_i].text);
}
END_TEST

static const struct {
	uint64_t ns;
	const char *text;
} latencies[] = { { 85, "0.09 us" }, { 23500, "23.5 us" }, { 999999, "1000 us" },
	{ 1000000, "1.00 ms" }, { 24400000, "24.4 ms" }, { 2100000000, "2.10 s" } };

START_TEST(latency)
{
	g_autofree char *text = wdr_pace_latency(latencies[_i].ns);

	ck_assert_str_eq(text, latencies[_i].text);
}
END_TEST

/* A factor is told of what is really apart. */
static const struct {
	double median, spread, base, base_spread;
	const char *text;
} pairs[] = {
	{ 397e6, 0.02, 43.8e6, 0.02, "9.06 x" },
	{ 20e6, 0.02, 40e6, 0.02, "0.50 x" },
	{ 42e6, 0.02, 40e6, 0.04, NULL },
	{ 80e6, 0.5, 40e6, 0.5, NULL },
	{ 80e6, 0.02, 0, 0, NULL },
};

START_TEST(times)
{
	WdrPaceFigure f = figure(pairs[_i].median, pairs[_i].spread);
	WdrPaceFigure base = figure(pairs[_i].base, pairs[_i].base_spread);
	WdrPaceFigure none = { 0 };
	g_autofree char *text = wdr_pace_times(&f, &base);

	ck_assert_pstr_eq(text, pairs[_i].text);
	ck_assert_ptr_null(wdr_pace_times(&f, &none));
	ck_assert_ptr_null(wdr_pace_times(&none, &f));
}
END_TEST

static const struct {
	WdrPaceKind kind;
	double median;
	uint64_t rate;
	const char *text;
} links[] = {
	{ WDR_PACE_READ_IN_SEQUENCE, 43.8e6, 100000000, "of 100" },
	{ WDR_PACE_WRITE_IN_SEQUENCE, 40e6, 53248000, "of 53.2" },
	{ WDR_PACE_READ_IN_SEQUENCE, 105e6, 100000000, "of 100" },
	{ WDR_PACE_READ_IN_SEQUENCE, 1508e6, 100000000, NULL },
	{ WDR_PACE_READ_MANY, 50e6, 100000000, NULL },
	{ WDR_PACE_READ_IN_SEQUENCE, 43.8e6, 0, NULL },
};

START_TEST(link_beside)
{
	g_autoptr(WdrPaced) p = wdr_paced_new("mmcblk0", "disk");

	p->figures[links[_i].kind] = figure(links[_i].median, 0.02);
	p->link.rate = links[_i].rate;
	g_autofree char *text = wdr_pace_link(p, links[_i].kind);
	ck_assert_pstr_eq(text, links[_i].text);
}
END_TEST

static WdrPaced *add(
	WdrPaceRecord *r, const char *name, const char *label, double rate, double spread)
{
	WdrPaced *p = wdr_paced_new(name, "disk");

	p->label = g_strdup(label);
	p->figures[WDR_PACE_READ_MANY] = figure(rate, spread);
	wdr_pace_record_add(r, p);
	return p;
}

/* Each against itself before, and what was not there before against the first. */
START_TEST(against_what)
{
	g_autoptr(WdrPaceRecord) r = wdr_pace_record_new(sup_world(), 5);
	WdrPaced *card = add(r, "mmcblk0", "before", 4e6, 0.01);
	WdrPaced *drive = add(r, "nvme0n1", "before", 40e6, 0.01);
	WdrPaced *now = add(r, "nvme0n1", "now", 80e6, 0.01);
	WdrPaced *again = add(r, "mmcblk0", "now", 4.02e6, 0.01);
	WdrPaced *rough = add(r, "sda", "now", 4e6, 0.6);
	const struct {
		const WdrPaced *p;
		const char *text;
	} want[] = { { card, NULL }, { drive, "10.0 x mmcblk0 (before)" },
		{ now, "2.00 x nvme0n1 (before)" }, { again, "as mmcblk0 (before)" },
		{ rough, "not told apart from mmcblk0 (before)" } };

	for (size_t i = 0; i < G_N_ELEMENTS(want); i++) {
		g_autofree char *text = wdr_pace_verdict(r, WDR_PACE_READ_MANY, want[i].p);
		ck_assert_pstr_eq(text, want[i].text);
	}
	ck_assert(wdr_pace_is_measured(r, WDR_PACE_READ_MANY));
	ck_assert(!wdr_pace_is_measured(r, WDR_PACE_READ_IN_SEQUENCE));
	ck_assert(wdr_pace_largest(r) == 80e6);
}
END_TEST

Suite *suite_pace(void)
{
	Suite *s = suite_create("present/pace");
	TCase *tc = tcase_create("pace");

	tcase_add_checked_fixture(tc, sup_setup, sup_teardown);
	tcase_add_loop_test(tc, number, 0, G_N_ELEMENTS(numbers));
	tcase_add_loop_test(tc, latency, 0, G_N_ELEMENTS(latencies));
	tcase_add_loop_test(tc, times, 0, G_N_ELEMENTS(pairs));
	tcase_add_loop_test(tc, link_beside, 0, G_N_ELEMENTS(links));
	tcase_add_test(tc, against_what);
	suite_add_tcase(s, tc);
	return s;
}
