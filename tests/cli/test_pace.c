/* pace over the bench's disks, some of them slowed down to a known speed with a clock of its own.
 */
#include "bench.h"

#include "base/cleanup.h"

#include <signal.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/vfs.h>
#include <unistd.h>

Suite *suite_pace(void);

#define CARD bench_path("dev/mmcblk0")
#define DRIVE bench_path("dev/nvme0n1")
#define TMPFS 0x01021994

/* The drive holds something, as after a move. */
static void fill_drive(void)
{
	g_autofree char *of = g_strdup_printf("of=%s", DRIVE);

	SUP_TOOL("dd", "if=/dev/urandom", of, "bs=1M", "seek=64", "count=48", "conv=notrunc");
}

static json_t *read_json(const char *path)
{
	json_error_t e;
	json_t *json = json_load_file(path, JSON_REJECT_DUPLICATES, &e);

	ck_assert_msg(json != NULL, "%s: line %d: %s", path, e.line, e.text);
	return json;
}

/* A figure of the Nth thing that was measured; NULL: it has none. */
static json_t *figure(json_t *record, size_t n, const char *what)
{
	json_t *measured = json_array_get(json_object_get(record, "measured"), n);
	json_t *each = NULL;
	size_t i = 0;

	ck_assert_ptr_nonnull(measured);
	json_array_foreach(json_object_get(measured, "figures"), i, each)
	{
		if (strcmp(json_string_value(json_object_get(each, "what")), what) == 0)
			return each;
	}
	return NULL;
}

static void assert_speed(json_t *record, size_t n, const char *what, double want)
{
	const json_t *f = figure(record, n, what);
	double is = json_number_value(json_object_get(f, "bytes_per_s"));

	ck_assert_msg(
		is > want * 0.95 && is < want * 1.05, "%s: %.0f instead of %.0f", what, is, want);
}

/* One request after the other, as "slow" of faults.c has it. */
static double speed_of(double bytes_per_s, double latency_s, double request)
{
	return request / (latency_s + request / bytes_per_s);
}

START_TEST(finds_the_speed_of_slow_disks)
{
	fill_drive();
	SupRun run = BENCH_WITH_FAULTS("mmcblk0:slow:21000000:900000 nvme0n1:slow:390000000:85000",
		"pace", "mmcblk0", "nvme0n1", "--seconds", "2", "-o", sup_path("figures.json"));
	bench_expect(&run, 0, "reads in sequence, 1 MiB");
	bench_expect(&run, 0, "sd uhs SDR104, 200 MHz x 4: 100 MB/s at most");
	bench_expect(&run, 0, "PCIe 5.0 GT/s x1: 500 MB/s at most");
	g_autoptr(json_t) record = read_json(sup_path("figures.json"));
	assert_speed(record, 0, "read-in-sequence", speed_of(21e6, 0.0009, 1048576));
	assert_speed(record, 1, "read-in-sequence", speed_of(390e6, 0.000085, 1048576));
	assert_speed(record, 0, "read-at-random", speed_of(21e6, 0.0009, 4096));
	assert_speed(record, 1, "read-at-random", speed_of(390e6, 0.000085, 4096));
	/* It does one request after the other, however many wait. */
	assert_speed(record, 0, "read-many", speed_of(21e6, 0.0009, 4096));
	assert_speed(record, 1, "read-many", speed_of(390e6, 0.000085, 4096));
	ck_assert_ptr_null(figure(record, 0, "write-in-sequence"));
	double latency = json_number_value(json_object_get(
		json_object_get(figure(record, 0, "read-at-random"), "latency_us"), "median"));
	ck_assert(latency > 1095 * 0.95 && latency < 1095 * 1.05);
	bench_expect(&run, 0, "18.3 x mmcblk0");
	bench_expect(&run, 0, "11.5 x mmcblk0");
}
END_TEST

