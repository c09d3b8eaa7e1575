/* Partitions that are no ext4 and no FAT, and what lies before the first one. */
#include "bench.h"

#include "base/text.h"

#include <string.h>

Suite *suite_kinds(void);

#define SOURCE sup_path("source.img")
#define TARGET sup_path("target.img")
#define SWAP_UUID "0f7b7d0a-4c4e-4d6b-9a3e-2b1c5d6e7f80"

enum { OTHER_AT = 632 * 1024 * 1024, OTHER_BYTES = 8 * 1024 * 1024 };

/* The heron's card with two more partitions: swap, which its fstab names, and one without a file
 * system. */
static void set_up(void)
{
	sup_setup();
	g_autofree char *script = g_strdup_printf(
		"cp '%s' '%s'; truncate -s 640M '%s';"
		"printf 'start=1228800,size=65536,type=82\\nstart=1294336,size=16384,type=83\\n' |"
		" sfdisk -q --append '%s';"
		"truncate -s 32M '%s/swap'; mkswap -q -L nest -U " SWAP_UUID " '%s/swap';"
		"dd if='%s/swap' of='%s' bs=1M seek=600 conv=notrunc status=none;"
		"dd if=/dev/urandom of='%s' bs=4k seek=161800 count=300 conv=notrunc status=none;"
		"truncate -s 1G '%s'",
		bench_path("dev/mmcblk0"), SOURCE, SOURCE, SOURCE, sup_folder(), sup_folder(),
		sup_folder(), SOURCE, SOURCE, TARGET);
	const char *argv[] = { "bash", "-ec", script, NULL };

	sup_tool(argv);
	g_autofree char *more = g_strconcat(bench_root_file(SOURCE, "etc/fstab"),
		"UUID=" SWAP_UUID " none swap sw 0 0\n", NULL);
	bench_put_root_file(SOURCE, "etc/fstab", more);
}

static SupRun move(const char *option, const char *value)
{
	return WANDERITAS(
		"move", "--from", SOURCE, "--to", TARGET, "--erase", TARGET, option, value);
}

static const char *probe(const char *image, uint64_t at)
{
	g_autofree char *offset = g_strdup_printf("%" G_GUINT64_FORMAT, at);

	return SUP_TOOL("blkid", "-p", "-O", offset, "-S", "33554432", image);
}

static uint64_t start_of(unsigned number)
{
	g_autofree char *name = g_strdup_printf("%s%u :", TARGET, number);
	const char *line = strstr(SUP_TOOL("sfdisk", "-d", TARGET), name);

	ck_assert_ptr_nonnull(line);
	return g_ascii_strtoull(strstr(line, "start=") + 6, NULL, 10) * 512;
}

static void expect_range(uint64_t from, uint64_t to, uint64_t bytes)
{
	g_autofree char *skip =
		g_strdup_printf("%" G_GUINT64_FORMAT ":%" G_GUINT64_FORMAT, from, to);
	g_autofree char *count = g_strdup_printf("%" G_GUINT64_FORMAT, bytes);

	SUP_TOOL("cmp", "-i", skip, "-n", count, SOURCE, TARGET);
}

START_TEST(swap_is_new_and_blocks_are_the_same)
{
	g_autofree char *before = g_strdup(sup_hash(SOURCE));
	SupRun run = move("--table", "same");

	bench_expect(&run, 0, "done: everything was read back");
	bench_expect(&run, 0, "partition 4 holds no file system that is known");
	ck_assert_str_eq(before, sup_hash(SOURCE));
	SUP_TOOL("sfdisk", "--verify", TARGET);
	sup_judge_ext(TARGET, start_of(2));
	const char *swap = probe(TARGET, start_of(3));
	ck_assert_msg(strstr(swap, "TYPE=\"swap\"") && strstr(swap, "LABEL=\"nest\"") &&
			      !strstr(swap, SWAP_UUID),
		"%s", swap);
	g_autofree char *uuid = g_strndup(strstr(swap, " UUID=\"") + 7, 36);
	g_autofree char *line = g_strdup_printf("UUID=%s none swap", uuid);
	g_autofree char *volume =
		g_strdup_printf("%s?offset=%" G_GUINT64_FORMAT, TARGET, start_of(2));
	ck_assert_ptr_nonnull(strstr(SUP_TOOL("debugfs", "-R", "cat /etc/fstab", volume), line));
	expect_range(OTHER_AT, start_of(4), OTHER_BYTES);
	SupRun again = WANDERITAS("catchup", sup_path("target.img.wanderitas"));
	bench_expect(&again, 0, "nothing changed");
}
END_TEST

/* Inodes without room for nanoseconds and birth times, as older tools made them. */
START_TEST(small_inodes)
{
	g_autofree char *script = g_strdup_printf(
		"cd '%s'; rm -f source.img; cp --sparse=always '%s' source.img; mkdir tree; "
		"debugfs -R 'rdump / tree' 'source.img?offset=%u' >log 2>&1; rmdir tree/lost+found; "
		"mkfs.ext4 -q -F -I 128 -d tree -L rootfs -U 6d1c7a52-0b7e-4f5e-9a43-2f8f5d1b9c30 -E "
		"offset=%u source.img 468M >>log 2>&1",
		sup_folder(), bench_path("dev/mmcblk0"), (unsigned)ROOT_AT, (unsigned)ROOT_AT);
	const char *argv[] = { "bash", "-ec", script, NULL };

	sup_tool(argv);
	SupRun run = move("--table", "same");
	bench_expect(&run, 0, "done: everything was read back");
	sup_judge_ext(TARGET, start_of(2));
	SupRun again = WANDERITAS("catchup", sup_path("target.img.wanderitas"));
	bench_expect(&again, 0, "nothing changed");
}
END_TEST

