/* Media that fail: files that cannot be read whole are named and the rest is copied; what the
 * target does not keep is found by reading it back. */
#include "bench.h"

#include <string.h>
#include <unistd.h>

Suite *suite_damage(void);

#define DRIVE bench_path("dev/nvme0n1")
#define CARD bench_path("dev/mmcblk0")
#define DATABASE "srv/model.bin"
#define MOVE "move", "--to", "nvme0n1", "--erase", "nvme0n1"

static char *fault(const char *name, const char *kind, uint64_t offset, uint64_t len)
{
	return g_strdup_printf(
		"%s:%s:%" G_GUINT64_FORMAT ":%" G_GUINT64_FORMAT, name, kind, offset, len);
}

/* The file on the drive is the card's, with zeros in [from, to). */
static void expect_zeros(const char *file, size_t from, size_t to)
{
	const char *images[] = { CARD, DRIVE };
	char *text[2] = { NULL, NULL };
	size_t len[2] = { 0, 0 };

	for (size_t i = 0; i < 2; i++) {
		g_autofree char *request = g_strdup_printf("dump /%s %s", file, sup_path("dumped"));
		g_autofree char *volume =
			g_strdup_printf("%s?offset=%u", images[i], (unsigned)ROOT_AT);
		SUP_TOOL("debugfs", "-R", request, volume);
		text[i] = sup_read(sup_path("dumped"), &len[i]);
	}
	ck_assert_uint_eq(len[0], len[1]);
	memset(text[0] + from, 0, to - from);
	ck_assert(memcmp(text[0], text[1], len[0]) == 0);
	g_free(text[0]);
	g_free(text[1]);
}

static void expect_unbootable(void)
{
	SupRun survey = BENCH_RUN("survey");

	bench_expect(&survey, 1, "a move to this disk is unfinished, and it will not boot");
	ck_assert_ptr_null(strstr(SUP_TOOL("sfdisk", "-d", DRIVE), "bootable"));
}

START_TEST(a_bad_place_in_a_file)
{
	g_autofree char *faults =
		fault("mmcblk0", "read", bench_root_block(CARD, DATABASE, 200), 9);
	SupRun run = BENCH_WITH_FAULTS(faults, MOVE);

	bench_expect(&run, 4,
		"stopped part-way: mmcblk0: 1 file or folder could not be read completely");
	bench_expect(&run, 4, "819200-823295");
	bench_expect(&run, 4, "--resume --accept-damage");
	expect_unbootable();
	SupRun again = BENCH_WITH_FAULTS(faults, "move", "--resume");
	bench_expect(&again, 4, "/srv/model.bin");
	ck_assert_ptr_null(strstr(again.err, "copying partition"));
	SupRun accepted =
		BENCH_WITH_FAULTS(faults, "--json", "move", "--resume", "--accept-damage");
	bench_expect(&accepted, 0, "\"path\": \"srv/model.bin\"");
	bench_expect(&accepted, 0, "\"offset\": 819200");
	expect_zeros(DATABASE, 819200, 823296);
	sup_judge_ext(DRIVE, ROOT_AT);
}
END_TEST

/* A request that fails once is made again; nothing is missing then. */
/* What was accepted stays accepted: the target is finished, and catchup goes on with it. */
START_TEST(catchup_after_damage_was_accepted)
{
	g_autofree char *faults =
		fault("mmcblk0", "read", bench_root_block(CARD, DATABASE, 200), 9);
	SupRun run = BENCH_WITH_FAULTS(faults, MOVE, "--accept-damage");

	bench_expect(&run, 0, "srv/model.bin");
	run = BENCH_WITH_FAULTS(faults, "catchup");
	bench_expect(&run, 0, "nothing changed on mmcblk0 since it was copied");
	bench_put_root_file(CARD, "etc/motd", "the herons are back\n");
	run = BENCH_WITH_FAULTS(faults, "catchup");
	bench_expect(&run, 0, "1 new");
	SupRun survey = BENCH_RUN("survey");
	ck_assert_ptr_null(strstr(survey.out, "is unfinished, and it will not boot"));
	expect_zeros(DATABASE, 819200, 823296);
	/* New damage is another matter. */
	g_autofree char *request = g_strdup_printf("rm /%s", DATABASE);
	bench_change_root(CARD, (const char *const[]){ request, NULL });
	bench_put_root_file(CARD, DATABASE, "a model\n");
	g_autofree char *again = fault("mmcblk0", "read", bench_root_block(CARD, DATABASE, 0), 9);
	run = BENCH_WITH_FAULTS(again, "catchup");
	bench_expect(&run, 4, "1 file or folder could not be read completely");
	run = BENCH_WITH_FAULTS(again, "move", "--resume", "--accept-damage");
	bench_expect(&run, 0, "done");
}
END_TEST

