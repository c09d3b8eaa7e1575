/* What survey finds in a system's files, and what it says of it. */
#include "boards.h"

#include <jansson.h>
#include <string.h>
#include <unistd.h>

Suite *suite_mentions(void);

/* Files put on a board's card, and what survey then says. */
typedef struct {
	unsigned number;
	const char *file, *text;
} Put;

static const struct {
	const char *name;
	size_t board;
	Put puts[3];
	const char *want[3];
	const char *never; /* what must not be there; NULL: nothing */
	int code;
} cases[] = {
	{ "as it is", 0, { { 0 } }, { "mmcblk0p1:/cmdline.txt", "mmcblk0p2 (root)", "not edited" },
		"no such disk", 0 },
	{ "a root that is not there", 0,
		{ { 1, "cmdline.txt", "root=PARTUUID=00000000-02 rootwait\n" } },
		{ "no such disk", "the kernel would not find its root",
			"at mmcblk0p1:/cmdline.txt:1:6" },
		NULL, 1 },
	{ "no initramfs", 0,
		{ { 1, "cmdline.txt", "root=UUID=6d1c7a52-0b7e-4f5e-9a43-2f8f5d1b9c30\n" },
			{ 1, "config.txt", "[pi4]\nauto_initramfs=1\n" } },
		{ "no initramfs is loaded, and the kernel alone does not find its root by UUID",
			"config.txt:2:1: an initramfs is loaded in the section [pi4]" },
		NULL, 1 },
	{ "letters of the wrong case", 0,
		{ { 2, "etc/fstab", "UUID=f3a1-77c2 /boot/firmware vfat d 0 2\n" } },
		{ "there is no such link under /dev/disk", "at mmcblk0p2:/etc/fstab:1:1" }, NULL,
		0 },
	{ "a command line of another name", 0,
		{ { 1, "config.txt", "include more.txt\nos_prefix=v-\n" },
			{ 1, "more.txt", "cmdline=hide.txt\n" },
			{ 1, "v-hide.txt", "root=PARTUUID=00000000-02\n" } },
		{ "mmcblk0p1:/v-hide.txt", "the kernel would not find its root",
			"mmcblk0p1:/cmdline.txt" },
		NULL, 1 },
	{ "a configuration that includes itself", 0,
		{ { 1, "config.txt",
			"include config.txt\ninclude config.txt\nauto_initramfs=1\n" } },
		{ "mmcblk0p1:/cmdline.txt" }, "no such disk", 0 },
	{ "a stub on root", 0,
		{ { 2, "boot/cmdline.txt", "root=PARTUUID=4c1fa2b0-02 not the real one\n" } },
		{ "mmcblk0p1:/cmdline.txt" }, "mmcblk0p2:/boot/cmdline.txt", 0 },
	{ "a menu that includes another", 1,
		{ { 1, "boot/extlinux/extlinux.conf",
			  "include more.conf\ninclude /boot/none.conf\n" },
			{ 1, "boot/extlinux/more.conf",
				"default x\nlabel x\n linux /k\n append root=/dev/mmcblk1p1\n" } },
		{ "mmcblk1p1:/boot/extlinux/more.conf", "root= in x",
			"boot/none.conf is included by the menu and is not there" },
		NULL, 0 },
	{ "a made file", 1, { { 0 } },
		{ "u-boot-update regenerates /boot/extlinux/extlinux.conf from /etc/default/u-boot" },
		NULL, 0 },
	{ "a script and a source that differ", 2,
		{ { 1, "boot.cmd", "setenv rootdev /dev/mmcblk0p2\n" } },
		{ "boot.scr was not made from the boot.cmd beside it" }, NULL, 0 },
	{ "a spoiled image", 2, { { 1, "uInitrd", "not one\n" }, { 1, "boot.scr", "not one\n" } },
		{ "uInitrd: this is no loader image", "boot.scr: this is no loader image" }, NULL,
		0 },
	{ "settings with two roots", 2,
		{ { 1, "weirEnv.txt",
			"rootdev=/dev/mmcblk0p1\nrootdev=/dev/mmcblk0p2\nbroken\n" } },
		{ "weirEnv.txt:2:1: rootdev is set a second time",
			"weirEnv.txt:3:1: the line is no KEY=VALUE", "a device path" },
		NULL, 0 },
};

START_TEST(findings)
{
	const Board *b = &boards[cases[_i].board];

	for (size_t i = 0; i < 3 && cases[_i].puts[i].file; i++) {
		const Put *p = &cases[_i].puts[i];
		board_put(board_disk(b, false), p->number, b->is_boot_fat && p->number == b->boot,
			p->file, p->text);
	}
	SupRun run = BOARD_RUN(b, "survey", "--mentions");
	for (size_t i = 0; i < 3 && cases[_i].want[i]; i++)
		bench_expect(&run, cases[_i].code, cases[_i].want[i]);
	if (cases[_i].never)
		ck_assert_msg(!strstr(run.out, cases[_i].never), "%s", run.out);
}
END_TEST

START_TEST(two_disks_with_the_same_names)
{
	const Board *b = &boards[1];

	SUP_TOOL("cp", board_disk(b, false), board_disk(b, true));
	SupRun run = BOARD_RUN(b, "survey", "--mentions");
	bench_expect(&run, 1, "mmcblk1p1 and nvme0n1p1");
	bench_expect(&run, 1, "the kernel takes whichever of them it sees first");
	bench_expect(&run, 1, "2 volumes have the label 'sound'");
	bench_expect(&run, 1, "on another disk");
}
END_TEST

