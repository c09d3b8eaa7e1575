/* The page of a move: what is in it at each stage, and what a browser makes of it. */
#include "boards.h"

#include "base/cleanup.h"

#include <signal.h>
#include <string.h>

Suite *suite_report(void);

#define LOOK WDR_TEST_DATA "/../page/check"
#define STATE "root/var/lib/wanderitas/to-nvme0n1"
#define PAGE sup_path("move.html")

static void move(void)
{
	SupRun run = BENCH_RUN("move", "--to", "nvme0n1", "--erase", "nvme0n1");

	bench_expect(&run, 0, "done:");
}

/* Writes the page and returns it; the caller's. */
static char *page_of(const char *given)
{
	SupRun run =
		given ? BENCH_RUN("report", given, "-o", PAGE) : BENCH_RUN("report", "-o", PAGE);

	bench_expect(&run, 0, "the report is in ");
	return sup_read(PAGE, NULL);
}

/* What jq makes of the report as JSON. */
static const char *ask(const char *given, const char *question)
{
	SupRun run = given ? BENCH_RUN("report", given, "--json") : BENCH_RUN("report", "--json");
	const char *argv[] = { "jq", "-r", question, NULL };

	bench_expect(&run, 0, "\"format\": \"wanderitas-report/2\"");
	SupRun jq = sup_run(run.out, argv);
	ck_assert_msg(jq.code == 0, "%s", jq.err);
	return jq.out;
}

static void expect_text(const char *page, const char *text)
{
	ck_assert_msg(strstr(page, text), "no '%s'", text);
}

/* false: there is no browser here. */
static bool browse(const char *page, const char *test)
{
	SupRun there = SUP_RUN("bash", "-c", "command -v chromium && command -v jq");

	if (there.code != 0) {
		printf("skipped: %s: there is no chromium\n", test);
		return false;
	}
	SupRun run = SUP_RUN(LOOK, page);
	ck_assert_msg(run.code == 0, "%s", run.err);
	return true;
}

START_TEST(after_the_restart)
{
	bench_take_moved();
	bench_restart(bench_path(""));
	SupRun arrive = BENCH_RUN("arrive");
	bench_expect(&arrive, 0, "arrived:");
	SupRun pace = BENCH_RUN("pace", "mmcblk0", sup_folder(), "--seconds", "0.1", "-o",
		sup_path("now.json"), "--chart", sup_path("now.svg"));
	bench_expect(&pace, 0, "the chart is in");
	SupRun run = BENCH_RUN("report", "-o", PAGE, "--pace", sup_path("now.json"));
	bench_expect(&run, 0, "the report is in ");
	g_autofree char *page = sup_read(PAGE, NULL);
	expect_text(
		page, "<h1>heron-hide-3: everything from mmcblk0 (SD card) to nvme0n1 (NVMe)</h1>");
	expect_text(page, "Reedbed SSD 2G");
	expect_text(page, "RB2G-000417");
	expect_text(page, "copied and read back completely");
	expect_text(page, "booted from the new disk, everything as planned");
	expect_text(page, "<span class=\"del\">-console=serial0,115200");
	expect_text(page, "the firmware says that it booted from NVMe");
	expect_text(page, "data:image/svg+xml;base64,");
	expect_text(page, "put the SD card back in");
	expect_text(page, "Measured as a file: the figures are those of the machine");
	browse(PAGE, "after_the_restart");
	ck_assert_str_eq(ask(NULL, ".state, .moved.host, .rehearsal.verdict, .arrival.as_planned, "
				   "(.ready.checks | length > 10), (.figures.entries > 500)"),
		"arrived\nheron-hide-3\nboots\ntrue\ntrue\ntrue\n");
}
END_TEST

START_TEST(before_the_restart)
{
	bench_take_moved();
	g_autofree char *page = page_of(NULL);
	expect_text(page, "not looked at after the restart yet");
	expect_text(page, "Not made yet: ");
	expect_text(page, "Not measured: ");
	browse(PAGE, "before_the_restart");
	ck_assert_str_eq(ask(NULL, ".state, .rehearsal.verdict, .arrival, (.changes | length)"),
		"done\nboots\nnull\n0\n");
	/* Every step has its time; every edit of the itinerary is there, as it was drawn. */
	ck_assert_str_eq(ask(NULL, "(.steps | all(.seconds >= 0)), (.steps | length > 8), "
				   "(.itinerary.edits | map(.file) | join(\" \"))"),
		"true\ntrue\ncmdline.txt etc/fstab\n");
	/* By its folder, and by the itinerary that lies in it, it is the same. */
	const char *by_folder = ask(bench_path(STATE), ".records, .state");
	const char *by_file = ask(bench_path(STATE "/itinerary.json"), ".records, .state");
	ck_assert_str_eq(by_folder, by_file);
}
END_TEST

