/* After the restart: the records that a move leaves on the new root, and what is made of them. */
#include "boards.h"

#include <string.h>

Suite *suite_arrive(void);

#define DRIVE bench_path("dev/nvme0n1")
#define CARD bench_path("dev/mmcblk0")

static void shell(const char *command)
{
	board_shell(&boards[0], "", command);
}

/* Unchecked fixture: the moved bench after its restart. */
static void make_restarted(void)
{
	bench_make_moved();
	sup_setup();
	g_autofree char *moved = bench_moved();
	bench_restart(moved);
	sup_teardown();
}

START_TEST(after_the_restart)
{
	bench_take_moved();
	g_autofree char *drive = g_strdup(sup_hash(DRIVE));
	SupRun run = BENCH_RUN("arrive");

	bench_expect(&run, 0, "/ is nvme0n1p2 (NVMe, Reedbed SSD 2G)");
	bench_expect(
		&run, 0, "arrived: the system runs from nvme0n1, and the logbook of the move is");
	bench_expect(&run, 0, " 2 changed since, 0 gone\n");
	SupRun all = BENCH_RUN("arrive", "--all");
	/* Two have names that the script cannot give their times back to. */
	bench_expect(&all, 0, " 2 changed since, 0 gone\n");
	SupRun json = BENCH_RUN("--json", "arrive");
	bench_expect(&json, 0, "\"as_planned\": true");
	/* It is no move to continue, or to take back. */
	SupRun resume = BENCH_RUN("move", "--resume");
	bench_expect(&resume, 2, "there is no move to continue");
	SupRun rewind = BENCH_RUN("rewind");
	bench_expect(&rewind, 0, "there is no change to undo");
	/* Closed once. */
	shell("test $(grep -c '\"arrived\"' root/var/lib/wanderitas/arrival-*/logbook.jsonl) = 1");
	ck_assert_str_eq(drive, sup_hash(DRIVE));
}
END_TEST

#define QUEUE(most)                                                                                 \
	"mkdir -p sys/block/nvme0n1/queue; echo 0 > sys/block/nvme0n1/queue/rotational; echo " most \
	" > sys/block/nvme0n1/queue/discard_max_bytes"

/* What is otherwise, with the arguments that find it. */
static const struct {
	const char *command, *argument;
	int code;
	const char *text;
} afterwards[] = {
	{ "f=root/srv/observations/frame-000003.csv; touch -r $f t; printf X | dd of=$f bs=1 seek=3 "
	  "conv=notrunc; touch -r t $f",
		"--all", 1,
		"/srv/observations/frame-000003.csv: it has other bytes than were copied" },
	{ "rm root/srv/observations/frame-000003.csv", "--all", 0, " 2 changed since, 1 gone" },
	{ "echo more >> root/srv/observations/frame-000003.csv", "--all", 0,
		" 3 changed since, 0" },
	{ "rm root/var/lib/wanderitas/arrival-*/packing-2.list", NULL, 0,
		"the packing list of partition 2 is not there any more" },
	{ "l=$(ls root/var/lib/wanderitas/arrival-*/packing-2.list); head -c 30000 $l > x; cp x $l",
		NULL, 1, "a packing list is damaged: " },
	{ "rm -r root/srv/observations", NULL, 0, "were they removed on purpose?" },
	{ "rm root/etc/fstab", NULL, 0, "no entry of etc/fstab names this disk" },
	{ "l=$(ls root/var/lib/wanderitas/arrival-*/itinerary.json); rm $l; mkfifo $l", NULL, 2,
		"no move is known that ended on nvme0n1" },
	{ "sed -i 's/259:1/179:1/; s/nvme0n1p1/mmcblk0p1/' proc/self/mountinfo", NULL, 1,
		"nvme0n1p1 is not mounted at /boot/firmware" },
	{ "sed -i '$d' proc/self/mountinfo; sed -i 's/vfat    defaults/vfat nofail/' root/etc/fstab",
		NULL, 0, "nvme0n1p1 is not mounted at /boot/firmware" },
	{ "printf '\\0\\0\\0\\1' > proc/device-tree/chosen/bootloader/boot-mode", NULL, 1,
		"root is on the new disk, but the firmware says that it booted from SD card" },
	{ "printf 'PARTUUID=4c1fa2b0-02 /mnt ext4 nofail 0 0\\n' >> root/etc/fstab", NULL, 0,
		"/etc/fstab:6 still names it: PARTUUID=4c1fa2b0-02" },
	{ ":", NULL, 0, "/etc/cron.d/backup:2 still names it" },
	{ "echo '40 24 179:2 / /mnt rw - ext4 /dev/mmcblk0p2 rw' >> proc/self/mountinfo", NULL, 0,
		"it is still plugged in and in use: mmcblk0p2 is mounted at /mnt" },
	{ "rm -r sys/block/mmcblk0", NULL, 0, "arrived: the system runs from nvme0n1" },
	{ "echo ', 260096' | sfdisk -q -N 1 dev/nvme0n1", NULL, 0,
		"partition 1 has 127 MiB, not the 128 MiB that it was made with" },
	{ QUEUE("0"), NULL, 0, "discards do not reach nvme0n1" },
	{ QUEUE("2147483648"), NULL, 0, "nothing discards the unused blocks of nvme0n1" },
	{ QUEUE("2147483648"), NULL, 0, "systemctl enable --now fstrim.timer" },
	{ QUEUE("2147483648") "; d=root/etc/systemd/system/timers.target.wants; mkdir -p $d; "
			      "ln -s /lib/systemd/system/fstrim.timer $d/",
		NULL, 0, "discards reach nvme0n1, and unused blocks are discarded" },
	{ QUEUE("2147483648") "; sed -i 's/noatime/noatime,discard/' root/etc/fstab", NULL, 0,
		"and unused blocks are discarded" },
	{ "rm -r root/var/lib/wanderitas", NULL, 2, "no move is known that ended on nvme0n1" },
};

