/* Services that are stopped for the last pass of a running system. The bench's systemctl and
 * systemd-run are stand-ins that do what the real ones do: while the service runs its file is torn,
 * and stopping it makes the file whole. Real ones are asked in the lab. */
#include "bench.h"

#include <signal.h>
#include <string.h>

Suite *suite_pause(void);

#define DRIVE bench_path("dev/nvme0n1")
#define CARD bench_path("dev/mmcblk0")
#define ROOT bench_path("root")

static const char systemctl[] =
	"#!/bin/sh\n"
	"here=$(dirname \"$0\")/..\n"
	"echo \"$*\" >>\"$here/units.log\"\n"
	"case \"$*\" in\n"
	"*LoadState*nest*) echo not-found ;;\n"
	"*LoadState*) echo loaded ;;\n"
	"*ConsistsOf*flock.service*) echo flock@1.service multi-user.target asleep.service ;;\n"
	"*RequiredBy*flock@1*) echo flock.service nestbox.service ;;\n"
	"*ActiveState*asleep*) echo inactive ;;\n"
	"*ActiveState*) cat \"$here/state\" ;;\n"
	"'stop wanderitas-pause-'*) touch \"$here/ended-$2\" ;;\n"
	"stop*stubborn*) echo 'Job for stubborn.service failed.' >&2; exit 1 ;;\n"
	"stop*) echo whole >\"$here/root/var/lib/owls/db\"; echo inactive >\"$here/state\" ;;\n"
	"start*) [ -e \"$here/lame\" ] || { echo torn >\"$here/root/var/lib/owls/db\"; echo active >\"$here/state\"; } ;;\n"
	"esac\n";

static const char systemd_run[] =
	"#!/bin/bash\n"
	"here=$(dirname \"$0\")/..\n"
	"echo \"systemd-run $*\" >>\"$here/units.log\"\n"
	"[ ! -e \"$here/no-guard\" ] || { echo 'Failed to start transient service unit.' >&2; exit 1; }\n"
	"for word; do case $word in ExecStopPost=*) after=${word#*=} ;; --pid=*) pid=${word#*=} ;; --unit=*) unit=${word#*=} ;; esac; done\n"
	"(tail --pid=\"$pid\" -f /dev/null; [ -e \"$here/ended-$unit\" ] || $after) >/dev/null 2>&1 &\n";

static void shell(const char *format, ...) G_GNUC_PRINTF(1, 2);
static void shell(const char *format, ...)
{
	va_list args;

	va_start(args, format);
	g_autofree char *text = g_strdup_vprintf(format, args);
	va_end(args);
	g_autofree char *script = g_strdup_printf("cd '%s'; %s", bench_path("."), text);
	const char *argv[] = { "bash", "-ec", script, NULL };
	sup_tool(argv);
}

/* The card's tree becomes the running one, with a service. */
static void set_up(void)
{
	sup_setup();
	shell("cp -a root/boot/firmware fw; rm -rf root; mkdir root;"
	      "debugfs -R \"rdump / $PWD/root\" 'dev/mmcblk0?offset=%u' >/dev/null 2>&1;"
	      "mkdir -p root/boot/firmware root/sbin root/var/lib/owls; cp -a fw/. root/boot/firmware/;"
	      "ln -sf ../usr/lib/systemd/systemd root/sbin/init; echo torn >root/var/lib/owls/db;"
	      "echo active >state",
		(unsigned)ROOT_AT);
	sup_write(bench_path("bin/systemctl"), systemctl);
	sup_write(bench_path("bin/systemd-run"), systemd_run);
	shell("chmod +x bin/*");
}

static void expect_on_drive(const char *what)
{
	g_autofree char *volume = g_strdup_printf("%s?offset=%u", DRIVE, (unsigned)ROOT_AT);

	ck_assert_str_eq(SUP_TOOL("debugfs", "-R", "cat /var/lib/owls/db", volume), what);
	sup_judge_ext(DRIVE, ROOT_AT);
}

static void expect_running(void)
{
	shell("for i in $(seq 100); do [ $(cat state) = inactive ] || exit 0; sleep 0.1; done; exit 1");
}

#define MOVE "move", "--to", "nvme0n1", "--erase", "nvme0n1"

