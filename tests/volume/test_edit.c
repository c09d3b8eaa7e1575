/* Files changed in place, judged by e2fsck, debugfs, fsck.fat and mtools. */
#include "support.h"

#include "volume/tree/tree.h"

#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

Suite *suite_volume_edit(void);

#define OFFSET UINT64_C(1048576)
#define SIZE UINT64_C(41943040)

static char *text_of(size_t len)
{
	char *text = g_malloc(len + 1);

	for (size_t i = 0; i < len; i++)
		text[i] = "grey heron, bittern\n"[i % 20];
	text[len] = '\0';
	return text;
}

/* ---- ext ---- */

static const char *make_ext(void)
{
	WdrExtSpec spec = sup_ext_spec(NULL, 4096, 256);
	WdrMemoryVolume *m = wdr_memory_volume_new("root");
	WdrEntry folder = sup_entry(WDR_KIND_FOLDER, 0755);
	WdrEntry file = sup_entry(WDR_KIND_FILE, 0640);
	g_autofree char *text = text_of(30000);

	file.uid = 33;
	wdr_entry_add_xattr(&file, "user.species", "Ardea", 5);
	wdr_memory_volume_add(m, "etc", &folder);
	wdr_memory_volume_put(m, wdr_memory_volume_add(m, "etc/fstab", &file), 0, text, 30000);
	wdr_memory_volume_add(m, "etc/empty", &file);
	wdr_entry_clear(&file);
	g_autoptr(WdrVolume) v = wdr_memory_volume_as_volume(m);
	sup_make_image(sup_path("ext.img"), OFFSET + SIZE);
	sup_build_ext(v, sup_path("ext.img"), OFFSET, SIZE, &spec);
	wdr_ext_spec_clear(&spec);
	return sup_path("ext.img");
}

static char *debugfs(const char *image, const char *request)
{
	g_autofree char *command = g_strdup_printf(
		"dd if='%s' of='%s' bs=1M skip=1 status=none && debugfs -R '%s' '%s' 2>/dev/null",
		image, sup_path("cut.ext"), request, sup_path("cut.ext"));

	return SUP_TOOL("sh", "-c", command);
}

static const struct {
	const char *file;
	size_t len;
} contents[] = { { "etc/fstab", 100 }, { "etc/fstab", 0 }, { "etc/fstab", 30001 },
	{ "etc/fstab", 300000 }, { "etc/empty", 5 }, { "etc/empty", 4096 } };

START_TEST(ext_files_are_replaced)
{
	const char *image = make_ext();
	g_autofree char *text = text_of(contents[_i].len);
	g_autofree char *request = g_strdup_printf("cat /%s", contents[_i].file);
	g_autofree char *look = g_strdup_printf("stat /%s", contents[_i].file);
	g_autofree char *ask = g_strdup_printf("ea_get /%s user.species", contents[_i].file);
	const WdrTime mtime = { 1800000000, 5 };
	g_autoptr(WdrBlockDev) dev = NULL;

	sup_ok(wdr_blockdev_open(image, WDR_OPEN_WRITE, &dev, &error));
	sup_ok(wdr_ext_replace_file(&(WdrVolumeSpan){ dev, OFFSET, SIZE }, contents[_i].file, text,
		contents[_i].len, &mtime, &error));
	g_clear_pointer(&dev, wdr_blockdev_free);
	sup_judge_ext(image, OFFSET);
	g_autofree char *got = g_strdup(debugfs(image, request));
	ck_assert_str_eq(got, text);
	const char *stat = debugfs(image, look);
	ck_assert_msg(strstr(stat, "Mode:  0640") && strstr(stat, "User:    33"), "%s", stat);
	ck_assert_msg(strstr(stat, "mtime: 0x6b49d200"), "%s", stat);
	ck_assert_ptr_nonnull(strstr(debugfs(image, ask), "Ardea"));
}
END_TEST

/* A write that fails leaves the old content or the new, whatever fails. */
static bool fail_later(void *self, const void *buf, size_t len, uint64_t offset, GError **error)
{
	unsigned *left = ((void **)self)[1];

	if (*left == 0)
		return wdr_error_set(error, WDR_ERROR_IO, "the medium failed");
	(*left)--;
	return wdr_blockdev_write(((void **)self)[0], buf, len, offset, error);
}

static bool pass_read(void *self, void *buf, size_t len, uint64_t offset, GError **error)
{
	return wdr_blockdev_read(((void **)self)[0], buf, len, offset, error);
}

