/* ext volumes: e2fsck and debugfs judge what we build, mkfs.ext4 and the kernel make what we read.
 */
#include "support.h"

#include "base/hash.h"
#include "base/text.h"
#include "copy/volume_copy.h"
#include "volume/tree/tree.h"

#include <e2p/e2p.h>
#include <ext2fs/ext2_fs.h>
#include <stdio.h>
#include <string.h>
#include <unistd.h>

Suite *suite_ext(void);

#define PLAIN                                                                                      \
	"has_journal,ext_attr,resize_inode,dir_index,filetype,extent,flex_bg,sparse_super,"        \
	"large_file,huge_file,dir_nlink,extra_isize"

static const struct {
	const char *name, *features; /* NULL: the usual ones */
	uint32_t block_size, inode_size;
	uint64_t offset;
} shapes[] = {
	{ "usual", NULL, 4096, 256, 0 },
	{ "small blocks", NULL, 1024, 256, 4 * WDR_MIB },
	{ "group checksums only", PLAIN ",uninit_bg", 4096, 256, 0 },
	{ "no checksums", PLAIN, 4096, 256, 0 },
	{ "old inodes", "has_journal,ext_attr,dir_index,filetype,extent,sparse_super,large_file",
		2048, 128, 0 },
	{ "orphan file and seed", PLAIN ",64bit,metadata_csum,metadata_csum_seed,orphan_file", 4096,
		256, 0 },
	{ "project ids, large inodes", PLAIN ",64bit,metadata_csum,project", 4096, 512, 0 },
	{ "no journal, no index",
		"ext_attr,filetype,extent,sparse_super,large_file,64bit,metadata_csum", 4096, 256,
		0 },
};

enum { SIZE = 320 * 1024 * 1024 };

static WdrExtSpec spec_of(unsigned shape)
{
	return sup_ext_spec(
		shapes[shape].features, shapes[shape].block_size, shapes[shape].inode_size);
}

static void build(WdrVolume *from, unsigned shape)
{
	g_auto(WdrExtSpec) spec = spec_of(shape);

	sup_make_image(sup_path("disk"), shapes[shape].offset + SIZE);
	sup_build_ext(from, sup_path("disk"), shapes[shape].offset, SIZE, &spec);
}

/* sup_build_ext lets e2fsck judge, and compares every entry in all respects through our reader.
 * Times with more than 32 bits, nanoseconds and large xattrs do not fit into inodes of 128 bytes.
 */
START_TEST(built_volumes_hold_what_was_given)
{
	unsigned shape = (unsigned)_i % G_N_ELEMENTS(shapes);
	SupTree tree = { .seed = 100 + (uint64_t)_i,
		.entries = 250,
		.is_fat = shapes[shape].inode_size == 128 };
	tree.has_old_inodes = tree.is_fat;
	tree.has_projects = strcmp(shapes[shape].name, "project ids, large inodes") == 0;
	g_autoptr(WdrVolume) from = sup_tree(&tree);

	build(from, shape);
}
END_TEST

/* ---- the kernel's view ---- */

static char *kernel_list(const char *folder)
{
	g_autofree char *command = g_strdup_printf(
		"cd '%s' && find . -not -path './lost+found*' -printf '%%P|%%y|%%m|%%U|%%G|%%s|%%n|%%T@|%%A@|%%l\\0' "
		"| LC_ALL=C sort -z | tr '\\0' '\\n'; getfattr -Rhdm- -e hex . 2>/dev/null | LC_ALL=C sort; "
		"find . -type f -print0 | LC_ALL=C sort -z | xargs -0 xxh128sum -q",
		folder);
	const char *argv[] = { "sh", "-c", command, NULL };

	return g_strdup(sup_tool(argv));
}