START_TEST(finds_the_speed_of_a_slow_folder)
{
	/* The scratch file has no name, which the kernel tells this way. */
	SupRun run = BENCH_WITH_FAULTS("(deleted):slow:30000000:500000 .pace:slow:30000000:500000",
		"pace", sup_folder(), "--seconds", "2", "-o", sup_path("figures.json"));
	bench_expect(&run, 0, "small files: 16 KiB written, flushed, read back and removed");
	g_autoptr(json_t) record = read_json(sup_path("figures.json"));
	static const char *const sequences[] = { "read-in-sequence", "write-in-sequence" };
	static const char *const randoms[] = { "read-at-random", "read-many", "commit" };
	for (size_t i = 0; i < G_N_ELEMENTS(sequences); i++)
		assert_speed(record, 0, sequences[i], speed_of(30e6, 0.0005, 1048576));
	for (size_t i = 0; i < G_N_ELEMENTS(randoms); i++)
		assert_speed(record, 0, randoms[i], speed_of(30e6, 0.0005, 4096));
	/* Each is written, and read back. */
	assert_speed(record, 0, "small-files", speed_of(30e6, 0.0005, 16384) / 2);
}
END_TEST

static const char *list(const char *folder)
{
	return SUP_TOOL("ls", "-A", folder);
}

START_TEST(reading_writes_nothing_and_leaves_nothing)
{
	g_autofree char *before = g_strdup(sup_hash(CARD));
	const char *files = list(sup_folder());
	SupRun disk = BENCH_RUN("pace", "mmcblk0", "--seconds", "0.2");
	g_autofree char *after = g_strdup(sup_hash(CARD));

	bench_expect(&disk, 0, "this is a file: the figures are those of the disk of this machine");
	ck_assert_str_eq(before, after);
	SupRun folder = BENCH_RUN("pace", sup_folder(), "--seconds", "0.2");
	bench_expect(&folder, 0, "writes in sequence");
	const char *files_after = list(sup_folder());
	ck_assert_str_eq(files, files_after);
}
END_TEST

/* Starts it on a folder, waits until the scratch file is there, and sends the signal. */
static int interrupt(int number, const char *folder)
{
	g_autofree char *command = g_strdup_printf(
		"%s pace %s --seconds 60 >/dev/null 2>&1 & pid=$!; until ls -l /proc/$pid/fd 2>/dev/null | "
		"grep -q deleted; do kill -0 $pid || exit 99; sleep 0.02; done; sleep 0.2; kill -%d $pid; "
		"wait $pid",
		sup_program(), folder, number);
	SupRun run = SUP_RUN("bash", "-c", command);

	return run.code;
}

START_TEST(a_signal_leaves_no_scratch_file)
{
	static const struct {
		int number, code;
	} signals[] = { { SIGTERM, 4 }, { SIGINT, 4 }, { SIGKILL, 128 + SIGKILL } };
	const char *folder = sup_path("field");

	SUP_TOOL("mkdir", folder);
	/* bash has its background jobs ignore SIGINT, and we take it all the same. */
	ck_assert_int_eq(interrupt(signals[_i].number, folder), signals[_i].code);
	ck_assert_str_eq(list(folder), "");
}
END_TEST

START_TEST(compares_before_and_after)
{
	fill_drive();
	SupRun before = BENCH_WITH_FAULTS("nvme0n1:slow:190000000:85000", "pace", "nvme0n1",
		"--seconds", "1", "-o", sup_path("before.json"));
	SupRun after = BENCH_WITH_FAULTS("nvme0n1:slow:380000000:85000", "pace", "nvme0n1",
		"--seconds", "1", "-o", sup_path("after.json"));
	bench_expect(&before, 0, NULL);
	bench_expect(&after, 0, NULL);
	SupRun run =
		BENCH_RUN("pace", "--compare", sup_path("before.json"), sup_path("after.json"));
	bench_expect(&run, 0, "nvme0n1 (before)");
	bench_expect(&run, 0, "1.97 x nvme0n1 (before)");
	/* One more, measured now, stands with them. */
	SupRun now = BENCH_WITH_FAULTS("nvme0n1:slow:190000000:85000", "pace", "nvme0n1",
		"--seconds", "1", "--compare", sup_path("before.json"), "--json");
	bench_expect(&now, 0, "\"label\": \"now\"");
	SupRun same =
		BENCH_RUN("pace", "--compare", sup_path("before.json"), sup_path("before.json"));
	bench_expect(&same, 0, "as nvme0n1 (before)");
}
END_TEST

