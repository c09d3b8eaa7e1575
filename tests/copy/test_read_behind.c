/* Reading back behind the writer: what is vouched for, and what is found. The disk is memory, which
 * the tests change between writing and reading. */
#include "support.h"

#include "base/text.h"
#include "copy/packing_list.h"
#include "copy/read_behind.h"

#include <string.h>

Suite *suite_read_behind(void);

#define MIB (UINT64_C(1) << 20)
enum { VOLUME_AT = 8192, FILES = 300 };

static WdrWorld *world;
static WdrBlockDev *disk;
static WdrReadBehind *behind;

static void begin_on(size_t size, uint64_t first)
{
	sup_ok(wdr_world_new(NULL, &world, &error));
	disk = wdr_blockdev_new_memory("nest.img", size);
	behind = wdr_read_behind_new(disk, disk, VOLUME_AT, first);
}

static void end(void)
{
	g_clear_pointer(&behind, wdr_read_behind_free);
	g_clear_pointer(&disk, wdr_blockdev_free);
	g_clear_pointer(&world, wdr_world_free);
}

static uint8_t *bytes_of(uint64_t seed, size_t len)
{
	uint8_t *bytes = g_malloc(len + 1);
	uint64_t x = seed * 2654435761U + 1;

	for (size_t i = 0; i < len; i++) {
		x = x * 6364136223846793005U + 1442695040888963407U;
		bytes[i] = (uint8_t)(x >> 56);
	}
	return bytes;
}

static void write_at(uint64_t at, const void *bytes, size_t len)
{
	sup_ok(wdr_blockdev_write(disk, bytes, len, VOLUME_AT + at, &error));
}

static WdrPlaced placed_at(uint64_t id, uint64_t at, uint64_t len, uint64_t mark)
{
	WdrPlaced p = { .id = id, .places = id + 100, .end = len, .mark = mark };
	const WdrPlacedRun run = { 0, at, len };

	p.runs = g_array_new(FALSE, FALSE, sizeof(WdrPlacedRun));
	g_array_append_val(p.runs, run);
	return p;
}

/* A file of these bytes, which lie at this place. Its hash. */
static WdrHash put(uint64_t id, uint64_t at, const uint8_t *bytes, size_t len)
{
	g_autofree char *path = g_strdup_printf("srv/rec%" G_GUINT64_FORMAT ".wav", id);
	WdrHash hash = wdr_hash(bytes, len);
	WdrPlaced p = placed_at(id, at, len, 0);

	sup_ok(wdr_read_behind_put(behind, path, len, &hash, &p, &error));
	return hash;
}

static bool finish(GError **error)
{
	const WdrProgress total = { .bytes_total = UINT64_MAX, .is_reading_back = true };

	return wdr_read_behind_finish(behind, world, &total, error);
}

START_TEST(what_is_right_is_vouched_for)
{
	WdrHash hashes[FILES];
	uint64_t at = 0;

	begin_on(16 * MIB, 0);
	for (unsigned i = 0; i < FILES; i++) {
		size_t len = 1 + (i * 977) % 40000;
		g_autofree uint8_t *bytes = bytes_of(i, len);
		write_at(at, bytes, len);
		hashes[i] = put(i + 12, at, bytes, len);
		at += wdr_round_up(len, 4096);
	}
	sup_ok(finish(&error));
	for (unsigned i = 0; i < FILES; i++) {
		WdrHash other = hashes[(i + 1) % FILES];
		ck_assert(wdr_read_behind_holds(behind, i + 12, i + 112, hashes[i]));
		ck_assert(!wdr_read_behind_holds(behind, i + 12, i + 113, hashes[i]));
		ck_assert(!wdr_read_behind_holds(behind, i + 12, i + 112, other));
	}
	ck_assert(!wdr_read_behind_knows(behind, 11));
	ck_assert(!wdr_read_behind_knows(behind, FILES + 12));
	ck_assert_uint_eq(wdr_read_behind_waiting(behind), 0);
	sup_ok(wdr_read_behind_check_sample(behind, &error));
	end();
}
END_TEST

/* One byte is another on the medium. */
START_TEST(what_is_wrong_is_found)
{
	const size_t len = 100000;
	g_autofree uint8_t *bytes = bytes_of(3, len);

	begin_on(16 * MIB, 0);
	write_at(0, bytes, len);
	bytes[len - 1] ^= 1;
	write_at(len - 1, &bytes[len - 1], 1);
	bytes[len - 1] ^= 1;
	put(12, 0, bytes, len);
	sup_fails(WDR_ERROR_IO,
		"read back from the target: content of 'srv/rec12.wav' is not as copied",
		finish(&error));
	end();
}
END_TEST