static bool pass_flush(void *self, GError **error)
{
	return wdr_blockdev_flush(((void **)self)[0], error);
}

static void free_nothing(void *self)
{
	(void)self;
}

static bool replace(WdrBlockDev *dev, const char *text, size_t len)
{
	const WdrTime mtime = { 1800000000, 0 };

	return wdr_ext_replace_file(
		&(WdrVolumeSpan){ dev, OFFSET, SIZE }, "etc/fstab", text, len, &mtime, NULL);
}

static bool add_file(WdrBlockDev *dev, const char *text, size_t len)
{
	WdrEntry like = sup_entry(WDR_KIND_FILE, 0600);

	like.uid = 33;
	like.mtime.sec = 1800000000;
	return wdr_ext_add_file(
		&(WdrVolumeSpan){ dev, OFFSET, SIZE }, "etc/hides", text, len, &like, NULL);
}

static bool remove_file(WdrBlockDev *dev, const char *text, size_t len)
{
	(void)text;
	(void)len;
	return wdr_ext_remove_file(
		&(WdrVolumeSpan){ dev, OFFSET, SIZE }, "etc/fstab", 1800000000, NULL);
}

/* What is done to a file of 30000 bytes, or one that is not there (NULL), and what it is then. */
static const struct {
	bool (*act)(WdrBlockDev *dev, const char *text, size_t len);
	const char *file;
	bool was_there;
	const char *new_text; /* NULL: it is gone */
} acts[] = { { replace, "etc/fstab", true, "new\n" }, { add_file, "etc/hides", false, "new\n" },
	{ remove_file, "etc/fstab", true, NULL } };

START_TEST(a_failing_medium_leaves_old_or_new)
{
	static const WdrBlockOps ops = {
		.read = pass_read, .write = fail_later, .flush = pass_flush, .free = free_nothing
	};
	const char *image = make_ext();
	g_autofree char *old_text = acts[_i].was_there ? text_of(30000) : g_strdup("");
	const char *new_text = acts[_i].new_text ? acts[_i].new_text : "";
	g_autofree char *request = g_strdup_printf("cat /%s", acts[_i].file);
	bool is_done = false;

	for (unsigned n = 0; !is_done && n < 200; n++) {
		unsigned left = n;
		g_autoptr(WdrBlockDev) real = NULL;
		SUP_TOOL("cp", "--sparse=always", image, sup_path("try.img"));
		sup_ok(wdr_blockdev_open(sup_path("try.img"), WDR_OPEN_WRITE, &real, &error));
		void *self[] = { real, &left };
		g_autoptr(WdrBlockDev) dev =
			wdr_blockdev_new("try", wdr_blockdev_size(real), 512, &ops, self);
		is_done = acts[_i].act(dev, new_text, strlen(new_text));
		g_clear_pointer(&real, wdr_blockdev_free);
		/* e2fsck may find blocks that nobody uses, and contents them right by itself. */
		g_autofree char *where =
			g_strdup_printf("%s?offset=%u", sup_path("try.img"), (unsigned)OFFSET);
		SupRun run = SUP_RUN("e2fsck", "-fp", where);
		ck_assert_msg(run.code <= 1, "after %u writes: %s", n, run.out);
		ck_assert_msg(!is_done || run.code == 0, "when it was done: %s", run.out);
		g_autofree char *got = g_strdup(debugfs(sup_path("try.img"), request));
		ck_assert_msg(strcmp(got, new_text) == 0 || strcmp(got, old_text) == 0,
			"after %u writes: %s", n, got);
		ck_assert(!is_done || strcmp(got, new_text) == 0);
	}
	ck_assert(is_done);
}
END_TEST