START_TEST(of_a_plan)
{
	SupRun draft = BENCH_RUN("draft", "--to", "nvme0n1", "-o", sup_path("plan.json"));

	bench_expect(&draft, 0, NULL);
	g_autofree char *page = page_of(sup_path("plan.json"));
	expect_text(page, "planned, not carried out");
	expect_text(page, "Nothing was copied.");
	browse(PAGE, "of_a_plan");
	ck_assert_str_eq(ask(sup_path("plan.json"), ".state, .records, .figures, .rehearsal"),
		"drawn\nnull\nnull\nnull\n");
	/* A move that was made from another plan tells nothing of this one. */
	move();
	ck_assert_str_eq(ask(sup_path("plan.json"), ".state, .records"), "drawn\nnull\n");
}
END_TEST

START_TEST(of_an_interrupted_move)
{
	ck_assert_int_eq(BENCH_INTERRUPT(SIGTERM, "copying partition 2", "move", "--to", "nvme0n1",
				 "--erase", "nvme0n1"),
		4);
	g_autofree char *page = page_of(NULL);
	expect_text(page, "begun, and not finished");
	ck_assert_str_eq(ask(NULL, ".state, (.stops | length), .stops[0].why, .rehearsal"),
		"unfinished\n1\nstopped by SIGTERM\nnull\n");
	SupRun resume = BENCH_RUN("move", "--resume");
	bench_expect(&resume, 0, "done:");
	g_autofree char *finished = page_of(NULL);
	expect_text(finished, "interrupted");
	ck_assert_str_eq(ask(NULL, ".state, (.stops | length)"), "done\n1\n");
}
END_TEST

START_TEST(of_a_root_alone)
{
	const Board *tower = &boards[1];
	SupRun run =
		BOARD_RUN(tower, "move", "--to", "nvme0n1", "--what", "root", "--erase", "nvme0n1");

	bench_expect(&run, 0, "done:");
	SupRun report = BOARD_RUN(tower, "report", "-o", PAGE);
	bench_expect(&report, 0, "the report is in");
	g_autofree char *page = sup_read(PAGE, NULL);
	expect_text(page, "bittern-tower-1: the root alone from mmcblk1");
	expect_text(page, "of the old disk</h3>");
	expect_text(page, " rewind ");
	expect_text(page, "Changed in place; the originals are in");
	expect_text(page, "<li>/boot/extlinux/extlinux.conf on mmcblk1, partition");
	browse(PAGE, "of_a_root_alone");
	SupRun rewind = BOARD_RUN(tower, "rewind");
	bench_expect(&rewind, 0, NULL);
	SupRun after = BOARD_RUN(tower, "report", "--json");
	bench_expect(&after, 0, "all changes in place were undone");
}
END_TEST

/* The workbench is not the board. */
START_TEST(of_an_image_for_another_board)
{
	const char *drive = sup_path("drive.img");
	g_autofree char *state = g_strdup_printf("%s.wanderitas", drive);

	sup_make_image(drive, UINT64_C(1500) * 1048576);
	SupRun run = WANDERITAS(
		"move", "--from", bench_path("dev/mmcblk0"), "--to", drive, "--erase", "drive.img");
	bench_expect(&run, 0, "done:");
	SupRun report = WANDERITAS("report", state, "-o", PAGE);
	bench_expect(&report, 0, "the report is in");
	g_autofree char *page = sup_read(PAGE, NULL);
	expect_text(page, "<dt>Host name</dt><dd>heron-hide-3</dd>");
	expect_text(page, "<dt>Prepared on</dt>");
	ck_assert_ptr_null(strstr(page, "<dt>Kernel</dt>"));
	expect_text(page, "was only read: it is unchanged since");
}
END_TEST

/* What comes from a disk is text, whatever it looks like. */
START_TEST(names_that_are_markup)
{
	static const char evil[] =
		"\"><script>document.title='x'</script><img src=x onerror=alert(1)>\n";

	sup_write(bench_path("sys/block/nvme0n1/device/model"), evil);
	sup_write(bench_path("sys/block/nvme0n1/device/serial"),
		"</style></section><b onclick='x'>\n");
	sup_write(bench_path("root/etc/hostname"), "<iframe src=//a>\n");
	move();
	SupRun pace = BENCH_RUN("pace", "nvme0n1", "--seconds", "0.1", "-o", sup_path("<b>.json"));
	bench_expect(&pace, 0, NULL);
	SupRun run = BENCH_RUN("report", "-o", PAGE, "--pace", sup_path("<b>.json"), "--pace",
		sup_path("<b>.json"));
	bench_expect(&run, 0, NULL);
	g_autofree char *page = sup_read(PAGE, NULL);
	expect_text(page, "&lt;script&gt;");
	ck_assert_ptr_null(strstr(page, "<script"));
	ck_assert_ptr_null(strstr(page, "<b onclick"));
	ck_assert_ptr_null(strstr(page, "<iframe"));
	browse(PAGE, "names_that_are_markup");
}
END_TEST

