/* Advice works when it is pasted: a command finds something, the command that it ends in is run
 * word for word, and the first command finds it no more. */
#include "boards.h"

#include <signal.h>
#include <string.h>

Suite *suite_advice(void);

/* The command at the end of the advice that follows a text; fails the test where there is none. */
static char *advice_after(const SupRun *run, const char *finding)
{
	g_autofree char *all = g_strconcat(run->out, run->err, NULL);
	g_autofree char *begins = g_strconcat(sup_program(), " --bench ", NULL);
	const char *found = strstr(all, finding);

	ck_assert_msg(found != NULL, "no '%s' in:\n%s", finding, all);
	const char *command = strstr(found, begins);
	ck_assert_msg(command != NULL, "no command behind '%s' in:\n%s", finding, all);
	return g_strndup(command, strcspn(command, "\n"));
}

static void follow(const SupRun *run, const char *finding)
{
	g_autofree char *command = advice_after(run, finding);
	SupRun pasted = SUP_RUN("bash", "-c", command);

	/* 1: done, and something else was left for a person. */
	ck_assert_msg(pasted.code <= 1, "%s\nended with %d:\n%s%s", command, pasted.code,
		pasted.out, pasted.err);
}

/* A finding made by a command in bash (see board_shell), on one of the boards; the fourth is
 * dipper-brook-4. */
enum { HERON, BITTERN, KINGFISHER, DIPPER };
static const struct {
	int board;
	const char *prepare;
	const char *first[6];
	const char *finding;
} loops[] = {
	{ HERON, "printf 'root=/dev/mmcblk0p2 rootwait\n' > c; mcopy -o -i $I@@4M c ::cmdline.txt",
		{ "rehearse", "mmcblk0", "--medium", "nvme" },
		"attached as NVMe, no disk is called so" },
	{ HERON,
		"printf 'root=UUID=6d1c7a52-0b7e-4f5e-9a43-2f8f5d1b9c30 rootwait' > c;"
		"mcopy -o -i $I@@4M c ::cmdline.txt; echo arm_64bit=1 > c; mcopy -o -i $I@@4M c ::config.txt",
		{ "rehearse", "mmcblk0" }, "without an initramfs the kernel finds root by" },
	{ HERON,
		"printf 'root=PARTUUID=4c1fa2b1-02 rootwait' > c; mcopy -o -i $I@@4M c ::cmdline.txt",
		{ "rehearse", "mmcblk0" }, "it names nothing on this disk" },
	{ HERON,
		"printf 'PARTUUID=4c1fa2b1-01 /boot/firmware vfat defaults 0 2\nPARTUUID=4c1fa2b0-02 / "
		"ext4 defaults 0 1\n' > f; printf 'rm /etc/fstab\nwrite f /etc/fstab\n' | debugfs -w -f - $V2",
		{ "rehearse", "mmcblk0" }, "names nothing on this disk: the start waits 90 s" },
	{ BITTERN, "mangle s/2f9a61c4/2f9a61c5/", { "rehearse", "mmcblk1" },
		"it names nothing on this disk" },
	{ DIPPER, "true", { "ready", "--to", "nvme0n1" },
		"driver is only on the root disk itself" },
	{ DIPPER, "true", { "rehearse", "mmcblk1", "--medium", "nvme" },
		"driver is only on the root disk itself" },
};

static const char shorthands[] =
	"mangle() { debugfs -R 'cat /boot/extlinux/extlinux.conf' $V1 > x 2>/dev/null; sed -i \"$1\" x; "
	"printf 'rm /boot/extlinux/extlinux.conf\nwrite x /boot/extlinux/extlinux.conf\n' | debugfs -w -f - $V1; }; ";

START_TEST(what_is_advised_mends_it)
{
	const Board *b = loops[_i].board == DIPPER ? &board_brook : &boards[loops[_i].board];

	board_shell(b, shorthands, loops[_i].prepare);
	SupRun run = board_run(b, loops[_i].first);
	follow(&run, loops[_i].finding);
	SupRun again = board_run(b, loops[_i].first);
	ck_assert_msg(!strstr(again.out, loops[_i].finding), "still there:\n%s", again.out);
}
END_TEST

/* Whatever looks at the target of an interrupted move says how to go on with it. */
static const struct {
	const char *first[4];
	const char *finding;
} unfinished[] = {
	{ { "survey" }, "was begun and not ended" },
	{ { "rehearse", "nvme0n1" }, "the target of an unfinished move" },
	{ { "catchup" }, "the target of an unfinished move" },
};

START_TEST(an_interrupted_move_goes_on)
{
	int code = BENCH_INTERRUPT(
		SIGTERM, "copying partition 1", "move", "--to", "nvme0n1", "--erase", "nvme0n1");

	ck_assert_int_eq(code, 4);
	SupRun run = bench_run("", unfinished[_i].first);
	follow(&run, unfinished[_i].finding);
	SupRun again = bench_run("", unfinished[_i].first);
	ck_assert_ptr_null(strstr(again.out, unfinished[_i].finding));
	ck_assert_ptr_null(strstr(again.err, unfinished[_i].finding));
}
END_TEST

