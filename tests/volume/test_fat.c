/* FAT volumes: fsck.fat and mtools judge what we build, and make what we read. */
#include "support.h"

#include "base/text.h"
#include "copy/volume_copy.h"
#include "volume/fat/fat_priv.h"
#include "volume/tree/tree.h"

#include <string.h>

Suite *suite_fat(void);

static const struct {
	unsigned width;
	uint64_t size;
	uint32_t cluster_bytes;
} shapes[] = { { 12, 8 * WDR_MIB, 4096 }, { 16, 64 * WDR_MIB, 2048 }, { 32, 64 * WDR_MIB, 512 },
	{ 32, 300 * WDR_MIB, 4096 }, { 12, 2 * WDR_MIB, 2048 } };

static WdrFatSpec spec_of(unsigned shape)
{
	WdrFatSpec spec = { .width = shapes[shape].width,
		.sector_bytes = 512,
		.cluster_bytes = shapes[shape].cluster_bytes,
		.serial = 0x12345678,
		.fats = 2,
		.made_at = 1777876200 };

	g_strlcpy(spec.label, "HERON", sizeof(spec.label));
	return spec;
}

/* ---- built by us, read by mtools ---- */

typedef struct {
	WdrVolume *v;
	const char *out; /* folder that mcopy filled */
} Against;

static bool against_mcopy(void *data, const WdrCopied *c, GError **error)
{
	const Against *a = data;
	g_autofree char *path = g_build_filename(a->out, c->path, NULL);

	(void)error;
	/* mtools knows no surrogates; a_copy_of_a_copy_is_the_same has them. */
	if (strstr(c->path, "\xf0\x9f"))
		return true;
	if (c->entry->kind == WDR_KIND_FOLDER) {
		ck_assert_msg(g_file_test(path, G_FILE_TEST_IS_DIR), "%s", c->path);
		return true;
	}
	size_t len = 0;
	g_autofree char *text = sup_read(path, &len);
	ck_assert_uint_eq(len, c->entry->size);
	ck_assert_msg(len == 0 || wdr_hash_equal(wdr_hash(text, len), c->content), "%s", c->path);
	return true;
}

START_TEST(built_volumes_hold_what_was_given)
{
	unsigned shape = (unsigned)_i % G_N_ELEMENTS(shapes);
	SupTree tree = { .seed = (uint64_t)_i,
		.entries = shapes[shape].size < 9 * WDR_MIB ? 12 : 150,
		.is_fat = true };
	g_autoptr(WdrVolume) from = sup_tree(&tree);
	WdrFatSpec spec = spec_of(shape);
	const char *out = sup_path("out");

	sup_make_image(sup_path("disk"), shapes[shape].size);
	sup_build_fat(from, sup_path("disk"), 0, shapes[shape].size, &spec);
	SUP_TOOL("mkdir", out);
	SUP_TOOL("mcopy", "-s", "-Q", "-n", "-i", sup_path("disk"), "::", out);
	Against a = { from, out };
	WdrCopy copy = { .source = from, .record = against_mcopy, .data = &a };
	sup_ok(wdr_copy_volume(sup_world(), &copy, NULL, &error));
}
END_TEST

static char *hash_all(WdrVolume *v);

typedef struct {
	GString *lines;
} Listing;

static bool add_line(void *data, const WdrCopied *c, GError **error)
{
	Listing *l = data;
	const WdrEntry *e = c->entry;

	(void)error;
	g_string_append_printf(l->lines, "%s %d %u %d %d %d %08x%08x ", c->path, e->kind,
		(unsigned)e->size, (int)e->mtime.sec, (int)e->crtime.sec, (int)e->crtime.nsec,
		(unsigned)c->content.high, (unsigned)c->content.low);
	for (size_t i = 0; i < WDR_FAT_NAME_BYTES; i++)
		g_string_append_printf(l->lines, "%02x", e->fat.name[i]);
	g_string_append_printf(l->lines, " %x\n", e->fat.attributes);
	return true;
}

