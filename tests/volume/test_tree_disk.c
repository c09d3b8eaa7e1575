/* Contents of a mounted ext4 read from the disk itself, as root, on a loop device: at rest, under
 * writers that run at full speed, and where it must not be done. Every block of a written file says
 * which file it belongs to, so that one of another file's, or of an earlier life of the same
 * blocks, shows. */
#include "support.h"

#include "base/text.h"
#include "volume/ext/ext.h"
#include "volume/tree/tree.h"

#include <fcntl.h>
#include <signal.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <sys/prctl.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <unistd.h>

Suite *suite_tree_disk(void);

enum {
	AT_REST = 200,
	FIRST_AT_REST = 1000,
	WRITTEN = 40,
	FIRST_WRITTEN = 1,
	WORD = 8,
	BLOCK = 4096,
	BLOCKS_MAX = 60,
	ROUNDS = 12,
	WRITERS = 3
};

#define POINT sup_path("point")
#define IMAGE sup_path("image")

static char *loop;

static char *file_path(const char *kind, unsigned n)
{
	return g_strdup_printf("%s/%s-%u", POINT, kind, n);
}

static uint64_t pick(GRand *rand, unsigned below)
{
	return (uint64_t)g_rand_int_range(rand, 0, (gint32)below);
}

/* A block each word of which tells its file, which is never 0. */
static void fill_block(uint8_t *block, unsigned file, unsigned life)
{
	for (size_t i = 0; i < BLOCK; i += WORD) {
		memcpy(block + i, &file, 4);
		memcpy(block + i + 4, &life, 4);
	}
}

static void write_file(const char *path, unsigned file, unsigned blocks)
{
	uint8_t block[BLOCK];
	int fd = open(path, O_WRONLY | O_CREAT | O_TRUNC, 0644);

	for (unsigned i = 0; fd >= 0 && i < blocks; i++) {
		fill_block(block, file, i);
		if (pwrite(fd, block, BLOCK, (off_t)i * BLOCK) != BLOCK)
			break;
	}
	if (fd >= 0)
		close(fd);
}

static void set_up(void)
{
	sup_setup();
	if (!sup_is_root())
		return;
	sup_make_image(IMAGE, 64 * WDR_MIB);
	SUP_TOOL("mkfs.ext4", "-q", "-F", IMAGE);
	SUP_TOOL("mkdir", POINT);
	loop = g_strstrip(g_strdup(SUP_TOOL("losetup", "--find", "--show", IMAGE)));
	SUP_TOOL("mount", loop, POINT);
	for (unsigned i = 0; i < AT_REST; i++) {
		g_autofree char *path = file_path("rest", i);
		write_file(path, FIRST_AT_REST + i, i % BLOCKS_MAX);
	}
	for (unsigned i = 0; i < WRITTEN; i++) {
		g_autofree char *path = file_path("written", i);
		write_file(path, FIRST_WRITTEN + i, 1 + i % BLOCKS_MAX);
	}
}

static void tear_down(void)
{
	if (sup_is_root()) {
		SUP_RUN("umount", POINT);
		SUP_RUN("losetup", "-d", loop);
		g_free(loop);
	}
	sup_teardown();
}

/* What was changed last must lie behind us by the clock. */
static WdrVolume *open_tree(void)
{
	WdrVolume *tree = NULL;
	WdrBlockDev *dev = NULL;

	sup_ok(wdr_tree_volume_open_mount(POINT, &tree, &error));
	sup_ok(wdr_blockdev_open(loop, WDR_OPEN_MEDIUM, &dev, &error));
	ck_assert(wdr_tree_use_disk(tree, dev, 0, 64 * WDR_MIB));
	return tree;
}

/* As if all files had been there for a year: a file that changed within half a minute is not read
 * from the disk, and only another program can set the time at which the kernel changed one. */
static void make_old(void)
{
	GDir *dir = g_dir_open(POINT, 0, NULL);
	g_autoptr(GString) requests = g_string_new(NULL);

	for (const char *name; (name = g_dir_read_name(dir));) {
		if (strcmp(name, "lost+found") != 0)
			g_string_append_printf(requests,
				"set_inode_field %s ctime 20250101\nset_inode_field %s mtime 20250101\n",
				name, name);
	}
	g_dir_close(dir);
	sup_write(sup_path("requests"), requests->str);
	SUP_TOOL("umount", POINT);
	SUP_TOOL("debugfs", "-w", "-f", sup_path("requests"), loop);
	SUP_TOOL("mount", loop, POINT);
}

