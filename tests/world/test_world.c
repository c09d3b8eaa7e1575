#include "support.h"

#include "base/io.h"

#include <string.h>

Suite *suite_world(void);

static WdrWorld *bench(void)
{
	WdrWorld *world = NULL;

	sup_ok(wdr_make_folder(sup_path("dev"), &error));
	sup_ok(wdr_make_folder(sup_path("root"), &error));
	sup_ok(wdr_make_folder(sup_path("bin"), &error));
	sup_ok(wdr_world_new(sup_folder(), &world, &error));
	return world;
}

static const struct {
	const char *path, *want;
} paths[] = { { "/etc/fstab", "root/etc/fstab" }, { "/dev/sda", "dev/sda" }, { "/dev", "dev" },
	{ "/devices", "root/devices" }, { "/proc/self/mountinfo", "proc/self/mountinfo" },
	{ "/sys/block", "sys/block" }, { "/system", "root/system" } };

START_TEST(bench_paths)
{
	g_autoptr(WdrWorld) world = bench();
	g_autofree char *got = wdr_world_path(world, paths[_i].path);

	ck_assert_str_eq(got, sup_path(paths[_i].want));
}
END_TEST

START_TEST(machine_paths)
{
	g_autofree char *got = wdr_world_path(sup_world(), "/dev/sda");

	ck_assert_str_eq(got, "/dev/sda");
}
END_TEST

START_TEST(no_bench)
{
	WdrWorld *world = NULL;

	sup_fails(WDR_ERROR_USAGE, "is not a bench", wdr_world_new(sup_folder(), &world, &error));
}
END_TEST

START_TEST(runs_programs)
{
	static const char *const argv[] = { "sh", "-c",
		"echo out; echo err >&2; echo $LC_ALL $ADDED; exit 3", NULL };
	static const char *const environment[] = { "ADDED=yes", NULL };
	g_auto(WdrRun) run = { 0 };

	sup_ok(wdr_world_run(sup_world(), argv, environment, &run, &error));
	ck_assert_int_eq(run.exit_code, 3);
	ck_assert_str_eq(run.output, "out\nC yes\nerr\n");
}
END_TEST

START_TEST(finds_sbin_programs)
{
	static const char *const argv[] = { "mkfs.ext4", "-V", NULL };
	g_auto(WdrRun) run = { 0 };

	g_setenv("PATH", "/usr/bin", TRUE);
	sup_ok(wdr_world_run(sup_world(), argv, NULL, &run, &error));
	ck_assert_ptr_nonnull(strstr(run.output, "mke2fs"));
}
END_TEST

START_TEST(bench_programs_come_first)
{
	g_autoptr(WdrWorld) world = bench();
	static const char *const argv[] = { "ls", NULL };
	g_auto(WdrRun) run = { 0 };

	sup_write(sup_path("bin/ls"), "#!/bin/sh\necho stand-in\n");
	SUP_TOOL("chmod", "755", sup_path("bin/ls"));
	sup_ok(wdr_world_run(world, argv, NULL, &run, &error));
	ck_assert_str_eq(run.output, "stand-in\n");
}
END_TEST

START_TEST(missing_program)
{
	static const char *const argv[] = { "no-such-program", NULL };
	g_auto(WdrRun) run = { 0 };

	sup_fails(WDR_ERROR_IO, "no-such-program is not installed",
		wdr_world_run(sup_world(), argv, NULL, &run, &error));
}
END_TEST

START_TEST(killed_program)
{
	static const char *const argv[] = { "sh", "-c", "kill -9 $$", NULL };
	g_auto(WdrRun) run = { 0 };

	sup_ok(wdr_world_run(sup_world(), argv, NULL, &run, &error));
	ck_assert_int_eq(run.exit_code, 128 + 9);
}
END_TEST

Suite *suite_world(void)
{
	Suite *s = suite_create("world");
	TCase *t = tcase_create("world");

	tcase_add_checked_fixture(t, sup_setup, sup_teardown);
	tcase_add_loop_test(t, bench_paths, 0, (int)G_N_ELEMENTS(paths));
	tcase_add_test(t, machine_paths);
	tcase_add_test(t, no_bench);
	tcase_add_test(t, runs_programs);
	tcase_add_test(t, finds_sbin_programs);
	tcase_add_test(t, bench_programs_come_first);
	tcase_add_test(t, missing_program);
	tcase_add_test(t, killed_program);
	suite_add_tcase(s, t);
	return s;
}
