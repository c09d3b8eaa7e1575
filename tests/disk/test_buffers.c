#include "support.h"

#include "disk/buffers.h"

#include <string.h>

Suite *suite_buffers(void);

enum { MANY = 37 };

/* They begin at pages, do not overlap, and are used again. */
START_TEST(buffers_are_apart)
{
	uint8_t *all[MANY];

	for (unsigned round = 0; round < 3; round++) {
		for (unsigned i = 0; i < MANY; i++) {
			all[i] = wdr_buffer_new();
			ck_assert_uint_eq((uintptr_t)all[i] % 4096, 0);
			memset(all[i], (int)i, WDR_BUFFER_BYTES);
		}
		ck_assert_uint_eq(wdr_buffers_in_use(), MANY);
		for (unsigned i = 0; i < MANY; i++) {
			ck_assert_uint_eq(all[i][0], i);
			ck_assert_uint_eq(all[i][WDR_BUFFER_BYTES - 1], i);
		}
		/* In another order than they came. */
		for (unsigned i = 0; i < MANY; i++)
			wdr_buffer_free(all[i * 7 % MANY]);
		ck_assert_uint_eq(wdr_buffers_in_use(), 0);
	}
	wdr_buffer_free(NULL);
}
END_TEST

Suite *suite_buffers(void)
{
	Suite *s = suite_create("disk/buffers");
	TCase *t = tcase_create("buffers");

	tcase_add_checked_fixture(t, sup_setup, sup_teardown);
	tcase_add_test(t, buffers_are_apart);
	suite_add_tcase(s, t);
	return s;
}
