/* The program's own face: help, usage, survey, draft, demo. */
#include "bench.h"

#include "base/cleanup.h"

#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

Suite *suite_commands(void);

START_TEST(version)
{
	SupRun run = WANDERITAS("--version");

	bench_expect(&run, 0, "wanderitas " WDR_VERSION " (commit ");
	bench_expect(&run, 0, "\n  libext2fs    1.");
}
END_TEST

static const struct {
	const char *arguments[6];
	const char *text;
} usage[] = {
	{ { "fly" }, "there is no command 'fly'" },
	{ { "--wings", "survey" }, "--wings" },
	{ { "survey", "--wings" }, "survey --help" },
	{ { "survey", "no-such-disk" }, "no disk and no image file 'no-such-disk'" },
	{ { "draft" }, "no target was named" },
	{ { "draft", "--to", "nvme0n1", "extra" }, "draft takes no 'extra'" },
	{ { "draft", "--to", "nvme0n1", "--table", "bsd" }, "--table is same, mbr or gpt" },
	{ { "draft", "--to", "nvme0n1", "--name-by", "serial" }, "--name-by is" },
	{ { "draft", "--to", "nvme0n1", "--leave-free", "lots" }, "'lots' is not a size" },
	{ { "draft", "--to", "nvme0n1", "--state", "" }, "--state was given an empty name" },
	{ { "draft", "--to", "nvme0n1", "--sector-size", "300" }, "--sector-size is 512 or 4096" },
	{ { "draft", "--to", "nvme0n1", "--name-by", "partlabel" },
		"an MBR has no partition labels" },
	{ { "move" }, "no target was named" },
	{ { "move", "a.json", "b.json" }, "move takes one itinerary" },
	{ { "move", "a.json", "--to", "nvme0n1" }, "give either an itinerary file or" },
	{ { "demo" }, "demo takes one folder" },
	{ { "draft", "--to", "nvme0n1", "--leave-free", "10" }, "'10' is a size without a unit" },
	{ { "draft", "--to", "nvme0n1p1" }, "name the disk that it is on: nvme0n1" },
	{ { "draft", "--to", "mmcblk0p2" }, "mmcblk0p2 is a partition, not a whole disk" },
	{ { "tune", "--write" }, "--write needs --set or --unset" },
	{ { "order", "--write" }, "there is nothing to apply" },
	{ { "loader", "x.bin", "--board", "owl" }, "give either an image or --board, not both" },
	{ { "survey", "/" }, "/ is a folder, not a disk or an image file" },
	{ { "survey", "/dev/null" }, "/dev/null is a device of another kind" },
	{ { "move", "plan.json" }, "there is no itinerary 'plan.json'" },
	{ { "move", "/" }, "/ is a folder, not an itinerary" },
	{ { "catchup", "plan.json" }, " draft --to DISK -o plan.json\n" },
	{ { "report", "plan.json", "-o", "x.html" }, "there is no itinerary 'plan.json'" },
};

START_TEST(wrong_words)
{
	SupRun run = bench_run("", usage[_i].arguments);

	bench_expect(&run, 2, usage[_i].text);
	ck_assert_str_eq(run.out, "");
}
END_TEST

/* On a terminal of 80 columns tables wrap, and lose nothing. */
START_TEST(tables_fit_a_narrow_terminal)
{
	static const char *const words[] = { "survey", "survey --mentions", "draft --to nvme0n1" };
	g_autofree char *command = g_strdup_printf("stty cols 80; %s --bench %s --no-color %s",
		sup_program(), bench_path("."), words[_i]);
	if (SUP_RUN("script", "-qec", "true", "/dev/null").code != 0) {
		printf("skipped: a terminal of 80 columns: there are no pseudo terminals here\n");
		return;
	}
	SupRun run = SUP_RUN("script", "-qec", command, "/dev/null");
	g_auto(GStrv) lines = g_strsplit(run.out, "\n", -1);

	ck_assert_int_eq(run.code, 0);
	ck_assert_ptr_nonnull(strstr(run.out, "mmcblk0"));
	for (size_t i = 0; lines[i]; i++) {
		/* Diffs and commands are not broken. */
		bool is_whole = strchr("+-", *lines[i]) || strstr(lines[i], sup_program());
		size_t len = strcspn(lines[i], "\r");
		ck_assert_msg(is_whole || len <= 80 || strchr(lines[i], '\033'), "%zu columns: %s",
			len, lines[i]);
	}
}
END_TEST

START_TEST(verbose_in_our_own_words)
{
	SupRun run = BENCH_RUN("-v", "order");

	bench_expect(&run, 0, "  running ");
	bench_expect(&run, 0, "/vcgencmd bootloader_config\n");
	ck_assert_ptr_null(strstr(run.err, "DEBUG"));
}
END_TEST

START_TEST(demo_refuses_a_full_folder)
{
	sup_write(sup_path("mine"), "mine");
	SupRun run = WANDERITAS("demo", sup_folder());

	bench_expect(&run, 3, "is not empty");
	ck_assert_int_ne(access(sup_path("dev"), F_OK), 0);
}
END_TEST