static char *hash_all(WdrVolume *v)
{
	Listing l = { g_string_new(NULL) };
	WdrCopy copy = { .source = v, .record = add_line, .data = &l };

	sup_ok(wdr_copy_volume(sup_world(), &copy, NULL, &error));
	return g_string_free(l.lines, FALSE);
}

static WdrVolume *open_fat(const char *image, WdrBlockDev **dev)
{
	WdrVolume *v = NULL;

	sup_ok(wdr_blockdev_open(image, WDR_OPEN_READ, dev, &error));
	sup_ok(wdr_fat_volume_open(*dev, 0, wdr_blockdev_size(*dev), &v, &error));
	return v;
}

START_TEST(a_copy_of_a_copy_is_the_same)
{
	unsigned shape = (unsigned)_i;
	SupTree tree = {
		.seed = 77, .entries = shapes[shape].size < 9 * WDR_MIB ? 12 : 120, .is_fat = true
	};
	g_autoptr(WdrVolume) from = sup_tree(&tree);
	g_autoptr(WdrBlockDev) first_dev = NULL;
	g_autoptr(WdrBlockDev) second_dev = NULL;
	WdrFatSpec spec = spec_of(shape);

	sup_make_image(sup_path("first"), shapes[shape].size);
	sup_make_image(sup_path("second"), shapes[shape].size);
	sup_build_fat(from, sup_path("first"), 0, shapes[shape].size, &spec);
	g_autoptr(WdrVolume) first = open_fat(sup_path("first"), &first_dev);
	sup_build_fat(first, sup_path("second"), 0, shapes[shape].size, &spec);
	g_autoptr(WdrVolume) second = open_fat(sup_path("second"), &second_dev);
	g_autofree char *a = hash_all(first);
	g_autofree char *b = hash_all(second);
	ck_assert_str_eq(a, b);
}
END_TEST

START_TEST(labels_are_in_both_places)
{
	g_autoptr(WdrVolume) from = wdr_memory_volume_as_volume(wdr_memory_volume_new("empty"));
	WdrFatSpec spec = spec_of(2);
	WdrFatInfo info;
	g_autoptr(WdrBlockDev) dev = NULL;

	sup_make_image(sup_path("disk"), shapes[2].size);
	sup_build_fat(from, sup_path("disk"), 0, shapes[2].size, &spec);
	ck_assert_ptr_nonnull(
		strstr(SUP_TOOL("mlabel", "-s", "-i", sup_path("disk"), "::"), "HERON"));
	ck_assert_ptr_nonnull(
		strstr(SUP_TOOL("blkid", "-p", sup_path("disk")), "LABEL_FATBOOT=\"HERON\""));
	ck_assert_ptr_nonnull(
		strstr(SUP_TOOL("blkid", "-p", sup_path("disk")), "UUID=\"1234-5678\""));
	g_autoptr(WdrVolume) v = open_fat(sup_path("disk"), &dev);
	sup_ok(wdr_fat_volume_info(v, &info, &error));
	ck_assert_str_eq(info.label, "HERON");
	ck_assert_uint_eq(info.width, 32);
	ck_assert_uint_eq(info.clusters - info.free_clusters, 1);
}
END_TEST

START_TEST(kernel_names_have_plain_short_names)
{
	WdrMemoryVolume *m = wdr_memory_volume_new("boot");
	g_autoptr(WdrVolume) from = wdr_memory_volume_as_volume(m);
	WdrEntry e = sup_entry(WDR_KIND_FILE, 0644);
	WdrFatSpec spec = spec_of(1);

	wdr_memory_volume_put(m, wdr_memory_volume_add(m, "config.txt", &e), 0, "a=1\n", 4);
	wdr_memory_volume_put(m, wdr_memory_volume_add(m, "CMDLINE.TXT", &e), 0, "root=x\n", 7);
	sup_make_image(sup_path("disk"), shapes[1].size);
	sup_build_fat(from, sup_path("disk"), 0, shapes[1].size, &spec);
	const char *listed = SUP_TOOL("mdir", "-i", sup_path("disk"), "::");
	ck_assert_ptr_nonnull(
		strstr(listed, "CONFIG   TXT         4 2026-05-04   6:30  config.txt"));
	ck_assert_ptr_nonnull(strstr(listed, "CMDLINE  TXT         7"));
	ck_assert_str_eq(SUP_TOOL("mtype", "-i", sup_path("disk"), "::CONFIG.TXT"), "a=1\n");
}
END_TEST

