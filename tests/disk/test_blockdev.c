#include "support.h"

#include "base/io.h"
#include "base/text.h"
#include "disk/stream.h"
#include "disk/true_size.h"

#include <errno.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <unistd.h>

Suite *suite_blockdev(void);

enum { SIZE = 8 * 1024 * 1024 };

/* ---- bounds ---- */

static const struct {
	uint64_t offset, len;
	bool is_fine;
} ranges[] = { { 0, 0, true }, { 0, 1000, true }, { 999, 1, true }, { 1000, 0, true },
	{ 1000, 1, false }, { 0, 1001, false }, { UINT64_MAX, 1, false }, { 1, UINT64_MAX, false },
	{ UINT64_MAX, 2, false } };

START_TEST(bounds)
{
	g_autoptr(WdrBlockDev) dev = wdr_blockdev_new_memory("m", 1000);
	uint8_t buf[1001] = { 0 };
	size_t len = (size_t)ranges[_i].len;

	if (ranges[_i].is_fine) {
		sup_ok(wdr_blockdev_read(dev, buf, len, ranges[_i].offset, &error));
		sup_ok(wdr_blockdev_write(dev, buf, len, ranges[_i].offset, &error));
	} else {
		sup_fails(WDR_ERROR_FORMAT, "past its end",
			wdr_blockdev_read(dev, buf, len, ranges[_i].offset, &error));
		sup_fails(WDR_ERROR_FORMAT, "past its end",
			wdr_blockdev_write(dev, buf, len, ranges[_i].offset, &error));
		sup_fails(WDR_ERROR_FORMAT, "past its end",
			wdr_blockdev_zero(dev, ranges[_i].offset, ranges[_i].len, &error));
	}
}
END_TEST

/* ---- images, written in all alignments, against plain memory ---- */

/* The block that comes back is another, and must be ours to use. */
static void give(WdrStream *stream, const uint8_t *data, size_t len, uint64_t offset)
{
	uint8_t *block = wdr_buffer_new();

	memcpy(block, data, len);
	sup_ok(wdr_stream_give(stream, &block, len, offset, &error));
	memset(block, 0xee, WDR_BUFFER_BYTES);
	wdr_buffer_free(block);
}

static void random_writes(uint64_t seed, bool by_stream)
{
	g_autoptr(WdrBlockDev) dev = NULL;
	g_autoptr(WdrStream) stream = NULL;
	g_autofree uint8_t *model = g_malloc0(SIZE);
	g_autofree uint8_t *data = g_malloc(SIZE);
	g_autoptr(GRand) rand = g_rand_new_with_seed((guint32)seed);
	uint64_t at = 0;

	sup_make_image(sup_path("disk"), SIZE);
	sup_ok(wdr_blockdev_open(sup_path("disk"), WDR_OPEN_WRITE, &dev, &error));
	stream = wdr_stream_new(dev, NULL, NULL);
	for (unsigned i = 0; i < 60; i++) {
		size_t len = (size_t)g_rand_int_range(rand, 1, i % 3 ? 5000 : 700000);
		uint64_t offset =
			by_stream ? at + (i % 4 ? 0 : (uint64_t)g_rand_int_range(rand, 0, 9000))
				  : (uint64_t)g_rand_int_range(rand, 0, SIZE);
		/* As builders have it: whole blocks behind whole blocks. */
		if (by_stream && seed % 2) {
			offset = wdr_round_up(offset, 4096);
			len = i % 3 ? len : (size_t)wdr_round_up(len, 4096);
		}
		if (offset >= SIZE)
			break;
		len = MIN(len, SIZE - (size_t)offset);
		for (size_t k = 0; k < len; k++)
			data[k] = (uint8_t)g_rand_int(rand);
		memcpy(model + offset, data, len);
		if (by_stream && len <= WDR_BUFFER_BYTES && i % 2)
			give(stream, data, len, offset);
		else if (by_stream)
			sup_ok(wdr_stream_write(stream, data, len, offset, &error));
		else
			sup_ok(wdr_blockdev_write(dev, data, len, offset, &error));
		at = offset + len;
	}
	sup_ok(wdr_stream_drain(stream, &error));
	sup_ok(wdr_blockdev_flush(dev, &error));
	sup_peek(sup_path("disk"), 0, data, SIZE);
	ck_assert_msg(memcmp(data, model, SIZE) == 0, "seed %u", (unsigned)seed);
}

START_TEST(writes_in_all_alignments)
{
	random_writes((uint64_t)_i, false);
}
END_TEST

START_TEST(streams_in_all_alignments)
{
	random_writes((uint64_t)_i, true);
}
END_TEST

