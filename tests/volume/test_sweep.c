#include "support.h"

#include "base/text.h"
#include "volume/sweep.h"

#include <errno.h>
#include <string.h>

Suite *suite_sweep(void);

#define SIZE (8 * WDR_MIB)

/* A disk that counts requests, whose bytes tell their place, and which fails in one place. */
typedef struct {
	unsigned reads;
	uint8_t salt;
	uint64_t bad; /* 0: nowhere */
} Counting;

static uint8_t byte_at(const Counting *c, uint64_t at)
{
	return (uint8_t)(at / 512 * 7 + c->salt);
}

static bool counting_read(void *self, void *buf, size_t len, uint64_t offset, GError **error)
{
	Counting *c = self;

	c->reads++;
	for (size_t i = 0; i < len; i++)
		((uint8_t *)buf)[i] = byte_at(c, offset + i);
	return c->bad == 0 || c->bad < offset || c->bad >= offset + len ||
	       wdr_error_set_errno(error, EIO, "reading");
}

static void nothing(void *self)
{
	(void)self;
}

static WdrBlockDev *counting_disk(Counting *c)
{
	static const WdrBlockOps ops = { .read = counting_read, .free = nothing };

	return wdr_blockdev_new("counting", SIZE, 512, &ops, c);
}

static void expect_right(Counting *c, WdrSweep *s, uint64_t at, size_t len, uint64_t since)
{
	g_autofree uint8_t *buf = g_malloc(len);

	sup_ok(wdr_sweep_read(s, buf, len, at, since, &error));
	for (size_t i = 0; i < len; i++)
		ck_assert_uint_eq(buf[i], byte_at(c, at + i));
}

START_TEST(neighbours_come_with_one_request)
{
	Counting c = { 0 };
	g_autoptr(WdrBlockDev) dev = counting_disk(&c);
	g_autoptr(WdrSweep) s = wdr_sweep_new(dev);

	/* 100 files of 4 KiB, 4 KiB apart: 800 KiB, in requests of at most 256 KiB. */
	for (uint64_t i = 0; i < 100; i++)
		wdr_sweep_expect(s, WDR_MIB + i * 8192, 4096);
	for (uint64_t i = 0; i < 100; i++) {
		expect_right(&c, s, WDR_MIB + i * 8192, 4096, 0);
		wdr_sweep_forget(s, WDR_MIB + i * 8192, 4096);
	}
	ck_assert_uint_le(c.reads, 4);
}
END_TEST

START_TEST(gaps_are_not_read)
{
	Counting c = { 0 };
	g_autoptr(WdrBlockDev) dev = counting_disk(&c);
	g_autoptr(WdrSweep) s = wdr_sweep_new(dev);

	wdr_sweep_expect(s, 4096, 4096);
	wdr_sweep_expect(s, WDR_MIB, 4096);
	expect_right(&c, s, 4096, 4096, 0);
	expect_right(&c, s, WDR_MIB, 4096, 0);
	ck_assert_uint_eq(c.reads, 2);
	/* What was not told of, ragged ends, the end of the disk, more than a request holds. */
	expect_right(&c, s, 3 * WDR_MIB + 5, 77, 0);
	expect_right(&c, s, SIZE - 100, 100, 0);
	expect_right(&c, s, 2 * WDR_MIB + 512, 600 * 1024, 0);
}
END_TEST

/* What was read before a moment may have been something else. */
START_TEST(older_reads_do_not_count)
{
	Counting c = { 0 };
	g_autoptr(WdrBlockDev) dev = counting_disk(&c);
	g_autoptr(WdrSweep) s = wdr_sweep_new(dev);

	wdr_sweep_expect(s, 0, 4096);
	wdr_sweep_expect(s, 4096, 4096);
	expect_right(&c, s, 0, 4096, 0);
	c.salt = 99;
	uint64_t moment = wdr_sweep_moment(s);
	expect_right(&c, s, 4096, 4096, moment);
	ck_assert_uint_eq(c.reads, 2);
}
END_TEST

START_TEST(a_bad_place_hurts_itself_alone)
{
	Counting c = { .bad = 8192 };
	g_autoptr(WdrBlockDev) dev = counting_disk(&c);
	g_autoptr(WdrSweep) s = wdr_sweep_new(dev);
	uint8_t buf[4096];

	for (uint64_t at = 0; at < 4 * 4096; at += 4096)
		wdr_sweep_expect(s, at, 4096);
	for (uint64_t at = 0; at < 4 * 4096; at += 4096) {
		if (at != 8192)
			expect_right(&c, s, at, 4096, 0);
	}
	sup_fails(WDR_ERROR_IO, "reading", wdr_sweep_read(s, buf, 4096, 8192, 0, &error));
}
END_TEST

Suite *suite_sweep(void)
{
	Suite *s = suite_create("volume/sweep");
	TCase *t = tcase_create("sweep");

	tcase_add_checked_fixture(t, sup_setup, sup_teardown);
	tcase_add_test(t, neighbours_come_with_one_request);
	tcase_add_test(t, gaps_are_not_read);
	tcase_add_test(t, older_reads_do_not_count);
	tcase_add_test(t, a_bad_place_hurts_itself_alone);
	suite_add_tcase(s, t);
	return s;
}
