/* One source to many disks: rosters, their mistakes, and their moves. */
#include "bench.h"

#include <string.h>
#include <sys/file.h>
#include <unistd.h>

#include <fcntl.h>

Suite *suite_roster(void);

#define CARD bench_path("dev/mmcblk0")
#define ROSTER sup_path("dock.json")

/* Two images of different sizes, each becomes a machine. */
static void two_images(void)
{
	g_autofree char *text = g_strdup_printf(
		"{\n"
		"  \"format\": \"wanderitas-roster/1\",\n"
		"  \"from\": \"%s\",\n"
		"  \"host_names\": \"heron-hide-#\",\n"
		"  \"first_number\": 11,\n"
		"  \"slots\": [\n"
		"    { \"name\": \"one\", \"image\": \"one.img\", \"label\": \"north {shore}\" },\n"
		"    { \"name\": \"two\", \"image\": \"two.img\" }\n"
		"  ]\n"
		"}\n",
		CARD);

	sup_write(ROSTER, text);
	sup_make_image(sup_path("one.img"), UINT64_C(700) << 20);
	sup_make_image(sup_path("two.img"), UINT64_C(500) << 20);
}

static char *both(void)
{
	return g_strdup_printf("%s,%s", sup_path("one.img"), sup_path("two.img"));
}

static void expect_host(const char *image, const char *name)
{
	const char *path = sup_path(image);
	g_autofree char *host = g_strdup(bench_root_file(path, "etc/hostname"));

	sup_judge_ext(path, ROOT_AT);
	SUP_TOOL("sfdisk", "--verify", path);
	ck_assert_str_eq(g_strchomp(host), name);
}

START_TEST(two_at_once)
{
	g_autofree char *words = both();
	g_autofree char *card = g_strdup(sup_hash(CARD));

	two_images();
	SupRun check = BENCH_RUN("roster", ROSTER);
	bench_expect(&check, 0, "each slot has its disk");
	bench_expect(&check, 0, "heron-hide-12");
	SupRun json = BENCH_RUN("--json", "roster", ROSTER);
	bench_expect(&json, 0, "\"label\": \"north {shore}\"");
	SupRun run = BENCH_RUN("move", "--roster", ROSTER, "--erase", words);
	bench_expect(&run, 0, "2 of 2 disks are ready");
	expect_host("one.img", "heron-hide-11");
	expect_host("two.img", "heron-hide-12");
	ck_assert_str_eq(card, sup_hash(CARD));
	/* Done is done. */
	SupRun again = BENCH_RUN("--json", "move", "--roster", ROSTER, "--resume");
	bench_expect(&again, 0, "\"stage\": \"moved-before\"");
}
END_TEST

START_TEST(the_number_is_asked_for)
{
	const char *const words[] = { "move", "--roster", ROSTER, NULL };

	two_images();
	g_autofree char *before = g_strdup(sup_hash(sup_path("one.img")));
	SupRun wrong = bench_run("3\n", words);
	bench_expect(&wrong, 3, "'3' is not the number of disks");
	SupRun none = bench_run("", words);
	bench_expect(&none, 3, "cancelled");
	/* What was not agreed to is not begun by going on either. */
	SupRun resume = BENCH_RUN("move", "--roster", ROSTER, "--resume");
	bench_expect(&resume, 3, "cancelled");
	ck_assert_str_eq(before, sup_hash(sup_path("one.img")));
	SupRun run = bench_run("2\n", words);
	bench_expect(&run, 0, "2 of 2 disks are ready");
	expect_host("two.img", "heron-hide-12");
}
END_TEST