START_TEST(reads_from_the_medium)
{
	g_autoptr(WdrBlockDev) dev = NULL;
	uint8_t want[9000];
	uint8_t got[9000];

	sup_make_image(sup_path("disk"), SIZE - 100); /* an end that no sector has */
	for (size_t i = 0; i < sizeof(want); i++)
		want[i] = (uint8_t)(i * 7);
	sup_poke(sup_path("disk"), 4099, want, sizeof(want));
	sup_poke(sup_path("disk"), SIZE - 200, want, 100);
	sup_ok(wdr_blockdev_open(sup_path("disk"), WDR_OPEN_MEDIUM, &dev, &error));
	sup_ok(wdr_blockdev_read(dev, got, sizeof(got), 4099, &error));
	ck_assert_mem_eq(got, want, sizeof(want));
	sup_ok(wdr_blockdev_read(dev, got, 100, SIZE - 200, &error));
	ck_assert_mem_eq(got, want, 100);
}
END_TEST

START_TEST(zeroing)
{
	g_autoptr(WdrBlockDev) dev = NULL;
	uint8_t ones[100];
	uint8_t got[300];

	memset(ones, 0xff, sizeof(ones));
	sup_make_image(sup_path("disk"), SIZE);
	for (uint64_t at = 0; at < 300; at += 100)
		sup_poke(sup_path("disk"), at, ones, 100);
	sup_ok(wdr_blockdev_open(sup_path("disk"), WDR_OPEN_WRITE, &dev, &error));
	sup_ok(wdr_blockdev_zero(dev, 50, 200, &error));
	sup_peek(sup_path("disk"), 0, got, sizeof(got));
	for (size_t i = 0; i < sizeof(got); i++)
		ck_assert_uint_eq(got[i], i < 50 || i >= 250 ? 0xff : 0);
}
END_TEST

START_TEST(one_writer_at_a_time)
{
	g_autoptr(WdrBlockDev) first = NULL;
	g_autoptr(WdrBlockDev) reader = NULL;
	WdrBlockDev *second = NULL;

	sup_make_image(sup_path("disk"), SIZE);
	sup_ok(wdr_blockdev_open(sup_path("disk"), WDR_OPEN_WRITE, &first, &error));
	sup_fails(WDR_ERROR_REFUSED, "in use",
		wdr_blockdev_open(sup_path("disk"), WDR_OPEN_WRITE, &second, &error));
	sup_ok(wdr_blockdev_open(sup_path("disk"), WDR_OPEN_READ, &reader, &error));
}
END_TEST

START_TEST(odd_things_are_no_disks)
{
	WdrBlockDev *dev = NULL;

	ck_assert_int_eq(mkfifo(sup_path("fifo"), 0600), 0);
	sup_fails(WDR_ERROR_USAGE, "neither a disk nor an image",
		wdr_blockdev_open(sup_path("fifo"), WDR_OPEN_READ, &dev, &error));
	sup_fails(WDR_ERROR_USAGE, "neither a disk nor an image",
		wdr_blockdev_open("/dev/null", WDR_OPEN_READ, &dev, &error));
	sup_fails(WDR_ERROR_IO, "No such file",
		wdr_blockdev_open(sup_path("none"), WDR_OPEN_READ, &dev, &error));
}
END_TEST

/* ---- held ---- */

START_TEST(held_head_reaches_the_disk_last)
{
	g_autoptr(WdrBlockDev) base = wdr_blockdev_new_memory("m", 10000);
	g_autoptr(WdrBlockDev) part = wdr_blockdev_new_held(base, 1000, 8000, 600);
	uint8_t data[2000];
	uint8_t got[2000];

	memset(data, 'd', sizeof(data));
	sup_ok(wdr_blockdev_write(part, data, 2000, 100, &error));
	sup_ok(wdr_blockdev_read(part, got, 2000, 100, &error));
	ck_assert_mem_eq(got, data, 2000);
	sup_ok(wdr_blockdev_read(base, got, 2000, 1000, &error));
	for (size_t i = 0; i < 2000; i++)
		ck_assert_int_eq(got[i], i < 600 ? 0 : 'd');
	sup_fails(WDR_ERROR_FORMAT, "past its end", wdr_blockdev_read(part, got, 1, 8000, &error));
	sup_ok(wdr_blockdev_zero(part, 550, 100, &error));
	sup_ok(wdr_blockdev_release(part, &error));
	sup_ok(wdr_blockdev_read(base, got, 2000, 1000, &error));
	for (size_t i = 0; i < 2000; i++)
		ck_assert_int_eq(got[i], i < 100 || (i >= 550 && i < 650) ? 0 : 'd');
	sup_ok(wdr_blockdev_write(part, "x", 1, 0, &error));
	sup_ok(wdr_blockdev_read(base, got, 1, 1000, &error));
	ck_assert_int_eq(got[0], 'x');
}
END_TEST