START_TEST(the_message_of_the_stop_goes_on)
{
	BENCH_INTERRUPT(
		SIGTERM, "copying partition 1", "move", "--to", "nvme0n1", "--erase", "nvme0n1");
	SupRun stopped = { 0, sup_read(sup_path("out"), NULL), (char *)(uintptr_t) "" };

	follow(&stopped, "stopped part-way");
	SupRun run = BENCH_RUN("rehearse", "nvme0n1");
	bench_expect(&run, 0, "boots");
	free(stopped.out);
}
END_TEST

/* What a change in place says last is how to undo it. */
static const char *const changes[][6] = {
	{ "tune", "--set", "pcie-gen3", "--write" },
	{ "readdress", "mmcblk0", "--renew", "--write" },
};

START_TEST(a_change_is_undone)
{
	const char *before = bench_boot_file(bench_path("dev/mmcblk0"), "config.txt");
	const char *line = bench_boot_file(bench_path("dev/mmcblk0"), "cmdline.txt");
	SupRun run = bench_run("", changes[_i]);

	bench_expect(&run, 0, "done");
	follow(&run, "to restore");
	ck_assert_str_eq(before, bench_boot_file(bench_path("dev/mmcblk0"), "config.txt"));
	ck_assert_str_eq(line, bench_boot_file(bench_path("dev/mmcblk0"), "cmdline.txt"));
}
END_TEST

/* Advice is quoted for a shell, and never broken into lines. */
START_TEST(names_with_blanks_are_quoted)
{
	g_autofree char *image = g_strdup(sup_path("my card.img"));

	SUP_TOOL("cp", bench_path("dev/mmcblk0"), image);
	SUP_TOOL("bash", "-c",
		"cd \"$1\"; printf 'root=PARTUUID=4c1fa2b1-02 rootwait' > c; mcopy -o -i \"$2\"@@4M c "
		"::cmdline.txt",
		"bash", sup_folder(), image);
	SupRun run = WANDERITAS("rehearse", image);
	g_autofree char *quoted = g_strdup_printf("readdress '%s' --write\n", image);
	bench_expect(&run, 1, quoted);
}
END_TEST

static const struct {
	const char *words[4];
	const char *says;
} mistyped[] = {
	{ { "suvrey" }, "there is no command 'suvrey'; did you mean 'survey'?" },
	{ { "help", "mvoe" }, "did you mean 'move'?" },
	{ { "survey", "--mention" }, "did you mean '--mentions'?" },
	{ { "--jsn", "survey" }, "did you mean '--json'?" },
	{ { "survey", "nvme0n2" }, "did you mean 'nvme0n1'?" },
	{ { "pace", "--seconds", "abc" }, "--seconds needs a number, not 'abc'" },
	{ { "draft", "--to" }, "--to needs a value" },
	{ { "fly" }, "there is no command 'fly'\n" },
};

START_TEST(a_mistyped_word)
{
	SupRun run = bench_run("", mistyped[_i].words);

	bench_expect(&run, 2, mistyped[_i].says);
	ck_assert_ptr_null(strstr(run.err, "“"));
}
END_TEST

START_TEST(help_is_the_same_as_the_option)
{
	SupRun help = WANDERITAS("help", "move");
	SupRun option = WANDERITAS("move", "--help");
	SupRun all = WANDERITAS("help");
	SupRun version = WANDERITAS("-V");

	bench_expect(&help, 0, "--accept-damage");
	ck_assert_str_eq(help.out, option.out);
	bench_expect(&all, 0, "rehearse");
	bench_expect(&version, 0, "wanderitas 0.");
}
END_TEST

Suite *suite_advice(void)
{
	Suite *s = suite_create("cli/advice");
	TCase *t = tcase_create("advice");

	tcase_add_unchecked_fixture(t, bench_make, bench_remove);
	tcase_add_checked_fixture(t, sup_setup, sup_teardown);
	tcase_add_loop_test(t, what_is_advised_mends_it, 0, (int)G_N_ELEMENTS(loops));
	tcase_add_loop_test(t, an_interrupted_move_goes_on, 0, (int)G_N_ELEMENTS(unfinished));
	tcase_add_test(t, the_message_of_the_stop_goes_on);
	tcase_add_loop_test(t, a_change_is_undone, 0, (int)G_N_ELEMENTS(changes));
	tcase_add_test(t, names_with_blanks_are_quoted);
	tcase_add_loop_test(t, a_mistyped_word, 0, (int)G_N_ELEMENTS(mistyped));
	tcase_add_test(t, help_is_the_same_as_the_option);
	suite_add_tcase(s, t);
	return s;
}