/* A word that is not the file's own; `len`: there is none. In a file that is being written it may
 * be zero, too: the kernel gives what is half written, or not yet. */
static uint64_t find_stray(const uint8_t *buf, uint64_t len, unsigned file)
{
	bool may_be_zero = file < FIRST_AT_REST;

	for (uint64_t at = 0; at + WORD <= len; at += WORD) {
		unsigned got = 0;
		memcpy(&got, buf + at, sizeof(got));
		if (got != file && (got != 0 || !may_be_zero))
			return at;
	}
	return len;
}

static void check_content(WdrContent *content, const char *path, unsigned file)
{
	g_autofree uint8_t *raw = g_malloc(9 * BLOCK);
	uint8_t *buf = raw + (BLOCK - (uintptr_t)raw % BLOCK);
	WdrPiece piece;

	do {
		sup_ok(wdr_content_next(content, buf, 8 * BLOCK, &piece, &error));
		uint64_t stray = piece.is_unwritten ? piece.len : find_stray(buf, piece.len, file);
		ck_assert_msg(stray == piece.len,
			"%s at byte %" G_GUINT64_FORMAT ": a word of file %u", path,
			piece.offset + stray, *(unsigned *)(void *)(buf + stray));
	} while (piece.len > 0);
}

/* As a move does it: many are opened, and read a while later. */
static void check_files(WdrVolume *tree, const char *kind, unsigned n, unsigned first)
{
	g_autofree WdrContent **contents = g_new0(WdrContent *, n);

	for (unsigned i = 0; i < n; i++) {
		g_autofree char *path = g_strdup_printf("%s-%u", kind, i);
		g_auto(WdrEntry) entry = { 0 };
		WdrNode node = { 0, path };
		if (wdr_volume_stat(tree, &node, &entry, NULL))
			sup_ok(wdr_volume_open(tree, &node, &entry, &contents[i], &error));
	}
	for (unsigned i = 0; i < n; i++) {
		g_autofree char *path = g_strdup_printf("%s-%u", kind, i);
		if (contents[i])
			check_content(contents[i], path, first + i);
		wdr_content_free(contents[i]);
	}
}

/* ---- writers ---- */

static void scribble(const char *path, unsigned file, unsigned life, GRand *rand)
{
	uint8_t block[BLOCK];
	int fd = open(path, O_RDWR | O_CREAT, 0644);
	struct stat st;

	fill_block(block, file, life);
	if (fd < 0 || fstat(fd, &st) != 0)
		return;
	off_t at = (off_t)pick(rand, BLOCKS_MAX) * BLOCK;
	switch (pick(rand, 6)) {
	case 0:
		(void)!ftruncate(fd, at);
		break;
	case 1:
		(void)!fallocate(fd, 0, at, 8 * BLOCK);
		break;
	case 2:
		(void)!fallocate(fd, FALLOC_FL_PUNCH_HOLE | FALLOC_FL_KEEP_SIZE, at, 4 * BLOCK);
		break;
	case 3: {
		size_t len = (size_t)(st.st_size - st.st_size % BLOCK);
		uint8_t *map = len ? mmap(NULL, len, PROT_READ | PROT_WRITE, MAP_SHARED, fd, 0)
				   : MAP_FAILED;
		if (map != MAP_FAILED) {
			memcpy(map + pick(rand, (unsigned)(len / BLOCK)) * BLOCK, block, BLOCK);
			munmap(map, len);
		}
		break;
	}
	default:
		(void)!pwrite(fd, block, BLOCK, at);
	}
	close(fd);
}

static void write_for_ever(unsigned seed)
{
	g_autoptr(GRand) rand = g_rand_new_with_seed(seed);

	prctl(PR_SET_PDEATHSIG, SIGKILL);
	for (unsigned life = 0;; life++) {
		/* Each writer has files of its own. */
		unsigned n = (unsigned)pick(rand, WRITTEN / WRITERS) * WRITERS + seed;
		g_autofree char *path = file_path("written", n);
		if (pick(rand, 9) == 0)
			unlink(path);
		else
			scribble(path, FIRST_WRITTEN + n, life, rand);
		if (pick(rand, 200) == 0)
			sync();
	}
}

