/* A wrong call says which call is right, whole: it is pasted, and works. */
#include "boards.h"

#include <string.h>
#include <unistd.h>

Suite *suite_corrections(void);

enum { HERON, BITTERN };
#define INSTALLED "/usr/lib/u-boot/field-recorder/u-boot-rockchip-spi.bin"

static const struct {
	int board;
	const char *prepare; /* commands of bash, see board_shell() */
	const char *first[8];
	const char *says;
} cases[] = {
	/* Options that do not fit the disks. */
	{ HERON, ":", { "draft", "--to", "nvme0n1", "--name-by", "partlabel" },
		"for a table that has them: " },
	{ HERON, ":", { "draft", "--to", "nvme0n1", "--table=mbr", "--name-by", "partlabel" },
		"for a table that has them: " },
	{ HERON, "echo arm_64bit=1 > c; mcopy -o -i $I@@4M c ::config.txt",
		{ "draft", "--to", "nvme0n1", "--name-by", "uuid" }, "to name it by PARTUUID: " },
	{ HERON, ":", { "draft", "--to", "nvme0n1", "--with", "drivers" },
		"to see what it would do: " },
	{ HERON, ":", { "draft", "--to", "nvme0n1", "--with", "order" },
		"to see what it would do: " },
	{ HERON, ":", { "draft", "--to", "nvme0n1", "--with", "firmware" },
		"to see what it would do: " },
	{ HERON, ":", { "draft", "--to", "nvme0n1", "--what", "root", "--into", "7" },
		"to see its partitions: " },
	{ HERON, ":", { "pace", "nvme0n1", "--write-to", "7" }, "to see its partitions: " },
	/* A boot order without the old way back, or that cannot be worked out. */
	{ HERON, ":", { "order", "--set", "0xf6", "--write" }, "to set it all the same: " },
	{ BITTERN, "environment 'boot_targets=mmc1 mmc0'",
		{ "order", "--targets", "nvme0", "--write" }, "to set it all the same: " },
	{ BITTERN, "environment 'boot_targets=nvme0 mmc1 mmc0'", { "order", "--first", "sd" },
		"for the first of them: " },
	{ BITTERN, "environment 'bootcmd=run distro_bootcmd'", { "order", "--first", "nvme" },
		"give the whole list, such as: " },
	{ BITTERN,
		"environment boot_targets=mmc1; printf X | dd of=dev/mtd0 bs=1 seek=3145800 "
		"conv=notrunc; mkdir -p root/etc; printf 'bootcmd=run distro_bootcmd\\nboot_targets=mmc1\\n' "
		"> root/etc/u-boot-initial-env",
		{ "order", "--first", "nvme" }, "to begin with the one in " },
	/* Loaders. */
	{ BITTERN, "sed -i s/recorder/moth-trap/ proc/device-tree/compatible",
		{ "loader", INSTALLED }, "if you know better: " },
	{ BITTERN, "printf 'x\\0' > proc/device-tree/compatible",
		{ "loader", INSTALLED, "--despite", "board" }, "if you know better: " },
	/* What is missing. */
	{ HERON, ":", { "draft" }, "to list the disks: " },
};

START_TEST(the_right_call)
{
	const Board *b = &boards[cases[_i].board];

	board_shell(b, board_firmware, cases[_i].prepare);
	SupRun run = board_run(b, cases[_i].first);
	ck_assert_int_ge(run.code, 2);
	board_follow(&run, cases[_i].says);
}
END_TEST

/* What an itinerary was drawn for has changed since: it is drawn anew, and is carried out. */
static const struct {
	const char *change;
	const char *says;
} stale[] = {
	{ "echo 'root=PARTUUID=4c1fa2b0-02 rootwait quiet' > c; mcopy -o -i $I@@4M c ::cmdline.txt",
		"has changed since the itinerary was drawn" },
	{ "mkfs.ext4 -qF dev/nvme0n1", "draw a new itinerary: " },
};

START_TEST(a_stale_itinerary)
{
	const Board *b = &boards[HERON];
	g_autofree char *plan = g_strdup(sup_path("plan.json"));

	SupRun run = BOARD_RUN(b, "draft", "--to", "nvme0n1", "-o", plan);
	bench_expect(&run, 0, "");
	board_shell(b, "", stale[_i].change);
	run = BOARD_RUN(b, "move", plan, "--erase", "nvme0n1");
	bench_expect(&run, 3, stale[_i].says);
	ck_assert_int_eq(chdir(sup_folder()), 0);
	board_follow(&run, stale[_i].says);
	run = BOARD_RUN(b, "move", sup_path("new-itinerary.json"), "--erase", "nvme0n1");
	bench_expect(&run, 0, "done:");
}
END_TEST

