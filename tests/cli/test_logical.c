/* Layouts with logical partitions: moved, made from and into a GPT, renewed, moved into. */
#include "bench.h"

#include "base/text.h"

#include <string.h>

Suite *suite_logical(void);

#define SOURCE sup_path("source.img")
#define TARGET sup_path("target.img")
#define SWAP_UUID "0f7b7d0a-4c4e-4d6b-9a3e-2b1c5d6e7f80"

enum { ROOT_MIB = 136, SWAP_MIB = 605, DATA_MIB = 673 };

static void tool(const char *script)
{
	const char *argv[] = { "bash", "-ec", script, NULL };

	sup_tool(argv);
}

/* sfdisk's picture of the source: root and swap are logical, data is not. */
static const char *const layouts[] = {
	"1:start=8192,size=262144,type=c,bootable\n2:start=272384,size=1103872,type=f\n"
	"3:start=1376256,size=16384,type=83\n"
	"5:start=278528,size=958464,type=83\n6:start=1239040,size=65536,type=82\n",
	/* Numbered against their order on the disk: swap is 5. */
	"1:start=8192,size=262144,type=c,bootable\n2:start=272384,size=1103872,type=5\n"
	"3:start=1376256,size=16384,type=83\n"
	"5:start=1239040,size=65536,type=82\n6:start=278528,size=958464,type=83\n",
};

/* The heron's card, its root moved behind an extended partition's head. */
static void make_source(unsigned layout)
{
	unsigned root = layout == 0 ? 5 : 6;
	g_autofree char *script = g_strdup_printf(
		"cd '%s'; card='%s'; truncate -s 704M source.img; truncate -s 1G target.img;"
		"dd if=$card of=source.img bs=1M count=132 conv=notrunc,sparse status=none;"
		"dd if=$card of=source.img bs=1M skip=132 seek=%u conv=notrunc,sparse status=none;"
		"truncate -s 32M swap; mkswap -q -L nest -U " SWAP_UUID " swap;"
		"dd if=swap of=source.img bs=1M seek=%u conv=notrunc status=none;"
		"dd if=/dev/urandom of=source.img bs=1M seek=%u count=2 conv=notrunc status=none;"
		"printf 'label: dos\\nlabel-id: 0x4c1fa2b0\\n%s' | sfdisk -q source.img;"
		"mcopy -n -i source.img@@4M ::cmdline.txt line; sed -i s/-02/-0%u/ line;"
		"mcopy -o -i source.img@@4M line ::cmdline.txt;"
		"debugfs -R 'dump /etc/fstab fstab' 'source.img?offset=%u';"
		"sed -i s/b0-02/b0-0%u/ fstab; echo 'UUID=" SWAP_UUID " none swap sw 0 0' >>fstab;"
		"printf 'rm /etc/fstab\\nwrite fstab /etc/fstab\\n' |"
		" debugfs -w -f - 'source.img?offset=%u'",
		sup_folder(), bench_path("dev/mmcblk0"), ROOT_MIB, SWAP_MIB, DATA_MIB,
		layouts[layout], root, ROOT_MIB * 1024 * 1024, root, ROOT_MIB * 1024 * 1024);

	tool(script);
}

static char *field(const char *image, unsigned number, const char *key)
{
	g_autofree char *name = g_strdup_printf("%s%u :", image, number);
	const char *line = strstr(SUP_TOOL("sfdisk", "-d", image), name);

	ck_assert_msg(line != NULL, "no partition %u", number);
	const char *value = strstr(line, key) + strlen(key);
	value += strspn(value, " ");
	return g_strndup(value, strcspn(value, ",\n"));
}

static uint64_t start_of(const char *image, unsigned number)
{
	g_autofree char *sectors = field(image, number, "start=");

	return g_ascii_strtoull(sectors, NULL, 10) * 512;
}

static void expect_type(const char *image, unsigned number, const char *want)
{
	g_autofree char *type = field(image, number, "type=");

	ck_assert_str_eq(type, want);
}