/* ---- bad input ---- */

static const struct {
	const char *arguments[8];
	int code;
	const char *text;
} refused[] = {
	{ { "pace" }, 2, "nothing to measure was named" },
	{ { "pace", "no-such-disk" }, 2, "no disk and no image file 'no-such-disk'" },
	{ { "pace", "/dev/null" }, 2, "not a disk or an image file" },
	{ { "pace", "mmcblk0", "--seconds", "0" }, 2, "--seconds takes more than 0" },
	{ { "pace", "mmcblk0", "--seconds", "nan" }, 2, "--seconds" },
	{ { "pace", "mmcblk0", "--chart", "a.jpg" }, 2, ".png or a .svg" },
	{ { "pace", "mmcblk0", "nvme0n1", "--write-to", "2" }, 2, "goes with one disk" },
	{ { "pace", "mmcblk0", "--erase", "2" }, 2, "--erase goes with --write-to" },
	{ { "pace", "mmcblk0", "--write-to", "9" }, 2, "has no partition '9'" },
	{ { "pace", "mmcblk0", "--write-to", "2", "--erase", "mmcblk0p2" }, 3, "is mounted at /" },
	{ { "pace", "nvme0n1" }, 3, "has too little data to measure" },
	{ { "pace", "--compare", "no-such.json" }, 3, "no-such.json" },
	{ { "pace", "mmcblk0", "--seconds", "0.1", "-o", "/no/such/folder/a.json" }, 3,
		"/no/such/folder" },
};

START_TEST(refuses)
{
	SupRun run = bench_run("", refused[_i].arguments);

	bench_expect(&run, refused[_i].code, refused[_i].text);
}
END_TEST

/* A program that has no part for charts beside it measures all the same, and says what is missing
 * before it does. */
START_TEST(without_charts)
{
	SUP_TOOL("mkdir", sup_path("alone"));
	SUP_TOOL("cp", sup_program(), sup_path("alone/wanderitas"));
	const char *program = sup_path("alone/wanderitas");
	SupRun chart = SUP_RUN(program, "--bench", bench_path("."), "pace", "mmcblk0", "--seconds",
		"0.1", "-o", sup_path("a.json"), "--chart", sup_path("a.png"));
	bench_expect(&chart, 3, "apt install wanderitas-charts");
	ck_assert(!g_file_test(sup_path("a.json"), G_FILE_TEST_EXISTS));
	SupRun plain = SUP_RUN(program, "--bench", bench_path("."), "pace", "mmcblk0", "--seconds",
		"0.1", "-o", sup_path("a.json"));
	bench_expect(&plain, 0, "the figures are in");
	SupRun with =
		BENCH_RUN("pace", "mmcblk0", "--seconds", "0.1", "--chart", sup_path("a.png"));
	bench_expect(&with, 0, "the chart is in");
	ck_assert_ptr_nonnull(strstr(SUP_TOOL("head", "-c", "4", sup_path("a.png")), "PNG"));
}
END_TEST

static const struct {
	const char *text, *says;
} records[] = {
	{ "", "no record of pace" },
	{ "{}", "no record of pace" },
	{ "{\"format\": \"wanderitas-itinerary/1\"}", "no record of pace" },
	{ "{\"format\": \"wanderitas-pace/0\"}", "of another version: 'wanderitas-pace/0'" },
	{ "{\"format\": \"wanderitas-pace/3\", \"measured\": [{}]}", "makes no sense" },
	{ "{\"format\": \"wanderitas-pace/3\", \"measured\": [{\"name\": \"a\", \"kind\": \"disk\", "
	  "\"figures\": [{\"what\": \"read-many\", \"bytes_per_s\": -4}]}]}",
		"read-many makes no sense" },
};