START_TEST(what_it_writes_is_whole)
{
	SupRun plain = BENCH_RUN(MOVE);
	bench_expect(&plain, 0, "nothing changed on the source");
	expect_on_drive("torn\n");
	shell("cp --sparse=always dev/nvme0n1 was; truncate -s 0 dev/nvme0n1; truncate -s 1G dev/nvme0n1");
	SupRun run = BENCH_RUN(MOVE, "--pause", "owls", "--pause", "gauge.service");
	bench_expect(&run, 0, "  paused      owls.service, gauge.service were down for ");
	ck_assert_ptr_null(strstr(run.out, "still changing"));
	expect_on_drive("whole\n");
	/* The guard first, then stopped, started, and the guard ended. */
	shell("grep -nE '^(systemd-run|stop|start)' units.log | cut -d: -f2 | cut -d' ' -f1 | tr '\\n' ' ' |"
	      " grep -x 'systemd-run stop start stop '; grep -x 'stop owls.service gauge.service' units.log;"
	      "[ $(cat state) = active ]");
}
END_TEST

/* Its parts, and what cannot be without these, go down with it; targets and what sleeps do not. */
START_TEST(what_goes_down_with_it)
{
	SupRun run = BENCH_RUN(MOVE, "--pause", "flock");

	bench_expect(&run, 0,
		"  paused      flock.service, flock@1.service, nestbox.service were down for ");
	shell("grep -qx 'stop flock.service flock@1.service nestbox.service' units.log;"
	      "grep -qx 'start flock.service flock@1.service nestbox.service' units.log");
}
END_TEST

/* Catching up stops what it is told to, and nothing that the move stopped. */
START_TEST(catching_up)
{
	SupRun move = BENCH_RUN(MOVE, "--pause", "owls");
	bench_expect(&move, 0, "was down for");
	shell(": >units.log; echo torn again >root/var/lib/owls/db");
	SupRun plain = BENCH_RUN("catchup");
	bench_expect(&plain, 0, "1 changed");
	expect_on_drive("torn again\n");
	shell("! grep -q stop units.log; echo torn >root/var/lib/owls/db");
	SupRun paused = BENCH_RUN("--json", "catchup", "--pause", "owls.service");
	bench_expect(&paused, 0, "\"units\": \"owls.service\"");
	expect_on_drive("whole\n");
	expect_running();
}
END_TEST

/* An itinerary has it, so it can be read before it is carried out. */
START_TEST(an_itinerary_has_it)
{
	g_autofree char *file = g_strdup(bench_path("plan.json"));
	SupRun draft = BENCH_RUN("draft", "--to", "nvme0n1", "--pause", "owls", "-o", file);
	bench_expect(&draft, 0, NULL);
	shell("jq -e '.pause == [\"owls\"]' plan.json; ! grep -q stop units.log");
	SupRun move = BENCH_RUN("move", file, "--erase", "nvme0n1");
	bench_expect(&move, 0, "owls.service was down for");
	expect_on_drive("whole\n");
	shell("sed -i 's/\"owls\"/7/' plan.json");
	SupRun bad = BENCH_RUN("move", file, "--erase", "nvme0n1");
	bench_expect(&bad, 3, "a unit to pause is no text");
}
END_TEST

/* However the program ends while the service is down, it runs again; and the move can go on. */
static const struct {
	int number, code;
} ends[] = { { SIGINT, 4 }, { SIGTERM, 4 }, { SIGKILL, 128 + SIGKILL } };

START_TEST(interrupted_while_it_is_down)
{
	int code = BENCH_INTERRUPT(
		ends[_i].number, "copying 1 changes to partition 2", MOVE, "--pause", "owls");

	ck_assert_int_eq(code, ends[_i].code);
	expect_running();
	SupRun again = BENCH_RUN("move", "--resume");
	bench_expect(&again, 0, "owls.service was down for");
	expect_on_drive("whole\n");
	expect_running();
}
END_TEST

static const struct {
	const char *prepare;
	const char *unit;
	int code;
	const char *text;
} refused[] = {
	{ ":", "nest", 3, "there is no unit nest.service (not-found)" },
	{ ":", "asleep.service", 3, "asleep.service does not run (inactive)" },
	{ ":", "-owls", 2, "'-owls' is no name of a unit" },
	{ ":", "owls; reboot", 2, "is no name of a unit" },
	{ ":", "", 2, "'' is no name of a unit" },
	{ "rm bin/systemd-run", "owls", 3, "which this machine does not run" },
	{ "rm bin/systemctl", "owls", 3, "which this machine does not run" },
};