/* Where no run of free blocks is long enough, the content lies in many. */
START_TEST(ext_contents_in_pieces)
{
	enum { PIECES = 700, LEN = 3000000 };
	WdrExtSpec spec = sup_ext_spec(NULL, 1024, 256);
	WdrMemoryVolume *m = wdr_memory_volume_new("root");
	WdrEntry file = sup_entry(WDR_KIND_FILE, 0644);
	const WdrTime mtime = { 1800000000, 5 };
	g_autofree char *text = text_of(LEN);
	g_autofree char *filler = text_of(4096);
	g_autoptr(WdrBlockDev) dev = NULL;

	wdr_memory_volume_put(m, wdr_memory_volume_add(m, "fstab", &file), 0, "old\n", 4);
	for (unsigned i = 0; i < 2 * PIECES; i++) {
		g_autofree char *name = g_strdup_printf("f%04u", i);
		wdr_memory_volume_put(m, wdr_memory_volume_add(m, name, &file), 0, filler, 4096);
	}
	g_autoptr(WdrVolume) v = wdr_memory_volume_as_volume(m);
	spec.inodes = 4096;
	sup_make_image(sup_path("ext.img"), OFFSET + 12 * 1048576);
	sup_build_ext(v, sup_path("ext.img"), OFFSET, 12 * 1048576, &spec);
	wdr_ext_spec_clear(&spec);
	sup_ok(wdr_blockdev_open(sup_path("ext.img"), WDR_OPEN_WRITE, &dev, &error));
	for (unsigned i = 0; i < 2 * PIECES; i += 2) {
		g_autofree char *name = g_strdup_printf("f%04u", i);
		sup_ok(wdr_ext_remove_file(
			&(WdrVolumeSpan){ dev, OFFSET, 12 * 1048576 }, name, 1800000000, &error));
	}
	sup_judge_ext(sup_path("ext.img"), OFFSET);
	sup_ok(wdr_ext_replace_file(
		&(WdrVolumeSpan){ dev, OFFSET, 12 * 1048576 }, "fstab", text, LEN, &mtime, &error));
	sup_judge_ext(sup_path("ext.img"), OFFSET);
	g_autofree char *got = g_strdup(debugfs(sup_path("ext.img"), "cat /fstab"));
	ck_assert_str_eq(got, text);
	sup_ok(wdr_ext_replace_file(&(WdrVolumeSpan){ dev, OFFSET, 12 * 1048576 }, "fstab", "one\n",
		4, &mtime, &error));
	sup_judge_ext(sup_path("ext.img"), OFFSET);
}
END_TEST

START_TEST(ext_files_come_and_go)
{
	const char *image = make_ext();
	g_autoptr(WdrBlockDev) dev = NULL;
	WdrEntry like = sup_entry(WDR_KIND_FILE, 0600);

	sup_ok(wdr_blockdev_open(image, WDR_OPEN_WRITE, &dev, &error));
	ck_assert(add_file(dev, "reed\n", 5));
	sup_judge_ext(image, OFFSET);
	const char *stat = debugfs(image, "stat /etc/hides");
	ck_assert_msg(strstr(stat, "Mode:  0600") && strstr(stat, "User:    33"), "%s", stat);
	ck_assert_msg(strstr(stat, "mtime: 0x6b49d200"), "%s", stat);
	for (unsigned i = 0; i < 300; i++) {
		g_autofree char *name = g_strdup_printf("etc/a-longer-name-for-a-hide-%03u", i);
		sup_ok(wdr_ext_add_file(&(WdrVolumeSpan){ dev, OFFSET, SIZE }, name, name,
			strlen(name), &like, &error));
	}
	sup_judge_ext(image, OFFSET);
	ck_assert_str_eq(debugfs(image, "cat /etc/a-longer-name-for-a-hide-299"),
		"etc/a-longer-name-for-a-hide-299");
	sup_fails(WDR_ERROR_REFUSED, "is there already",
		wdr_ext_add_file(
			&(WdrVolumeSpan){ dev, OFFSET, SIZE }, "etc/hides", "x", 1, &like, &error));
	sup_fails(WDR_ERROR_REFUSED, "there is no folder /owls",
		wdr_ext_add_file(
			&(WdrVolumeSpan){ dev, OFFSET, SIZE }, "owls/a", "x", 1, &like, &error));
	/* One with another name stays under that. */
	SUP_TOOL("debugfs", "-w", "-R", "ln /etc/hides /etc/second", sup_path("cut.ext"));
	SUP_TOOL("debugfs", "-w", "-R", "sif /etc/hides links_count 2", sup_path("cut.ext"));
	g_autoptr(WdrBlockDev) linked = NULL;
	sup_ok(wdr_blockdev_open(sup_path("cut.ext"), WDR_OPEN_WRITE, &linked, &error));
	sup_ok(wdr_ext_remove_file(
		&(WdrVolumeSpan){ linked, 0, SIZE }, "etc/hides", 1800000000, &error));
	sup_judge_ext(sup_path("cut.ext"), 0);
	ck_assert_str_eq(
		SUP_TOOL("debugfs", "-R", "cat /etc/second", sup_path("cut.ext")), "reed\n");
	sup_ok(wdr_ext_remove_file(
		&(WdrVolumeSpan){ linked, 0, SIZE }, "etc/none", 1800000000, &error));
	sup_fails(WDR_ERROR_REFUSED, "/etc is no plain file",
		wdr_ext_remove_file(
			&(WdrVolumeSpan){ linked, 0, SIZE }, "etc", 1800000000, &error));
}
END_TEST