/* The look through a browser finds what it is there for. */
START_TEST(the_look_can_fail)
{
	static const struct {
		const char *change, *says;
	} spoiled[] = {
		{ "s/--soft:#545c63/--soft:#c4ccc3/", "contrast: " },
		{ "s/<section id=\"left\"/<section style=\"width:2000px\" id=\"left\"/",
			"runs over: " },
		{ "s/<section id=\"back\"/<section id=\"front\"/", "no section back" },
		{ "s/<main>/<main><img src=\"other.png\">/", "the console has something to say" },
		{ "s/<main>/<main><a href=other>a<\\/a>/", "it fetches other" },
		{ "s/<main>/<main><button onclick=\"x()\">a<\\/button>/", "page: " },
	};
	SupRun draft = BENCH_RUN("draft", "--to", "nvme0n1", "-o", sup_path("plan.json"));

	bench_expect(&draft, 0, NULL);
	g_autofree char *page = page_of(sup_path("plan.json"));
	ck_assert_ptr_nonnull(page);
	if (!browse(PAGE, "the_look_can_fail"))
		return;
	for (size_t i = 0; i < G_N_ELEMENTS(spoiled); i++) {
		sup_write(sup_path("spoiled.html"), SUP_TOOL("sed", spoiled[i].change, PAGE));
		SupRun run = SUP_RUN(LOOK, sup_path("spoiled.html"));
		ck_assert_int_eq(run.code, 1);
		ck_assert_msg(
			strstr(run.err, spoiled[i].says), "%s: %s", spoiled[i].change, run.err);
	}
}
END_TEST

/* ---- bad input ---- */

START_TEST(without_a_move)
{
	SupRun none = BENCH_RUN("report", "-o", PAGE);
	bench_expect(&none, 2, "there is no move to report on");
	SupRun no_page = BENCH_RUN("report");
	bench_expect(&no_page, 2, "no page to write was named");
	SupRun two = BENCH_RUN("report", "a.json", "b.json", "-o", PAGE);
	bench_expect(&two, 2, "not also 'b.json'");
	SupRun other = BENCH_RUN("report", "/etc/hostname", "-o", PAGE);
	bench_expect(&other, 3, "/etc/hostname");
	ck_assert(!g_file_test(PAGE, G_FILE_TEST_EXISTS));
}
END_TEST

/* Its records lie where those of moves do. */
START_TEST(a_change_in_place_is_no_move)
{
	const Board *weir = &boards[2];
	SupRun rewrite = BOARD_RUN(weir, "readdress", "mmcblk0", "--name-by", "path", "--write");

	bench_expect(&rewrite, 0, "done:");
	SupRun run = BOARD_RUN(weir, "report", "-o", PAGE);
	bench_expect(&run, 2, "there is no move to report on");
}
END_TEST

static const struct {
	const char *file, *text, *says;
} damaged[] = {
	{ "logbook.jsonl", "nonsense\n", "logbook.jsonl:1: this is no line of a logbook" },
	{ "ready.json", "{}", "ready.json is no wanderitas-ready/2" },
	{ "rehearsal.json", "[1]", "rehearsal.json is no wanderitas-rehearsal/2" },
	{ "itinerary.json", "{}", "itinerary.json" },
};

START_TEST(damaged_records)
{
	bench_take_moved();
	g_autofree char *path = g_strdup_printf("%s/%s", bench_path(STATE), damaged[_i].file);
	sup_write(path, damaged[_i].text);
	SupRun run = BENCH_RUN("report", bench_path(STATE), "-o", PAGE);
	bench_expect(&run, 3, damaged[_i].says);
	ck_assert(!g_file_test(PAGE, G_FILE_TEST_EXISTS));
}
END_TEST

START_TEST(what_cannot_be_shown)
{
	bench_take_moved();
	SupRun pace =
		BENCH_RUN("report", "-o", PAGE, "--pace", bench_path(STATE "/itinerary.json"));
	bench_expect(&pace, 3, "no record of pace");
	SupRun page = BENCH_RUN("report", "-o", "/no/such/folder/a.html");
	bench_expect(&page, 3, "/no/such/folder");
}
END_TEST

Suite *suite_report(void)
{
	Suite *s = suite_create("cli/report");
	TCase *tc = tcase_create("report");

	tcase_add_unchecked_fixture(tc, bench_make_moved, bench_remove);
	tcase_add_checked_fixture(tc, sup_setup, sup_teardown);
	tcase_add_test(tc, after_the_restart);
	tcase_add_test(tc, before_the_restart);
	tcase_add_test(tc, of_a_plan);
	tcase_add_test(tc, of_an_interrupted_move);
	tcase_add_test(tc, of_a_root_alone);
	tcase_add_test(tc, of_an_image_for_another_board);
	tcase_add_test(tc, names_that_are_markup);
	tcase_add_test(tc, the_look_can_fail);
	tcase_add_test(tc, without_a_move);
	tcase_add_test(tc, a_change_in_place_is_no_move);
	tcase_add_loop_test(tc, damaged_records, 0, G_N_ELEMENTS(damaged));
	tcase_add_test(tc, what_cannot_be_shown);
	suite_add_tcase(s, tc);
	return s;
}