/* ---- failures of the medium ---- */

static bool failing_write(void *self, const void *buf, size_t len, uint64_t offset, GError **error)
{
	unsigned *left = self;

	(void)buf;
	(void)len;
	if (*left > 0) {
		(*left)--;
		return true;
	}
	return wdr_error_set_errno(error, EIO, "writing at byte %u", (unsigned)offset);
}

static bool failing_flush(void *self, GError **error)
{
	(void)self;
	(void)error;
	return true;
}

START_TEST(a_stream_tells_of_failures)
{
	static const WdrBlockOps ops = {
		.write = failing_write, .flush = failing_flush, .free = g_free
	};
	unsigned *left = g_new(unsigned, 1);
	*left = 2;
	g_autoptr(WdrBlockDev) dev = wdr_blockdev_new("bad disk", 1 << 20, 512, &ops, left);
	g_autoptr(WdrStream) stream = wdr_stream_new(dev, NULL, NULL);
	g_autofree uint8_t *data = g_malloc0(10000);
	g_autoptr(GError) first = NULL;
	bool is_fine = true;

	for (unsigned i = 0; i < 20 && is_fine; i++)
		is_fine = wdr_stream_write(stream, data, 10000, i * UINT64_C(20000), &first);
	if (is_fine)
		is_fine = wdr_stream_drain(stream, &first);
	ck_assert(!is_fine);
	ck_assert_ptr_nonnull(strstr(first->message, "bad disk: writing at byte"));
	sup_fails(WDR_ERROR_IO, "bad disk", wdr_stream_drain(stream, &error));
}
END_TEST

START_TEST(discarded_room_is_given_back)
{
	g_autoptr(WdrBlockDev) dev = NULL;
	g_autofree uint8_t *data = g_malloc(1024 * 1024);
	struct stat st;

	memset(data, 'x', 1024 * 1024);
	sup_make_image(sup_path("disk"), 4 * 1024 * 1024);
	sup_ok(wdr_blockdev_open(sup_path("disk"), WDR_OPEN_WRITE, &dev, &error));
	sup_ok(wdr_blockdev_write(dev, data, 1024 * 1024, 1024 * 1024, &error));
	sup_ok(wdr_blockdev_flush(dev, &error));
	if (wdr_blockdev_discard(dev, 0, 4 * 1024 * 1024)) {
		sup_ok(wdr_blockdev_flush(dev, &error));
		ck_assert_int_eq(stat(sup_path("disk"), &st), 0);
		ck_assert_int_lt(st.st_blocks, 8);
	}
	ck_assert(!wdr_blockdev_discard(dev, 0, 4 * 1024 * 1024 + 1));
	ck_assert(!wdr_blockdev_is_past_cache(dev));
	g_autoptr(WdrBlockDev) memory = wdr_blockdev_new_memory("memory", 4096);
	ck_assert(!wdr_blockdev_discard(memory, 0, 4096));
}
END_TEST

/* Disks of any size are as large as they say, and nothing stays on them; those that are not are in
 * cli/damage. */
static const size_t honest[] = { 512, 4096, 8192, 1536 * 1024, 1536 * 1024 + 4096,
	1536 * 1024 + 4608, SIZE, SIZE + 512 };

START_TEST(the_true_size)
{
	g_autoptr(WdrBlockDev) dev = wdr_blockdev_new_memory("m", honest[_i]);
	g_autofree uint8_t *all = g_malloc(honest[_i]);

	sup_ok(wdr_truesize_prove(dev, dev, &error));
	sup_ok(wdr_blockdev_read(dev, all, honest[_i], 0, &error));
	ck_assert(wdr_is_zero(all, (size_t)honest[_i]));
}
END_TEST

Suite *suite_blockdev(void)
{
	Suite *s = suite_create("disk/blockdev");
	TCase *t = tcase_create("blockdev");

	tcase_add_checked_fixture(t, sup_setup, sup_teardown);
	tcase_add_loop_test(t, bounds, 0, (int)G_N_ELEMENTS(ranges));
	tcase_add_loop_test(t, writes_in_all_alignments, 0, 4);
	tcase_add_loop_test(t, streams_in_all_alignments, 0, 8);
	tcase_add_test(t, reads_from_the_medium);
	tcase_add_test(t, zeroing);
	tcase_add_test(t, one_writer_at_a_time);
	tcase_add_test(t, odd_things_are_no_disks);
	tcase_add_test(t, held_head_reaches_the_disk_last);
	tcase_add_test(t, a_stream_tells_of_failures);
	tcase_add_test(t, discarded_room_is_given_back);
	tcase_add_loop_test(t, the_true_size, 0, (int)G_N_ELEMENTS(honest));
	suite_add_tcase(s, t);
	return s;
}