START_TEST(ext_refusals)
{
	const char *image = make_ext();
	const WdrTime mtime = { 1800000000, 0 };
	g_autoptr(WdrBlockDev) dirty = NULL;
	debugfs(image, "ls");
	SUP_TOOL("debugfs", "-w", "-R", "feature needs_recovery", sup_path("cut.ext"));
	sup_ok(wdr_blockdev_open(sup_path("cut.ext"), WDR_OPEN_WRITE, &dirty, &error));
	sup_fails(WDR_ERROR_REFUSED, "not unmounted cleanly",
		wdr_ext_replace_file(
			&(WdrVolumeSpan){ dirty, 0, SIZE }, "etc/fstab", "x", 1, &mtime, &error));
	/* Clusters of blocks. */
	g_autoptr(WdrBlockDev) clustered = NULL;
	sup_make_image(sup_path("big.ext"), SIZE);
	SUP_TOOL("mkfs.ext4", "-q", "-F", "-O", "bigalloc", sup_path("big.ext"));
	sup_write(sup_path("put"), "text\n");
	g_autofree char *write = g_strdup_printf("write %s fstab", sup_path("put"));
	SUP_TOOL("debugfs", "-w", "-R", write, sup_path("big.ext"));
	sup_ok(wdr_blockdev_open(sup_path("big.ext"), WDR_OPEN_WRITE, &clustered, &error));
	sup_fails(WDR_ERROR_UNSUPPORTED, "bigalloc",
		wdr_ext_replace_file(
			&(WdrVolumeSpan){ clustered, 0, SIZE }, "fstab", "x", 1, &mtime, &error));
	g_autoptr(WdrBlockDev) dev = NULL;
	sup_ok(wdr_blockdev_open(image, WDR_OPEN_WRITE, &dev, &error));
	sup_fails(WDR_ERROR_USAGE, "there is no file /etc/none",
		wdr_ext_replace_file(
			&(WdrVolumeSpan){ dev, OFFSET, SIZE }, "etc/none", "x", 1, &mtime, &error));
	sup_fails(WDR_ERROR_USAGE, "there is no file /etc",
		wdr_ext_replace_file(
			&(WdrVolumeSpan){ dev, OFFSET, SIZE }, "etc", "x", 1, &mtime, &error));
}
END_TEST

/* ---- FAT ---- */

static const struct {
	unsigned width;
	const char *sectors;
} shapes[] = { { 12, "1" }, { 16, "1" }, { 32, "1" } };

static const char *make_fat(unsigned width)
{
	g_autofree char *f = g_strdup_printf("%u", width);
	uint64_t mib = width == 12 ? 2 : width == 16 ? 16 : 40;

	sup_make_image(sup_path("fat.img"), mib << 20);
	SUP_TOOL("mkfs.vfat", "-F", f, "-s", width == 12 ? "4" : "1", "-i", "f3a177c2",
		sup_path("fat.img"));
	sup_write(sup_path("cmdline.txt"), "root=PARTUUID=4c1fa2b0-02\n");
	SUP_TOOL("mcopy", "-i", sup_path("fat.img"), sup_path("cmdline.txt"), "::cmdline.txt");
	SUP_TOOL("mmd", "-i", sup_path("fat.img"), "::extlinux");
	return sup_path("fat.img");
}