START_TEST(otherwise_than_planned)
{
	const char *arguments[] = { "arrive", afterwards[_i].argument, NULL };

	bench_take_moved();
	shell(afterwards[_i].command);
	SupRun run = bench_run("", arguments);
	bench_expect(&run, afterwards[_i].code, afterwards[_i].text);
}
END_TEST

/* The old disk came up after all, and why. */
static const struct {
	const char *command, *text;
} olds[] = {
	{ ":", "/ is mmcblk0p2 (SD card): the old disk booted, not nvme0n1" },
	{ ":", "the boot order 0xf416 tries the new disk first" },
	{ "sed -i s/0xf416/0xf61/ bin/vcgencmd",
		"the boot order 0xf61 tries the old disk first: SD or eMMC, then NVMe, then repeat" },
	{ "sed -i s/0xf416/0xf41/ bin/vcgencmd",
		"nvme0n1 does not boot: the boot order 0xf41 never tries NVMe" },
	{ "rm bin/vcgencmd", "nvme0n1 would boot by itself; the loader tries the SD card first" },
	{ "rm -r sys/block/nvme0n1", "no disk like nvme0n1 (Reedbed SSD 2G) is plugged in" },
	{ "echo 99999.5 3.2 > proc/uptime", "the machine was not restarted since the move began" },
};

START_TEST(the_old_disk_came_up)
{
	bench_take_moved();
	shell(olds[_i].command);
	SupRun run = BENCH_RUN("arrive");
	bench_expect(&run, 1, olds[_i].text);
	bench_expect(&run, 1, "not arrived: the system runs from the old disk");
}
END_TEST

/* A menu's way back: the old root came up by another entry than the default. */
START_TEST(another_entry)
{
	const Board *tower = &boards[1];
	SupRun move =
		BOARD_RUN(tower, "move", "--to", "nvme0n1", "--erase", "nvme0n1", "--what", "root");
	SupRun run = BOARD_RUN(tower, "arrive");

	bench_expect(&move, 0, "done");
	bench_expect(&run, 1, "it was booted by entry l0 (the default is entry l0-on-nvme)");
	sup_write(board_path(tower, "proc/cmdline"), "root=UUID=none ro\n");
	SupRun other = BOARD_RUN(tower, "arrive");
	bench_expect(&other, 1, "it was booted by no entry of the boot files");
}
END_TEST