START_TEST(the_kernel_sees_the_same)
{
	SupTree tree = { .seed = 4711 + (uint64_t)_i, .entries = 400 };
	g_autoptr(WdrVolume) from = sup_tree(&tree);
	g_auto(WdrExtSpec) spec = spec_of(0);

	if (!sup_is_root()) {
		sup_say_skipped("the_kernel_sees_the_same");
		return;
	}
	build(from, 0);
	/* Second: from the mounted first through the kernel; third: from the first through our
	 * reader. */
	SUP_TOOL("mkdir", sup_path("m1"), sup_path("m2"));
	SUP_TOOL("mount", "-o", "ro,loop,noload", sup_path("disk"), sup_path("m1"));
	g_autoptr(WdrVolume) mounted = NULL;
	sup_make_image(sup_path("disk2"), SIZE);
	sup_ok(wdr_tree_volume_open(sup_path("m1"), &mounted, &error));
	sup_build_ext(mounted, sup_path("disk2"), 0, SIZE, &spec);
	g_clear_pointer(&mounted, wdr_volume_free);
	SUP_TOOL("mount", "-o", "ro,loop,noload", sup_path("disk2"), sup_path("m2"));
	g_autofree char *a = kernel_list(sup_path("m1"));
	g_autofree char *b = kernel_list(sup_path("m2"));
	SUP_TOOL("umount", sup_path("m1"), sup_path("m2"));
	ck_assert_uint_gt(strlen(a), 10000);
	ck_assert_str_eq(a, b);
}
END_TEST

/* ---- single things that debugfs can show ---- */

static char *debugfs(const char *request)
{
	return SUP_TOOL("debugfs", "-R", request, sup_path("disk"));
}

START_TEST(large_folders_are_indexed)
{
	WdrMemoryVolume *m = wdr_memory_volume_new("m");
	g_autoptr(WdrVolume) from = wdr_memory_volume_as_volume(m);
	WdrEntry folder = sup_entry(WDR_KIND_FOLDER, 0755);
	WdrEntry file = sup_entry(WDR_KIND_FILE, 0644);
	unsigned names = _i == 0 ? 3000 : 12000;
	g_auto(WdrExtSpec) spec = sup_ext_spec(NULL, _i == 0 ? 4096 : 1024, 256);

	wdr_memory_volume_add(m, "large", &folder);
	for (unsigned i = 0; i < names; i++) {
		g_autofree char *path = g_strdup_printf("large/observation-%u.csv", i);
		wdr_memory_volume_add(m, path, &file);
	}
	spec.inodes = names + 1000;
	spec.hash_is_unsigned = _i == 1;
	sup_make_image(sup_path("disk"), SIZE);
	sup_build_ext(from, sup_path("disk"), 0, SIZE, &spec);
	const char *dump = debugfs("htree_dump /large");
	ck_assert_ptr_nonnull(strstr(dump, _i == 0 ? "Indirect levels: 0" : "Indirect levels: 1"));
	ck_assert_ptr_nonnull(strstr(debugfs("stat /large/observation-2999.csv"), "Type: regular"));
	if (!sup_is_root()) {
		sup_say_skipped("large_folders_are_indexed: look-ups by the kernel");
		return;
	}
	SUP_TOOL("mkdir", sup_path("m"));
	SUP_TOOL("mount", "-o", "loop", sup_path("disk"), sup_path("m"));
	g_autofree char *first = g_build_filename(sup_path("m"), "large/observation-0.csv", NULL);
	g_autofree char *last =
		g_strdup_printf("%s/large/observation-%u.csv", sup_path("m"), names - 1);
	g_autofree char *fresh = g_build_filename(sup_path("m"), "large/another.csv", NULL);
	int found = access(first, F_OK) == 0 && access(last, F_OK) == 0;
	sup_write(fresh, "x");
	SUP_TOOL("umount", sup_path("m"));
	ck_assert_int_eq(found, 1);
	sup_judge_ext(sup_path("disk"), 0);
}
END_TEST