/* The root volume's fstab and the boot volume's command line name it so. */
static void expect_root_named(const char *image, unsigned number, const char *partuuid)
{
	g_autofree char *volume =
		g_strdup_printf("%s?offset=%" G_GUINT64_FORMAT, image, start_of(image, number));
	g_autofree char *boot =
		g_strdup_printf("%s@@%" G_GUINT64_FORMAT, image, start_of(image, 1));
	g_autofree char *line = g_strdup_printf("PARTUUID=%s ", partuuid);

	ck_assert_ptr_nonnull(strstr(SUP_TOOL("debugfs", "-R", "cat /etc/fstab", volume), line));
	ck_assert_ptr_nonnull(strstr(SUP_TOOL("mtype", "-i", boot, "::cmdline.txt"), line));
}

static char *partuuid_of(const char *image, unsigned number)
{
	const char *dump = SUP_TOOL("sfdisk", "-d", image);

	if (strstr(dump, "label: dos"))
		return g_strdup_printf("%.8s-%02u", strstr(dump, "label-id: 0x") + 12, number);
	g_autofree char *upper = field(image, number, "uuid=");
	return g_ascii_strdown(upper, -1);
}

static void judge(const char *image, unsigned root)
{
	g_autofree char *partuuid = partuuid_of(image, root);

	SUP_TOOL("sfdisk", "--verify", image);
	sup_judge_ext(image, start_of(image, root));
	expect_root_named(image, root, partuuid);
	/* Another reader of tables agrees about what is where. */
	g_autofree char *script =
		g_strdup_printf("partx -o NR,START -n %u:%u -g -r '%s'", root, root, image);
	g_autofree char *seen =
		g_strdup_printf("%u %" G_GUINT64_FORMAT "\n", root, start_of(image, root) / 512);
	const char *argv[] = { "bash", "-ec", script, NULL };
	ck_assert_str_eq(sup_tool(argv), seen);
}

#define MOVE(from, to, ...)                                                                        \
	WANDERITAS("move", "--from", from, "--to", to, "--erase", to, __VA_ARGS__)

START_TEST(moved)
{
	unsigned root = _i == 0 ? 5 : 6;

	make_source((unsigned)_i);
	g_autofree char *before = g_strdup(sup_hash(SOURCE));
	SupRun run = MOVE(SOURCE, TARGET, "--table", "same");
	bench_expect(&run, 0, "done: everything was read back");
	ck_assert_str_eq(before, sup_hash(SOURCE));
	judge(TARGET, root);
	expect_type(TARGET, 2, _i == 0 ? "f" : "5");
	expect_type(TARGET, root == 5 ? 6 : 5, "82");
	g_autofree char *skip = g_strdup_printf(
		"%u:%" G_GUINT64_FORMAT, DATA_MIB * 1024 * 1024, start_of(TARGET, 3) + WDR_MIB);
	SUP_TOOL("cmp", "-i", skip, "-n", "2097152", SOURCE, TARGET);
	SupRun again = WANDERITAS("catchup", sup_path("target.img.wanderitas"));
	bench_expect(&again, 0, "nothing changed");
}
END_TEST

START_TEST(into_a_gpt_and_back)
{
	make_source(0);
	SupRun run = MOVE(SOURCE, TARGET, "--table", "gpt");
	bench_expect(&run, 0, "done: everything was read back");
	judge(TARGET, 5);
	ck_assert_ptr_null(strstr(SUP_TOOL("sfdisk", "-d", TARGET), "target.img2"));
	const char *back = sup_path("back.img");
	sup_make_image(back, 900 * WDR_MIB);
	SupRun home = MOVE(TARGET, back, "--table", "mbr");
	bench_expect(&home, 0, "done: everything was read back");
	judge(back, 5);
	expect_type(back, 2, "f");
}
END_TEST