/* As after a power cut before the second slot's move began: its disk is as it was shown. */
START_TEST(agreed_but_not_begun)
{
	g_autofree char *words = both();
	g_autofree char *state = g_strconcat(ROSTER, ".wanderitas/two", NULL);

	two_images();
	SupRun run = BENCH_RUN("move", "--roster", ROSTER, "--erase", words);
	bench_expect(&run, 0, "2 of 2 disks are ready");
	SUP_TOOL("rm", "-r", state);
	/* Somebody put something on it meanwhile. */
	sup_make_image(sup_path("two.img"), UINT64_C(500) << 20);
	sup_poke(sup_path("two.img"), 0, "photos", 6);
	g_autofree char *photos = g_strdup(sup_hash(sup_path("two.img")));
	SupRun other = BENCH_RUN("move", "--roster", ROSTER, "--resume");
	bench_expect(&other, 1, "slot two failed: ");
	ck_assert_str_eq(photos, sup_hash(sup_path("two.img")));
	sup_make_image(sup_path("two.img"), UINT64_C(500) << 20);
	SupRun resume = BENCH_RUN("move", "--roster", ROSTER, "--resume");
	bench_expect(&resume, 0, "2 of 2 disks are ready");
	expect_host("two.img", "heron-hide-12");
	/* Without --resume it is shown and asked about again. */
	SUP_TOOL("rm", "-r", state);
	SupRun again = BENCH_RUN("move", "--roster", ROSTER);
	bench_expect(&again, 3, "cancelled");
}
END_TEST

/* Every disk by its serial, or its path, and no other. */
START_TEST(erase_names_all)
{
	g_autofree char *more = g_strdup_printf(
		"%s,%s,%s", sup_path("one.img"), sup_path("two.img"), sup_path("three.img"));

	two_images();
	g_autofree char *before = g_strdup(sup_hash(sup_path("one.img")));
	SupRun less = BENCH_RUN("move", "--roster", ROSTER, "--erase", sup_path("one.img"));
	bench_expect(&less, 3, "the disk of slot 'two'");
	SupRun other = BENCH_RUN("move", "--roster", ROSTER, "--erase", more);
	bench_expect(&other, 3, "which is the disk of no slot");
	ck_assert_str_eq(before, sup_hash(sup_path("one.img")));
}
END_TEST

/* A disk that fails, or whose program is killed, ends its own move; what is said goes on. */
static const struct {
	const char *fault, *said;
} ends[] = {
	{ "one.img:deny:150000000:1000", "slot one failed: " },
	{ "one.img:kill:150000000:1000", "slot one failed: its program ended with exit code 137" },
};

START_TEST(one_fails_alone)
{
	g_autofree char *words = both();

	two_images();
	SupRun run =
		BENCH_WITH_FAULTS(ends[_i].fault, "move", "--roster", ROSTER, "--erase", words);
	bench_expect(&run, 1, "1 of 2 disks are ready");
	bench_expect(&run, 1, ends[_i].said);
	expect_host("two.img", "heron-hide-12");
	SupRun blind = BENCH_RUN("move", "--roster", ROSTER, "--erase", words);
	bench_expect(&blind, 3, "the move of slot 'one' was interrupted");
	SupRun resume = BENCH_RUN("--json", "move", "--roster", ROSTER, "--resume");
	bench_expect(&resume, 0, "\"stage\": \"moved-before\"");
	bench_expect(&resume, 0, "\"stage\": \"moved\"");
	expect_host("one.img", "heron-hide-11");
}
END_TEST

START_TEST(a_new_disk_for_a_slot)
{
	g_autofree char *words = both();

	two_images();
	SupRun run = BENCH_WITH_FAULTS(ends[0].fault, "move", "--roster", ROSTER, "--erase", words);
	bench_expect(&run, 1, "1 of 2 disks are ready");
	/* Another one, smaller, in its place. */
	sup_make_image(sup_path("one.img"), UINT64_C(600) << 20);
	g_autofree char *two = g_strdup(sup_hash(sup_path("two.img")));
	SupRun none = BENCH_RUN("move", "--roster", ROSTER, "--slot", "three");
	bench_expect(&none, 2, "has no slot 'three'");
	SupRun slot = BENCH_RUN(
		"move", "--roster", ROSTER, "--slot", "one", "--erase", sup_path("one.img"));
	bench_expect(&slot, 0, "1 of 1 disks are ready");
	expect_host("one.img", "heron-hide-11");
	ck_assert_str_eq(two, sup_hash(sup_path("two.img")));
}
END_TEST