START_TEST(files_of_many_extents)
{
	WdrMemoryVolume *m = wdr_memory_volume_new("m");
	g_autoptr(WdrVolume) from = wdr_memory_volume_as_volume(m);
	WdrEntry file = sup_entry(WDR_KIND_FILE, 0644);
	uint64_t sparse = wdr_memory_volume_add(m, "sparse", &file);
	uint64_t huge = wdr_memory_volume_add(m, "huge", &file);
	unsigned pieces = _i == 0 ? 5 : _i == 1 ? 400 : 3000;

	for (unsigned i = 0; i < pieces; i++)
		wdr_memory_volume_generate(m, sparse, i * UINT64_C(16384), 100, i);
	wdr_memory_volume_generate(m, huge, UINT64_C(5) << 30, 1000, 1);
	wdr_memory_volume_set_size(m, huge, UINT64_C(9) << 30);
	build(from, _i == 2 ? 1 : 0);
	if (_i == 2)
		return; /* at an offset, where debugfs does not look */
	g_autofree char *count = g_strdup_printf("EXTENTS:");
	ck_assert_ptr_nonnull(strstr(debugfs("stat /sparse"), count));
	ck_assert_ptr_nonnull(strstr(debugfs("stat /huge"), "Size: 9663676416"));
	/* The data, read by a program that is not ours. */
	g_autofree char *request = g_strdup_printf("dump /sparse %s", sup_path("dumped"));
	debugfs(request);
	size_t len = 0;
	g_autofree char *dumped = sup_read(sup_path("dumped"), &len);
	g_autoptr(WdrContent) content = NULL;
	g_auto(WdrEntry) entry = { 0 };
	WdrNode node = { sparse, "sparse" };
	g_autofree char *want = g_malloc0((pieces - 1) * 16384 + 100);
	sup_ok(wdr_volume_stat(from, &node, &entry, &error));
	sup_ok(wdr_volume_open(from, &node, &entry, &content, &error));
	for (WdrPiece p = { .len = 1 }; p.len;) {
		char buf[100];
		sup_ok(wdr_content_next(content, buf, sizeof(buf), &p, &error));
		memcpy(want + p.offset, buf, (size_t)p.len);
	}
	ck_assert_uint_eq(len, entry.size);
	ck_assert_mem_eq(dumped, want, len);
}
END_TEST

START_TEST(times_after_2038)
{
	WdrMemoryVolume *m = wdr_memory_volume_new("m");
	g_autoptr(WdrVolume) from = wdr_memory_volume_as_volume(m);
	WdrEntry e = sup_entry(WDR_KIND_FILE, 0644);

	e.mtime = (WdrTime){ 4102444800, 987654321 }; /* 2100-01-01 */
	e.crtime = (WdrTime){ -86400, 0 };
	wdr_memory_volume_add(m, "later", &e);
	build(from, 0);
	/* The stored words: seconds, then nanoseconds above two bits of further seconds. What
	 * debugfs makes a date of them differs between its versions. */
	const char *shown = debugfs("stat /later");
	ck_assert_ptr_nonnull(strstr(shown, "mtime: 0xf4865700:eb79a2c5 "));
	ck_assert_ptr_nonnull(strstr(shown, "crtime: 0xfffeae80:00000000 "));
}
END_TEST

START_TEST(xattrs_too_large)
{
	WdrMemoryVolume *m = wdr_memory_volume_new("m");
	g_autoptr(WdrVolume) from = wdr_memory_volume_as_volume(m);
	g_autoptr(WdrBlockDev) dev = NULL;
	g_autoptr(WdrBuilder) builder = NULL;
	WdrEntry e = sup_entry(WDR_KIND_FILE, 0644);
	g_autofree char *large = g_strnfill(5000, 'x');
	g_auto(WdrExtSpec) spec = spec_of(0);

	wdr_entry_add_xattr(&e, "user.large", large, 5000);
	wdr_memory_volume_add(m, "file", &e);
	wdr_entry_clear(&e);
	sup_make_image(sup_path("disk"), SIZE);
	sup_ok(wdr_blockdev_open(sup_path("disk"), WDR_OPEN_WRITE, &dev, &error));
	WdrBuildTarget target = { dev, 0, SIZE, sup_folder(), NULL, NULL };
	sup_ok(wdr_ext_builder_new(sup_world(), &target, &spec, &builder, &error));
	WdrCopy copy = { .source = from, .builder = builder };
	sup_fails(WDR_ERROR_UNSUPPORTED, "/file: its xattrs are larger than a block",
		wdr_copy_volume(sup_world(), &copy, NULL, &error));
}
END_TEST

