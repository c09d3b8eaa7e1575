/* Settings of the boot files, and firmware files, on the sample board with firmware. */
#include "boards.h"

#include <string.h>

Suite *suite_tune(void);

enum { HERON };

/* What is asked for; the result, and what is said. `command`: of bash in the bench's folder. */
static const char shorthands[] =
	"config() { printf \"$1\" > c; mcopy -o -i dev/mmcblk0@@4M c ::config.txt; };"
	"arguments() { printf \"$1\" > c; mcopy -o -i dev/mmcblk0@@4M c ::cmdline.txt; };"
	"is() { printf '%s\\0' \"$@\" > proc/device-tree/compatible; };"
	"bridge() { echo $1 > sys/block/nvme0n1/device/idVendor; echo $2 > "
	"sys/block/nvme0n1/device/idProduct; };"
	/* built DAY…: a folder with one set of such files, and put the same on the card */
	"built() { mkdir -p fw; for f in start4.elf start4x.elf; do printf 'x\\0VC_BUILD_ID_TIME: "
	"17:42:43\\0VC_BUILD_ID_TIME: %s\\0' \"$1\" > fw/$f; done; echo \"$1\" > fw/fixup4.dat; "
	"echo \"$1\" > fw/fixup4x.dat; };"
	"there() { built \"$1\"; mcopy -o -i dev/mmcblk0@@4M fw/* ::; };";