/* ---- made by others, read by us ---- */

START_TEST(reads_what_mtools_wrote)
{
	unsigned shape = (unsigned)_i;
	g_autoptr(WdrBlockDev) dev = NULL;
	g_autofree char *width = g_strdup_printf("%u", shapes[shape].width);
	g_autofree char *cluster = g_strdup_printf("%u", shapes[shape].cluster_bytes / 512);
	g_autofree char *long_text = g_strnfill(50000, 'l');
	char *text = NULL;
	size_t len = 0;

	sup_make_image(sup_path("disk"), shapes[shape].size);
	SUP_TOOL("mkfs.vfat", "-F", width, "-s", cluster, "-a", sup_path("disk"));
	sup_write(sup_path("a"), "short text");
	sup_write(sup_path("b"), long_text);
	SUP_TOOL("mmd", "-i", sup_path("disk"), "::/Deep Folder", "::/Deep Folder/below");
	SUP_TOOL("mcopy", "-i", sup_path("disk"), sup_path("a"), "::/Mixed Case Name.Text");
	SUP_TOOL("mcopy", "-i", sup_path("disk"), sup_path("b"), "::/Deep Folder/below/long.txt");
	SUP_TOOL("mdel", "-i", sup_path("disk"), "::/Mixed Case Name.Text");
	SUP_TOOL("mcopy", "-i", sup_path("disk"), sup_path("a"), "::/another.txt");
	g_autoptr(WdrVolume) v = open_fat(sup_path("disk"), &dev);
	sup_ok(wdr_volume_read_file(v, "DEEP FOLDER/Below/LONG.TXT", 1 << 20, &text, &len, &error));
	ck_assert_str_eq(text, long_text);
	g_free(text);
	sup_ok(wdr_volume_read_file(v, "another.txt", 1 << 20, &text, &len, &error));
	ck_assert_str_eq(text, "short text");
	g_free(text);
	sup_ok(wdr_volume_read_file(v, "Mixed Case Name.Text", 1 << 20, &text, &len, &error));
	ck_assert_ptr_null(text);
	WdrFatMeasure measure;
	sup_ok(wdr_fat_volume_check(v, &measure, &error));
	ck_assert_uint_eq(measure.entries, 4);
	ck_assert_uint_eq(measure.folders, 2);
	ck_assert_uint_eq(measure.file_bytes, 50010);
	WdrFatInfo info;
	sup_ok(wdr_fat_volume_info(v, &info, &error));
	g_autofree char *used = g_strdup_printf(", %u/%u clusters",
		(unsigned)(info.clusters - info.free_clusters), (unsigned)info.clusters);
	ck_assert_ptr_nonnull(strstr(SUP_TOOL("fsck.fat", "-n", sup_path("disk")), used));
}
END_TEST

/* ---- replacing ---- */