START_TEST(full_volumes)
{
	WdrMemoryVolume *m = wdr_memory_volume_new("m");
	g_autoptr(WdrVolume) from = wdr_memory_volume_as_volume(m);
	g_autoptr(WdrBlockDev) dev = NULL;
	g_autoptr(WdrBuilder) builder = NULL;
	WdrEntry e = sup_entry(WDR_KIND_FILE, 0644);
	g_auto(WdrExtSpec) spec = spec_of(0);

	if (_i == 0)
		wdr_memory_volume_generate(
			m, wdr_memory_volume_add(m, "large", &e), 0, 17 * WDR_MIB, 1);
	for (unsigned i = 0; _i == 1 && i < 300; i++) {
		g_autofree char *path = g_strdup_printf("%u", i);
		wdr_memory_volume_add(m, path, &e);
	}
	spec.inodes = 128;
	sup_make_image(sup_path("disk"), 16 * WDR_MIB);
	sup_ok(wdr_blockdev_open(sup_path("disk"), WDR_OPEN_WRITE, &dev, &error));
	WdrBuildTarget target = { dev, 0, 16 * WDR_MIB, sup_folder(), NULL, NULL };
	sup_ok(wdr_ext_builder_new(sup_world(), &target, &spec, &builder, &error));
	WdrCopy copy = { .source = from, .builder = builder };
	sup_fails(WDR_ERROR_NO_SPACE,
		_i == 0 ? "large: the new ext volume is full" : "has no inodes left",
		wdr_copy_volume(sup_world(), &copy, NULL, &error));
}
END_TEST

START_TEST(garbage_below_does_not_show)
{
	SupTree tree = { .seed = 9, .entries = 100 };
	g_autoptr(WdrVolume) from = sup_tree(&tree);
	g_autofree char *command = g_strdup_printf(
		"tr '\\0' '\\377' </dev/zero | head -c %d >%s", SIZE, sup_path("disk"));
	const char *argv[] = { "sh", "-c", command, NULL };
	g_auto(WdrExtSpec) spec = spec_of((unsigned)_i);

	sup_tool(argv);
	sup_build_ext(from, sup_path("disk"), 0, SIZE, &spec);
}
END_TEST

/* ---- like another ---- */

static const char *const features[] = { "^metadata_csum,uninit_bg",
	"metadata_csum_seed,orphan_file", "project", "^64bit", "large_dir", "inline_data" };

static char *grep_head(const char *image, const char *what)
{
	g_autofree char *command =
		g_strdup_printf("dumpe2fs -h %s 2>/dev/null | grep -E '%s'", image, what);
	const char *argv[] = { "sh", "-c", command, NULL };

	return g_strdup(sup_tool(argv));
}

START_TEST(features_and_settings_are_kept)
{
	static const char what[] =
		"^(Filesystem features|Default mount options|Errors behavior|Block size|"
		"Inode size|Reserved blocks uid|Check interval|Default directory hash|"
		"Mount options|Maximum mount)";
	g_autoptr(WdrBlockDev) dev = NULL;
	g_autoptr(WdrVolume) like = NULL;
	g_auto(WdrExtSpec) spec = { 0 };
	g_auto(WdrExtInfo) info = { 0 };
	g_autofree char *note = NULL;

	sup_make_image(sup_path("like"), SIZE);
	SUP_TOOL("mkfs.ext4", "-q", "-F", "-O", features[_i], "-L", "reeds", "-e", "remount-ro",
		"-m", "2", sup_path("like"));
	SUP_TOOL("tune2fs", "-o", "journal_data_writeback,user_xattr", "-i", "30d", "-c", "40",
		"-u", "5", "-E", "mount_opts=commit=17", sup_path("like"));
	sup_ok(wdr_blockdev_open(sup_path("like"), WDR_OPEN_READ, &dev, &error));
	sup_ok(wdr_ext_volume_open(dev, 0, SIZE, &like, &error));
	sup_ok(wdr_ext_spec_like(like, &spec, &note, &error));
	wdr_ext_volume_info(like, &info);
	spec.inodes = wdr_ext_spec_inodes(&info, SIZE, 2);
	g_strlcpy(spec.uuid, "5a2c8d1e-4b3f-4c6a-8e7d-1f0a9b8c7d6e", sizeof(spec.uuid));
	sup_make_image(sup_path("disk"), SIZE);
	sup_build_ext(like, sup_path("disk"), 0, SIZE, &spec);
	g_autofree char *a = grep_head(sup_path("like"), what);
	g_autofree char *b = grep_head(sup_path("disk"), what);
	ck_assert_str_eq(a, b);
	g_autofree char *uuid = grep_head(sup_path("disk"), "^Filesystem (UUID|volume)");
	ck_assert_ptr_nonnull(strstr(uuid, "5a2c8d1e-4b3f"));
	ck_assert_ptr_nonnull(strstr(uuid, "reeds"));
}
END_TEST