/* It is started once more, for each slot, however it was found. */
START_TEST(found_by_its_name)
{
	static const char script[] =
		"PATH=$(dirname \"$1\"):$PATH exec $(basename \"$1\") -q --bench "
		"\"$2\" move --roster \"$3\" --erase \"$4\"";
	g_autofree char *words = both();

	two_images();
	const char *argv[] = { "sh", "-c", script, "sh", sup_program(), bench_path("."), ROSTER,
		words, NULL };
	SupRun run = sup_run("", argv);
	bench_expect(&run, 0, "2 of 2 disks are ready");
}
END_TEST

/* Another name for the same bytes. */
START_TEST(one_disk_by_two_names)
{
	two_images();
	ck_assert_int_eq(unlink(sup_path("two.img")), 0);
	ck_assert_int_eq(link(sup_path("one.img"), sup_path("two.img")), 0);
	SupRun check = BENCH_RUN("roster", ROSTER);
	bench_expect(&check, 3, "which slot 'one' (line 7) has");
	ck_assert_int_eq(unlink(sup_path("two.img")), 0);
	ck_assert_int_eq(symlink(CARD, sup_path("two.img")), 0);
	SupRun source = BENCH_RUN("roster", ROSTER);
	bench_expect(&source, 3, "slot 'two' fits the source");
}
END_TEST

START_TEST(two_rosters_at_once)
{
	g_autofree char *state = g_strconcat(ROSTER, ".wanderitas", NULL);

	two_images();
	ck_assert_int_eq(g_mkdir_with_parents(state, 0700), 0);
	int fd = open(state, O_RDONLY | O_DIRECTORY);
	ck_assert_int_eq(flock(fd, LOCK_EX), 0);
	SupRun run = BENCH_RUN("move", "--roster", ROSTER, "--erase", "x");
	bench_expect(&run, 3, "another move is under way (it holds ");
	close(fd);
}
END_TEST

/* ---- mistakes ---- */

#define HEAD "{ \"format\": \"wanderitas-roster/1\",\n  \"from\": \"mmcblk0\",\n"
#define SLOTS HEAD "  \"slots\": [\n    "

static const struct {
	const char *text;
	const char *said; /* behind the file's name */
} mistakes[] = {
	{ "", "this is not JSON" },
	{ "[]", "this is no roster" },
	{ "{ \"format\": \"wanderitas-roster/2\" }", "this is no roster" },
	{ HEAD "  \"slots\": [] }", "slots is missing" },
	{ HEAD "  \"colour\": 1, \"slots\": [ { \"name\": \"a\", \"port\": \"*\" } ] }",
		"there is no key 'colour' here" },
	{ SLOTS "{ \"name\": \"a\", \"image\": \"x\" },\n\n    { \"name\": \"b\", \"sizes\": 1 } ] }",
		":6: there is no key 'sizes' here" },
	{ SLOTS "{ \"port\": \"*\" } ] }", ":4: this slot has no name" },
	{ SLOTS "{ \"name\": \"../a\", \"port\": \"*\" } ] }", ":4: the name '../a'" },
	{ SLOTS "{ \"name\": \"a\" } ] }", ":4: slot 'a' has no rule" },
	{ SLOTS "7 ] }", "a slot is an object" },
	{ SLOTS "{ \"name\": \"a\", \"image\": \"x\", \"port\": \"y\" } ] }",
		":4: slot 'a': an image is named by its file alone" },
	{ SLOTS "{ \"name\": \"a\", \"at_least\": \"much\" } ] }", ":4: at_least is not a size" },
	{ SLOTS "{ \"name\": \"a\", \"serial\": 7 } ] }", ":4: serial is not a text" },
	{ SLOTS "{ \"name\": \"a\", \"image\": \"x\" },\n    { \"name\": \"a\", \"image\": \"y\" } ] }",
		":5: two slots have the name 'a'" },
	{ SLOTS "{ \"name\": \"a\", \"image\": \"x\", \"host_name\": \"h\" },\n"
		"    { \"name\": \"b\", \"image\": \"y\", \"host_name\": \"h\" } ] }",
		":5: slots 'a' and 'b' have the same host name" },
	{ HEAD "  \"host_names\": \"heron\", \"slots\": [ { \"name\": \"a\", \"port\": \"*\" } ] }",
		"a # for the number" },
	{ HEAD "  \"host_names\": [], \"slots\": [\n  { \"name\": \"a\", \"port\": \"*\" } ] }",
		":4: host_names has no name for this slot" },
	{ SLOTS "{ \"name\": \"a\", \"port\": \"usb 9-9\" } ] }",
		"fits no disk that is plugged in" },
	{ SLOTS "{ \"name\": \"a\", \"medium\": \"*\" } ] }",
		":4: slot 'a' fits 4 disks (mmcblk0, nvme0n1, sda, sdb); it must fit one" },
	{ SLOTS "{ \"name\": \"a\", \"medium\": \"SD card\" } ] }", "fits the source, mmcblk0" },
	{ SLOTS "{ \"name\": \"a\", \"port\": \"usb 1-1.2\" },\n"
		"    { \"name\": \"b\", \"serial\": \"RB-0002\" } ] }",
		":5: slot 'b' fits sdb, which slot 'a' (line 4) has" },
	{ SLOTS "{ \"name\": \"a\", \"image\": \"not-there.img\" } ] }", "not-there.img" },
};