START_TEST(replaced_files)
{
	static const size_t lengths[] = { 0, 1, 511, 4096, 70000 };
	unsigned shape = (unsigned)_i;
	SupTree tree = { .seed = 5, .entries = 10, .is_fat = true };
	g_autoptr(WdrVolume) from = sup_tree(&tree);
	WdrFatSpec spec = spec_of(shape);

	wdr_memory_volume_put((WdrMemoryVolume *)from,
		wdr_memory_volume_add((WdrMemoryVolume *)from, "cmdline.txt",
			&(WdrEntry){ .kind = WDR_KIND_FILE, .mtime = { 1777876200, 0 } }),
		0, "root=/dev/mmcblk0p2", 19);
	sup_make_image(sup_path("disk"), shapes[shape].size);
	sup_build_fat(from, sup_path("disk"), 0, shapes[shape].size, &spec);
	for (size_t i = 0; i < G_N_ELEMENTS(lengths); i++) {
		g_autofree char *text = g_strnfill(lengths[i], (char)('a' + i));
		g_autoptr(WdrBlockDev) dev = NULL;
		sup_ok(wdr_blockdev_open(sup_path("disk"), WDR_OPEN_WRITE, &dev, &error));
		sup_ok(wdr_fat_replace_file(&(WdrVolumeSpan){ dev, 0, shapes[shape].size },
			"CmdLine.txt", text, lengths[i], 1777880000, &error));
		g_clear_pointer(&dev, wdr_blockdev_free);
		sup_judge_fat(sup_path("disk"));
		ck_assert_str_eq(SUP_TOOL("mtype", "-i", sup_path("disk"), "::cmdline.txt"), text);
	}
}
END_TEST

START_TEST(replacing_what_is_not_there)
{
	g_autoptr(WdrVolume) from = wdr_memory_volume_as_volume(wdr_memory_volume_new("empty"));
	WdrFatSpec spec = spec_of(1);
	g_autoptr(WdrBlockDev) dev = NULL;

	sup_make_image(sup_path("disk"), shapes[1].size);
	sup_build_fat(from, sup_path("disk"), 0, shapes[1].size, &spec);
	g_autofree char *before = g_strdup(sup_hash(sup_path("disk")));
	sup_ok(wdr_blockdev_open(sup_path("disk"), WDR_OPEN_WRITE, &dev, &error));
	sup_fails(WDR_ERROR_USAGE, "no file /nothing",
		wdr_fat_replace_file(
			&(WdrVolumeSpan){ dev, 0, shapes[1].size }, "nothing", "x", 1, 0, &error));
	ck_assert_str_eq(before, sup_hash(sup_path("disk")));
}
END_TEST

/* ---- what FAT cannot hold ---- */

static void cannot_hold(const char *path, const WdrEntry *e, const char *second, const char *text)
{
	WdrMemoryVolume *m = wdr_memory_volume_new("m");
	g_autoptr(WdrVolume) from = wdr_memory_volume_as_volume(m);
	g_autoptr(WdrBlockDev) dev = NULL;
	g_autoptr(WdrBuilder) builder = NULL;
	WdrFatSpec spec = spec_of(1);

	uint64_t id = wdr_memory_volume_add(m, path, e);
	if (second && e->links == 2)
		wdr_memory_volume_link(m, second, id);
	else if (second)
		wdr_memory_volume_add(m, second, e);
	sup_make_image(sup_path("disk"), shapes[1].size);
	sup_ok(wdr_blockdev_open(sup_path("disk"), WDR_OPEN_WRITE, &dev, &error));
	WdrBuildTarget target = { dev, 0, shapes[1].size, sup_folder(), NULL, NULL };
	sup_ok(wdr_fat_builder_new(sup_world(), &target, &spec, &builder, &error));
	WdrCopy copy = { .source = from, .builder = builder };
	sup_fails(WDR_ERROR_UNSUPPORTED, text, wdr_copy_volume(sup_world(), &copy, NULL, &error));
}

START_TEST(things_that_fat_cannot_hold)
{
	WdrEntry file = sup_entry(WDR_KIND_FILE, 0644);
	WdrEntry fifo = sup_entry(WDR_KIND_FIFO, 0644);
	WdrEntry link = sup_entry(WDR_KIND_SYMLINK, 0777);
	WdrEntry twice = sup_entry(WDR_KIND_FILE, 0644);

	link.target = (char *)"elsewhere";
	twice.links = 2;
	cannot_hold("pipe", &fifo, NULL, "a fifo");
	cannot_hold("link", &link, NULL, "a symlink");
	cannot_hold("a:b", &file, NULL, "a character is not allowed");
	cannot_hold("Name", &file, "nAME", "differs in capitals only");
	cannot_hold("one", &twice, "two", "hard link");
}
END_TEST

