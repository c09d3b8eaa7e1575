/* The checks before a move: what is ok, what gives a warning, what stops, and what is done despite
 * a stop. */
#include "boards.h"

#include <string.h>

Suite *suite_ready(void);

enum { HERON, BITTERN, KINGFISHER };

START_TEST(sample_boards_are_ready)
{
	const Board *b = &boards[_i];
	g_autofree char *card = g_strdup(sup_hash(board_disk(b, false)));
	g_autofree char *drive = g_strdup(sup_hash(board_disk(b, true)));
	SupRun run = BOARD_RUN(b, "ready", "--to", b->drive);

	bench_expect(&run, 0, "ready: the move to ");
	SupRun draft = BOARD_RUN(b, "draft", "--to", b->drive);
	bench_expect(&draft, 0, "as planned: ");
	SupRun root = BOARD_RUN(b, "ready", "--to", b->drive, "--what", "root");
	bench_expect(&root, 0, "ready: the move to ");
	SupRun root_draft = BOARD_RUN(b, "draft", "--to", b->drive, "--what", "root");
	bench_expect(&root_draft, 0, "as planned: ");
	ck_assert_str_eq(card, sup_hash(board_disk(b, false)));
	ck_assert_str_eq(drive, sup_hash(board_disk(b, true)));
}
END_TEST

/* What a draft foretells is what the rehearsal of the made disk says: step by step. */
START_TEST(what_is_foretold_comes_true)
{
	const Board *b = &boards[_i];
	SupRun draft = BOARD_RUN(b, "draft", "--to", b->drive);
	SupRun move = BOARD_RUN(b, "move", "--to", b->drive, "--erase", b->drive);
	g_autofree char *foretold = board_word(draft.out, "as planned: ");
	const char *verdict = strstr(draft.out, "as planned: ") + strlen("as planned: ");
	g_autofree char *line = g_strndup(verdict, strcspn(verdict, "\n"));
	g_autofree char *want = g_strdup_printf("rehearsed: %s\n", line);

	ck_assert_str_eq(foretold, b->drive);
	bench_expect(&move, 0, want);
}
END_TEST

/* A command of bash in the bench's folder, with the card as $I and its partitions as $V1 and $V2;
 * what is asked for; the result, and what is said. */
/* A controller's answers: warnings, spare blocks and their limit, share of its life, all octal; 42
 * degrees, and 8.25 W in its first power state. */
#define NVME(warnings, spare, limit, used)                                                         \
	"truncate -s 4608 dev/nvme0; printf '" warnings "\\73\\1" spare limit used                 \
	"' | dd of=dev/nvme0 conv=notrunc; "                                                       \
	"printf '\\71\\3\\0\\0' | dd of=dev/nvme0 bs=1 seek=2560 conv=notrunc"

/* The status register of a card: 64 bytes, of which four tell its classes. */
#define SSR(speed, uhs, video, application)                                                        \
	"printf '%016d" speed "%010d" uhs video "%010d" application                                \
	"%084d\\n' 0 0 0 0 > sys/block/mmcblk0/device/ssr; "                                       \
	"test $(wc -c < sys/block/mmcblk0/device/ssr) = 129"

#define QUEUE(disk, most, rotates)                                                                 \
	"mkdir -p sys/block/" disk "/queue; echo " most " > sys/block/" disk                       \
	"/queue/discard_max_bytes; echo " rotates " > sys/block/" disk "/queue/rotational"