/* A USB disk in a dock, as sysfs shows it. */
static void plug_in(const char *name, const char *port, const char *serial)
{
	static const char script[] =
		"cd \"$1\" && hub=sys/devices/usb1/1-1/$3 && disk=$hub/$3:1.0/host0 && "
		"mkdir -p $disk sys/block/$2 && ln -s ../../../$disk sys/block/$2/device && "
		"echo 1433600 >sys/block/$2/size && echo 0 >sys/block/$2/ro && "
		"echo Reedbed SSD >$disk/model && echo $4 >$hub/serial && echo 480 >$hub/speed && "
		"echo 64 >$hub/bMaxPacketSize0 && truncate -s 700M dev/$2";

	SUP_TOOL("sh", "-c", script, "sh", bench_path("."), name, port, serial);
}

START_TEST(mistakes_have_their_line)
{
	plug_in("sda", "1-1.1", "RB-0001");
	plug_in("sdb", "1-1.2", "RB-0002");
	sup_write(ROSTER, mistakes[_i].text);
	SupRun check = BENCH_RUN("roster", ROSTER);
	ck_assert_msg(strstr(check.err, mistakes[_i].said) != NULL, "%s", check.err);
	ck_assert_msg(strstr(check.err, "dock.json") != NULL, "%s", check.err);
	ck_assert(check.code == 3 || check.code == 2);
	SupRun move = BENCH_RUN("move", "--roster", ROSTER, "--erase", "x");
	ck_assert_msg(strstr(move.err, mistakes[_i].said) != NULL, "%s", move.err);
	ck_assert_int_eq(move.code, check.code);
}
END_TEST

START_TEST(too_many_slots)
{
	g_autoptr(GString) text = g_string_new(HEAD "  \"slots\": [\n");

	for (unsigned i = 0; i < 64; i++)
		g_string_append_printf(text, "{ \"name\": \"s%u\", \"image\": \"i%u\" }%s\n", i, i,
			i < 63 ? "," : "] }");
	sup_write(ROSTER, text->str);
	SupRun check = BENCH_RUN("roster", ROSTER);
	bench_expect(&check, 3, ":36: a roster has at most 32 slots, not 64");
}
END_TEST