/* The writer hears of it while it still writes. */
START_TEST(what_is_wrong_ends_the_writing)
{
	const size_t len = 65 * MIB;
	g_autofree uint8_t *bytes = bytes_of(4, len);
	g_autoptr(GError) error = NULL;
	WdrHash hash = wdr_hash(bytes, len);

	begin_on(80 * MIB, 0);
	put(12, 0, bytes, len);
	for (unsigned i = 0; i < 1000 && !error; i++) {
		WdrPlaced none = placed_at(13 + i, 0, 0, 0);
		bool is_fine = wdr_read_behind_put(behind, "srv/next", 0, &hash, &none, &error);
		if (is_fine)
			g_usleep(10000);
	}
	ck_assert_msg(error != NULL, "nobody told the writer");
	ck_assert_ptr_nonnull(strstr(error->message, "srv/rec12.wav"));
	end();
}
END_TEST

/* Nothing is read before it was written. */
START_TEST(it_waits_for_the_writer)
{
	const size_t len = 65 * MIB;
	g_autofree uint8_t *bytes = bytes_of(5, len);
	WdrHash hash = wdr_hash(bytes, len);
	WdrPlaced p = placed_at(12, 0, len, len);

	begin_on(80 * MIB, 0);
	sup_ok(wdr_read_behind_put(behind, "srv/rec", len, &hash, &p, &error));
	wdr_read_behind_count(behind, len - 1);
	g_usleep(50000);
	ck_assert_uint_eq(wdr_read_behind_bytes(behind), 0);
	write_at(0, bytes, len);
	wdr_read_behind_count(behind, 1);
	sup_ok(finish(&error));
	ck_assert_uint_eq(wdr_read_behind_bytes(behind), len);
	end();
}
END_TEST

/* A large file comes in parts, with a hole in it; with a wrong byte in any of them it is found. */
static void put_parts(WdrHash hash, size_t size)
{
	const uint64_t ends[] = { 3 * MIB, 5 * MIB, size };

	for (size_t i = 0; i < G_N_ELEMENTS(ends); i++) {
		WdrPlaced p = { .id = 12, .places = 112, .end = ends[i] };
		p.runs = g_array_new(FALSE, FALSE, sizeof(WdrPlacedRun));
		const WdrPlacedRun runs[] = { { 0, MIB, MIN(ends[i], 4 * MIB) },
			{ 6 * MIB, 10 * MIB, size - 6 * MIB } };
		g_array_append_vals(p.runs, runs, ends[i] > 6 * MIB ? 2 : 1);
		sup_ok(wdr_read_behind_put(
			behind, "srv/long", size, ends[i] == size ? &hash : NULL, &p, &error));
	}
}

static const int64_t wrong_at[] = { -1, 0, 3 * MIB - 1, 3 * MIB, 4 * MIB - 1, 6 * MIB,
	9 * MIB + 4 };

START_TEST(large_files_in_parts)
{
	const size_t size = 9 * MIB + 5;
	g_autofree uint8_t *bytes = bytes_of(6, size);

	begin_on(32 * MIB, 0);
	memset(bytes + 4 * MIB, 0, 2 * MIB);
	WdrHash hash = wdr_hash(bytes, size);
	if (wrong_at[_i] >= 0)
		bytes[wrong_at[_i]] ^= 0x80;
	write_at(MIB, bytes, 4 * MIB);
	write_at(10 * MIB, bytes + 6 * MIB, (size_t)(size - 6 * MIB));
	put_parts(hash, size);
	if (wrong_at[_i] >= 0) {
		sup_fails(WDR_ERROR_IO, "content of 'srv/long' is not as copied", finish(&error));
	} else {
		sup_ok(finish(&error));
		ck_assert(wdr_read_behind_holds(behind, 12, 112, hash));
	}
	end();
}
END_TEST

/* Files of one byte, all at this place, with the ids from 13 up to this one. */
static void put_many(uint64_t end, uint64_t at, uint64_t mark)
{
	const uint8_t byte = 7;
	WdrHash hash = wdr_hash(&byte, 1);

	write_at(at, &byte, 1);
	for (uint64_t id = 13; id < end; id++) {
		WdrPlaced p = placed_at(id, at, 1, mark);
		sup_ok(wdr_read_behind_put(behind, "srv/rec", 1, &hash, &p, &error));
	}
}