static const struct {
	int board;
	const char *command;
	const char *options[3];
	int code;
	const char *check, *text;
} cases[] = {
	{ HERON, ":", { NULL }, 0, "target", "has nothing on it" },
	{ HERON, "mkfs.ext4 -q -F -L owls dev/nvme0n1", { NULL }, 0, "target",
		"will be erased: the disk (ext4, label owls" },
	{ HERON, ":", { NULL }, 0, "room", "stay free" },
	{ HERON, "truncate -s 340M dev/nvme0n1; echo 696320 > sys/block/nvme0n1/size", { NULL }, 0,
		"room", "stay free" },
	{ HERON, ":", { "--leave-free", "99%" }, 1, "room", "is too small by" },
	{ HERON, ":", { "--to", "mmcblk0" }, 1, "target", "are the same disk" },
	{ HERON, "echo '8:1 0' > sys/block/nvme0n1/ro; echo 1 > sys/block/nvme0n1/ro", { NULL }, 1,
		"target", "cannot be written to" },
	{ HERON, ":", { NULL }, 0, "link", "PCIe 5.0 GT/s x1, about 400 MB/s at most" },
	{ KINGFISHER, ":", { NULL }, 0, "link", "USB 480 Mbit/s, about 40 MB/s at most" },
	{ KINGFISHER, "echo 5000 > sys/block/sda/device/speed", { NULL }, 0, "link",
		"USB 5000 Mbit/s, about 400 MB/s at most" },
	{ HERON, "sed -i s/0xf416/0xf41/ bin/vcgencmd", { NULL }, 1, "medium", "never tries NVMe" },
	{ HERON, "sed -i s/0xf416/0xf41/ bin/vcgencmd", { "--what", "root" }, 0, "medium",
		"SD or eMMC, then USB" },
	{ BITTERN, "head -c 4194304 /dev/zero > dev/mtd0", { NULL }, 1, "medium",
		"SPI flash mtd0 is empty" },
	{ BITTERN, "debugfs -w -R 'rm /boot/vmlinuz-6.1.0-field-arm64' $V1", { NULL }, 1,
		"boot-files", "is not there" },
	{ HERON, "mdel -i $I@@4M ::initramfs_2712", { NULL }, 1, "drivers",
		"the nvme driver is only on the root disk itself" },
	{ BITTERN,
		"mkdir -p sys/module/usb_storage sys/block/nvme0n1/device/driver; echo live > sys/module/usb_storage/initstate;"
		"ln -s ../../../../module/usb_storage sys/block/nvme0n1/device/driver/module",
		{ NULL }, 1, "drivers",
		"its buses: the usb_storage driver is only on the root disk itself" },
	{ BITTERN,
		"mkdir -p sys/module/nvme sys/block/nvme0n1/device/driver; echo live > sys/module/nvme/initstate;"
		"ln -s ../../../../module/nvme sys/block/nvme0n1/device/driver/module",
		{ NULL }, 0, "drivers", "NVMe: nvme is in the initramfs" },
	{ BITTERN,
		"mkdir -p sys/module/pcie_tower sys/block/nvme0n1/device/driver; echo live > sys/module/pcie_tower/initstate;"
		"ln -s ../../../../module/pcie_tower sys/block/nvme0n1/device/driver/module",
		{ NULL }, 0, "drivers", "the running kernel drives it with pcie_tower too" },
	/* What is built into the running kernel is of no concern. */
	{ BITTERN,
		"mkdir -p sys/module/usb_storage sys/block/nvme0n1/device/driver;"
		"ln -s ../../../../module/usb_storage sys/block/nvme0n1/device/driver/module",
		{ NULL }, 0, "drivers", "NVMe: nvme is in the initramfs" },
	{ HERON, ":", { "--leave-behind", "/usr/lib/systemd" }, 1, "init", "it is not there" },
	{ HERON, "debugfs -w -R 'sif /usr/lib/systemd/systemd mode 0100644' $V2", { NULL }, 1,
		"init", "it is not executable" },
	{ BITTERN,
		"echo 'UUID=0b0b0b0b-1111-4222-8333-444444444444 /srv/owls ext4 defaults 0 2' > f;"
		"printf 'rm /etc/fstab\\nwrite f /etc/fstab\\n' | debugfs -w -f - $V1",
		{ NULL }, 1, "mounts", "ends in emergency mode" },
	{ HERON,
		"cp --sparse=always dev/mmcblk0 dev/mmcblk9; cp -r sys/block/mmcblk0 sys/block/mmcblk9;"
		"rm -r sys/block/mmcblk9/mmcblk0p*",
		{ NULL }, 0, "identifiers", "duplicate PARTUUID=4c1fa2b0-02" },
	{ HERON, ":", { "--keep-identifiers" }, 0, "identifiers",
		"duplicate UUID=F3A1-77C2: partition 1 of mmcblk0 and the new partition 1" },
	{ HERON, ":", { NULL }, 0, "mentions", "/etc/cron.d/backup:2 still names the old disk" },
	{ HERON,
		"yes '# a heron' | head -c 1100000 > f; debugfs -R 'cat /etc/fstab' $V2 >> f; printf 'rm "
		"/etc/fstab\\nwrite f /etc/fstab\\n' | debugfs -w -f - $V2",
		{ NULL }, 1, "mentions", "/etc/fstab cannot be read" },
	{ KINGFISHER, ":", { NULL }, 0, "mentions", "every reference is updated" },
	{ HERON, ":", { NULL }, 0, "files", "entries can be copied" },
	{ HERON,
		"printf 'root=PARTUUID=4c1fa2b0-02 rootwait init=/usr/lib/systemd/systemd' > c;"
		"mcopy -o -i $I@@4M c ::cmdline.txt",
		{ NULL }, 0, "first-boot", "no first-boot setup is pending" },
	{ HERON,
		"printf 'root=PARTUUID=4c1fa2b0-02 rootwait init=/usr/lib/resize' > c;"
		"mcopy -o -i $I@@4M c ::cmdline.txt;"
		"printf 'ln /usr/lib/systemd/systemd /usr/lib/resize\nsif /usr/lib/resize links_count 2\n'"
		" | debugfs -w -f - $V2",
		{ NULL }, 0, "first-boot", "cmdline.txt:1: init=/usr/lib/resize" },
	{ HERON,
		"echo uninitialized > i; printf 'rm /etc/machine-id\\nwrite i /etc/machine-id\\n' |"
		" debugfs -w -f - $V2",
		{ NULL }, 0, "first-boot", "this system was never booted" },
	{ HERON,
		"echo x > s; printf 'mkdir /etc/systemd\\nmkdir /etc/systemd/system\\nmkdir "
		"/etc/systemd/system/multi-user.target.wants\\nwrite s "
		"/etc/systemd/system/multi-user.target.wants/resize-root.service\\n' | debugfs -w -f - $V2",
		{ NULL }, 0, "first-boot", "a service that changes partitions at the next boot" },
	{ HERON,
		"printf 'root=PARTUUID=4c1fa2b0-02 rootwait systemd.run=/boot/firstrun.sh' > c;"
		"mcopy -o -i $I@@4M c ::cmdline.txt",
		{ NULL }, 0, "first-boot", "cmdline.txt:1: systemd.run=/boot/firstrun.sh" },
	{ HERON, "sed -i s/throttled=0x0/throttled=0x50000/ bin/vcgencmd", { NULL }, 0, "power",
		"the voltage was too low since" },
	{ HERON, "sed -i s/throttled=0x0/throttled=0x50005/ bin/vcgencmd", { NULL }, 1, "power",
		"the voltage is too low now" },
	{ HERON, "echo '3,1,1,-;I/O error, dev nvme0n1, sector 3' >> dev/kmsg", { NULL }, 1,
		"errors", "the kernel says of nvme0n1" },
	{ HERON, "echo '3,1,1,-;I/O error, dev mmcblk0, sector 3' >> dev/kmsg", { NULL }, 0,
		"errors", "the kernel says of mmcblk0" },
	{ HERON,
		"printf '3,1,1,-;I/O error, dev sda, sector 3\n6,2,2,-;sd 0:0:0:0: [sda] Attached SCSI "
		"disk\n' >> dev/kmsg; cp -r sys/block/nvme0n1 sys/block/sda; truncate -s 2G dev/sda;"
		"echo 64 > sys/block/sda/device/bMaxPacketSize0",
		{ "--to", "sda" }, 0, "errors", "the kernel log has no errors of sda" },
	{ HERON,
		"printf '3,1,1,-;I/O error, dev nvme0n1, sector 3\n6,2,2,-;nvme0n1: detected capacity change "
		"from 0 to 4194304\n' >> dev/kmsg",
		{ NULL }, 0, "errors", "the kernel log has no errors of nvme0n1" },
	{ HERON, "rm dev/kmsg", { NULL }, 0, "errors", "the kernel's log cannot be read" },
	{ HERON,
		"echo 0x02 0x0a > sys/block/mmcblk0/device/life_time; echo 0x02 > "
		"sys/block/mmcblk0/device/pre_eol_info",
		{ NULL }, 0, "health", "mmcblk0: 90 to 100 % of its life is used" },
	{ HERON,
		"mkdir sys/block/nvme0n1/device/hwmon1; echo 84850 > "
		"sys/block/nvme0n1/device/hwmon1/temp1_input; echo 81850 > "
		"sys/block/nvme0n1/device/hwmon1/temp1_max",
		{ NULL }, 0, "health", "nvme0n1: it is 84 degrees warm, and slows itself down" },
	{ HERON, "echo dead > sys/block/nvme0n1/device/state", { NULL }, 0, "health",
		"the kernel calls its controller 'dead'" },
	{ HERON, SSR("04", "30", "1e", "02"), { NULL }, 0, "health",
		"mmcblk0: it is marked class 10, U3, V30, A2" },
	{ HERON, SSR("02", "00", "00", "f1"), { NULL }, 0, "health",
		"mmcblk0: it is marked class 4, A1" },
	{ HERON, SSR("ff", "0f", "00", "f0"), { NULL }, 0, "",
		"ready: the move to nvme0n1 can begin" },
	{ HERON, "echo 04zz > sys/block/mmcblk0/device/ssr", { NULL }, 0, "",
		"ready: the move to nvme0n1 can begin" },
	{ HERON, NVME("\\5", "\\1", "\\12", "\\3"), { NULL }, 0, "health",
		"nvme0n1: its spare blocks are low: 1 % are left, and 10 % is the limit" },
	{ HERON, NVME("\\4", "\\144", "\\12", "\\3"), { NULL }, 0, "health",
		"it says of itself that it is not reliable any more" },
	{ HERON, NVME("\\10", "\\144", "\\12", "\\3"), { NULL }, 0, "health",
		"nvme0n1: it takes no more writes" },
	{ HERON, NVME("\\0", "\\144", "\\12", "\\3"), { NULL }, 0, "health",
		"ok       nvme0n1: 3 % of its life is used" },
	{ HERON, NVME("\\0", "\\144", "\\12", "\\132"), { NULL }, 0, "health",
		"warning  nvme0n1: 90 % of its life is used" },
	{ HERON, NVME("\\0", "\\144", "\\12", "\\3"), { NULL }, 0, "health",
		"ok       nvme0n1: it is 42 degrees warm" },
	{ HERON, NVME("\\0", "\\144", "\\12", "\\3"), { NULL }, 0, "power",
		"warning  nvme0n1 may draw 8.2 W, and the board's PCIe connector gives 5 W" },
	/* Cut short: it is not asked for the rest. */
	{ HERON, NVME("\\5", "\\1", "\\12", "\\3") "; truncate -s 4000 dev/nvme0", { NULL }, 0, "",
		"ready: the move to nvme0n1 can begin" },
	{ KINGFISHER, "echo 0x2a > sys/block/sda/device/ioerr_cnt", { NULL }, 0, "health",
		"it has failed 42 requests" },
	{ KINGFISHER, QUEUE("sda", "0", "0"), { NULL }, 0, "discards",
		"warning  discards do not reach sda" },
	{ KINGFISHER, QUEUE("sda", "0", "0"), { NULL }, 0, "discards", "--leave-free 10%" },
	{ KINGFISHER, QUEUE("sda", "0", "0"), { "--leave-free", "10%" }, 0, "discards",
		"ok       discards do not reach sda; 1" },
	{ HERON, ":", { NULL }, 0, "clock", "the clock says 20" },
};