/* What is drawn is a roster, and names each disk by its port. */
START_TEST(drawn_by_ports)
{
	plug_in("sda", "1-1.1", "RB-0001");
	plug_in("sdb", "1-1.2", "RB-0002");
	SupRun draw = BENCH_RUN("roster", "--from", "mmcblk0", "-o", ROSTER);
	bench_expect(&draw, 0, "3 slots are in");
	SupRun check = BENCH_RUN("roster", ROSTER);
	bench_expect(&check, 0, "usb 1-1.2");
	ck_assert_ptr_nonnull(strstr(check.out, "RB-0001"));
	SupRun both_given = BENCH_RUN("roster", ROSTER, "-o", "x");
	bench_expect(&both_given, 2, "draw a roster");
	SupRun with_to = BENCH_RUN("move", "--roster", ROSTER, "--to", "sda");
	bench_expect(&with_to, 2, "--roster names all targets");
}
END_TEST

/* A whole dock, by the serials of its disks; sdb has another place in the second run's words. */
START_TEST(disks_of_a_dock)
{
	plug_in("sda", "1-1.1", "RB-0001");
	plug_in("sdb", "1-1.2", "RB-0002");
	sup_write(ROSTER, SLOTS
		"{ \"name\": \"left\", \"port\": \"usb 1-1.1\", \"at_least\": "
		"\"600M\", \"at_most\": \"1G\" },\n"
		"    { \"name\": \"right\", \"serial\": \"RB-0002\", \"model\": \"Reed*\" } ] }");
	SupRun run = BENCH_RUN("--json", "move", "--roster", ROSTER, "--erase", "RB-0002,RB-0001",
		"--despite", "power");
	bench_expect(&run, 0, "\"wanderitas-roster-move/1\"");
	sup_judge_ext(bench_path("dev/sda"), ROOT_AT);
	sup_judge_ext(bench_path("dev/sdb"), ROOT_AT);
}
END_TEST

/* A new disk for a slot whose rules fit the disk of another one. */
START_TEST(a_slot_takes_no_other_disk)
{
	plug_in("sda", "1-1.1", "RB-0001");
	plug_in("sdb", "1-1.2", "RB-0002");
	sup_write(ROSTER, SLOTS "{ \"name\": \"left\", \"serial\": \"RB-0001\" },\n"
				"    { \"name\": \"right\", \"serial\": \"RB-0002\" } ] }");
	SupRun run = BENCH_RUN("move", "--roster", ROSTER, "--slot", "left", "--erase", "RB-0001",
		"--despite", "power");
	bench_expect(&run, 0, "1 of 1 disks are ready");
	g_autofree char *hash = g_strdup(sup_hash(bench_path("dev/sda")));
	sup_write(ROSTER, SLOTS "{ \"name\": \"left\", \"serial\": \"RB-0001\" },\n"
				"    { \"name\": \"right\", \"serial\": \"*1\" } ] }");
	SupRun wrong = BENCH_RUN("move", "--roster", ROSTER, "--slot", "right", "--erase",
		"RB-0001", "--despite", "power");
	bench_expect(
		&wrong, 3, "dock.json:5: slot 'right' fits sda, to which slot 'left' was moved");
	ck_assert_str_eq(hash, sup_hash(bench_path("dev/sda")));
}
END_TEST

/* ---- reports ---- */

START_TEST(reports_of_a_roster)
{
	g_autofree char *words = both();
	const char *pages = sup_path("pages");

	two_images();
	SupRun none = BENCH_RUN("--json", "report", "--roster", ROSTER);
	bench_expect(&none, 0, "\"state\": \"none\"");
	SupRun move = BENCH_RUN("move", "--roster", ROSTER, "--erase", words);
	ck_assert_int_eq(move.code, 0);
	SupRun run = BENCH_RUN("report", "--roster", ROSTER, "-o", pages);
	bench_expect(&run, 0, "2 boards: their pages begin with ");
	SUP_TOOL("sh", "-c",
		"cd \"$1\" && grep -q 'href=\"one.html\"' index.html && grep -q 'heron-hide-12: report' "
		"two.html && grep -q '^\"one\",\"north {shore}\",\"heron-hide-11\",\"image\"' "
		"boards.csv && test $(wc -l <boards.csv) = 3",
		"sh", pages);
	/* And once more from what each of them says, as several machines would. */
	SUP_TOOL("mkdir", sup_path("fetched"));
	for (unsigned i = 0; i < 2; i++) {
		g_autofree char *state =
			g_strconcat(ROSTER, i ? ".wanderitas/two" : ".wanderitas/one", NULL);
		SupRun one = BENCH_RUN("--json", "report", state);
		ck_assert_int_eq(one.code, 0);
		sup_write(sup_path(i ? "fetched/b.json" : "fetched/a.json"), one.out);
	}
	SupRun again = BENCH_RUN("--json", "report", "--reports", sup_path("fetched"), "-o", pages);
	bench_expect(&again, 0, "\"page\": \"b.html\"");
	SUP_TOOL("test", "-s", sup_path("pages/a.html"));
	SUP_TOOL("sh", "-c",
		"! command -v chromium >/dev/null || exec \"$1\" \"$2\" boards warnings", "sh",
		WDR_TEST_DATA "/../page/check", sup_path("pages/index.html"));
}
END_TEST

