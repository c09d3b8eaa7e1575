/* Logbooks, packing lists and documents against docs/formats, judged by somebody else's validator.
 * What all other tests print with --json is judged at their end, see scripts/test. */
#include "bench.h"

#include <string.h>

Suite *suite_formats(void);

#define CHECK_FORMATS WDR_TEST_FORMATS
#define RECORDS "root/var/lib/wanderitas"
#define MOVE "move", "--to", "nvme0n1", "--erase", "nvme0n1"

/* All records of the bench that other programs may read. */
static SupRun judge_records(void)
{
	g_autofree char *judge = g_strdup_printf("find '%s' '(' -name '*.jsonl' -o -name '*.json' "
						 "-o -name '*.list' ')' -print0 | xargs -0 '%s'",
		bench_path(RECORDS), CHECK_FORMATS);

	return SUP_RUN("sh", "-c", judge);
}

static void expect_sound(const char *counted)
{
	SupRun run = judge_records();

	bench_expect(&run, 0, ": nothing found");
	bench_expect(&run, 0, counted);
}

static void make_bad_place(void)
{
	g_autofree char *faults = g_strdup_printf("mmcblk0:read:%" G_GUINT64_FORMAT ":9",
		bench_root_block(bench_path("dev/mmcblk0"), "srv/model.bin", 200));
	SupRun run = BENCH_WITH_FAULTS(faults, MOVE);

	bench_expect(&run, 4, "could not be read completely");
	run = BENCH_WITH_FAULTS(faults, "move", "--resume", "--accept-damage");
	bench_expect(&run, 0, "done");
}

START_TEST(records_of_a_move_with_a_bad_place)
{
	make_bad_place();
	SupRun run = BENCH_RUN("catchup");
	bench_expect(&run, 0, NULL);
	expect_sound("2 itinerary");
}
END_TEST

START_TEST(records_of_changes_and_their_end)
{
	SupRun run = BENCH_RUN("tune", "--set", "pcie-gen3", "--write");

	bench_expect(&run, 0, "done");
	run = BENCH_RUN("rewind");
	bench_expect(&run, 0, "put back");
	run = BENCH_RUN("readdress", "mmcblk0", "--renew", "--write");
	bench_expect(&run, 0, "done");
	expect_sound("logbook");
}
END_TEST

START_TEST(records_of_a_root_alone)
{
	SupRun run = BENCH_RUN(MOVE, "--what", "root");

	bench_expect(&run, 0, "done");
	expect_sound("packing list");
}
END_TEST

/* The judge sees what is otherwise: else the tests above could not fail. */
static const struct {
	const char *file, *change, *says;
} changes[] = {
	{ "logbook.jsonl", "s/\"event\": \"mark\"/\"event\": \"remark\"/",
		"no event of a logbook" },
	{ "logbook.jsonl", "s/\"what\": \"cleared\"/\"what\": \"clear\"/",
		"'clear' is not one of" },
	{ "packing-2.list", "3s/\t[0-9]*\t/\tx\t/", "not as docs/formats/packing-list.md says" },
	{ "ready.json", "s/\"state\": \"warning\"/\"state\": \"remark\"/",
		"'remark' is not one of" },
	{ "ready.json", "s/\"can_be_waived\"/\"waivable\"/", "'waivable' was unexpected" },
	{ "itinerary.json", "s/\"size\": 134217728/\"size\": \"128 MiB\"/",
		"is not of type 'integer'" },
	{ "itinerary.json", "s/wanderitas-itinerary/wanderitas-plan/",
		"there is no docs/formats/plan" },
};

START_TEST(what_is_otherwise_is_found)
{
	bench_take_moved();
	g_autofree char *file =
		g_strdup_printf("%s/to-nvme0n1/%s", bench_path(RECORDS), changes[_i].file);

	SUP_TOOL("sed", "-i", changes[_i].change, file);
	SupRun run = judge_records();
	bench_expect(&run, 123, changes[_i].says);
}
END_TEST

Suite *suite_formats(void)
{
	Suite *suite = suite_create("cli/formats");
	TCase *judged = tcase_create("judged");
	TCase *changed = tcase_create("changed");

	tcase_add_unchecked_fixture(judged, bench_make, bench_remove);
	tcase_add_checked_fixture(judged, sup_setup, sup_teardown);
	tcase_add_test(judged, records_of_a_move_with_a_bad_place);
	tcase_add_test(judged, records_of_changes_and_their_end);
	tcase_add_test(judged, records_of_a_root_alone);
	suite_add_tcase(suite, judged);
	tcase_add_unchecked_fixture(changed, bench_make_moved, bench_remove);
	tcase_add_checked_fixture(changed, sup_setup, sup_teardown);
	tcase_add_loop_test(changed, what_is_otherwise_is_found, 0, (int)G_N_ELEMENTS(changes));
	suite_add_tcase(suite, changed);
	return suite;
}