START_TEST(each_check)
{
	const Board *b = &boards[cases[_i].board];

	board_shell(b, "", cases[_i].command);
	SupRun run = BOARD_RUN(b, "ready", "--to", b->drive, cases[_i].options[0],
		cases[_i].options[1], cases[_i].options[2]);
	bench_expect(&run, cases[_i].code, cases[_i].text);
	g_autofree char *name = g_strdup_printf("\n%s ", cases[_i].check);
	g_autofree char *out = g_strconcat("\n", run.out, NULL);
	if (*cases[_i].check)
		ck_assert_msg(strstr(out, name) != NULL, "no check '%s' in:%s", name, out);
}
END_TEST

/* The missing driver of dipper-brook-4: a stop, its hint, and the move going through. */
START_TEST(a_stop_and_its_hint)
{
	g_autofree char *drive = g_strdup(sup_hash(board_disk(&board_brook, true)));
	SupRun ready = BOARD_RUN(&board_brook, "ready", "--to", "nvme0n1");
	SupRun move = BOARD_RUN(&board_brook, "move", "--to", "nvme0n1", "--erase", "nvme0n1");

	bench_expect(&ready, 1, "not ready: drivers");
	bench_expect(&ready, 1, "unless it is given --despite drivers");
	bench_expect(&move, 3,
		"the check 'drivers' stops the move: NVMe: the nvme driver is only on the root disk itself");
	ck_assert_str_eq(drive, sup_hash(board_disk(&board_brook, true)));
	g_autofree char *itinerary = g_strdup(sup_path("plan.json"));
	SupRun draft = BOARD_RUN(&board_brook, "draft", "--to", "nvme0n1", "-o", itinerary);
	bench_expect(&draft, 0, "as planned: nvme0n1 does not boot");
	SupRun planned = BOARD_RUN(&board_brook, "move", itinerary, "--erase", "nvme0n1");
	bench_expect(&planned, 3, "the check 'drivers' stops the move");

	SupRun drivers = BOARD_RUN(&board_brook, "drivers", "--for", "nvme0n1", "--write");
	bench_expect(&drivers, 0, "done");
	SupRun again = BOARD_RUN(&board_brook, "move", "--to", "nvme0n1", "--erase", "nvme0n1");
	bench_expect(&again, 0, "rehearsed: nvme0n1 boots\n");
	board_judge(board_disk(&board_brook, true));
}
END_TEST