START_TEST(survey_shows_all)
{
	static const char *const want[] = { "heron-hide-3", "Field Station Controller Board Rev 2",
		"runs on  mmcblk0p2", "SD card", "PCIe 5.0 GT/s x1", "RB2G-000417", "600 MiB",
		"MBR 4c1fa2b0", "firmware", "F3A1-77C2", "6d1c7a52-0b7e-4f5e-9a43-2f8f5d1b9c30",
		"/boot/firmware", "vfat (FAT32)", "mmcblk0p1:/cmdline.txt\n  1:42",
		"mmcblk0p2:/etc/fstab\n", "\n  4:1    root   / " };
	SupRun run = BENCH_RUN("survey");

	bench_expect(&run, 0, NULL);
	for (size_t i = 0; i < G_N_ELEMENTS(want); i++)
		ck_assert_msg(strstr(run.out, want[i]) != NULL, "no %s in:\n%s", want[i], run.out);
	SupRun mentions = BENCH_RUN("survey", "--mentions");
	ck_assert_ptr_null(strstr(mentions.out, "SD card"));
	ck_assert_ptr_nonnull(strstr(mentions.out, "cmdline.txt"));
}
END_TEST

START_TEST(survey_as_json)
{
	SupRun run = BENCH_RUN("--json", "survey");
	json_error_t e;
	g_autoptr(json_t) root = json_loads(run.out, JSON_REJECT_DUPLICATES, &e);

	bench_expect(&run, 0, NULL);
	ck_assert_ptr_nonnull(root);
	ck_assert_str_eq(json_string_value(json_object_get(root, "format")), "wanderitas-survey/2");
	json_t *card = json_array_get(json_object_get(root, "disks"), 0);
	ck_assert_int_eq(json_integer_value(json_object_get(card, "size")), 629145600);
	ck_assert_uint_eq(json_array_size(json_object_get(card, "mentions")), 4);
	json_t *part = json_array_get(json_object_get(card, "partitions"), 1);
	ck_assert_str_eq(json_string_value(json_object_get(part, "role")), "root");
	ck_assert_str_eq(json_string_value(json_object_get(part, "mounted_at")), "/");
}
END_TEST

START_TEST(survey_of_an_image)
{
	SupRun run = WANDERITAS("survey", bench_path("dev/mmcblk0"));

	bench_expect(&run, 0, "mmcblk0:1");
	ck_assert_ptr_nonnull(strstr(run.out, "image"));
	ck_assert_ptr_null(strstr(run.out, "runs on"));
}
END_TEST

START_TEST(survey_tells_of_errors_that_the_kernel_noted)
{
	static const char *const requests[] = { "ssv state 3", NULL };

	bench_change_root(bench_path("dev/mmcblk0"), requests);
	SupRun run = BENCH_RUN("survey");
	bench_expect(&run, 0, "mmcblk0p2: the kernel noted errors in this volume");
}
END_TEST

START_TEST(survey_of_this_machine)
{
	SupRun run = WANDERITAS("survey");

	ck_assert_msg(run.code == 0 || run.code == 1, "%s", run.err);
	ck_assert_ptr_nonnull(strstr(run.out, "DISK"));
}
END_TEST

/* Each folder leads into itself, into its parent, and back to the top: 2^N ways through it. */
static void add_loops(const char *folder)
{
	const char *const targets[] = { ".", "..", bench_path(".") };

	for (size_t i = 0; i < G_N_ELEMENTS(targets); i++) {
		g_autofree char *name = g_strdup_printf("%s/loop-%zu", folder, i);
		ck_assert_int_eq(symlink(targets[i], name), 0);
	}
}

START_TEST(survey_of_a_machine_that_leads_back_to_itself)
{
	SupRun before = BENCH_RUN("survey");
	g_auto(GStrv) folders =
		g_strsplit(SUP_TOOL("find", bench_path("dev"), bench_path("proc"),
				   bench_path("sys"), bench_path("root"), "-type", "d"),
			"\n", -1);

	for (guint i = 0; folders[i] && *folders[i]; i++)
		add_loops(folders[i]);
	SupRun after = BENCH_RUN("survey");
	bench_expect(&after, 0, "nvme0n1");
	ck_assert_str_eq(before.out, after.out);
}
END_TEST

START_TEST(survey_tells_of_missing_rights)
{
	if (sup_is_root()) {
		SUP_TOOL("chmod", "-R", "a+rX", sup_folder());
		SUP_TOOL("chmod", "0", bench_path("dev/nvme0n1"));
		const char *argv[] = { "setpriv", "--reuid=65534", "--regid=65534",
			"--clear-groups", bench_program_for_others(), "--bench", bench_path("."),
			"survey", NULL };
		SupRun run = sup_run("", argv);
		bench_expect(&run, 1, "no rights to read");
		ck_assert_ptr_nonnull(strstr(run.out, "to see what is on the disks: sudo "));
		return;
	}
	ck_assert_int_eq(chmod(bench_path("dev/nvme0n1"), 0), 0);
	SupRun run = BENCH_RUN("survey");
	bench_expect(&run, 1, "no rights to read");
}
END_TEST