START_TEST(a_place_that_reads_the_second_time)
{
	g_autofree char *faults = fault("mmcblk0", "once", bench_root_block(CARD, DATABASE, 7), 9);
	SupRun run = BENCH_WITH_FAULTS(faults, MOVE);

	bench_expect(&run, 0, "done:");
	ck_assert_ptr_null(strstr(run.out, "damaged"));
	expect_zeros(DATABASE, 0, 0);
}
END_TEST

START_TEST(accepted_beforehand)
{
	g_autofree char *faults = fault("mmcblk0", "read", bench_root_block(CARD, DATABASE, 0), 9);
	SupRun run = BENCH_WITH_FAULTS(faults, MOVE, "--accept-damage");

	bench_expect(&run, 0,
		"1 file or folder could not be read completely; unreadable ranges were filled with zeros");
	expect_zeros(DATABASE, 0, 4096);
	/* Readable again, and changed: it is whole then. */
	bench_put_root_file(CARD, DATABASE, "two terns\n");
	SupRun catchup = BENCH_RUN("catchup");
	bench_expect(&catchup, 0, "/srv/model.bin");
	g_autofree char *logbook =
		sup_read(bench_path("root/var/lib/wanderitas/to-nvme0n1/logbook.jsonl"), NULL);
	ck_assert_ptr_nonnull(strstr(logbook, "\"path\": \"srv/model.bin\", \"ranges\": []"));
}
END_TEST

START_TEST(a_folder_that_cannot_be_read)
{
	g_autofree char *faults = fault("mmcblk0", "read", bench_root_block(CARD, "var/log", 0), 9);
	SupRun run = BENCH_WITH_FAULTS(faults, MOVE, "--accept-damage");

	bench_expect(&run, 0, "partition 2: 1 folder or entry cannot be read");
	bench_expect(&run, 0, "/var/log           all of it");
	sup_judge_ext(DRIVE, ROOT_AT);
	ck_assert_str_eq(bench_root_file(DRIVE, "var/log/syslog"), "");
}
END_TEST

/* A disk that is gone is not a disk with many damaged files. */
START_TEST(a_source_that_goes_away)
{
	g_autofree char *faults =
		fault("mmcblk0", "read", ROOT_AT + UINT64_C(12) * 1024 * 1024, UINT64_C(2) << 30);
	SupRun run = BENCH_WITH_FAULTS(faults, MOVE, "--accept-damage");

	ck_assert_int_ne(run.code, 0);
	/* Found by the checks before the move, or within it. */
	ck_assert(strstr(run.err, "stops the move") || strstr(run.err, "Input/output error"));
	if (run.code == 4)
		expect_unbootable();
}
END_TEST

START_TEST(a_file_of_the_boot_volume)
{
	/* In the middle of start4.elf. */
	g_autofree char *faults = fault("mmcblk0", "read", BOOT_AT + 8704 * 1024, 9);
	SupRun run = BENCH_WITH_FAULTS(faults, MOVE);

	bench_expect(&run, 4, "1 file or folder could not be read completely");
	bench_expect(&run, 4, "        1  /");
	expect_unbootable();
}
END_TEST

START_TEST(what_cannot_be_looked_for_is_not_called_absent)
{
	g_autofree char *faults = fault("mmcblk0", "read", bench_root_block(CARD, "etc", 0), 9);
	SupRun run = BENCH_WITH_FAULTS(faults, MOVE);

	bench_expect(&run, 3, "partition 2 cannot be read: ");
	bench_expect(&run, 3, "Input/output error");
}
END_TEST

START_TEST(a_target_that_loses_what_is_written)
{
	g_autofree char *card = g_strdup(sup_hash(CARD));
	g_autofree char *faults = fault("nvme0n1", "lose", UINT64_C(170) << 20, UINT64_C(4) << 20);
	SupRun run = BENCH_WITH_FAULTS(faults, MOVE);

	bench_expect(&run, 4, "read back from the target");
	expect_unbootable();
	ck_assert_str_eq(card, sup_hash(CARD));
	SupRun resumed = BENCH_RUN("move", "--resume");
	bench_expect(&resumed, 0, "done:");
	sup_judge_ext(DRIVE, ROOT_AT);
}
END_TEST

/* Disks of 2 GiB that are smaller: what is written past their end fails, is lost, or is written
 * over what lies in front. Where the wrong place is met by a mark, that is found before anything is
 * copied, else when it is read back. */