START_TEST(despite_a_stop)
{
	SupRun other = BOARD_RUN(&board_brook, "move", "--to", "nvme0n1", "--erase", "nvme0n1",
		"--despite", "power");
	SupRun none = BOARD_RUN(
		&board_brook, "move", "--to", "nvme0n1", "--erase", "nvme0n1", "--despite", "owls");
	SupRun run = BOARD_RUN(&board_brook, "move", "--to", "nvme0n1", "--erase", "nvme0n1",
		"--despite", "power", "--despite", "drivers");

	bench_expect(&other, 3, "the check 'drivers' stops the move");
	bench_expect(&none, 2, "there is no check 'owls'");
	bench_expect(&run, 0, "waived");
	bench_expect(&run, 0, "rehearsed: nvme0n1 does not boot");
	ck_assert_ptr_null(strstr(run.out, "power off"));
}
END_TEST

START_TEST(as_json)
{
	SupRun run = BOARD_RUN(&board_brook, "--json", "ready", "--to", "nvme0n1");
	SupRun refused = BENCH_RUN("--json", "ready", "--to", "mmcblk0");

	bench_expect(&run, 1, "\"format\": \"wanderitas-ready/2\"");
	bench_expect(&run, 1, "\"name\": \"drivers\"");
	bench_expect(&run, 1, "\"can_be_waived\": true");
	bench_expect(&refused, 1, "\"can_be_waived\": false");
}
END_TEST