START_TEST(draft_changes_nothing)
{
	g_autofree char *card = g_strdup(sup_hash(bench_path("dev/mmcblk0")));
	g_autofree char *drive = g_strdup(sup_hash(bench_path("dev/nvme0n1")));
	SupRun run = BENCH_RUN("draft", "--to", "nvme0n1", "-o", sup_path("it.json"));

	bench_expect(&run, 0, "EDITS ON THE TARGET");
	ck_assert_ptr_nonnull(strstr(run.out, "-PARTUUID=4c1fa2b0-01    /boot/firmware"));
	ck_assert_str_eq(card, sup_hash(bench_path("dev/mmcblk0")));
	ck_assert_str_eq(drive, sup_hash(bench_path("dev/nvme0n1")));
	ck_assert_int_ne(access(bench_path("root/var/lib/wanderitas"), F_OK), 0);
	g_autofree char *json = sup_read(sup_path("it.json"), NULL);
	ck_assert_ptr_nonnull(strstr(json, "\"wanderitas-itinerary/1\""));
	SupRun as_json = BENCH_RUN("--json", "--quiet", "draft", "--to", "nvme0n1");
	json_error_t e;
	g_autoptr(json_t) root = json_loads(as_json.out, 0, &e);
	ck_assert_ptr_nonnull(root);
	ck_assert_str_eq(as_json.err, "");
}
END_TEST

START_TEST(draft_says_what_is_missing)
{
	sup_make_image(sup_path("small.img"), 150 << 20);
	SupRun run = BENCH_RUN("draft", "--to", sup_path("small.img"));

	bench_expect(&run, 3, "is too small by");
	ck_assert_ptr_nonnull(strstr(run.err, "partition 2 (root)"));
}
END_TEST

/* Whatever the locale, or none at all as under sudo and on a console: tables come to their end,
 * names are read, and numbers are the same everywhere. */
static const struct {
	const char *name;
	const char *from, *charset; /* that localedef makes it of; NULL: it need not be made */
} locales[] = { { "C", NULL, NULL }, { "POSIX", NULL, NULL }, { "no_SUCH", NULL, NULL },
	{ "C.UTF-8", NULL, NULL }, { "de_DE.UTF-8", "de_DE", "UTF-8" },
	{ "de_DE", "de_DE", "ISO-8859-1" } };

START_TEST(in_any_locale)
{
	const char *name = locales[_i].name;
	const char *from = locales[_i].from;
	g_autofree char *setting = g_strconcat("LC_ALL=", name, NULL);
	g_autofree char *path = g_strconcat("LOCPATH=", from ? sup_folder() : "", NULL);

	if (from &&
		SUP_RUN("localedef", "-i", from, "-f", locales[_i].charset, sup_path(name)).code !=
			0) {
		printf("skipped: the locale %s cannot be made here\n", name);
		return;
	}
	/* Programs are run in C.UTF-8 but for what env says. */
	SupRun run = SUP_RUN("env", setting, path, "timeout", "-s", "KILL", "60", sup_program(),
		"--bench", bench_path("."), "draft", "--to", "nvme0n1", "--leave-behind",
		"V\xc3\xb6gel*");
	/* Whoever asks for C gets ASCII. */
	bool is_ascii = strcmp(name, "C") == 0 || strcmp(name, "POSIX") == 0;
	bench_expect(&run, 0, is_ascii ? "V\\xc3\\xb6gel*" : "V\xc3\xb6gel*");
	bench_expect(&run, 0, "128 MiB   7.5 MiB");
}
END_TEST

Suite *suite_commands(void)
{
	Suite *s = suite_create("cli/commands");
	TCase *t = tcase_create("commands");

	tcase_add_unchecked_fixture(t, bench_make, bench_remove);
	tcase_add_checked_fixture(t, sup_setup, sup_teardown);
	tcase_add_test(t, version);
	tcase_add_loop_test(t, wrong_words, 0, (int)G_N_ELEMENTS(usage));
	tcase_add_loop_test(t, tables_fit_a_narrow_terminal, 0, 3);
	tcase_add_test(t, verbose_in_our_own_words);
	tcase_add_test(t, demo_refuses_a_full_folder);
	tcase_add_test(t, survey_shows_all);
	tcase_add_test(t, survey_as_json);
	tcase_add_test(t, survey_of_an_image);
	tcase_add_test(t, survey_tells_of_errors_that_the_kernel_noted);
	tcase_add_test(t, survey_of_this_machine);
	tcase_add_test(t, survey_of_a_machine_that_leads_back_to_itself);
	tcase_add_test(t, survey_tells_of_missing_rights);
	tcase_add_test(t, draft_changes_nothing);
	tcase_add_test(t, draft_says_what_is_missing);
	tcase_add_loop_test(t, in_any_locale, 0, (int)G_N_ELEMENTS(locales));
	suite_add_tcase(s, t);
	return s;
}
