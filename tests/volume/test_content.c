/* Contents read from a place within them: what comes is the rest of what a reading from the start
 * gives, on every back end. */
#include "support.h"

#include "base/cleanup.h"
#include "base/io.h"
#include "base/text.h"
#include "volume/tree/tree.h"

#include <fcntl.h>
#include <string.h>
#include <unistd.h>

Suite *suite_content(void);

enum { SIZE = 3 * 1024 * 1024 + 777, IMAGE = 32 * 1024 * 1024 };
#define FILE_NAME "calls"

static const size_t places[] = { 1, 4095, 4096, 100000, 1 << 20, (1 << 20) + 5, 2 << 20,
	(2 << 20) + 4096, SIZE - 778, SIZE - 1 };

/* Data, a hole, data, preallocated room, and a tail. */
static void make_file(const char *path)
{
	g_auto(WdrFd) fd = open(path, O_RDWR | O_CREAT | O_CLOEXEC, 0644);
	g_autofree uint8_t *data = g_malloc(1 << 20);

	for (size_t i = 0; i < 1 << 20; i++)
		data[i] = (uint8_t)(i * 2654435761u >> 11 | 1);
	ck_assert_int_eq(ftruncate(fd, SIZE), 0);
	sup_ok(wdr_pwrite_all(fd, data, 300000, 0, &error));
	sup_ok(wdr_pwrite_all(fd, data, 200000, 1 << 20, &error));
	sup_ok(wdr_pwrite_all(fd, data, 777, SIZE - 777, &error));
	/* Not every file system can, and the rest of the test does without. */
	(void)!fallocate(fd, FALLOC_FL_KEEP_SIZE, 2 << 20, 500000);
}

static WdrVolume *tree(void)
{
	WdrVolume *v = NULL;

	sup_ok(wdr_tree_volume_open(sup_path("t"), &v, &error));
	return v;
}

static WdrBlockDev *image; /* of the volume in it */

static WdrVolume *ext(void)
{
	g_autoptr(WdrVolume) from = tree();
	g_auto(WdrExtSpec) spec = sup_ext_spec(NULL, 4096, 256);
	WdrVolume *v = NULL;

	sup_make_image(sup_path("ext"), IMAGE);
	sup_build_ext(from, sup_path("ext"), 0, IMAGE, &spec);
	sup_ok(wdr_blockdev_open(sup_path("ext"), WDR_OPEN_READ, &image, &error));
	sup_ok(wdr_ext_volume_open(image, 0, IMAGE, &v, &error));
	return v;
}

static WdrVolume *fat(void)
{
	g_autoptr(WdrVolume) from = tree();
	WdrVolume *v = NULL;
	WdrFatSpec spec;

	wdr_fat_spec_default(IMAGE, 16, &spec);
	sup_make_image(sup_path("fat"), IMAGE);
	sup_build_fat(from, sup_path("fat"), 0, IMAGE, &spec);
	sup_ok(wdr_blockdev_open(sup_path("fat"), WDR_OPEN_READ, &image, &error));
	sup_ok(wdr_fat_volume_open(image, 0, IMAGE, &v, &error));
	return v;
}

static WdrVolume *(*const back_ends[])(void) = { tree, ext, fat };

/* Everything from a place on, holes as zeros. */
static void read_from(WdrVolume *v, uint64_t from, uint8_t *ret)
{
	g_auto(WdrEntry) entry = { 0 };
	g_autoptr(WdrContent) content = NULL;
	g_autofree uint8_t *buf = g_malloc(65536);
	uint64_t id = 0;
	uint64_t pos = from;
	bool found = false;

	sup_ok(wdr_volume_lookup(v, FILE_NAME, &found, &id, &entry, &error));
	WdrNode node = { id, FILE_NAME };
	sup_ok(wdr_volume_open(v, &node, &entry, &content, &error));
	memset(ret, 0, SIZE);
	for (bool is_first = true;; is_first = false) {
		WdrPiece piece;
		sup_ok(is_first && from
				? wdr_content_next_from(content, buf, 65536, from, &piece, &error)
				: wdr_content_next(content, buf, 65536, &piece, &error));
		if (piece.len == 0)
			return;
		ck_assert_uint_ge(piece.offset, pos);
		ck_assert_uint_le(piece.offset + piece.len, SIZE);
		pos = piece.offset + piece.len;
		if (!piece.is_unwritten)
			memcpy(ret + piece.offset, buf, (size_t)piece.len);
	}
}

START_TEST(the_rest_is_the_same)
{
	g_autofree uint8_t *whole = g_malloc(SIZE);
	g_autofree uint8_t *rest = g_malloc(SIZE);

	sup_ok(wdr_make_folder(sup_path("t"), &error));
	make_file(sup_path("t/" FILE_NAME));
	g_autoptr(WdrVolume) v = back_ends[_i]();
	read_from(v, 0, whole);
	ck_assert_uint_ne(whole[SIZE - 1], 0);
	for (size_t i = 0; i < G_N_ELEMENTS(places); i++) {
		read_from(v, places[i], rest);
		ck_assert(wdr_is_zero(rest, places[i]));
		ck_assert_int_eq(memcmp(rest + places[i], whole + places[i], SIZE - places[i]), 0);
	}
	g_clear_pointer(&v, wdr_volume_free);
	g_clear_pointer(&image, wdr_blockdev_free);
}
END_TEST

START_TEST(a_hole_has_no_pieces)
{
	g_autoptr(WdrContent) hole = wdr_content_hole(5000);
	char buf[16];
	WdrPiece piece = { .len = 1 };

	sup_ok(wdr_content_next_from(hole, buf, sizeof(buf), 4096, &piece, &error));
	ck_assert_uint_eq(piece.len, 0);
	ck_assert_uint_eq(piece.offset, 5000);
}
END_TEST

Suite *suite_content(void)
{
	Suite *s = suite_create("volume/content");
	TCase *tc = tcase_create("content");

	tcase_add_checked_fixture(tc, sup_setup, sup_teardown);
	tcase_add_loop_test(tc, the_rest_is_the_same, 0, G_N_ELEMENTS(back_ends));
	tcase_add_test(tc, a_hole_has_no_pieces);
	suite_add_tcase(s, tc);
	return s;
}