START_TEST(writers_at_full_speed)
{
	pid_t writers[WRITERS];
	uint64_t from_disk = 0;
	uint64_t through_kernel = 0;

	if (!sup_is_root()) {
		sup_say_skipped("writers_at_full_speed");
		return;
	}
	make_old();
	for (unsigned i = 0; i < WRITERS; i++) {
		writers[i] = fork();
		if (writers[i] == 0)
			write_for_ever(i);
	}
	for (unsigned round = 0; round < ROUNDS; round++) {
		g_autoptr(WdrVolume) tree = open_tree();
		check_files(tree, "rest", AT_REST, FIRST_AT_REST);
		for (unsigned again = 0; again < 20; again++)
			check_files(tree, "written", WRITTEN, FIRST_WRITTEN);
		wdr_tree_bytes(tree, &from_disk, &through_kernel);
		/* Files at rest come from the disk, what is written comes through the kernel. */
		ck_assert_uint_gt(from_disk, 5 * WDR_MIB);
	}
	for (unsigned i = 0; i < WRITERS; i++) {
		kill(writers[i], SIGKILL);
		waitpid(writers[i], NULL, 0);
	}
}
END_TEST

/* A file that is written between the look at its place and the reading of it. */
START_TEST(changed_after_it_was_looked_up)
{
	g_autoptr(WdrVolume) tree = NULL;
	g_autoptr(WdrContent) content = NULL;
	g_autofree uint8_t *buf = g_malloc(BLOCK);
	g_auto(WdrEntry) entry = { 0 };
	WdrNode node = { 0, "rest-30" };
	WdrPiece piece;
	unsigned got = 0;

	if (!sup_is_root()) {
		sup_say_skipped("changed_after_it_was_looked_up");
		return;
	}
	make_old();
	tree = open_tree();
	sup_ok(wdr_volume_stat(tree, &node, &entry, &error));
	sup_ok(wdr_volume_open(tree, &node, &entry, &content, &error));
	g_autofree char *path = file_path("rest", 30);
	write_file(path, 77, 30); /* in the page cache only */
	sup_ok(wdr_content_next(content, buf, BLOCK, &piece, &error));
	memcpy(&got, buf, 4);
	ck_assert_uint_eq(got, 77);
}
END_TEST

/* Preallocated ranges keep being so, which a look for data does not show. */
START_TEST(unwritten_ranges)
{
	g_autoptr(WdrVolume) tree = NULL;
	g_autoptr(WdrContent) content = NULL;
	g_autofree uint8_t *buf = g_malloc(BLOCK);
	g_auto(WdrEntry) entry = { 0 };
	WdrNode node = { 0, "reserved" };
	WdrPiece piece;

	if (!sup_is_root()) {
		sup_say_skipped("unwritten_ranges");
		return;
	}
	SUP_TOOL("fallocate", "-l", "1M", sup_path("point/reserved"));
	make_old();
	tree = open_tree();
	sup_ok(wdr_volume_stat(tree, &node, &entry, &error));
	sup_ok(wdr_volume_open(tree, &node, &entry, &content, &error));
	sup_ok(wdr_content_next(content, buf, BLOCK, &piece, &error));
	ck_assert(piece.is_unwritten);
	ck_assert_uint_eq(piece.offset + piece.len, WDR_MIB);
}
END_TEST

/* By the clock everything was changed after the flush: all of it comes through the kernel. */
START_TEST(a_clock_that_says_so)
{
	uint64_t from_disk = 0;
	uint64_t through_kernel = 0;

	if (!sup_is_root()) {
		sup_say_skipped("a_clock_that_says_so");
		return;
	}
	g_autoptr(WdrVolume) tree = open_tree();
	check_files(tree, "rest", AT_REST, FIRST_AT_REST);
	wdr_tree_bytes(tree, &from_disk, &through_kernel);
	ck_assert_uint_eq(from_disk, 0);
	ck_assert_uint_gt(through_kernel, 5 * WDR_MIB);
}
END_TEST

/* ---- metadata that was read ahead ---- */

enum { FOLDERS = 400 };

/* Requests that the disk answered so far. */
static uint64_t requests(void)
{
	g_autofree char *name = g_path_get_basename(loop);
	g_autofree char *path = g_strdup_printf("/sys/block/%s/stat", name);
	g_autofree char *stat = sup_read(path, NULL);

	return g_ascii_strtoull(stat, NULL, 10);
}

