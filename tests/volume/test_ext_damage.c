/* Damaged ext volumes: a clear error, never a crash or a hang. */
#include "support.h"

#include "base/io.h"
#include "base/text.h"
#include "copy/volume_copy.h"

#include <string.h>

Suite *suite_ext_damage(void);

#define SIZE (32 * WDR_MIB)

static void make(void)
{
	SupTree tree = { .seed = 3, .entries = 60 };
	g_autoptr(WdrVolume) from = sup_tree(&tree);
	g_auto(WdrExtSpec) spec = sup_ext_spec(NULL, 1024, 256);

	spec.inodes = 512;
	sup_make_image(sup_path("disk"), SIZE);
	sup_build_ext(from, sup_path("disk"), 0, SIZE, &spec);
}

/* Opens and reads everything; whatever comes of it, it must end without harm. */
static bool read_all(GError **failure)
{
	g_autoptr(WdrBlockDev) dev = NULL;
	g_autoptr(WdrVolume) v = NULL;

	sup_ok(wdr_blockdev_open(sup_path("disk"), WDR_OPEN_READ, &dev, &error));
	if (!wdr_ext_volume_open(dev, 0, SIZE, &v, failure))
		return false;
	WdrCopy copy = { .source = v };
	return wdr_copy_volume(sup_world(), &copy, NULL, failure);
}

START_TEST(flipped_superblock_bytes)
{
	unsigned refused = 0;

	make();
	for (uint64_t at = 1024 + (uint64_t)_i * 128; at < 1024 + (uint64_t)(_i + 1) * 128; at++) {
		uint8_t byte = 0;
		sup_peek(sup_path("disk"), at, &byte, 1);
		uint8_t flipped = (uint8_t)~byte;
		sup_poke(sup_path("disk"), at, &flipped, 1);
		sup_either(refused, read_all(&error));
		sup_poke(sup_path("disk"), at, &byte, 1);
	}
	/* Its checksum is over all of it; that there is one is a bit in byte 101. */
	ck_assert_uint_ge(refused, _i == 0 ? 127 : 128);
	sup_ok(read_all(&error));
}
END_TEST

/* Random bytes over the inode table and the folders: checksums see most of it. */
START_TEST(random_damage)
{
	g_autoptr(GRand) rand = g_rand_new_with_seed((guint32)_i);
	unsigned refused = 0;

	make();
	for (unsigned round = 0; round < 40; round++) {
		uint64_t at = (uint64_t)g_rand_int_range(rand, 2048, 2 * 1024 * 1024);
		uint8_t had[16];
		uint8_t put[16];
		sup_peek(sup_path("disk"), at, had, sizeof(had));
		for (size_t i = 0; i < sizeof(put); i++)
			put[i] = (uint8_t)g_rand_int(rand);
		sup_poke(sup_path("disk"), at, put, sizeof(put));
		sup_either(refused, read_all(&error));
		sup_poke(sup_path("disk"), at, had, sizeof(had));
	}
	ck_assert_uint_gt(refused, 0);
	sup_ok(read_all(&error));
}
END_TEST

/* The same without checksums, over all that the volume has in use: what checksums would have told
 * reaches the code that reads inodes, extents, maps of blocks, attributes, inline data and folders.
 */
static const char *const unguarded[] = {
	"ext_attr,dir_index,filetype,extent,sparse_super,large_file,extra_isize",
	"ext_attr,dir_index,filetype,extent,sparse_super,large_file,extra_isize,inline_data",
};

/* Where the image has anything but zeros, by blocks. */
static GArray *used_blocks(void)
{
	GArray *blocks = g_array_new(FALSE, FALSE, sizeof(uint64_t));
	size_t len = 0;
	g_autofree char *image = sup_read(sup_path("disk"), &len);

	for (uint64_t at = 2048; at + 1024 <= len; at += 1024) {
		if (!wdr_is_zero(image + at, 1024))
			g_array_append_val(blocks, at);
	}
	return blocks;
}

