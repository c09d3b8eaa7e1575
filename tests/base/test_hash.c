#include "base/hash.h"

#include "support.h"

#include "base/text.h"

Suite *suite_hash(void);

#define GIB (UINT64_C(1024) * WDR_MIB)

static const char *const no_hashes[] = { "", "0123", "0123456789abcdef0123456789abcde",
	"0123456789abcdef0123456789abcdef0", "0123456789Abcdef0123456789abcdef",
	"0123456789abcdef0123456789abcdeg" };

START_TEST(what_is_no_hash)
{
	WdrHash hash;

	ck_assert(!wdr_hash_from_text(no_hashes[_i], &hash));
}
END_TEST

/* Zeros but for a byte here and there; to hash them all would take longer than the test is worth.
 */
static void add(WdrHasher *h, uint64_t from, uint64_t to)
{
	static const uint64_t marked[] = { 5, GIB - 1, GIB, 2 * GIB + 7 };

	for (size_t i = 0; i < G_N_ELEMENTS(marked) && from < to; i++) {
		if (marked[i] < from || marked[i] >= to)
			continue;
		wdr_hasher_add_zeros(h, marked[i] - from);
		wdr_hasher_add(h, "x", 1);
		from = marked[i] + 1;
	}
	wdr_hasher_add_zeros(h, to - from);
}

START_TEST(taken_up_at_a_mark)
{
	g_autoptr(WdrHasher) h = wdr_hasher_new();
	g_autoptr(WdrHasher) second = wdr_hasher_new();

	add(h, 0, GIB - 1);
	ck_assert_uint_eq(wdr_hasher_mark(h).at, 0);
	add(h, GIB - 1, GIB + 4096);
	WdrHashMark first = wdr_hasher_mark(h);
	ck_assert_uint_eq(first.at, GIB);
	add(h, GIB + 4096, 2 * GIB + 100);
	ck_assert_uint_eq(wdr_hasher_mark(h).at, 2 * GIB);
	wdr_hasher_take_up(second, &first);
	add(second, GIB, 2 * GIB + 100);
	ck_assert(wdr_hash_equal(wdr_hasher_result(h), wdr_hasher_result(second)));
	/* What came before the mark counts. */
	first.hash.low ^= 1;
	wdr_hasher_take_up(second, &first);
	add(second, GIB, 2 * GIB + 100);
	ck_assert(!wdr_hash_equal(wdr_hasher_result(h), wdr_hasher_result(second)));
	wdr_hasher_reset(h);
	wdr_hasher_add(h, "x", 1);
	ck_assert(wdr_hash_equal(wdr_hasher_result(h), wdr_hash("x", 1)));
}
END_TEST

Suite *suite_hash(void)
{
	Suite *s = suite_create("base/hash");
	TCase *tc = tcase_create("hash");

	tcase_set_timeout(tc, 60);
	tcase_add_checked_fixture(tc, sup_setup, sup_teardown);
	tcase_add_loop_test(tc, what_is_no_hash, 0, G_N_ELEMENTS(no_hashes));
	tcase_add_test(tc, taken_up_at_a_mark);
	suite_add_tcase(s, tc);
	return s;
}
