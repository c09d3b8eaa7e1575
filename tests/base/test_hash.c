#include "base/hash.h"

#include "base/io.h"
#include "base/text.h"
#include "support.h"

#include <string.h>

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

/* Zeros that are stored, and holes: in whatever pieces they come, it is the same file. */
START_TEST(pieces_do_not_count)
{
	enum { BYTES = 1024 * 1024, ROUNDS = 40 };
	g_autoptr(GRand) rand = g_rand_new_with_seed((guint32)_i);
	g_autofree uint8_t *file = g_malloc0(BYTES);
	g_autoptr(WdrHasher) h = wdr_hasher_new();

	for (unsigned i = 0; i < 12; i++) {
		gint32 at = g_rand_int_range(rand, 0, BYTES - 70000);
		memset(file + at, g_rand_int_range(rand, 0, 3),
			(size_t)g_rand_int_range(rand, 1, 70000));
	}
	WdrHash whole = wdr_hash(file, BYTES);
	for (unsigned round = 0; round < ROUNDS; round++) {
		wdr_hasher_reset(h);
		for (gint32 at = 0; at < BYTES;) {
			gint32 len = g_rand_int_range(rand, 1, 200000);
			len = MIN(len, BYTES - at);
			if (wdr_is_zero(file + at, (size_t)len) && g_rand_boolean(rand))
				wdr_hasher_add_zeros(h, (uint64_t)len);
			else
				wdr_hasher_add(h, file + at, (size_t)len);
			at += len;
		}
		ck_assert(wdr_hash_equal(wdr_hasher_result(h), whole));
	}
	file[g_rand_int_range(rand, 0, BYTES)] ^= 1;
	ck_assert(!wdr_hash_equal(wdr_hash(file, BYTES), whole));
}
END_TEST

/* The rule as hash.h tells it, by another program: the first of four blocks, and half of the last.
 */
START_TEST(blocks_of_zeros_are_left_out)
{
	enum { BLOCK = 65536, MAP = 2048 };
	g_autofree uint8_t *file = g_malloc0(4 * BLOCK);
	char text[WDR_HASH_TEXT_LEN + 1];

	memset(file + BLOCK, 'h', BLOCK);
	file[3 * BLOCK - 1] = 'x';
	wdr_hash_to_text(wdr_hash(file, 4 * BLOCK - BLOCK / 2), text);
	SUP_TOOL("bash", "-ec",
		"cd \"$0\"; { head -c 65536 /dev/zero | tr '\\0' h; head -c 65535 /dev/zero; printf x; "
		"head -c 32768 /dev/zero; } >rest; { xxh128sum rest | head -c 32 | sed 's/../\\\\x&/g' "
		"| xargs -0 printf; printf '\\x01'; head -c 2047 /dev/zero; } >both; "
		"xxh128sum both | grep -q \"^$1\"",
		sup_folder(), text);
}
END_TEST

/* Sizes that a damaged disk may tell cost no time either: an exabyte's worth would take a year. */
START_TEST(a_hole_of_many_terabytes)
{
	g_autoptr(WdrHasher) h = wdr_hasher_new();
	g_autoptr(WdrHasher) other = wdr_hasher_new();

	wdr_hasher_add_zeros(h, UINT64_C(1) << 46);
	wdr_hasher_add_zeros(other, (UINT64_C(1) << 46) - 1);
	ck_assert(!wdr_hash_equal(wdr_hasher_result(h), wdr_hasher_result(other)));
	wdr_hasher_add(other, "", 1);
	ck_assert(wdr_hash_equal(wdr_hasher_result(h), wdr_hasher_result(other)));
}
END_TEST

Suite *suite_hash(void)
{
	Suite *s = suite_create("base/hash");
	TCase *tc = tcase_create("hash");

	tcase_add_checked_fixture(tc, sup_setup, sup_teardown);
	tcase_add_loop_test(tc, what_is_no_hash, 0, G_N_ELEMENTS(no_hashes));
	tcase_add_test(tc, taken_up_at_a_mark);
	tcase_add_loop_test(tc, pieces_do_not_count, 0, 6);
	tcase_add_test(tc, blocks_of_zeros_are_left_out);
	tcase_add_test(tc, a_hole_of_many_terabytes);
	suite_add_tcase(s, tc);
	return s;
}