START_TEST(random_damage_without_checksums)
{
	enum { BYTES = 24 };
	SupTree tree = { .seed = 5, .entries = 60, .has_small_files = true };
	g_autoptr(WdrVolume) from = sup_tree(&tree);
	g_auto(WdrExtSpec) spec = sup_ext_spec(unguarded[_i % 2], 1024, 256);
	g_autoptr(GRand) rand = g_rand_new_with_seed((guint32)_i);
	unsigned refused = 0;

	spec.inodes = 128;
	sup_make_image(sup_path("disk"), SIZE);
	sup_build_ext(from, sup_path("disk"), 0, SIZE, &spec);
	g_autoptr(GArray) blocks = used_blocks();
	for (unsigned round = 0; round < 60; round++) {
		uint64_t places[BYTES];
		uint8_t had[BYTES];
		for (size_t i = 0; i < BYTES; i++) {
			gint32 block = g_rand_int_range(rand, 0, (gint32)blocks->len);
			uint8_t put = (uint8_t)g_rand_int(rand);
			places[i] = g_array_index(blocks, uint64_t, block) +
				    (uint64_t)g_rand_int_range(rand, 0, 1024);
			sup_peek(sup_path("disk"), places[i], &had[i], 1);
			sup_poke(sup_path("disk"), places[i], &put, 1);
		}
		sup_either(refused, read_all(&error));
		for (size_t i = BYTES; i > 0; i--)
			sup_poke(sup_path("disk"), places[i - 1], &had[i - 1], 1);
	}
	sup_ok(read_all(&error));
	/* Where none is found, nothing that matters was hit. */
	ck_assert_uint_gt(refused, 3);
}
END_TEST

/* An attribute that claims to be a file's inline data, and fills the block that it lies in. */
START_TEST(inline_data_larger_than_a_block)
{
	enum { INDEX_AT = 1, NAME_AT = 16, USER = 1, SYSTEM = 7 };
	g_autofree char *value = g_strnfill(4000, 'A');
	g_autofree char *write = g_strdup_printf("write %s small", sup_path("small"));
	g_autofree char *set = g_strdup_printf("ea_set -f %s small user.data", sup_path("value"));
	g_autofree char *image = NULL;
	size_t len = 0;
	unsigned found = 0, refused = 0;

	sup_make_image(sup_path("disk"), SIZE);
	SUP_TOOL("mkfs.ext4", "-q", "-F", "-b", "4096", "-O", "inline_data,^metadata_csum",
		sup_path("disk"));
	sup_write(sup_path("small"), "a small text");
	sup_write(sup_path("value"), value);
	SUP_TOOL("debugfs", "-w", "-R", write, sup_path("disk"));
	SUP_TOOL("debugfs", "-w", "-R", set, sup_path("disk"));
	/* The inode's own entry becomes the user's, the one in the block the system's. */
	image = sup_read(sup_path("disk"), &len);
	for (size_t at = NAME_AT; at + 4 < len; at++) {
		const uint8_t *entry = (const uint8_t *)image + at - NAME_AT;
		bool is_entry = memcmp(image + at, "data", 4) == 0 && entry[0] == 4 &&
				(entry[INDEX_AT] == USER || entry[INDEX_AT] == SYSTEM);
		uint8_t other = entry[INDEX_AT] == USER ? SYSTEM : USER;
		if (!is_entry)
			continue;
		sup_poke(sup_path("disk"), at - NAME_AT + INDEX_AT, &other, 1);
		found++;
	}
	ck_assert_uint_eq(found, 2);
	sup_either(refused, read_all(&error));
	SUP_TOOL("debugfs", "-w", "-R", "set_inode_field small mode 0120777", sup_path("disk"));
	sup_either(refused, read_all(&error));
}
END_TEST

/* A run of mapped blocks that grows past the end of the volume, into what lies behind it. */
START_TEST(mapped_blocks_past_the_end)
{
	static const char last[] = "set_inode_field /mapped block[%u] %u";
	g_autofree char *text = g_strnfill(3 * 4096, 'm');
	g_autofree char *write = g_strdup_printf("write %s mapped", sup_path("text"));

	sup_make_image(sup_path("disk"), SIZE);
	SUP_TOOL("mkfs.ext4", "-q", "-F", "-b", "4096", "-O", "^extent,^64bit,^metadata_csum",
		sup_path("disk"));
	sup_write(sup_path("text"), text);
	SUP_TOOL("debugfs", "-w", "-R", write, sup_path("disk"));
	for (unsigned i = 0; i < 3; i++) {
		g_autofree char *set = g_strdup_printf(last, i, (unsigned)(SIZE / 4096) - 1 + i);
		SUP_TOOL("debugfs", "-w", "-R", set, sup_path("disk"));
	}
	sup_fails(WDR_ERROR_FORMAT, "outside of the volume", read_all(&error));
}
END_TEST

START_TEST(an_inode_that_lies)
{
	make();
	/* The checksum is put right by debugfs, so that only the field is wrong. */
	SUP_TOOL("debugfs", "-w", "-R", "set_inode_field <12> links_count 0", sup_path("disk"));
	sup_fails(WDR_ERROR_FORMAT, "it is not in use", read_all(&error));
}
END_TEST