START_TEST(what_would_clash_is_refused)
{
	uint8_t zeros[65536] = { 0 };

	for (uint64_t at = 0; at < OTHER_BYTES; at += sizeof(zeros))
		sup_poke(SOURCE, OTHER_AT + at, zeros, sizeof(zeros));
	sup_poke(SOURCE, OTHER_AT, "LUKS\xba\xbe\0\1", 8);
	g_autofree char *target = g_strdup(sup_hash(TARGET));
	SupRun run = move("--table", "same");
	bench_expect(&run, 3, "it holds an encrypted volume (LUKS), which cannot be copied");
	ck_assert_str_eq(target, sup_hash(TARGET));
}
END_TEST

static const struct {
	const char *name;
	uint64_t at;
	const char *bytes;
	size_t len;
	const char *want;
} loaders[] = {
	{ "Rockchip", 32768, "RKNS", 4, "is copied too: Rockchip, U-Boot 2023.01" },
	{ "Allwinner", 8196, "eGON.BT0", 8, "is copied too: Allwinner, U-Boot 2023.01" },
	{ "Amlogic", 528, "@AML", 4, "is copied too: Amlogic, U-Boot 2023.01" },
	{ "i.MX", 1024, "\xd1\x00\x20\x40", 4, "is copied too: i.MX, U-Boot 2023.01" },
	{ "i.MX 8M", 33792, "\xd1\x00\x20\x41", 4, "is copied too: i.MX 8M, U-Boot 2023.01" },
	{ "TI", 131092, "CHSETTINGS", 10, "is copied too: TI AM, U-Boot 2023.01" },
	{ "none that we know", 70000, "loader", 6, "is copied too: U-Boot 2023.01" },
};

START_TEST(loader_areas_come_along)
{
	static const char version[] = "U-Boot SPL 2023.01+dfsg (made up)";
	bool is_amlogic = strcmp(loaders[_i].name, "Amlogic") == 0;

	sup_poke(SOURCE, 0, "code", 4);
	sup_poke(SOURCE, loaders[_i].at, loaders[_i].bytes, loaders[_i].len);
	sup_poke(SOURCE, 1024 * 1024, version, sizeof(version));
	SupRun run = move("--table", "same");
	bench_expect(&run, 0, loaders[_i].want);
	SUP_TOOL("sfdisk", "--verify", TARGET);
	expect_range(512, 512, 4 * WDR_MIB - 512);
	if (is_amlogic)
		expect_range(0, 0, 440);
	ck_assert_ptr_nonnull(strstr(SUP_TOOL("sfdisk", "-d", TARGET), "bootable"));
}
END_TEST

START_TEST(a_loader_is_in_the_way_of_a_gpt)
{
	sup_poke(SOURCE, 8196, "eGON.BT0", 8);
	SupRun run = move("--table", "gpt");
	bench_expect(&run, 3, "lies where a GPT would be");
}
END_TEST

/* A drive is not started from its first sectors, unless somebody says so. */
START_TEST(a_drive_gets_no_loader_unasked)
{
	sup_poke(bench_path("dev/mmcblk0"), 32768, "RKNS", 4);
	SupRun without = BENCH_RUN("draft", "--to", "nvme0n1");
	bench_expect(&without, 0, "is not copied");
	SupRun with = BENCH_RUN("draft", "--to", "nvme0n1", "--with", "loader");
	bench_expect(&with, 0, "is copied too: Rockchip");
	SupRun wrong = BENCH_RUN("draft", "--to", "nvme0n1", "--with", "loader,feathers");
	bench_expect(&wrong, 2, "--with knows loader, drivers, order and firmware, not 'feathers'");
	SupRun root = BENCH_RUN("draft", "--to", "nvme0n1", "--what", "root");
	ck_assert_ptr_null(strstr(root.out, "loader area"));
}
END_TEST

Suite *suite_kinds(void)
{
	Suite *s = suite_create("cli/kinds");
	TCase *tc = tcase_create("kinds");

	tcase_add_unchecked_fixture(tc, bench_make, bench_remove);
	tcase_add_checked_fixture(tc, set_up, sup_teardown);
	tcase_add_test(tc, swap_is_new_and_blocks_are_the_same);
	tcase_add_test(tc, small_inodes);
	tcase_add_test(tc, what_would_clash_is_refused);
	tcase_add_loop_test(tc, loader_areas_come_along, 0, G_N_ELEMENTS(loaders));
	tcase_add_test(tc, a_loader_is_in_the_way_of_a_gpt);
	tcase_add_test(tc, a_drive_gets_no_loader_unasked);
	suite_add_tcase(s, tc);
	return s;
}