START_TEST(a_full_volume)
{
	WdrMemoryVolume *m = wdr_memory_volume_new("m");
	g_autoptr(WdrVolume) from = wdr_memory_volume_as_volume(m);
	g_autoptr(WdrBlockDev) dev = NULL;
	g_autoptr(WdrBuilder) builder = NULL;
	WdrEntry e = sup_entry(WDR_KIND_FILE, 0644);
	WdrFatSpec spec = spec_of(1);

	wdr_memory_volume_generate(m, wdr_memory_volume_add(m, "large", &e), 0, 65 * WDR_MIB, 1);
	sup_make_image(sup_path("disk"), shapes[1].size);
	sup_ok(wdr_blockdev_open(sup_path("disk"), WDR_OPEN_WRITE, &dev, &error));
	WdrBuildTarget target = { dev, 0, shapes[1].size, sup_folder(), NULL, NULL };
	sup_ok(wdr_fat_builder_new(sup_world(), &target, &spec, &builder, &error));
	WdrCopy copy = { .source = from, .builder = builder };
	sup_fails(WDR_ERROR_NO_SPACE, "/large: the new FAT volume is full",
		wdr_copy_volume(sup_world(), &copy, NULL, &error));
}
END_TEST

/* ---- choosing ---- */

static const struct {
	unsigned width;
	uint64_t size;
	uint32_t sector, had, want_width, want_cluster;
} likes[] = { { 32, 128 * WDR_MIB, 512, 512, 32, 512 }, { 32, 128 * WDR_MIB, 4096, 512, 32, 4096 },
	{ 16, 64 * WDR_MIB, 512, 2048, 16, 2048 }, { 16, 256 * WDR_MIB, 512, 2048, 16, 8192 },
	{ 16, 8 * WDR_GIB, 512, 2048, 32, 2048 }, { 12, 64 * WDR_MIB, 512, 2048, 12, 32768 },
	{ 12, 512 * WDR_MIB, 512, 2048, 16, 16384 } };

START_TEST(spec_like_another)
{
	WdrFatInfo info = { .width = likes[_i].width,
		.sector_bytes = 512,
		.cluster_bytes = likes[_i].had,
		.fats = 2,
		.root_entries = likes[_i].width == 32 ? 0 : 512 };
	WdrFatSpec spec;
	uint64_t capacity = 0;

	wdr_fat_spec_like(&info, likes[_i].size, likes[_i].sector, &spec);
	ck_assert_uint_eq(spec.width, likes[_i].want_width);
	ck_assert_uint_eq(spec.cluster_bytes, likes[_i].want_cluster);
	/* mkfs must agree that such a volume can be. */
	sup_ok(wdr_fat_spec_capacity(
		sup_world(), &spec, likes[_i].size, sup_folder(), &capacity, &error));
	ck_assert_uint_gt(capacity, likes[_i].size * 9 / 10);
}
END_TEST

/* ---- gone on with in the middle of a file ---- */

/* The root's names: a file of some clusters and an empty one. */
static void begin_two_files(WdrBuilder *b, const WdrEntry *file)
{
	WdrBuildNode root = { 0, 0, "" };
	WdrBuildNode first = { 1, 0, "long.bin" };
	WdrEntry folder = sup_entry(WDR_KIND_FOLDER, 0755);
	WdrChild children[] = { { "long.bin", WDR_KIND_FILE, 1, NULL },
		{ "short.txt", WDR_KIND_FILE, 2, NULL } };

	sup_ok(b->ops->add(b, &root, &folder, &error));
	sup_ok(b->ops->fill_folder(b, &root, children, G_N_ELEMENTS(children), &error));
	sup_ok(b->ops->begin_file(b, &first, file, &error));
}

static void put_bytes(WdrBuilder *b, const uint8_t *bytes, uint64_t from, uint64_t to)
{
	WdrPiece piece = { from, to - from, false };

	sup_ok(b->ops->piece(b, &piece, bytes + from, &error));
}

