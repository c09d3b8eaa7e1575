#include "base/cursor.h"

#include <check.h>
#include <glib.h>

Suite *suite_cursor(void);

static const struct {
	const char *name;
	uint8_t in[8];
	size_t len, width;
	uint64_t want;
	bool is_overrun;
} cases[] = {
	{ "one byte", { 0x81 }, 1, 1, 0x81, false },
	{ "little end first", { 0x34, 0x12 }, 2, 2, 0x1234, false },
	{ "top bit stays unsigned", { 0xff, 0xff, 0xff, 0xff }, 4, 4, 0xffffffffu, false },
	{ "eight bytes", { 8, 7, 6, 5, 4, 3, 2, 1 }, 8, 8, 0x0102030405060708u, false },
	{ "one byte short of four", { 1, 2, 3 }, 3, 4, 0, true },
	{ "nothing there", { 0 }, 0, 1, 0, true },
	{ "one byte short of eight", { 1, 2, 3, 4, 5, 6, 7 }, 7, 8, 0, true },
};

START_TEST(little_endian)
{
	WdrCursor c = wdr_cursor(cases[_i].in, cases[_i].len);
	uint64_t got = cases[_i].width == 1   ? wdr_cursor_u8(&c)
		       : cases[_i].width == 2 ? wdr_cursor_le16(&c)
		       : cases[_i].width == 4 ? wdr_cursor_le32(&c)
					      : wdr_cursor_le64(&c);

	ck_assert_msg(got == cases[_i].want, "%s", cases[_i].name);
	ck_assert(wdr_cursor_overrun(&c) == cases[_i].is_overrun);
}
END_TEST

START_TEST(overrun_sticks)
{
	const uint8_t bytes[] = { 1, 2, 3, 4 };
	WdrCursor c = wdr_cursor(bytes, sizeof(bytes));

	wdr_cursor_seek(&c, 5);
	ck_assert(wdr_cursor_overrun(&c));
	ck_assert_uint_eq(wdr_cursor_u8(&c), 0);
	ck_assert_ptr_null(wdr_cursor_bytes(&c, 1));
	ck_assert_uint_eq(wdr_cursor_left(&c), 0);
}
END_TEST

START_TEST(seek_to_the_end_is_fine)
{
	const uint8_t bytes[] = { 1, 2 };
	WdrCursor c = wdr_cursor(bytes, sizeof(bytes));

	wdr_cursor_seek(&c, 2);
	ck_assert(!wdr_cursor_overrun(&c));
	wdr_cursor_seek(&c, 0);
	wdr_cursor_skip(&c, 1);
	ck_assert_uint_eq(wdr_cursor_u8(&c), 2);
	wdr_cursor_skip(&c, SIZE_MAX);
	ck_assert(wdr_cursor_overrun(&c));
}
END_TEST

START_TEST(put_and_get)
{
	uint8_t bytes[9] = { 0 };

	wdr_put_le64(bytes, 0xf1e2d3c4b5a69788u);
	ck_assert_uint_eq(bytes[0], 0x88);
	ck_assert_uint_eq(bytes[7], 0xf1);
	ck_assert_uint_eq(bytes[8], 0);
	ck_assert_uint_eq(wdr_get_le32(bytes + 1), 0xc4b5a697);
	ck_assert_uint_eq(wdr_get_le16(bytes + 6), 0xf1e2);
	wdr_put_be32(bytes, 0x27051956);
	ck_assert_uint_eq(bytes[0], 0x27);
	WdrCursor c = wdr_cursor(bytes, sizeof(bytes));
	ck_assert_uint_eq(wdr_cursor_be32(&c), 0x27051956);
	ck_assert_uint_eq(wdr_cursor_left(&c), 5);
}
END_TEST

Suite *suite_cursor(void)
{
	Suite *s = suite_create("base/cursor");
	TCase *t = tcase_create("cursor");

	tcase_add_loop_test(t, little_endian, 0, (int)G_N_ELEMENTS(cases));
	tcase_add_test(t, overrun_sticks);
	tcase_add_test(t, seek_to_the_end_is_fine);
	tcase_add_test(t, put_and_get);
	suite_add_tcase(s, t);
	return s;
}