/* A disk alone is judged with the machine's others in mind. */
START_TEST(one_disk_among_others)
{
	const Board *b = &boards[0];
	SupRun move =
		BOARD_RUN(b, "move", "--to", "nvme0n1", "--erase", "nvme0n1", "--what", "root");

	bench_expect(&move, 0, NULL);
	SupRun run = BOARD_RUN(b, "survey", "--mentions", "nvme0n1");
	bench_expect(&run, 0, "mmcblk0p1 (boot)  on another disk");
	ck_assert_ptr_null(strstr(run.out, "mmcblk0p1:/"));
	SupRun readdress = BOARD_RUN(b, "readdress", "nvme0n1");
	bench_expect(&readdress, 0, "none: every reference stays correct");
}
END_TEST

/* Links by bus are known to the machine alone. */
START_TEST(links_of_the_machine)
{
	const Board *b = &boards[0];

	SUP_TOOL("mkdir", "-p", board_path(b, "dev/disk/by-path"));
	ck_assert_int_eq(
		symlink("../../mmcblk0p1", board_path(b, "dev/disk/by-path/platform-hide-part1")),
		0);
	sup_write(board_path(b, "dev/mmcblk0p1"), "");
	board_put(board_disk(b, false), 2, false, "etc/fstab",
		"/dev/disk/by-path/platform-hide-part1 /boot/firmware vfat d 0 2\n"
		"/dev/disk/by-id/mmc-RB600_0x2f41c7aa-part2 / ext4 d 0 1\n");
	SupRun run = BOARD_RUN(b, "--json", "survey", "mmcblk0");
	g_autofree char *flat = g_strdup(run.out);
	json_t *root = json_loads(flat, 0, NULL);
	ck_assert_ptr_nonnull(root);
	json_t *mentions =
		json_object_get(json_array_get(json_object_get(root, "disks"), 0), "mentions");
	const char *want[] = { "mmcblk0p1", "mmcblk0p2" };
	for (size_t i = 0; i < 2; i++) {
		json_t *m = json_array_get(mentions, json_array_size(mentions) - 2 + i);
		ck_assert_str_eq(
			json_string_value(json_array_get(json_object_get(m, "names"), 0)), want[i]);
		ck_assert_str_eq(json_string_value(json_object_get(m, "format")), "fstab");
	}
	json_decref(root);
}
END_TEST

/* Files that are no text, or too large for a setting, are passed over. */
START_TEST(what_is_not_searched)
{
	const Board *b = &boards[1];
	const char *card = board_disk(b, false);
	g_autofree char *large = g_strnfill(1100000, 'x');
	g_autofree char *ending =
		g_strconcat(large, " UUID=2f9a61c4-7d3e-4b88-a1c5-0e6d5b4f7a21\n", NULL);

	board_put(card, 1, false, "etc/large.txt", ending);
	board_put(card, 1, false, "etc/small.txt", "UUID=2f9a61c4-7d3e-4b88-a1c5-0e6d5b4f7a21\n");
	ck_assert(g_file_set_contents(
		sup_path("put"), "\0UUID=2f9a61c4-7d3e-4b88-a1c5-0e6d5b4f7a21\n", 43, NULL));
	g_autofree char *write = g_strdup_printf("write %s etc/binary", sup_path("put"));
	board_debugfs(card, 1, true, write);
	SupRun run = BOARD_RUN(b, "survey", "--mentions");
	bench_expect(&run, 0, "/etc/small.txt");
	ck_assert_ptr_null(strstr(run.out, "/etc/large.txt"));
	ck_assert_ptr_null(strstr(run.out, "/etc/binary"));
}
END_TEST

START_TEST(rows_in_the_moved_system)
{
	const Board *b = &boards[1];
	const char *card = board_disk(b, false);
	static const char *const requests[] = { "mkdir /etc/wanderitas",
		"mkdir /etc/wanderitas/places.d", "mkdir /opt" };

	for (size_t i = 0; i < G_N_ELEMENTS(requests); i++)
		board_debugfs(card, 1, true, requests[i]);
	board_put(card, 1, false, "etc/wanderitas/places.d/own.conf",
		"/etc/station/*.ini text\n/opt/camera.conf shell\nnonsense\n");
	board_put(card, 1, false, "opt/camera.conf", "STORE_DEVICE=/dev/mmcblk1p2\n");
	SupRun run = BOARD_RUN(b, "draft", "--to", "nvme0n1");
	bench_expect(&run, 0, "root:/opt/camera.conf");
	bench_expect(&run, 0, "+STORE_DEVICE=/dev/disk/by-partuuid/");
	bench_expect(&run, 0, "+device = /dev/disk/by-uuid/");
	bench_expect(&run, 0, "own.conf:3:9: '' is no format");
}
END_TEST

Suite *suite_mentions(void)
{
	Suite *s = suite_create("cli/mentions");
	TCase *t = tcase_create("mentions");

	tcase_add_unchecked_fixture(t, bench_make, bench_remove);
	tcase_add_checked_fixture(t, sup_setup, sup_teardown);
	tcase_add_loop_test(t, findings, 0, (int)G_N_ELEMENTS(cases));
	tcase_add_test(t, two_disks_with_the_same_names);
	tcase_add_test(t, one_disk_among_others);
	tcase_add_test(t, links_of_the_machine);
	tcase_add_test(t, what_is_not_searched);
	tcase_add_test(t, rows_in_the_moved_system);
	suite_add_tcase(s, t);
	return s;
}