/* A table of one partition has no use for number 5. */
START_TEST(root_alone)
{
	make_source(0);
	SupRun run = MOVE(SOURCE, TARGET, "--what", "root");
	bench_expect(&run, 0, "root is partition 1 of the target");
	g_autofree char *partuuid = partuuid_of(TARGET, 1);
	g_autofree char *want = g_strdup_printf("root=PARTUUID=%s ", partuuid);
	g_autofree char *boot = g_strconcat(SOURCE, "@@4M", NULL);
	ck_assert_ptr_nonnull(strstr(SUP_TOOL("mtype", "-i", boot, "::cmdline.txt"), want));
	sup_judge_ext(TARGET, start_of(TARGET, 1));
	SupRun back = WANDERITAS("rewind", sup_path("target.img.wanderitas"));
	bench_expect(&back, 0, "put back");
	expect_root_named(SOURCE, 5, "4c1fa2b0-05");
}
END_TEST

/* A logical partition as the place to move into: what describes it lies just before it. */
START_TEST(into_a_logical_one)
{
	g_autofree char *script = g_strdup_printf(
		"printf 'label: dos\\n1:start=2048,size=20480,type=83\\n4:start=24576,type=f\\n"
		"5:start=26624,size=1024000,type=83\\n6:type=83\\n' | sfdisk -q '%s'",
		bench_path("dev/nvme0n1"));

	tool(script);
	g_autofree char *before = g_strdup(SUP_TOOL("sfdisk", "-d", bench_path("dev/nvme0n1")));
	SupRun run = BENCH_RUN(
		"move", "--to", "nvme0n1", "--what", "root", "--into", "5", "--erase", "nvme0n1p5");
	bench_expect(&run, 0, "done: everything was read back");
	ck_assert_str_eq(before, SUP_TOOL("sfdisk", "-d", bench_path("dev/nvme0n1")));
	sup_judge_ext(bench_path("dev/nvme0n1"), 26624 * 512);
	SupRun container = BENCH_RUN("draft", "--to", "nvme0n1", "--what", "root", "--into", "4");
	bench_expect(&container, 3, "has no partition '4' to move into");
}
END_TEST

START_TEST(renewed_and_put_back)
{
	make_source(0);
	SupRun run = WANDERITAS("readdress", SOURCE, "--renew", "--write");
	bench_expect(&run, 0, "done: every change was read back");
	g_autofree char *partuuid = partuuid_of(SOURCE, 5);
	ck_assert(!g_str_has_prefix(partuuid, "4c1fa2b0"));
	judge(SOURCE, 5);
	g_autofree char *state = g_strdup_printf("ls -d '%s'.wanderitas/readdress-*", SOURCE);
	const char *argv[] = { "sh", "-c", state, NULL };
	SupRun back = WANDERITAS("rewind", g_strchomp(sup_tool(argv)));
	bench_expect(&back, 0, "put back  the identifiers of");
	judge(SOURCE, 5);
	expect_root_named(SOURCE, 5, "4c1fa2b0-05");
}
END_TEST

/* An MBR numbers logical partitions without gaps, and needs one of its own four for them. */
START_TEST(what_an_mbr_cannot_have)
{
	make_source(0);
	SupRun run = MOVE(SOURCE, TARGET, "--table", "gpt");
	bench_expect(&run, 0, "done:");
	g_autofree char *renumber = g_strdup_printf(
		"cd '%s'; sfdisk -q -d target.img |"
		" sed s/target.img6/target.img7/ >table; sfdisk -q target.img <table",
		sup_folder());
	tool(renumber);
	SupRun gap = WANDERITAS("draft", "--from", TARGET, "--to", SOURCE, "--table", "mbr");
	bench_expect(&gap, 3, "cannot keep their numbers in an MBR");
	bench_expect(&gap, 3, " --table gpt\n");
}
END_TEST

Suite *suite_logical(void)
{
	Suite *s = suite_create("cli/logical");
	TCase *tc = tcase_create("logical");

	tcase_add_unchecked_fixture(tc, bench_make, bench_remove);
	tcase_add_checked_fixture(tc, sup_setup, sup_teardown);
	tcase_add_loop_test(tc, moved, 0, G_N_ELEMENTS(layouts));
	tcase_add_test(tc, into_a_gpt_and_back);
	tcase_add_test(tc, root_alone);
	tcase_add_test(tc, into_a_logical_one);
	tcase_add_test(tc, renewed_and_put_back);
	tcase_add_test(tc, what_an_mbr_cannot_have);
	suite_add_tcase(s, tc);
	return s;
}