/* The whole system of a menu, as it runs after the restart. */
START_TEST(by_which_entry)
{
	const Board *tower = &boards[1];
	SupRun move = BOARD_RUN(tower, "move", "--to", "nvme0n1", "--erase", "nvme0n1");
	static const char restart[] =
		"cd boards/bittern-tower-1; rm -r root; mkdir root; debugfs -R 'rdump / root' "
		"'dev/nvme0n1?offset=16777216' >/dev/null 2>&1; mkdir -p sys/block/nvme0n1/nvme0n1p1 "
		"sys/block/nvme0n1/nvme0n1p2; echo 259:1 > sys/block/nvme0n1/nvme0n1p1/dev; echo 259:2 > "
		"sys/block/nvme0n1/nvme0n1p2/dev; printf '24 1 259:1 / / rw - ext4 /dev/nvme0n1p1 rw\n"
		"31 24 259:2 / /srv/sound rw - ext4 /dev/nvme0n1p2 rw\n' > proc/self/mountinfo;"
		"grep append root/boot/extlinux/extlinux.conf | %s | sed 's/.*append//; s/[$].*//' > "
		"proc/cmdline";
	g_autofree char *first = g_strdup_printf(restart, "head -n 1");
	g_autofree char *last = g_strdup_printf(restart, "tail -n 1");

	bench_expect(&move, 0, "done");
	shell(first);
	SupRun run = BOARD_RUN(tower, "arrive");
	bench_expect(&run, 0, "it was booted by entry l0, the default");
	shell(last);
	SupRun rescue = BOARD_RUN(tower, "arrive");
	bench_expect(&rescue, 0, "it was booted by entry l0r, which is not the default");
}
END_TEST

/* Records are those of the last catching up, and no difference ever is about them. */
START_TEST(records_are_renewed)
{
	static const char check[] =
		"V='dev/nvme0n1?offset=138412032'; S=root/var/lib/wanderitas/to-nvme0n1;"
		"A=$(debugfs -R 'ls -p /var/lib/wanderitas' $V 2>/dev/null | grep -o 'arrival-[0-9]*');"
		"for f in itinerary.json packing-1.list packing-2.list; do"
		" debugfs -R \"dump /var/lib/wanderitas/$A/$f got\" $V; cmp got $S/$f; done;"
		"! grep -q lib/wanderitas $S/packing-2.list";

	bench_take_moved();
	shell(check);
	shell("printf 'mkdir /var/lib/owls\\nwrite proc/swaps /var/lib/owls/seen\\n' |"
	      " debugfs -w -f - 'dev/mmcblk0?offset=138412032'");
	SupRun run = BENCH_RUN("catchup");
	bench_expect(&run, 0, "leaving the records of the move on the target");
	shell(check);
	shell("grep var/lib/owls/seen root/var/lib/wanderitas/to-nvme0n1/packing-2.list");
	sup_judge_ext(DRIVE, ROOT_AT);
	SupRun nothing = BENCH_RUN("catchup");
	bench_expect(&nothing, 0, "nothing changed");
}
END_TEST

/* A long file is no part of a sample, which is then said to be one. */
START_TEST(a_sample_of_the_files)
{
	g_autofree char *write = g_strdup_printf("write %s srv/big", sup_path("big"));
	const char *requests[] = { write, NULL };

	SUP_TOOL("truncate", "-s", "65M", sup_path("big"));
	bench_change_root(CARD, requests);
	SupRun moved = BENCH_RUN("move", "--to", "nvme0n1", "--erase", "nvme0n1");
	bench_expect(&moved, 0, "done:");
	bench_restart(bench_path(""));
	SupRun run = BENCH_RUN("arrive");
	bench_expect(&run, 0, "gone (a sample; --all compares every file)");
	SupRun all = BENCH_RUN("arrive", "--all");
	bench_expect(&all, 0, " 2 changed since, 0 gone\n");
}
END_TEST

/* Where /var comes from another volume, it would hide them. */
START_TEST(var_on_another_volume)
{
	bench_put_root_file(CARD, "etc/fstab",
		"PARTUUID=4c1fa2b0-01 /boot/firmware vfat defaults 0 2\n"
		"PARTUUID=4c1fa2b0-02 / ext4 defaults 0 1\nLABEL=tides /var ext4 nofail 0 2\n");
	SupRun moved = BENCH_RUN("move", "--to", "nvme0n1", "--erase", "nvme0n1");
	bench_expect(&moved, 0, "leaving the records of the move on the target");
	bench_restart(bench_path(""));
	ck_assert(!g_file_test(bench_path("root/var/lib/wanderitas"), G_FILE_TEST_EXISTS));
	SupRun run = BENCH_RUN("--json", "arrive");
	bench_expect(&run, 0, "root/.local/state/wanderitas");
}
END_TEST