/* debugfs gives a folder a second name, inside of itself. */
START_TEST(a_folder_that_leads_back)
{
	static const char *const requests[] = { "mkdir nest", "mkdir nest/box",
		"link nest nest/box/again" };

	sup_make_image(sup_path("disk"), SIZE);
	SUP_TOOL("mkfs.ext4", "-q", "-F", sup_path("disk"));
	for (size_t i = 0; i < G_N_ELEMENTS(requests); i++)
		SUP_TOOL("debugfs", "-w", "-R", requests[i], sup_path("disk"));
	sup_fails(WDR_ERROR_FORMAT, "nest/box/again leads back to a folder above it",
		read_all(&error));
}
END_TEST

START_TEST(a_name_that_leads_nowhere)
{
	WdrMemoryVolume *m = wdr_memory_volume_new("m");
	g_autoptr(WdrVolume) from = wdr_memory_volume_as_volume(m);
	g_auto(WdrExtSpec) spec =
		sup_ext_spec("ext_attr,filetype,extent,sparse_super,large_file", 4096, 256);
	WdrEntry e = sup_entry(WDR_KIND_FILE, 0644);
	const uint8_t ino[4] = { 0xff, 0xff, 0, 0 };

	wdr_memory_volume_add(m, "file", &e);
	sup_make_image(sup_path("disk"), SIZE);
	sup_build_ext(from, sup_path("disk"), 0, SIZE, &spec);
	/* The entry's number stands 8 bytes before its name. */
	size_t len = 0;
	g_autofree char *image = sup_read(sup_path("disk"), &len);
	const char *name = memmem(image, len, "\4\1file", 6);
	ck_assert_ptr_nonnull(name);
	sup_poke(sup_path("disk"), (uint64_t)(name - image) - 6, ino, sizeof(ino));
	sup_fails(WDR_ERROR_FORMAT, "a name leads to this number", read_all(&error));
}
END_TEST

START_TEST(a_volume_larger_than_its_partition)
{
	g_autoptr(WdrBlockDev) dev = NULL;
	WdrVolume *v = NULL;

	make();
	sup_ok(wdr_blockdev_open(sup_path("disk"), WDR_OPEN_READ, &dev, &error));
	sup_fails(WDR_ERROR_FORMAT, "its partition has",
		wdr_ext_volume_open(dev, 0, SIZE - 1024 * 1024, &v, &error));
	sup_fails(WDR_ERROR_FORMAT, "past the end of the disk",
		wdr_ext_volume_open(dev, 1024, SIZE, &v, &error));
	sup_fails(WDR_ERROR_FORMAT, "opening the ext volume",
		wdr_ext_volume_open(dev, SIZE / 2, SIZE / 2, &v, &error));
}
END_TEST

START_TEST(truncated_images)
{
	make();
	for (uint64_t size = 0; size < 8192; size += 511) {
		g_autoptr(WdrBlockDev) dev = NULL;
		WdrVolume *v = NULL;
		g_autofree char *bytes = g_strdup_printf("%u", (unsigned)size);
		SUP_TOOL("cp", sup_path("disk"), sup_path("short"));
		SUP_TOOL("truncate", "-s", bytes, sup_path("short"));
		sup_ok(wdr_blockdev_open(sup_path("short"), WDR_OPEN_READ, &dev, &error));
		ck_assert(!wdr_ext_volume_open(dev, 0, size, &v, NULL));
	}
}
END_TEST

Suite *suite_ext_damage(void)
{
	Suite *s = suite_create("volume/ext_damage");
	TCase *t = tcase_create("damage");

	tcase_add_checked_fixture(t, sup_setup, sup_teardown);
	tcase_add_loop_test(t, flipped_superblock_bytes, 0, 5);
	tcase_add_loop_test(t, random_damage, 0, 3);
	tcase_add_loop_test(t, random_damage_without_checksums, 0, 8);
	tcase_add_test(t, inline_data_larger_than_a_block);
	tcase_add_test(t, mapped_blocks_past_the_end);
	tcase_add_test(t, an_inode_that_lies);
	tcase_add_test(t, a_folder_that_leads_back);
	tcase_add_test(t, a_name_that_leads_nowhere);
	tcase_add_test(t, a_volume_larger_than_its_partition);
	tcase_add_test(t, truncated_images);
	suite_add_tcase(s, t);
	return s;
}
