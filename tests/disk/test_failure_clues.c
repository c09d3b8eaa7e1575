#include "support.h"

#include "disk/health/failure_clues.h"

#include <string.h>

Suite *suite_failure_clues(void);

static const struct {
	const char *record, *disk, *want; /* want NULL: nothing of this disk, or no trouble */
} records[] = {
	{ "3,812,991,-;I/O error, dev mmcblk0, sector 8192 op 0x0:(READ)", "mmcblk0",
		"I/O error, dev mmcblk0, sector 8192 op 0x0:(READ)" },
	{ "3,812,991,-;I/O error, dev mmcblk0p2, sector 1", "mmcblk0",
		"I/O error, dev mmcblk0p2, sector 1" },
	{ "3,812,991,-;I/O error, dev sdab, sector 8192", "sda", NULL },
	{ "4,5,6,-;nvme nvme0: controller is down; will reset: CSTS=0xffffffff", "nvme0n1",
		"nvme nvme0: controller is down; will reset: CSTS=0xffffffff" },
	{ "4,5,6,-;mmc0: Timeout waiting for hardware interrupt: error", "mmcblk0",
		"mmc0: Timeout waiting for hardware interrupt: error" },
	{ "4,5,6,-;mmc1: error -110 whilst initialising SD card", "mmcblk0", NULL },
	{ "6,5,6,-;sd 0:0:0:0: [sda] Attached SCSI disk", "sda", NULL },
	{ "no record at all: error of sda", "sda", NULL },
	{ "3,1,1,-;sda: error \x1b[31m", "sda", "sda: error \\x1b[31m" },
	{ "", "sda", NULL },
};

START_TEST(kernel_records)
{
	g_autofree char *got = wdr_kernel_trouble(records[_i].record, records[_i].disk);

	ck_assert_msg(g_strcmp0(got, records[_i].want) == 0, "%s: %s", records[_i].record,
		got ? got : "nothing");
}
END_TEST

START_TEST(the_voltage)
{
	ck_assert_ptr_null(wdr_undervoltage("throttled=0x0"));
	ck_assert_ptr_null(wdr_undervoltage("error"));
	ck_assert_ptr_null(wdr_undervoltage("throttled=0x20002"));
	ck_assert_ptr_nonnull(strstr(wdr_undervoltage("throttled=0x50005\n"), "too low now"));
	ck_assert_ptr_nonnull(strstr(wdr_undervoltage("throttled=0x50000"), "since the boot"));
}
END_TEST

Suite *suite_failure_clues(void)
{
	Suite *s = suite_create("disk/failure_clues");
	TCase *t = tcase_create("failure_clues");

	tcase_add_loop_test(t, kernel_records, 0, (int)G_N_ELEMENTS(records));
	tcase_add_test(t, the_voltage);
	suite_add_tcase(s, t);
	return s;
}