/* Stand-ins for what systemd says, and what comes of it. */
#define SAYS(text) "printf '%s\\n' '#!/bin/sh' '" text "' > bin/systemctl; chmod +x bin/systemctl"
#define MOMENTS(userspace, finish)                                                                 \
	"echo UserspaceTimestampMonotonic=" userspace "; echo FinishTimestampMonotonic=" finish

static const struct {
	const char *command;
	int code;
	const char *text; /* NULL: nothing is said of it */
} boots[] = {
	{ ":", 0,
		"ok       the boot took 16.5 s from the kernel's start (43.9 s from mmcblk0): kernel 2.3 s, "
		"initramfs 1.9 s, services 12.4 s" },
	{ SAYS(MOMENTS("4000000", "95000000")), 0,
		"warning  the boot took 1 min 35 s from the kernel's start (43.9 s from mmcblk0)" },
	{ SAYS(MOMENTS("4000000", "95000000")), 0, "systemd-analyze critical-chain" },
	{ SAYS("echo FirmwareTimestampMonotonic=5000000; echo LoaderTimestampMonotonic=2000000; " MOMENTS(
		  "4000000", "10000000")),
		0,
		"the boot took 15.0 s (43.9 s from mmcblk0): firmware 3.0 s, loader 2.0 s, kernel 4.0 s, services 6.0 s" },
	/* Not over yet; out of order; of another kind; absurd; none. */
	{ SAYS(MOMENTS("4000000", "0")), 0, NULL },
	{ SAYS(MOMENTS("9000000", "4000000")), 0, NULL },
	{ SAYS("echo Userspace; echo =; echo FinishTimestampMonotonic=4"), 0, NULL },
	{ SAYS(MOMENTS("4000000", "99999999999999999999999")), 0, NULL },
	{ SAYS(MOMENTS("4000000", "9000000") "; exit 1"), 0, NULL },
	{ "rm bin/systemctl", 0, NULL },
	{ "sed -i /boot-time/d root/var/lib/wanderitas/arrival-*/logbook.jsonl", 0,
		"the boot took 16.5 s from the kernel's start: kernel" },
};

START_TEST(time_of_the_boot)
{
	bench_take_moved();
	shell(boots[_i].command);
	SupRun run = BENCH_RUN("arrive");
	bench_expect(&run, boots[_i].code, boots[_i].text ? boots[_i].text : "arrived: ");
	if (!boots[_i].text)
		ck_assert_ptr_null(strstr(run.out, "boot time"));
	SupRun json = BENCH_RUN("--json", "arrive");
	bench_expect(&json, boots[_i].code, "\"boot_time\": {");
}
END_TEST

START_TEST(wrong_words)
{
	SupRun run = BENCH_RUN("arrive", "nvme0n1");
	SupRun none = BENCH_RUN("arrive");

	bench_expect(&run, 2, "arrive looks at the system that runs, and takes no 'nvme0n1'");
	bench_expect(&none, 2, "no move is known that ended on mmcblk0, or began there");
}
END_TEST

Suite *suite_arrive(void)
{
	Suite *s = suite_create("cli/arrive");
	TCase *restarted = tcase_create("restarted");
	TCase *t = tcase_create("arrive");

	tcase_add_unchecked_fixture(restarted, make_restarted, bench_remove);
	tcase_add_checked_fixture(restarted, sup_setup, sup_teardown);
	tcase_add_test(restarted, after_the_restart);
	tcase_add_loop_test(restarted, otherwise_than_planned, 0, (int)G_N_ELEMENTS(afterwards));
	tcase_add_loop_test(restarted, time_of_the_boot, 0, (int)G_N_ELEMENTS(boots));
	suite_add_tcase(s, restarted);
	tcase_add_unchecked_fixture(t, bench_make_moved, bench_remove);
	tcase_add_checked_fixture(t, sup_setup, sup_teardown);
	tcase_add_loop_test(t, the_old_disk_came_up, 0, (int)G_N_ELEMENTS(olds));
	tcase_add_test(t, another_entry);
	tcase_add_test(t, by_which_entry);
	tcase_add_test(t, records_are_renewed);
	tcase_add_test(t, a_sample_of_the_files);
	tcase_add_test(t, var_on_another_volume);
	tcase_add_test(t, wrong_words);
	suite_add_tcase(s, t);
	return s;
}
