/* A root that moves alone into a partition of a disk that is in use for other things. */
#include "bench.h"

#include <signal.h>
#include <string.h>

Suite *suite_into(void);

#define DRIVE bench_path("dev/nvme0n1")
#define CARD bench_path("dev/mmcblk0")
#define INTO(partition) "--to", "nvme0n1", "--what", "root", "--into", partition

enum { MIB = 1024 * 1024, DATA_AT = 1 * MIB, SPARE_AT = 301 * MIB, MORE_AT = 1201 * MIB };

static const char *const tables[] = {
	"label: gpt\nstart=2048, size=300M, name=data\nsize=900M, name=spare\nsize=200M, name=more\n",
	"label: dos\nstart=2048, size=300M, type=83\nsize=900M, type=7\nsize=200M, type=83, bootable\n",
};

/* Bytes of all but the partition in the middle. */
static char *others(void)
{
	g_autofree char *script = g_strdup_printf(
		"sfdisk -d '%s'; head -c %u '%s' | xxh128sum; tail -c +%u '%s' | xxh128sum", DRIVE,
		(unsigned)SPARE_AT, DRIVE, (unsigned)MORE_AT + 1, DRIVE);
	const char *argv[] = { "bash", "-c", script, NULL };

	return g_strdup(sup_tool(argv));
}

static void make_drive(const char *table)
{
	const char *argv[] = { "sfdisk", "-q", DRIVE, NULL };
	g_autofree char *data = g_strdup_printf("offset=%u", (unsigned)DATA_AT);

	ck_assert_int_eq(sup_run(table, argv).code, 0);
	SUP_TOOL("mkfs.ext4", "-q", "-F", "-L", "DATA", "-E", data, DRIVE, "290M");
	sup_poke(DRIVE, MORE_AT, "kept", 4);
}

START_TEST(the_rest_of_the_disk_stays)
{
	make_drive(tables[_i]);
	g_autofree char *before = others();
	SupRun run = BENCH_RUN("move", INTO("2"), "--erase", "nvme0n1p2");

	bench_expect(&run, 0, "only nvme0n1p2 (900 MiB, nothing that is known) will be erased");
	bench_expect(&run, 0, "done:");
	g_autofree char *after = others();
	ck_assert_str_eq(before, after);
	sup_judge_ext(DRIVE, SPARE_AT);
	const char *partuuid = _i == 0 ? "root=PARTUUID=" : "-02";
	ck_assert_ptr_nonnull(strstr(bench_boot_file(CARD, "cmdline.txt"), partuuid));
	SupRun survey = BENCH_RUN("survey", "--mentions");
	ck_assert_ptr_null(strstr(survey.out, "no such disk"));
}
END_TEST

/* Root is number 2 on the card and becomes number 3. */
START_TEST(another_number)
{
	make_drive("label: gpt\nstart=2048, size=300M\nsize=100M\nsize=900M\n");
	SupRun run = BENCH_RUN(
		"move", INTO("/dev/nvme0n1p3"), "--name-by", "path", "--erase", "nvme0n1p3");

	bench_expect(&run, 0, "done:");
	ck_assert_ptr_nonnull(strstr(bench_boot_file(CARD, "cmdline.txt"), "root=/dev/nvme0n1p3 "));
	sup_judge_ext(DRIVE, UINT64_C(401) * MIB);
}
END_TEST

START_TEST(interrupted)
{
	make_drive(tables[0]);
	g_autofree char *before = others();
	int code = BENCH_INTERRUPT(
		SIGKILL, "reading partition 2", "move", INTO("2"), "--erase", "nvme0n1p2");

	ck_assert_int_eq(code, 128 + SIGKILL);
	SupRun survey = BENCH_RUN("survey");
	bench_expect(&survey, 1, "a move to this disk is unfinished, and it will not boot");
	SupRun run = BENCH_RUN("move", "--resume");
	bench_expect(&run, 0, "done:");
	g_autofree char *after = others();
	ck_assert_str_eq(before, after);
	sup_judge_ext(DRIVE, SPARE_AT);
}
END_TEST

static const struct {
	const char *arguments[8];
	int code;
	const char *text;
} refusals[] = {
	{ { "--into", "2" }, 2, "--into goes with --what root" },
	{ { "--what", "root", "--into", "9" }, 3, "has no partition '9' to move into" },
	{ { "--what", "root", "--into", "sda2" }, 3, "has no partition 'sda2'" },
	{ { "--what", "root", "--into", "2", "--table", "gpt" }, 2, "cannot go with --table" },
	{ { "--what", "root", "--into", "3" }, 3, "is too small" },
	{ { "--what", "root", "--into", "3", "--name-by", "partlabel" }, 2,
		"no label to name it by" },
};

START_TEST(refused)
{
	const char *argv[12] = { "draft", "--to", "nvme0n1" };

	make_drive("label: gpt\nstart=2048, size=300M\nsize=900M\nsize=24M\n");
	g_autofree char *before = g_strdup(sup_hash(DRIVE));
	for (size_t i = 0; refusals[_i].arguments[i]; i++)
		argv[3 + i] = refusals[_i].arguments[i];
	SupRun run = bench_run("", argv);
	bench_expect(&run, refusals[_i].code, refusals[_i].text);
	ck_assert_str_eq(before, sup_hash(DRIVE));
}
END_TEST

START_TEST(not_what_was_drafted)
{
	const char *argv[] = { "sfdisk", "-q", DRIVE, NULL };

	make_drive(tables[0]);
	SupRun draft = BENCH_RUN("draft", INTO("2"), "-o", sup_path("plan.json"));
	bench_expect(&draft, 0, NULL);
	SupRun name = BENCH_RUN("move", sup_path("plan.json"), "--erase", "nvme0n1");
	bench_expect(&name, 3, "'nvme0n1' is not the name of the partition to move into");
	g_autofree char *id = g_strstrip(g_strdup(SUP_TOOL("sfdisk", "--disk-id", DRIVE)));
	g_autofree char *other =
		g_strdup_printf("label: gpt\nlabel-id: %s\nstart=2048, size=299M\nsize=900M\n", id);
	ck_assert_int_eq(sup_run(other, argv).code, 0);
	SupRun moved = BENCH_RUN("move", sup_path("plan.json"), "--erase", "nvme0n1p2");
	bench_expect(&moved, 3, "partition 2 of nvme0n1 is not where it was");
	SupRun json = SUP_RUN("sed", "-i", "s/\"what\": \"root\"/\"what\": \"everything\"/",
		sup_path("plan.json"));
	ck_assert_int_eq(json.code, 0);
	SupRun edited = BENCH_RUN("move", sup_path("plan.json"), "--erase", "nvme0n1p2");
	bench_expect(&edited, 3, "the itinerary is damaged");
}
END_TEST

Suite *suite_into(void)
{
	Suite *s = suite_create("cli/into");
	TCase *t = tcase_create("into");

	tcase_add_unchecked_fixture(t, bench_make, bench_remove);
	tcase_add_checked_fixture(t, sup_setup, sup_teardown);
	tcase_add_loop_test(t, the_rest_of_the_disk_stays, 0, (int)G_N_ELEMENTS(tables));
	tcase_add_test(t, another_number);
	tcase_add_test(t, interrupted);
	tcase_add_loop_test(t, refused, 0, (int)G_N_ELEMENTS(refusals));
	tcase_add_test(t, not_what_was_drafted);
	suite_add_tcase(s, t);
	return s;
}