/* However small they are, many files make a group. */
START_TEST(tiny_files_do_not_pile_up)
{
	enum { MANY = 20000 };

	begin_on(16 * MIB, 0);
	put_many(MANY, 4096, 0);
	for (unsigned i = 0; i < 1000 && wdr_read_behind_bytes(behind) < 8192; i++)
		g_usleep(10000);
	ck_assert_uint_ge(wdr_read_behind_bytes(behind), 8192);
	sup_ok(finish(&error));
	ck_assert(wdr_read_behind_knows(behind, MANY - 1));
	end();
}
END_TEST

/* For what is held back, and for more than can wait, nobody vouches: it is read at the end. */
START_TEST(what_is_passed_over)
{
	enum { MANY = 66000 };
	const uint8_t byte = 7;

	begin_on(16 * MIB, 65536);
	write_at(65535, &byte, 1);
	put(12, 65535, &byte, 1);
	put_many(MANY, 65536, 1);
	sup_ok(finish(&error));
	ck_assert(!wdr_read_behind_knows(behind, 12));
	ck_assert(wdr_read_behind_knows(behind, 13));
	ck_assert(!wdr_read_behind_knows(behind, MANY - 1));
	end();
}
END_TEST

/* Later writes hit what was read back well: a disk of a false size, for one. */
START_TEST(the_sample_finds_what_came_later)
{
	const size_t len = 40 * MIB;
	g_autofree uint8_t *bytes = bytes_of(8, len);
	g_autofree uint8_t *others = bytes_of(9, 5 * MIB);

	begin_on(64 * MIB, 0);
	write_at(0, bytes, len);
	put(12, 0, bytes, len);
	sup_ok(finish(&error));
	sup_ok(wdr_read_behind_check_sample(behind, &error));
	write_at((uint64_t)_i * 7 * MIB, others, 5 * MIB);
	sup_fails(WDR_ERROR_IO, "was changed by later writes",
		wdr_read_behind_check_sample(behind, &error));
	end();
}
END_TEST

/* The walk over the finished volume finds a file elsewhere than where it was read back. */
START_TEST(places_are_compared)
{
	const uint8_t byte = 7;
	WdrEntry e = sup_entry(WDR_KIND_FILE, 0644);
	g_autoptr(WdrPacking) list = NULL;

	begin_on(16 * MIB, 0);
	e.size = 1;
	write_at(4096, &byte, 1);
	WdrCopied c = { .path = "srv/rec12.wav", .entry = &e, .id = 99 };
	c.content = put(12, 4096, &byte, 1);
	sup_ok(finish(&error));
	sup_ok(wdr_packing_create(sup_path("list"), 1000, &list, &error));
	sup_ok(wdr_packing_record(list, &c, &error));
	sup_ok(wdr_packing_finish(list, &error));
	g_clear_pointer(&list, wdr_packing_free);
	sup_ok(wdr_packing_open(sup_path("list"), &list, &error));
	wdr_packing_trust(list, behind);
	c.content = (WdrHash){ 0, 0 };
	c.id = 12;
	c.places = _i == 0 ? 112 : 113;
	if (_i == 0)
		sup_ok(wdr_packing_compare(list, &c, &error));
	else
		sup_fails(WDR_ERROR_IO, "content of 'srv/rec12.wav' is not as copied",
			wdr_packing_compare(list, &c, &error));
	end();
}
END_TEST

Suite *suite_read_behind(void)
{
	Suite *s = suite_create("copy/read_behind");
	TCase *t = tcase_create("read behind");

	tcase_add_checked_fixture(t, sup_setup, sup_teardown);
	tcase_add_test(t, what_is_right_is_vouched_for);
	tcase_add_test(t, what_is_wrong_is_found);
	tcase_add_test(t, what_is_wrong_ends_the_writing);
	tcase_add_test(t, it_waits_for_the_writer);
	tcase_add_loop_test(t, large_files_in_parts, 0, (int)G_N_ELEMENTS(wrong_at));
	tcase_add_test(t, tiny_files_do_not_pile_up);
	tcase_add_test(t, what_is_passed_over);
	tcase_add_loop_test(t, the_sample_finds_what_came_later, 0, 6);
	tcase_add_loop_test(t, places_are_compared, 0, 2);
	suite_add_tcase(s, t);
	return s;
}