static const struct {
	const char *command;
	const char *options[8];
	int code;
	const char *text;
} cases[] = {
	{ ":", { "tune" }, 0, "pcie         on: config.txt:10" },
	{ ":", { "tune" }, 0, "risk: the connector is made for generation 2" },
	{ ":", { "tune", "--set", "pcie-gen3" }, 0,
		" [pi5]\n dtparam=pciex1\n+dtparam=pciex1_gen=3\n \n [all]\n" },
	{ ":", { "tune", "--unset", "pcie" }, 0, " [pi5]\n-dtparam=pciex1\n \n" },
	{ ":", { "tune", "--set", "usb-current", "--set", "pcie" }, 0,
		" dtparam=pciex1\n+usb_max_current_enable=1\n \n" },
	{ ":", { "tune", "--set", "usb-current", "--set", "pcie-gen3" }, 0,
		"+dtparam=pciex1_gen=3\n+usb_max_current_enable=1\n \n" },
	{ ":", { "tune", "--set", "pcie" }, 0, "\nalready set; nothing to do\n" },
	{ "config 'arm_64bit=1\\n'", { "tune", "--set", "pcie" }, 0,
		" arm_64bit=1\n+dtparam=pciex1\n" },
	{ "config '[pi4]\\ngpu_mem=16\\n'", { "tune", "--set", "pcie" }, 0,
		" gpu_mem=16\n+[all]\n+dtparam=pciex1\n" },
	{ "config '[none]\\n[pi5]\\nx=1\\n[all]\\n[pi5]\\ny=1\\n'", { "tune", "--set", "pcie" }, 0,
		" [pi5]\n y=1\n+dtparam=pciex1\n" },
	{ "config '[none]\\n[pi5]\\nx=1\\n'", { "tune", "--set", "pcie" }, 0,
		" x=1\n+[all]\n+dtparam=pciex1\n" },
	{ "config 'dtparam=audio=on,pciex1,pciex1_gen=2\\n'", { "tune", "--set", "pcie-gen3" }, 0,
		"-dtparam=audio=on,pciex1,pciex1_gen=2\n+dtparam=audio=on,pciex1\n"
		"+dtparam=pciex1_gen=3\n" },
	{ "config 'dtparam=audio=on,pciex1=off\\n'", { "tune" }, 0,
		"pcie         off: config.txt:1" },
	{ "config '[pi4]\\ndtparam=pciex1\\n'", { "tune" }, 0, "pcie         off\n" },
	{ "config '[gpio4=1]\\ndtparam=pciex1\\n'", { "tune" }, 0,
		"pcie         on for some boards: config.txt:2" },
	{ ":", { "tune", "--set", "owls" }, 2, "there is no setting 'owls'" },
	{ ":", { "tune", "nvme0n1" }, 2, "tune takes no 'nvme0n1'" },
	{ ":", { "tune", "--set", "usb-storage" }, 3, "name that with --for" },
	{ "bridge 152d 0578", { "tune", "--for", "nvme0n1" }, 0,
		"usb-storage  off: usb-storage.quirks=152d:0578:u in cmdline.txt" },
	{ "bridge 152d 0578", { "tune", "--for", "nvme0n1", "--set", "usb-storage" }, 0,
		"rootwait quiet usb-storage.quirks=152d:0578:u\n" },
	{ "bridge 152d 0578; arguments 'usb-storage.quirks=174c:55aa:u root=/dev/sda2 \\n'",
		{ "tune", "--for", "nvme0n1", "--set", "usb-storage" }, 0,
		"+usb-storage.quirks=174c:55aa:u,152d:0578:u root=/dev/sda2 \n" },
	{ "bridge 152d 0578; arguments 'quiet usb-storage.quirks=152d:0578:u ro\\n'",
		{ "tune", "--for", "nvme0n1", "--unset", "usb-storage" }, 0, "+quiet ro\n" },
	{ "bridge 152d 0578; arguments \"$(printf '%2040s' x | tr ' ' a)\"",
		{ "tune", "--for", "nvme0n1", "--set", "usb-storage" }, 3,
		"longer than the 2047 characters that are read of it" },
	{ "is raspberrypi,4-model-b brcm,bcm2711", { "tune", "--set", "pcie" }, 3,
		"pcie is for boards of the 5 series, and this is one of the 4 series" },
	{ "sfdisk -q --delete dev/mmcblk0 1", { "tune", "--on", "mmcblk0" }, 3,
		"has no config.txt" },

	{ ":", { "firmware" }, 0, "need none of them: their firmware is in an EEPROM" },
	{ "mdel -i dev/mmcblk0@@4M ::bootcode.bin ::fixup4.dat ::start4.elf", { "firmware" }, 0,
		"neither has any\n" },
	{ "is raspberrypi,4-model-b brcm,bcm2711", { "firmware" }, 2,
		"/usr/lib/raspi-firmware has no firmware files" },
	{ ":", { "firmware", "--from", "/nowhere" }, 2, "/nowhere" },
	{ "there 'Aug 15 2022'; built 'Mar  7 2024'", { "firmware", "--from", "fw" }, 1,
		"start4.elf    4 series        older                    2022-08-15  2024-03-07" },
	{ "there 'Aug 15 2022'; built 'Mar  7 2024'", { "firmware", "--from", "fw", "--write" }, 0,
		"/start4x.elf (partition 1): that of 2024-03-07" },
	{ "there 'Aug 15 2022'; built 'Mar  7 2024'; mdel -i dev/mmcblk0@@4M ::fixup4x.dat",
		{ "firmware", "--from", "fw", "--write" }, 0, "/fixup4x.dat (partition 1, new)" },
	{ "there 'Mar  7 2024'; built 'Aug 15 2022'", { "firmware", "--from", "fw" }, 1,
		"some or all files there are newer" },
	{ "there 'Aug 15 2022'", { "firmware", "--from", "fw" }, 0, "the same" },
	{ "there 'Aug 15 2022'; echo x >> fw/start4.elf; mdel -i dev/mmcblk0@@4M ::fixup4x.dat",
		{ "firmware", "--from", "fw" }, 1, "it is unknown which are newer" },
	{ "there 'Aug 15 2022'; echo x > fw/fixup4.dat", { "firmware", "--from", "fw" }, 1,
		"it is unknown which are newer" },
	{ "there 'Aug 15 2022'; built 'Mar  7 2024'; truncate -s 31M fw/start4x.elf; for i in 1 2 3 "
	  "4; do cp fw/start4x.elf fw/start4$i.elf; done",
		{ "firmware", "--from", "fw", "--write" }, 3, "the files take" },
	{ "there 'Aug 15 2022'; built 'Mar  7 2024'; mkdir -p root/usr/lib; V=\"dev/mmcblk0?offset="
	  "138412032\"; debugfs -w -R 'mkdir usr/lib/raspi-firmware' $V; for f in fw/*; do debugfs -w -R "
	  "\"write $f usr/lib/raspi-firmware/${f#fw/}\" $V; done",
		{ "firmware" }, 1, "compared with /usr/lib/raspi-firmware" },
};