START_TEST(refused_before_anything_is_written)
{
	shell("%s", refused[_i].prepare);
	g_autofree char *drive = g_strdup(sup_hash(DRIVE));
	SupRun run = BENCH_RUN(MOVE, "--pause", refused[_i].unit);
	SupRun ready = BENCH_RUN("ready", "--to", "nvme0n1", "--pause", refused[_i].unit);

	bench_expect(&run, refused[_i].code, refused[_i].text);
	bench_expect(&ready, ready.code, refused[_i].text);
	ck_assert_int_ne(ready.code, 0);
	ck_assert_str_eq(drive, sup_hash(DRIVE));
	shell("[ ! -e units.log ] || ! grep -qE '^stop' units.log");
}
END_TEST

/* Without the guard nothing is stopped; what does not stop or start is told. */
START_TEST(services_that_fail)
{
	shell("touch no-guard");
	SupRun unguarded = BENCH_RUN(MOVE, "--pause", "owls");
	bench_expect(&unguarded, 4, "systemd-run failed: Failed to start transient service unit.");
	shell("rm no-guard; ! grep -qE '^stop owls' units.log");
	SupRun resumed = BENCH_RUN("move", "--resume");
	bench_expect(&resumed, 0, "was down for");
	SupRun stubborn = BENCH_RUN("catchup", "--pause", "stubborn");
	bench_expect(&stubborn, 4, "systemctl stop failed: Job for stubborn.service failed.");
	shell("grep -qx 'start stubborn.service' units.log; touch lame");
	SupRun lame = BENCH_RUN("move", "--resume");
	bench_expect(&lame, 1, "not all services run again: owls.service is inactive");
	bench_expect(&lame, 1, "systemctl start owls.service");
}
END_TEST

START_TEST(only_of_what_runs)
{
	shell("cp --sparse=always dev/mmcblk0 other.img");
	SupRun image = BENCH_RUN(
		"draft", "--from", bench_path("other.img"), "--to", "nvme0n1", "--pause", "owls");
	bench_expect(&image, image.code, "--pause stops services of the running system");
	ck_assert_int_ne(image.code, 0);
}
END_TEST

/* A database that runs is named with its service, and the advice is good as it is. */
START_TEST(databases_are_named_with_their_service)
{
	shell("mkdir -p proc/77/fd proc/77/fdinfo; echo mariadbd >proc/77/comm;"
	      "ln -s /var/lib/mysql/ibdata1 proc/77/fd/3; printf 'flags:\\t02\\n' >proc/77/fdinfo/3;"
	      "echo 0::/system.slice/mariadb.service >proc/77/cgroup");
	SupRun run = BENCH_RUN("ready", "--to", "nvme0n1");
	bench_expect(&run, run.code, "to have it stopped for the last pass: ");
	bench_expect(&run, run.code, "ready --to nvme0n1 --pause mariadb.service");
	SupRun paused = BENCH_RUN("ready", "--to", "nvme0n1", "--pause", "mariadb.service");
	bench_expect(&paused, paused.code,
		"mariadbd (mariadb.service) has files in /var/lib/mysql open for writing, and is "
		"stopped");
}
END_TEST

Suite *suite_pause(void)
{
	Suite *s = suite_create("cli/pause");
	TCase *t = tcase_create("pause");

	tcase_add_unchecked_fixture(t, bench_make, bench_remove);
	tcase_add_checked_fixture(t, set_up, sup_teardown);
	tcase_add_test(t, what_it_writes_is_whole);
	tcase_add_test(t, what_goes_down_with_it);
	tcase_add_test(t, catching_up);
	tcase_add_test(t, an_itinerary_has_it);
	tcase_add_loop_test(t, interrupted_while_it_is_down, 0, (int)G_N_ELEMENTS(ends));
	tcase_add_loop_test(t, refused_before_anything_is_written, 0, (int)G_N_ELEMENTS(refused));
	tcase_add_test(t, services_that_fail);
	tcase_add_test(t, only_of_what_runs);
	tcase_add_test(t, databases_are_named_with_their_service);
	suite_add_tcase(s, t);
	return s;
}