START_TEST(a_file_gone_on_with)
{
	enum { CUT = 64 * 1024, BYTES = 200 * 1024 + 77 };
	static const uint8_t other[BYTES];
	g_autofree uint8_t *bytes = g_malloc(BYTES);
	g_autoptr(WdrBlockDev) dev = NULL;
	g_autoptr(GVariant) checkpoint = NULL;
	WdrFatSpec spec = spec_of((unsigned)_i);
	WdrEntry file = sup_entry(WDR_KIND_FILE, 0644);
	WdrEntry empty = sup_entry(WDR_KIND_FILE, 0644);
	WdrBuildNode second = { 2, 0, "short.txt" };
	WdrBuilder *b = NULL;

	for (size_t i = 0; i < BYTES; i++)
		bytes[i] = (uint8_t)(i * 2654435761u >> 11);
	file.size = BYTES;
	sup_make_image(sup_path("disk"), shapes[_i].size);
	sup_ok(wdr_blockdev_open(sup_path("disk"), WDR_OPEN_WRITE, &dev, &error));
	WdrBuildTarget target = { dev, 0, shapes[_i].size, sup_folder(), NULL, NULL };
	sup_ok(wdr_fat_builder_new(sup_world(), &target, &spec, &b, &error));
	begin_two_files(b, &file);
	put_bytes(b, bytes, 0, CUT);
	sup_ok(b->ops->checkpoint(b, &checkpoint, &error));
	/* What comes after it does not count. */
	put_bytes(b, other, CUT, 2 * CUT);
	wdr_builder_free(b);
	sup_ok(wdr_fat_builder_resume(&target, &spec, checkpoint, &b, &error));
	put_bytes(b, bytes, CUT, BYTES);
	sup_ok(b->ops->end_file(b, &error));
	sup_ok(b->ops->add(b, &second, &empty, &error));
	sup_ok(b->ops->finish(b, &error));
	wdr_builder_free(b);
	sup_judge_fat(sup_path("disk"));
	SUP_TOOL("mcopy", "-n", "-i", sup_path("disk"), "::long.bin", sup_path("long.bin"));
	size_t len = 0;
	g_autofree char *got = sup_read(sup_path("long.bin"), &len);
	ck_assert_uint_eq(len, BYTES);
	ck_assert(memcmp(got, bytes, BYTES) == 0);
	/* Of another volume, or none at all. */
	g_autoptr(GVariant) nonsense = g_variant_ref_sink(g_variant_new_string("owl"));
	sup_fails(WDR_ERROR_FORMAT, "does not fit",
		wdr_fat_builder_resume(&target, &spec, nonsense, &b, &error));
	spec.serial++;
	sup_fails(WDR_ERROR_FORMAT, "does not fit",
		wdr_fat_builder_resume(&target, &spec, checkpoint, &b, &error));
}
END_TEST

Suite *suite_fat(void)
{
	Suite *s = suite_create("volume/fat");
	TCase *t = tcase_create("fat");

	tcase_add_checked_fixture(t, sup_setup, sup_teardown);
	tcase_add_loop_test(t, built_volumes_hold_what_was_given, 0, 15);
	tcase_add_loop_test(t, a_copy_of_a_copy_is_the_same, 0, (int)G_N_ELEMENTS(shapes));
	tcase_add_test(t, labels_are_in_both_places);
	tcase_add_test(t, kernel_names_have_plain_short_names);
	tcase_add_loop_test(t, reads_what_mtools_wrote, 0, (int)G_N_ELEMENTS(shapes));
	tcase_add_loop_test(t, replaced_files, 0, (int)G_N_ELEMENTS(shapes));
	tcase_add_test(t, replacing_what_is_not_there);
	tcase_add_test(t, things_that_fat_cannot_hold);
	tcase_add_test(t, a_full_volume);
	tcase_add_loop_test(t, a_file_gone_on_with, 0, (int)G_N_ELEMENTS(shapes));
	tcase_add_loop_test(t, spec_like_another, 0, (int)G_N_ELEMENTS(likes));
	suite_add_tcase(s, t);
	return s;
}