START_TEST(refuses_what_is_no_record)
{
	sup_write(sup_path("old.json"), records[_i].text);
	SupRun run = BENCH_RUN("pace", "--compare", sup_path("old.json"));

	bench_expect(&run, 3, records[_i].says);
	ck_assert_str_eq(run.out, "");
}
END_TEST

START_TEST(an_image_that_is_too_small)
{
	sup_make_image(sup_path("small.img"), 1048576);
	SupRun run = BENCH_RUN("pace", sup_path("small.img"));

	bench_expect(&run, 3, "too small to be measured: it has 1 MiB, and takes 8 MiB at least");
}
END_TEST

START_TEST(a_disk_that_goes_away)
{
	fill_drive();
	/* The card stops answering; the drive is measured all the same. */
	SupRun run = BENCH_WITH_FAULTS("mmcblk0:read:0:999999999999 mmcblk0:slow:1000000:1 "
				       "nvme0n1:slow:100000000:1000",
		"pace", "mmcblk0", "nvme0n1", "--seconds", "1", "-o", sup_path("figures.json"));
	bench_expect(&run, 1, "FAILED: reading");
	bench_expect(&run, 1, "Input/output error");
	g_autoptr(json_t) record = read_json(sup_path("figures.json"));
	assert_speed(record, 1, "read-in-sequence", speed_of(100e6, 0.000001, 1048576));
	/* What was told of it can be read again. */
	SupRun again = BENCH_RUN("pace", "--compare", sup_path("figures.json"));
	bench_expect(&again, 1, "FAILED: reading");
}
END_TEST

START_TEST(tells_of_others_who_write)
{
	/* All the while, since nobody knows when it begins to look. */
	g_autofree char *command = g_strdup_printf(
		"stat=%s; %s --bench %s pace mmcblk0 --seconds 0.6 & n=1; while kill -0 $! 2>/dev/null; do "
		"printf w | dd of=%s bs=1 seek=100 conv=notrunc status=none; "
		"echo 9 0 ${n}00000 5 7 0 400 9 0 0 0 >$stat.new; mv $stat.new $stat; n=$((n + 1)); "
		"sleep 0.05; done; wait $!",
		bench_path("sys/block/mmcblk0/stat"), sup_program(), bench_path(""), CARD);

	sup_write(bench_path("sys/block/mmcblk0/stat"), "9 0 2000 5 7 0 400 9 0 0 0\n");
	SupRun run = SUP_RUN("bash", "-c", command);
	bench_expect(&run, 0, "another program wrote to this image while it was measured");
	bench_expect(&run, 0, "other programs read ");
	bench_expect(&run, 0, " MB from mmcblk0 and wrote 0 MB to it meanwhile");
}
END_TEST

START_TEST(says_when_it_may_be_memory)
{
	struct statfs fs;

	if (statfs("/dev/shm", &fs) != 0 || (unsigned long)fs.f_type != TMPFS ||
		access("/dev/shm", W_OK) != 0 ||
		(uint64_t)fs.f_bavail * (uint64_t)fs.f_bsize < UINT64_C(300) * 1048576) {
		puts("skipped: says_when_it_may_be_memory: /dev/shm is no tmpfs with room");
		return;
	}
	SupRun run = BENCH_RUN("pace", "/dev/shm", "--seconds", "0.2");
	bench_expect(&run, 0, "the figures may be those of this machine's memory");
}
END_TEST

/* ---- a partition that is given up ---- */