static const struct {
	const char *const words[7];
	int code;
	const char *said;
} reports[] = {
	{ { "report", "--reports", "." }, 2, "no folder for pages to write was named" },
	{ { "report", "--reports", ".", "x", "-o", "y" }, 2, "is about many moves" },
	{ { "report", "--reports", "/nowhere", "-o", "y" }, 3, "cannot read the folder /nowhere" },
	{ { "report", "--roster", "/nowhere", "-o", "y" }, 3, "/nowhere" },
};

START_TEST(wrong_calls_of_reports)
{
	SupRun run = bench_run("", reports[_i].words);

	bench_expect(&run, reports[_i].code, reports[_i].said);
}
END_TEST

START_TEST(a_folder_of_something_else)
{
	SUP_TOOL("mkdir", sup_path("fetched"));
	SupRun none = BENCH_RUN("report", "--reports", sup_path("fetched"), "-o", sup_path("y"));
	bench_expect(&none, 2, "has no reports (*.json)");
	sup_write(sup_path("fetched/a.json"), "{ \"format\": \"wanderitas-status/2\" }");
	SupRun other = BENCH_RUN("report", "--reports", sup_path("fetched"), "-o", sup_path("y"));
	bench_expect(&other, 3, "a.json is no report of a move");
	sup_write(sup_path("fetched/a.json"), "{ \"format\": ");
	SupRun broken = BENCH_RUN("report", "--reports", sup_path("fetched"), "-o", sup_path("y"));
	bench_expect(&broken, 3, "a.json");
	ck_assert(!g_file_test(sup_path("y"), G_FILE_TEST_EXISTS));
}
END_TEST

Suite *suite_roster(void)
{
	Suite *s = suite_create("cli/roster");
	TCase *t = tcase_create("roster");

	tcase_set_timeout(t, 120);
	tcase_add_unchecked_fixture(t, bench_make, bench_remove);
	tcase_add_checked_fixture(t, sup_setup, sup_teardown);
	tcase_add_test(t, two_at_once);
	tcase_add_test(t, the_number_is_asked_for);
	tcase_add_test(t, agreed_but_not_begun);
	tcase_add_test(t, erase_names_all);
	tcase_add_loop_test(t, one_fails_alone, 0, (int)G_N_ELEMENTS(ends));
	tcase_add_test(t, a_new_disk_for_a_slot);
	tcase_add_test(t, found_by_its_name);
	tcase_add_test(t, one_disk_by_two_names);
	tcase_add_test(t, two_rosters_at_once);
	tcase_add_loop_test(t, mistakes_have_their_line, 0, (int)G_N_ELEMENTS(mistakes));
	tcase_add_test(t, too_many_slots);
	tcase_add_test(t, drawn_by_ports);
	tcase_add_test(t, disks_of_a_dock);
	tcase_add_test(t, a_slot_takes_no_other_disk);
	tcase_add_test(t, reports_of_a_roster);
	tcase_add_loop_test(t, wrong_calls_of_reports, 0, (int)G_N_ELEMENTS(reports));
	tcase_add_test(t, a_folder_of_something_else);
	suite_add_tcase(s, t);
	return s;
}