START_TEST(fat_files_come_and_go)
{
	const char *image = make_fat(shapes[_i].width);
	g_autoptr(WdrBlockDev) dev = NULL;
	g_autofree char *text = text_of(5000);
	uint64_t size = 0;

	sup_ok(wdr_blockdev_open(image, WDR_OPEN_WRITE, &dev, &error));
	size = wdr_blockdev_size(dev);
	sup_ok(wdr_fat_add_file(
		&(WdrVolumeSpan){ dev, 0, size }, "cmdline.old", "old\n", 4, 1800000000, &error));
	sup_ok(wdr_fat_add_file(
		&(WdrVolumeSpan){ dev, 0, size }, "extlinux/A.B", text, 5000, 1800000000, &error));
	sup_ok(wdr_fat_add_file(
		&(WdrVolumeSpan){ dev, 0, size }, "empty", "", 0, 1800000000, &error));
	sup_fails(WDR_ERROR_REFUSED, "is there already",
		wdr_fat_add_file(
			&(WdrVolumeSpan){ dev, 0, size }, "CMDLINE.OLD", "x", 1, 0, &error));
	sup_fails(WDR_ERROR_USAGE, "no short name",
		wdr_fat_add_file(
			&(WdrVolumeSpan){ dev, 0, size }, "much too long.txt", "x", 1, 0, &error));
	sup_fails(WDR_ERROR_USAGE, "no folder",
		wdr_fat_add_file(&(WdrVolumeSpan){ dev, 0, size }, "nowhere/a", "x", 1, 0, &error));
	sup_judge_fat(image);
	ck_assert_str_eq(SUP_TOOL("mtype", "-i", image, "::cmdline.old"), "old\n");
	ck_assert_str_eq(SUP_TOOL("mtype", "-i", image, "::extlinux/A.B"), text);
	ck_assert_ptr_nonnull(strstr(SUP_TOOL("mdir", "-b", "-i", image), "cmdline.old"));
	sup_ok(wdr_fat_remove_file(&(WdrVolumeSpan){ dev, 0, size }, "cmdline.old", &error));
	sup_ok(wdr_fat_remove_file(&(WdrVolumeSpan){ dev, 0, size }, "extlinux/A.B", &error));
	sup_ok(wdr_fat_remove_file(&(WdrVolumeSpan){ dev, 0, size }, "extlinux/A.B", &error));
	sup_judge_fat(image);
	ck_assert_ptr_null(strstr(SUP_TOOL("mdir", "-b", "-i", image), "old"));
	ck_assert_str_eq(
		SUP_TOOL("mtype", "-i", image, "::cmdline.txt"), "root=PARTUUID=4c1fa2b0-02\n");
}
END_TEST

/* As on ext: whatever write fails, a reader finds the old content or the new. */
START_TEST(a_failing_medium_leaves_old_or_new_on_fat)
{
	static const WdrBlockOps ops = {
		.read = pass_read, .write = fail_later, .flush = pass_flush, .free = free_nothing
	};
	const char *image = make_fat(shapes[_i].width);
	g_autofree char *text = text_of(3000);
	bool is_done = false;

	for (unsigned n = 0; !is_done && n < 100; n++) {
		unsigned left = n;
		g_autoptr(WdrBlockDev) real = NULL;
		SUP_TOOL("cp", image, sup_path("try.img"));
		sup_ok(wdr_blockdev_open(sup_path("try.img"), WDR_OPEN_WRITE, &real, &error));
		void *self[] = { real, &left };
		uint64_t size = wdr_blockdev_size(real);
		g_autoptr(WdrBlockDev) dev = wdr_blockdev_new("try", size, 512, &ops, self);
		is_done = wdr_fat_replace_file(&(WdrVolumeSpan){ dev, 0, size }, "cmdline.txt",
			text, 3000, 1800000000, NULL);
		g_clear_pointer(&real, wdr_blockdev_free);
		/* Clusters that nobody uses, or FATs that differ, are put right without loss. */
		SupRun run = SUP_RUN("fsck.fat", "-a", sup_path("try.img"));
		ck_assert_msg(run.code <= 1, "after %u writes: %s", n, run.out);
		g_autofree char *got =
			g_strdup(SUP_TOOL("mtype", "-i", sup_path("try.img"), "::cmdline.txt"));
		bool is_old = strcmp(got, "root=PARTUUID=4c1fa2b0-02\n") == 0;
		ck_assert_msg(is_old || strcmp(got, text) == 0, "after %u writes: %s", n, got);
		ck_assert(!is_done || !is_old);
	}
	ck_assert(is_done);
}
END_TEST

START_TEST(a_full_folder_grows)
{
	const char *image = make_fat(32);
	g_autoptr(WdrBlockDev) dev = NULL;

	sup_ok(wdr_blockdev_open(image, WDR_OPEN_WRITE, &dev, &error));
	for (unsigned i = 0; i < 60; i++) {
		g_autofree char *name = g_strdup_printf("extlinux/f%u.txt", i);
		sup_ok(wdr_fat_add_file(&(WdrVolumeSpan){ dev, 0, wdr_blockdev_size(dev) }, name,
			name, strlen(name), 0, &error));
	}
	sup_judge_fat(image);
	ck_assert_str_eq(SUP_TOOL("mtype", "-i", image, "::extlinux/f59.txt"), "extlinux/f59.txt");
}
END_TEST