START_TEST(writes_to_a_partition_that_is_given_up)
{
	fill_drive();
	g_autofree char *partition =
		g_strdup_printf("printf '8192,262144,c\\n270336,,83\\n' | sfdisk -q %s", DRIVE);
	SUP_TOOL("bash", "-c", partition);
	g_autofree char *head =
		g_strdup_printf("dd if=%s bs=1M count=132 status=none | sha256sum", DRIVE);
	const char *before = SUP_TOOL("bash", "-c", head);
	SupRun no = BENCH_RUN("pace", "nvme0n1", "--write-to", "2", "--erase", "nvme0n1p1");
	bench_expect(&no, 3, "'nvme0n1p1' is not the name of the partition");
	SupRun run = BENCH_WITH_FAULTS("nvme0n1:slow:50000000:100000", "pace", "nvme0n1",
		"--write-to", "2", "--erase", "nvme0n1p2", "--seconds", "1", "-o",
		sup_path("figures.json"));
	bench_expect(&run, 0, "writes in sequence, 1 MiB");
	/* What we wrote ourselves is no other's. */
	ck_assert_ptr_null(strstr(run.out, "another program"));
	/* Table, first partition and the gaps are as they were. */
	const char *after = SUP_TOOL("bash", "-c", head);
	ck_assert_str_eq(before, after);
	g_autoptr(json_t) record = read_json(sup_path("figures.json"));
	assert_speed(record, 0, "write-in-sequence", speed_of(50e6, 0.0001, 1048576));
	assert_speed(record, 0, "commit", speed_of(50e6, 0.0001, 4096));
	ck_assert_ptr_null(figure(record, 0, "small-files"));
}
END_TEST

/* ---- with root: file systems that are too small, read-only, or know no files without a name ----
 */

static bool may_mount(const char *test)
{
	if (sup_is_root())
		return true;
	sup_say_skipped(test);
	return false;
}

START_TEST(a_file_system_without_room)
{
	const char *folder = sup_path("small");

	if (!may_mount("a_file_system_without_room"))
		return;
	SUP_TOOL("mkdir", folder);
	SUP_TOOL("mount", "-t", "tmpfs", "-o", "size=20M", "none", folder);
	SupRun full = BENCH_RUN("pace", folder);
	SUP_TOOL("mount", "-o", "remount,size=900M,ro", folder);
	SupRun read_only = BENCH_RUN("pace", folder);
	SUP_TOOL("umount", folder);
	bench_expect(&full, 3, "no room for a scratch file");
	bench_expect(&read_only, 3, "the file system is mounted read-only");
}
END_TEST

/* A device, whose node lies in memory. */
START_TEST(a_device)
{
	if (!may_mount("a_device"))
		return;
	sup_make_image(sup_path("disk.img"), UINT64_C(200) * 1048576);
	g_autofree char *of = g_strdup_printf("of=%s", sup_path("disk.img"));
	SUP_TOOL("dd", "if=/dev/urandom", of, "bs=1M", "count=200", "conv=notrunc");
	SupRun loop = SUP_RUN("losetup", "-f", "--show", sup_path("disk.img"));
	if (loop.code != 0) {
		puts("skipped: a_device: this machine has no loop devices");
		return;
	}
	g_strchomp(loop.out);
	g_autofree char *before = g_strdup(sup_hash(sup_path("disk.img")));
	SupRun run = WANDERITAS("pace", loop.out, "--seconds", "0.3", "--json");
	SupRun writing = WANDERITAS("pace", loop.out, "--write-to", "1", "--erase", "loop0p1");
	SUP_TOOL("losetup", "-d", loop.out);
	bench_expect(&run, 0, "\"past_cache\": true");
	bench_expect(&run, 0, "\"medium\": \"loop device\"");
	bench_expect(&run, 0, "\"stand_in\": false");
	bench_expect(&writing, 2, "has no partition '1' to write to");
	ck_assert_str_eq(before, sup_hash(sup_path("disk.img")));
}
END_TEST

