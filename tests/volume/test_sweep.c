#include "support.h"

#include "base/text.h"
#include "volume/sweep.h"

#include <errno.h>
#include <string.h>

Suite *suite_sweep(void);

#define SIZE (32 * WDR_MIB)

/* A disk that counts requests, whose bytes tell their place, and which fails in one place. */
typedef struct {
	unsigned reads;
	uint64_t bytes;
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
	c->bytes += len;
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

static WdrSweepGroup *tell(WdrSweep *s, uint64_t at)
{
	const WdrSweptRun run = { at, 4096 };

	return wdr_sweep_expect(s, &run, 1);
}

static void expect_right(
	Counting *c, WdrSweep *s, WdrSweepGroup *group, uint64_t at, size_t len, uint64_t since)
{
	g_autofree uint8_t *buf = g_malloc(len);

	sup_ok(wdr_sweep_read(s, group, buf, (WdrSweptRun){ at, len }, since, &error));
	for (size_t i = 0; i < len; i++)
		ck_assert_uint_eq(buf[i], byte_at(c, at + i));
}

START_TEST(neighbours_come_with_one_request)
{
	Counting c = { 0 };
	g_autoptr(WdrBlockDev) dev = counting_disk(&c);
	g_autoptr(WdrSweep) s = wdr_sweep_new(dev);
	WdrSweepGroup *groups[100];

	/* 100 files of 4 KiB, 4 KiB apart, told backwards: 800 KiB, in requests of at most 256 KiB.
	 */
	for (uint64_t i = 100; i > 0; i--)
		groups[i - 1] = tell(s, WDR_MIB + (i - 1) * 8192);
	for (uint64_t i = 0; i < 100; i++) {
		expect_right(&c, s, groups[i], WDR_MIB + i * 8192, 4096, 0);
		wdr_sweep_forget(s, groups[i]);
	}
	ck_assert_uint_le(c.reads, 4);
}
END_TEST

/* More than one group holds, told while others are read. */
START_TEST(while_more_are_told)
{
	enum { FILES = 5000, AHEAD = 1000 };
	Counting c = { 0 };
	g_autoptr(WdrBlockDev) dev = counting_disk(&c);
	g_autoptr(WdrSweep) s = wdr_sweep_new(dev);
	g_autofree WdrSweepGroup **groups = g_new(WdrSweepGroup *, FILES);

	for (uint64_t i = 0; i < FILES + AHEAD; i++) {
		if (i < FILES)
			groups[i] = tell(s, i * 4096);
		if (i < AHEAD)
			continue;
		expect_right(&c, s, groups[i - AHEAD], (i - AHEAD) * 4096, 4096, 0);
		wdr_sweep_forget(s, groups[i - AHEAD]);
	}
	/* 79 requests have room for it; where a group ends, one does, too. */
	ck_assert_uint_le(c.reads, 79 + 20);
}
END_TEST

START_TEST(gaps_are_not_read)
{
	Counting c = { 0 };
	g_autoptr(WdrBlockDev) dev = counting_disk(&c);
	g_autoptr(WdrSweep) s = wdr_sweep_new(dev);
	WdrSweepGroup *near = tell(s, 4096);
	WdrSweepGroup *far = tell(s, WDR_MIB);

	expect_right(&c, s, near, 4096, 4096, 0);
	expect_right(&c, s, far, WDR_MIB, 4096, 0);
	ck_assert_uint_eq(c.reads, 2);
	/* What was not told of, ragged ends, the end of the disk, more than a request holds. */
	expect_right(&c, s, far, 3 * WDR_MIB + 5, 77, 0);
	expect_right(&c, s, NULL, SIZE - 100, 100, 0);
	expect_right(&c, s, NULL, 2 * WDR_MIB + 512, 600 * 1024, 0);
	wdr_sweep_forget(s, near);
	wdr_sweep_forget(s, far);
}
END_TEST

/* What was read before a moment may have been something else. */
START_TEST(older_reads_do_not_count)
{
	Counting c = { 0 };
	g_autoptr(WdrBlockDev) dev = counting_disk(&c);
	g_autoptr(WdrSweep) s = wdr_sweep_new(dev);
	WdrSweepGroup *first = tell(s, 0);
	WdrSweepGroup *second = tell(s, 4096);

	expect_right(&c, s, first, 0, 4096, 0);
	c.salt = 99;
	uint64_t moment = wdr_sweep_moment(s);
	expect_right(&c, s, second, 4096, 4096, moment);
	ck_assert_uint_eq(c.reads, 2);
	wdr_sweep_forget(s, first);
	wdr_sweep_forget(s, second);
}
END_TEST

/* Neighbours of a file that were read before it do not make its request longer. */
START_TEST(nothing_is_read_twice)
{
	Counting c = { 0 };
	g_autoptr(WdrBlockDev) dev = counting_disk(&c);
	g_autoptr(WdrSweep) s = wdr_sweep_new(dev);
	WdrSweepGroup *groups[400];

	for (uint64_t i = 0; i < 400; i++)
		groups[i] = tell(s, i * 4096);
	for (uint64_t i = 100; i < 400; i++)
		expect_right(&c, s, groups[i], i * 4096, 4096, 0);
	c.bytes = 0;
	expect_right(&c, s, groups[99], UINT64_C(99) * 4096, 4096, 0);
	ck_assert_uint_eq(c.bytes, 4096);
	for (uint64_t i = 0; i < 400; i++)
		wdr_sweep_forget(s, groups[i]);
}
END_TEST

START_TEST(a_bad_place_hurts_itself_alone)
{
	Counting c = { .bad = 8192 };
	g_autoptr(WdrBlockDev) dev = counting_disk(&c);
	g_autoptr(WdrSweep) s = wdr_sweep_new(dev);
	WdrSweepGroup *groups[4];
	uint8_t buf[4096];

	for (size_t i = 0; i < 4; i++)
		groups[i] = tell(s, i * 4096);
	for (size_t i = 0; i < 4; i++) {
		if (i != 2)
			expect_right(&c, s, groups[i], i * 4096, 4096, 0);
	}
	sup_fails(WDR_ERROR_IO, "reading",
		wdr_sweep_read(s, groups[2], buf, (WdrSweptRun){ 8192, 4096 }, 0, &error));
	for (size_t i = 0; i < 4; i++)
		wdr_sweep_forget(s, groups[i]);
}
END_TEST

Suite *suite_sweep(void)
{
	Suite *s = suite_create("volume/sweep");
	TCase *t = tcase_create("sweep");

	tcase_add_checked_fixture(t, sup_setup, sup_teardown);
	tcase_add_test(t, neighbours_come_with_one_request);
	tcase_add_test(t, while_more_are_told);
	tcase_add_test(t, gaps_are_not_read);
	tcase_add_test(t, older_reads_do_not_count);
	tcase_add_test(t, nothing_is_read_twice);
	tcase_add_test(t, a_bad_place_hurts_itself_alone);
	suite_add_tcase(s, t);
	return s;
}