START_TEST(fat_serials)
{
	const char *image = make_fat(shapes[_i].width);
	g_autoptr(WdrBlockDev) dev = NULL;

	sup_ok(wdr_blockdev_open(image, WDR_OPEN_WRITE, &dev, &error));
	ck_assert_uint_eq(wdr_fat_serial_of("1A2B-3C4D"), 0x1a2b3c4d);
	sup_ok(wdr_fat_set_serial(dev, 0, wdr_blockdev_size(dev), 0x1a2b3c4d, &error));
	ck_assert_ptr_nonnull(strstr(SUP_TOOL("blkid", "-p", image), "UUID=\"1A2B-3C4D\""));
	sup_judge_fat(image);
}
END_TEST

/* ---- trees ---- */

START_TEST(tree_files_are_replaced)
{
	g_autoptr(WdrVolume) tree = NULL;
	WdrEntry like = sup_entry(WDR_KIND_FILE, 0640);
	struct stat st;
	size_t len = 0;

	like.uid = (uint32_t)getuid();
	like.gid = (uint32_t)getgid();
	like.mtime = (WdrTime){ 1800000000, 7 };
	SUP_TOOL("mkdir", "-p", sup_path("tree/etc"));
	sup_write(sup_path("tree/etc/fstab"), "old\n");
	sup_write(sup_path("outside"), "outside\n");
	ck_assert_int_eq(symlink(sup_path("outside"), sup_path("tree/etc/link")), 0);
	sup_ok(wdr_tree_volume_open(sup_path("tree"), &tree, &error));
	sup_ok(wdr_tree_put_file(tree, "etc/fstab", "new\n", 4, &like, &error));
	g_autofree char *got = sup_read(sup_path("tree/etc/fstab"), &len);
	ck_assert_str_eq(got, "new\n");
	ck_assert_int_eq(stat(sup_path("tree/etc/fstab"), &st), 0);
	ck_assert_uint_eq(st.st_mode & 07777, 0640);
	ck_assert_int_eq(st.st_mtim.tv_sec, 1800000000);
	ck_assert_int_eq(st.st_mtim.tv_nsec, 7);
	/* A link is replaced, never followed. */
	sup_ok(wdr_tree_put_file(tree, "etc/link", "new\n", 4, &like, &error));
	g_autofree char *outside = sup_read(sup_path("outside"), &len);
	ck_assert_str_eq(outside, "outside\n");
	sup_fails(WDR_ERROR_IO, "opening the folder",
		wdr_tree_put_file(tree, "none/fstab", "new\n", 4, &like, &error));
	sup_ok(wdr_tree_remove_file(tree, "etc/fstab", &error));
	sup_ok(wdr_tree_remove_file(tree, "etc/fstab", &error));
	ck_assert_int_ne(access(sup_path("tree/etc/fstab"), F_OK), 0);
	ck_assert_str_eq(SUP_TOOL("ls", "-A", sup_path("tree/etc")), "link\n");
}
END_TEST

Suite *suite_volume_edit(void)
{
	Suite *s = suite_create("volume/edit");
	TCase *t = tcase_create("edit");

	tcase_add_checked_fixture(t, sup_setup, sup_teardown);
	tcase_add_loop_test(t, ext_files_are_replaced, 0, (int)G_N_ELEMENTS(contents));
	tcase_add_loop_test(t, a_failing_medium_leaves_old_or_new, 0, (int)G_N_ELEMENTS(acts));
	tcase_add_test(t, ext_contents_in_pieces);
	tcase_add_test(t, ext_files_come_and_go);
	tcase_add_test(t, ext_refusals);
	tcase_add_loop_test(t, fat_files_come_and_go, 0, (int)G_N_ELEMENTS(shapes));
	tcase_add_loop_test(
		t, a_failing_medium_leaves_old_or_new_on_fat, 0, (int)G_N_ELEMENTS(shapes));
	tcase_add_test(t, a_full_folder_grows);
	tcase_add_loop_test(t, fat_serials, 0, (int)G_N_ELEMENTS(shapes));
	tcase_add_test(t, tree_files_are_replaced);
	suite_add_tcase(s, t);
	return s;
}