START_TEST(a_fat)
{
	const char *folder = sup_path("fat");

	if (!may_mount("a_fat"))
		return;
	if (SUP_RUN("bash", "-c", "modprobe vfat; grep -q vfat /proc/filesystems").code != 0) {
		puts("skipped: a_fat: this kernel knows no vfat");
		return;
	}
	SUP_TOOL("mkdir", folder);
	sup_make_image(sup_path("fat.img"), UINT64_C(400) * 1048576);
	SUP_TOOL("mkfs.vfat", sup_path("fat.img"));
	SUP_TOOL("mount", "-o", "loop", sup_path("fat.img"), folder);
	int code = interrupt(SIGKILL, folder);
	const char *left = list(folder);
	SupRun run = BENCH_RUN("pace", folder, "--seconds", "0.3");
	SUP_TOOL("umount", folder);
	ck_assert_int_eq(code, 128 + SIGKILL);
	ck_assert_str_eq(left, "");
	bench_expect(&run, 0, "small files: 16 KiB written, flushed, read back and removed");
	SUP_TOOL("fsck.fat", "-n", sup_path("fat.img"));
}
END_TEST

/* Kept where moves keep their state, and found again by model and serial number. */
START_TEST(figures_give_the_first_estimate)
{
	g_autofree char *folder = g_strdup(bench_path("root/var/lib/wanderitas"));
	g_autofree char *kept = g_build_filename(folder, "pace-0x2f41c7aa.json", NULL);
	SupRun pace = BENCH_RUN("pace", "mmcblk0", "--seconds", "0.1", "-o", sup_path("card.json"));

	bench_expect(&pace, 0, NULL);
	/* The figures of a file are not those of a card. */
	ck_assert_int_ne(access(kept, F_OK), 0);
	SupRun unknown = BENCH_RUN("draft", "--to", "nvme0n1");
	bench_expect(&unknown, 0, "EDITS ON THE TARGET");
	ck_assert_ptr_null(strstr(unknown.out, "by pace"));
	SUP_TOOL("mkdir", "-p", folder);
	SUP_TOOL("cp", sup_path("card.json"), kept);
	SupRun draft = BENCH_RUN("draft", "--to", "nvme0n1");
	bench_expect(&draft, 0, "time  at least");
	bench_expect(&draft, 0, "reading mmcblk0 at");
	bench_expect(&draft, 0, "writing nvme0n1 is not measured");
	SUP_TOOL("sed", "-i", "s/RB600/RB601/", kept);
	SupRun other = BENCH_RUN("draft", "--to", "nvme0n1");
	ck_assert_ptr_null(strstr(other.out, "by pace"));
	sup_write(kept, "{");
	SupRun damaged = BENCH_RUN("move", "--to", "nvme0n1", "--erase", "nvme0n1");
	bench_expect(&damaged, 0, "done: everything was read back");
}
END_TEST

Suite *suite_pace(void)
{
	Suite *s = suite_create("cli/pace");
	TCase *tc = tcase_create("pace");

	tcase_add_unchecked_fixture(tc, bench_make, bench_remove);
	tcase_add_checked_fixture(tc, sup_setup, sup_teardown);
	tcase_add_test(tc, finds_the_speed_of_slow_disks);
	tcase_add_test(tc, finds_the_speed_of_a_slow_folder);
	tcase_add_test(tc, reading_writes_nothing_and_leaves_nothing);
	tcase_add_loop_test(tc, a_signal_leaves_no_scratch_file, 0, 3);
	tcase_add_test(tc, compares_before_and_after);
	tcase_add_test(tc, figures_give_the_first_estimate);
	tcase_add_loop_test(tc, refuses, 0, G_N_ELEMENTS(refused));
	tcase_add_test(tc, without_charts);
	tcase_add_loop_test(tc, refuses_what_is_no_record, 0, G_N_ELEMENTS(records));
	tcase_add_test(tc, an_image_that_is_too_small);
	tcase_add_test(tc, a_disk_that_goes_away);
	tcase_add_test(tc, tells_of_others_who_write);
	tcase_add_test(tc, says_when_it_may_be_memory);
	tcase_add_test(tc, writes_to_a_partition_that_is_given_up);
	tcase_add_test(tc, a_file_system_without_room);
	tcase_add_test(tc, a_device);
	tcase_add_test(tc, a_fat);
	suite_add_tcase(s, tc);
	return s;
}