START_TEST(inline_data_is_read)
{
	g_autoptr(WdrBlockDev) dev = NULL;
	g_autoptr(WdrVolume) v = NULL;
	char *text = NULL;
	size_t len = 0;

	sup_make_image(sup_path("disk"), 64 * WDR_MIB);
	SUP_TOOL("mkfs.ext4", "-q", "-F", "-O", "inline_data", sup_path("disk"));
	sup_write(sup_path("small"), "a small text");
	g_autofree char *request = g_strdup_printf("write %s small", sup_path("small"));
	SUP_TOOL("debugfs", "-w", "-R", request, sup_path("disk"));
	sup_ok(wdr_blockdev_open(sup_path("disk"), WDR_OPEN_READ, &dev, &error));
	sup_ok(wdr_ext_volume_open(dev, 0, 64 * WDR_MIB, &v, &error));
	sup_ok(wdr_volume_read_file(v, "small", 100, &text, &len, &error));
	ck_assert_str_eq(text, "a small text");
	g_free(text);
}
END_TEST

START_TEST(kinds_that_cannot_be_built)
{
	static const struct {
		const char *type, *features, *text;
	} kinds[] = { { "ext2", "none", "ext2 or ext3" }, { "ext3", "has_journal", "ext2 or ext3" },
		{ "ext4", "bigalloc", "bigalloc" }, { "ext4", "casefold", "casefold" },
		{ "ext4", "ea_inode", "ea_inode" } };
	g_autoptr(WdrBlockDev) dev = NULL;
	g_autoptr(WdrVolume) v = NULL;
	g_auto(WdrExtSpec) spec = { 0 };
	g_autofree char *note = NULL;

	sup_make_image(sup_path("disk"), 64 * WDR_MIB);
	if (_i == 0)
		SUP_TOOL("mke2fs", "-q", "-F", "-t", "ext2", sup_path("disk"));
	else
		SUP_TOOL("mke2fs", "-q", "-F", "-t", kinds[_i].type, "-O", kinds[_i].features,
			sup_path("disk"));
	sup_ok(wdr_blockdev_open(sup_path("disk"), WDR_OPEN_READ, &dev, &error));
	sup_ok(wdr_ext_volume_open(dev, 0, 64 * WDR_MIB, &v, &error));
	sup_fails(
		WDR_ERROR_UNSUPPORTED, kinds[_i].text, wdr_ext_spec_like(v, &spec, &note, &error));
}
END_TEST

/* The line of ext4 features in the documentation, up to the end of its paragraph. The caller's. */
static char *features_in_docs(void)
{
	g_autofree char *text = sup_read(WDR_TEST_DATA "/../../docs/how-it-works.md", NULL);
	const char *start = strstr(text, "- **ext4 features** that are kept: ");

	ck_assert_ptr_nonnull(start);
	const char *end = strstr(start, "\n-");
	return g_strndup(start, (size_t)(end - start));
}

/* Every feature that e2fsprogs have a name for, set alone in a volume: it is built like the
 * source's, or refused by its name before anything is written. docs/how-it-works.md says which. */