/* Of images neither board nor medium is known, and nobody's power is looked at. */
START_TEST(images)
{
	g_autofree char *image = g_strdup(sup_path("drive.img"));

	SUP_TOOL("truncate", "-s", "1G", image);
	SupRun run = WANDERITAS("ready", "--from", bench_path("dev/mmcblk0"), "--to", image);
	bench_expect(&run, 0, "it is unknown how it will be attached");
	ck_assert_ptr_null(strstr(run.out, "\npower"));
	ck_assert_ptr_null(strstr(run.out, "\nerrors"));
}
END_TEST

static const struct {
	const char *arguments[4];
	const char *text;
} wrong[] = {
	{ { "ready" }, "no target was named" },
	{ { "ready", "nvme0n1" }, "ready takes no 'nvme0n1'" },
	{ { "ready", "--to", "owl0" }, "there is no disk and no image file 'owl0'" },
};

START_TEST(wrong_words)
{
	SupRun run = bench_run("", wrong[_i].arguments);

	bench_expect(&run, 2, wrong[_i].text);
}
END_TEST

Suite *suite_ready(void)
{
	Suite *s = suite_create("cli/ready");
	TCase *t = tcase_create("ready");

	tcase_add_unchecked_fixture(t, bench_make, bench_remove);
	tcase_add_checked_fixture(t, sup_setup, sup_teardown);
	tcase_add_loop_test(t, sample_boards_are_ready, 0, BOARDS);
	tcase_add_loop_test(t, what_is_foretold_comes_true, 0, BOARDS);
	tcase_add_loop_test(t, each_check, 0, (int)G_N_ELEMENTS(cases));
	tcase_add_test(t, a_stop_and_its_hint);
	tcase_add_test(t, despite_a_stop);
	tcase_add_test(t, as_json);
	tcase_add_test(t, images);
	tcase_add_loop_test(t, wrong_words, 0, (int)G_N_ELEMENTS(wrong));
	suite_add_tcase(s, t);
	return s;
}