static void forget(void)
{
	SUP_TOOL("umount", POINT);
	SUP_TOOL("blockdev", "--flushbufs", loop);
	SUP_TOOL("mount", loop, POINT);
}

/* How many a look at every entry takes. */
static uint64_t requests_of_a_walk(void)
{
	uint64_t before = requests();

	SUP_TOOL("find", POINT, "-printf", "%s");
	return requests() - before;
}

/* Each folder in a place of its own: the kernel's walk asks for one after the other. */
static void make_folders(void)
{
	for (unsigned i = 0; i < FOLDERS; i++) {
		g_autofree char *folder = file_path("folder", i);
		g_autofree char *file = g_build_filename(folder, "call.wav", NULL);
		ck_assert_int_eq(mkdir(folder, 0755), 0);
		write_file(file, FIRST_AT_REST, 9);
	}
}

START_TEST(metadata_read_ahead_is_there_for_the_walk)
{
	atomic_bool stop = false;
	g_autoptr(WdrBlockDev) dev = NULL;

	if (!sup_is_root()) {
		sup_say_skipped("metadata_read_ahead_is_there_for_the_walk");
		return;
	}
	make_folders();
	forget();
	uint64_t alone = requests_of_a_walk();
	forget();
	sup_ok(wdr_blockdev_open(loop, WDR_OPEN_READ, &dev, &error));
	uint64_t before = requests();
	WdrExtAhead *ahead = wdr_ext_ahead_tables(dev, 64 * WDR_MIB, UINT64_MAX, &stop);
	ck_assert_ptr_nonnull(ahead);
	wdr_ext_ahead_folders(ahead);
	uint64_t reading = requests() - before;
	uint64_t after = requests_of_a_walk();
	ck_assert_msg(reading + after < alone / 3 && after < FOLDERS / 10,
		"%" G_GUINT64_FORMAT " ahead, %" G_GUINT64_FORMAT " by the walk, %" G_GUINT64_FORMAT
		" without",
		reading, after, alone);
}
END_TEST

/* It stops when it is told to, and reads no more than it may. */
START_TEST(reading_ahead_has_bounds)
{
	atomic_bool stop = true;
	g_autoptr(WdrBlockDev) dev = NULL;

	if (!sup_is_root()) {
		sup_say_skipped("reading_ahead_has_bounds");
		return;
	}
	make_folders();
	forget();
	sup_ok(wdr_blockdev_open(loop, WDR_OPEN_READ, &dev, &error));
	wdr_ext_ahead_folders(wdr_ext_ahead_tables(dev, 64 * WDR_MIB, UINT64_MAX, &stop));
	stop = false;
	wdr_ext_ahead_folders(wdr_ext_ahead_tables(dev, 64 * WDR_MIB, 64 * 1024, &stop));
	ck_assert_uint_gt(requests_of_a_walk(), FOLDERS / 2);
	ck_assert_ptr_null(wdr_ext_ahead_tables(dev, 1024, UINT64_MAX, &stop));
}
END_TEST

/* Through the mount, while it is walked; and where there is nothing to read ahead. */
START_TEST(a_tree_reads_ahead)
{
	g_autoptr(WdrVolume) plain = NULL;

	if (!sup_is_root()) {
		sup_say_skipped("a_tree_reads_ahead");
		return;
	}
	make_folders();
	make_old();
	g_autoptr(WdrVolume) tree = open_tree();
	wdr_tree_read_ahead(tree);
	wdr_tree_read_ahead(tree);
	check_files(tree, "rest", AT_REST, FIRST_AT_REST);
	sup_ok(wdr_tree_volume_open("/proc/self", &plain, &error));
	wdr_tree_read_ahead(plain);
}
END_TEST

Suite *suite_tree_disk(void)
{
	Suite *s = suite_create("volume/tree_disk");
	TCase *t = tcase_create("tree_disk");

	tcase_add_checked_fixture(t, set_up, tear_down);
	tcase_add_test(t, writers_at_full_speed);
	tcase_add_test(t, changed_after_it_was_looked_up);
	tcase_add_test(t, unwritten_ranges);
	tcase_add_test(t, a_clock_that_says_so);
	tcase_add_test(t, metadata_read_ahead_is_there_for_the_walk);
	tcase_add_test(t, reading_ahead_has_bounds);
	tcase_add_test(t, a_tree_reads_ahead);
	suite_add_tcase(s, t);
	return s;
}