static const struct {
	const char *kind;
	uint64_t size;
	const char *text;
	bool is_late; /* no mark meets another one's place */
} liars[] = {
	{ "deny", UINT64_C(1) << 30, "Input/output error", false },
	{ "lose", UINT64_C(1) << 30,
		"is smaller than the 2 GiB that it says: what was written 1 GiB into it did not stay there",
		false },
	{ "wrap", UINT64_C(1) << 30, "is smaller than the 2 GiB that it says: what was written",
		false },
	{ "wrap", UINT64_C(512) << 20, "is smaller than the 2 GiB that it says: what was written",
		false },
	{ "wrap", (UINT64_C(141) << 20) + 512, "was changed by later writes", true },
	{ "wrap", (UINT64_C(133) << 20) + 512, "stopped part-way", true },
};

START_TEST(a_disk_that_lies_about_its_size)
{
	g_autofree char *card = g_strdup(sup_hash(CARD));
	g_autofree char *faults = fault(
		"nvme0n1", liars[_i].kind, liars[_i].size, (UINT64_C(2) << 30) - liars[_i].size);
	SupRun run = BENCH_WITH_FAULTS(faults, MOVE);

	bench_expect(&run, 4, liars[_i].text);
	ck_assert(liars[_i].is_late || !strstr(run.err, "copying"));
	if (liars[_i].is_late)
		/* The note may have been written over like anything else. */
		ck_assert_ptr_null(strstr(SUP_RUN("sfdisk", "-d", DRIVE).out, "bootable"));
	else
		expect_unbootable();
	ck_assert_str_eq(card, sup_hash(CARD));
}
END_TEST

/* What the machine shows of why is told with the failure. */
START_TEST(what_can_be_seen_of_why)
{
	static const char script[] =
		"cd sys/block && mkdir -p ../devices/usb1/1-1/1-1:1.0/host0 && cp -r nvme0n1 sda && rm "
		"-rf sda/device nvme0n1 && ln -s ../../devices/usb1/1-1/1-1:1.0/host0 sda/device && cd "
		"../devices/usb1/1-1 && echo 480 > speed && echo 64 > bMaxPacketSize0 && echo S1 > serial "
		"&& echo 08 > 1-1:1.0/bInterfaceClass && mkdir ../uas && ln -s ../../uas 1-1:1.0/driver && "
		"cd ../../../.. && mv dev/nvme0n1 dev/sda && printf '%s\n' '4,1,1,-;usb 1-1: new device' "
		"'3,2,9,-;blk_update_request: I/O error, dev sda, sector 34' '3,3,9,-;I/O error, dev sdab' "
		"> dev/kmsg && printf '#!/bin/sh\necho throttled=0x50000\n' > bin/vcgencmd && chmod +x "
		"bin/vcgencmd";
	g_autofree char *command = g_strdup_printf("cd '%s' && %s", bench_path("."), script);
	const char *argv[] = { "bash", "-ec", command, NULL };
	g_autofree char *faults = fault("sda", "lose", UINT64_C(170) << 20, UINT64_C(4) << 20);

	sup_tool(argv);
	SupRun refused = BENCH_RUN("move", "--to", "sda", "--erase", "sda");
	bench_expect(&refused, 3, "the check 'errors' stops the move: the kernel says of sda");
	SupRun run = BENCH_WITH_FAULTS(
		faults, "move", "--to", "sda", "--erase", "sda", "--despite", "errors");
	bench_expect(&run, 4, "possible causes of the failure of sda:");
	bench_expect(&run, 4, "kernel: blk_update_request: I/O error, dev sda, sector 34");
	bench_expect(&run, 4, "sda runs at USB 480 Mbit/s");
	bench_expect(&run, 4, "is driven by uas");
	bench_expect(&run, 4, "the voltage was too low since the boot");
	ck_assert_ptr_null(strstr(run.err, "sdab"));
}
END_TEST

Suite *suite_damage(void)
{
	Suite *s = suite_create("cli/damage");
	TCase *t = tcase_create("damage");

	tcase_add_unchecked_fixture(t, bench_make, bench_remove);
	tcase_add_checked_fixture(t, sup_setup, sup_teardown);
	tcase_add_test(t, a_bad_place_in_a_file);
	tcase_add_test(t, catchup_after_damage_was_accepted);
	tcase_add_test(t, a_place_that_reads_the_second_time);
	tcase_add_test(t, accepted_beforehand);
	tcase_add_test(t, a_folder_that_cannot_be_read);
	tcase_add_test(t, a_source_that_goes_away);
	tcase_add_test(t, a_file_of_the_boot_volume);
	tcase_add_test(t, what_cannot_be_looked_for_is_not_called_absent);
	tcase_add_test(t, a_target_that_loses_what_is_written);
	tcase_add_loop_test(t, a_disk_that_lies_about_its_size, 0, (int)G_N_ELEMENTS(liars));
	tcase_add_test(t, what_can_be_seen_of_why);
	suite_add_tcase(s, t);
	return s;
}