START_TEST(each_case)
{
	const Board *b = &boards[HERON];
	const char *argv[12] = { NULL };
	g_autofree char *from = NULL;

	board_shell(b, shorthands, cases[_i].command);
	for (size_t i = 0; i < 8; i++) {
		argv[i] = cases[_i].options[i];
		if (g_strcmp0(argv[i], "fw") == 0)
			argv[i] = from = g_strdup(board_path(b, "fw"));
	}
	SupRun run = board_run(b, argv);
	bench_expect(&run, cases[_i].code, cases[_i].text);
}
END_TEST

START_TEST(settings_come_and_go)
{
	const Board *b = &boards[HERON];
	g_autofree char *before = g_strdup(board_file(board_disk(b, false), 1, true, "config.txt"));
	SupRun set = BOARD_RUN(b, "tune", "--set", "pcie-gen3", "--write");
	bench_expect(&set, 0, "tune done: everything was read back");
	SupRun shown = BOARD_RUN(b, "tune");
	bench_expect(&shown, 0, "pcie-gen3    on: config.txt:11");
	SupRun again = BOARD_RUN(b, "tune", "--set", "pcie-gen3", "--write");
	ck_assert_ptr_null(strstr(again.out, "done"));
	SupRun unset = BOARD_RUN(b, "tune", "--unset", "pcie-gen3", "--write");
	bench_expect(&unset, 0, "tune done");
	g_autofree char *after = g_strdup(board_file(board_disk(b, false), 1, true, "config.txt"));
	ck_assert_str_eq(before, after);
	board_judge(board_disk(b, false));
	SupRun json = BOARD_RUN(b, "--json", "tune");
	bench_expect(&json, 0, "\"format\": \"wanderitas-tune/2\"");
}
END_TEST

START_TEST(a_set_of_firmware_comes_and_goes)
{
	const Board *b = &boards[HERON];
	board_shell(b, shorthands,
		"there 'Aug 15 2022'; built 'Mar  7 2024'; mdel -i dev/mmcblk0@@4M ::fixup4x.dat");
	g_autofree char *from = g_strdup(board_path(b, "fw"));
	SupRun run = BOARD_RUN(b, "firmware", "--from", from, "--write");
	bench_expect(&run, 0, "firmware done: everything was read back");
	board_judge(board_disk(b, false));
	board_shell(b, "",
		"for f in fw/*; do mcopy -n -i dev/mmcblk0@@4M ::${f#fw/} got; cmp got $f; rm got; done");
	SupRun same = BOARD_RUN(b, "firmware", "--from", from);
	bench_expect(&same, 0, "the same");
	SupRun json = BOARD_RUN(b, "--json", "firmware", "--from", from);
	bench_expect(&json, 0, "\"here\": \"the same\"");
	SupRun back = BOARD_RUN(b, "rewind");
	bench_expect(&back, 0, "put back  /start4.elf on mmcblk0, partition 1");
	board_shell(b, "",
		"mtype -i dev/mmcblk0@@4M ::fixup4.dat | grep -q 2022; ! mtype -i dev/mmcblk0@@4M "
		"::fixup4x.dat");
	board_judge(board_disk(b, false));
}
END_TEST

Suite *suite_tune(void)
{
	Suite *s = suite_create("cli/tune");
	TCase *t = tcase_create("tune");

	tcase_add_unchecked_fixture(t, bench_make, bench_remove);
	tcase_add_checked_fixture(t, sup_setup, sup_teardown);
	tcase_add_loop_test(t, each_case, 0, (int)G_N_ELEMENTS(cases));
	tcase_add_test(t, settings_come_and_go);
	tcase_add_test(t, a_set_of_firmware_comes_and_goes);
	suite_add_tcase(s, t);
	return s;
}