START_TEST(every_feature_is_known_or_refused)
{
	static const struct {
		int type;
		uint64_t at; /* in the image: the superblock's words of features */
	} words[] = { { E2P_FEATURE_COMPAT, 1024 + 0x5c }, { E2P_FEATURE_INCOMPAT, 1024 + 0x60 },
		{ E2P_FEATURE_RO_INCOMPAT, 1024 + 0x64 } };
	/* Of state, and one that is left out and said. */
	static const char *const others[] = { "needs_recovery", "orphan_present", "quota",
		"sparse_super", NULL };
	g_autofree char *readme = features_in_docs();
	uint32_t bit = (uint32_t)1 << _i % 32;
	g_autofree char *name = g_strdup(e2p_feature2string(words[_i / 32].type, bit));
	g_autofree char *listed = g_strdup_printf("`%s`", name);
	bool is_promised = strstr(readme, listed) != NULL;
	g_autoptr(WdrBlockDev) dev = NULL;
	g_autoptr(WdrVolume) v = NULL;
	g_auto(WdrExtSpec) spec = { 0 };
	g_autoptr(GError) why = NULL;
	g_autofree char *note = NULL;
	uint8_t word[4];

	sup_make_image(sup_path("disk"), 64 * WDR_MIB);
	SUP_TOOL("mkfs.ext4", "-q", "-F", "-O", "^metadata_csum,^resize_inode", sup_path("disk"));
	sup_peek(sup_path("disk"), words[_i / 32].at, word, sizeof(word));
	word[_i % 32 / 8] |= (uint8_t)(1u << _i % 8);
	sup_poke(sup_path("disk"), words[_i / 32].at, word, sizeof(word));
	sup_ok(wdr_blockdev_open(sup_path("disk"), WDR_OPEN_READ, &dev, &error));
	bool is_taken = wdr_ext_volume_open(dev, 0, 64 * WDR_MIB, &v, &why) &&
			wdr_ext_spec_like(v, &spec, &note, &why);
	if (is_taken)
		ck_assert_msg(is_promised || g_strv_contains(others, name),
			"%s is taken, and the README does not say so", name);
	else
		ck_assert_msg(why && why->message, "%s", name);
	/* libext2fs does not open some by themselves: checksums that are not right, say. */
	if (!is_taken && v)
		ck_assert_msg(!is_promised && strstr(why->message, name), "%s is promised: %s",
			name, why->message);
}
END_TEST

START_TEST(quota_is_left_out_and_said)
{
	g_autoptr(WdrBlockDev) dev = NULL;
	g_autoptr(WdrVolume) v = NULL;
	g_auto(WdrExtSpec) spec = { 0 };
	g_autofree char *note = NULL;

	sup_make_image(sup_path("disk"), 64 * WDR_MIB);
	SUP_TOOL("mkfs.ext4", "-q", "-F", "-O", "quota,project", sup_path("disk"));
	sup_ok(wdr_blockdev_open(sup_path("disk"), WDR_OPEN_READ, &dev, &error));
	sup_ok(wdr_ext_volume_open(dev, 0, 64 * WDR_MIB, &v, &error));
	sup_ok(wdr_ext_spec_like(v, &spec, &note, &error));
	ck_assert_ptr_nonnull(strstr(note, "quota"));
	ck_assert_ptr_null(strstr(spec.features, "quota"));
	ck_assert_ptr_nonnull(strstr(spec.features, "project"));
}
END_TEST

Suite *suite_ext(void)
{
	Suite *s = suite_create("volume/ext");
	TCase *t = tcase_create("ext");

	tcase_add_checked_fixture(t, sup_setup, sup_teardown);
	tcase_add_loop_test(t, built_volumes_hold_what_was_given, 0, 2 * (int)G_N_ELEMENTS(shapes));
	tcase_add_loop_test(t, the_kernel_sees_the_same, 0, 3);
	tcase_add_loop_test(t, large_folders_are_indexed, 0, 2);
	tcase_add_loop_test(t, files_of_many_extents, 0, 3);
	tcase_add_test(t, times_after_2038);
	tcase_add_test(t, xattrs_too_large);
	tcase_add_loop_test(t, full_volumes, 0, 2);
	tcase_add_loop_test(t, garbage_below_does_not_show, 2, 4);
	tcase_add_loop_test(t, features_and_settings_are_kept, 0, (int)G_N_ELEMENTS(features));
	tcase_add_test(t, inline_data_is_read);
	tcase_add_loop_test(t, kinds_that_cannot_be_built, 0, 5);
	tcase_add_loop_test(t, every_feature_is_known_or_refused, 0, 96);
	tcase_add_test(t, quota_is_left_out_and_said);
	suite_add_tcase(s, t);
	return s;
}