/* The first word of what a report needs: a move, and a page. */
START_TEST(a_report_without_a_page)
{
	bench_take_moved();
	SupRun run = BENCH_RUN("report");

	bench_expect(&run, 2, "no page to write was named");
	ck_assert_int_eq(chdir(sup_folder()), 0);
	SupRun made = board_follow(&run, "to write one: ");
	bench_expect(&made, 0, "move.html");
}
END_TEST

/* A finished move that is to be continued, or caught up with. */
START_TEST(a_finished_move_is_resumed)
{
	bench_take_moved();
	SupRun run = BENCH_RUN("move", "--resume", "--erase", "nvme0n1");

	bench_expect(&run, 3, "was done to its end");
	board_follow(&run, "to copy what changed on the source since: ");
}
END_TEST

/* ---- a target or source in use, as root ---- */

typedef struct {
	char *image, *loop, *folder;
} Used;

/* An image attached to a loop device, whose volume is mounted. */
static bool use(Used *u, const char *name)
{
	if (!sup_is_root()) {
		sup_say_skipped("a_disk_in_use");
		return false;
	}
	u->image = g_strdup(sup_path(name));
	u->folder = g_strdup(sup_path("mounted"));
	SUP_TOOL("bash", "-c", "set -e; truncate -s 1G \"$1\"; mkfs.ext4 -q \"$1\"; mkdir \"$2\"",
		"bash", u->image, u->folder);
	u->loop = g_strstrip(g_strdup(SUP_TOOL("losetup", "--find", "--show", u->image)));
	SUP_TOOL("mount", u->loop, u->folder);
	return true;
}

static void end_use(Used *u)
{
	SUP_RUN("umount", u->folder);
	SUP_RUN("losetup", "-d", u->loop);
	g_free(u->image);
	g_free(u->loop);
	g_free(u->folder);
}

/* A draft that is refused, with how to release the disk. Another test may have the mount in a
 * namespace of its own for a moment: no command ends that use, so none is named then. */
static SupRun refused_draft(const char *from, const char *to, const char *why)
{
	SupRun run = { 0 };

	for (int tries = 0; tries < 50; tries++) {
		run = WANDERITAS("draft", "--from", from, "--to", to);
		bench_expect(&run, 3, why);
		if (strstr(run.err, "to release it: "))
			break;
		g_usleep(G_USEC_PER_SEC / 5);
	}
	return run;
}

START_TEST(a_disk_in_use)
{
	g_autofree char *card = g_strdup(bench_path("dev/mmcblk0"));
	g_auto(GStrv) names = g_strsplit("a drive.img:used.img", ":", -1);
	Used u = { NULL, NULL, NULL };

	if (!use(&u, names[_i]))
		return;
	SupRun run = refused_draft(card, u.image, "the target is in use");
	board_follow(&run, "to release it: ");
	SupRun free = WANDERITAS("draft", "--from", card, "--to", u.image);
	end_use(&u);
	bench_expect(&free, 0, "");
}
END_TEST

START_TEST(a_source_in_use)
{
	Used u = { NULL, NULL, NULL };

	if (!use(&u, "card.img"))
		return;
	SupRun run =
		refused_draft(u.image, bench_path("dev/nvme0n1"), "may change while it is read");
	board_follow(&run, "to release it: ");
	SupRun free = WANDERITAS("draft", "--from", u.image, "--to", bench_path("dev/nvme0n1"));
	end_use(&u);
	ck_assert_ptr_null(strstr(free.err, "may change"));
}
END_TEST

Suite *suite_corrections(void)
{
	Suite *s = suite_create("cli/corrections");
	TCase *t = tcase_create("corrections");
	TCase *moved = tcase_create("moved");

	tcase_add_unchecked_fixture(t, bench_make, bench_remove);
	tcase_add_checked_fixture(t, sup_setup, sup_teardown);
	tcase_add_loop_test(t, the_right_call, 0, (int)G_N_ELEMENTS(cases));
	tcase_add_loop_test(t, a_stale_itinerary, 0, (int)G_N_ELEMENTS(stale));
	tcase_add_loop_test(t, a_disk_in_use, 0, 2);
	tcase_add_test(t, a_source_in_use);
	suite_add_tcase(s, t);
	tcase_add_unchecked_fixture(moved, bench_make_moved, bench_remove);
	tcase_add_checked_fixture(moved, sup_setup, sup_teardown);
	tcase_add_test(moved, a_report_without_a_page);
	tcase_add_test(moved, a_finished_move_is_resumed);
	suite_add_tcase(s, moved);
	return s;
}
