#include "support.h"

#include "base/hash.h"
#include "base/io.h"
#include "base/stop.h"

#include <errno.h>
#include <fcntl.h>
#include <signal.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

Suite *suite_io(void);

START_TEST(read_file_has_a_limit)
{
	char *text = NULL;
	size_t len = 0;

	sup_write(sup_path("f"), "twelve bytes");
	sup_ok(wdr_read_file(sup_path("f"), 12, &text, &len, &error));
	ck_assert_uint_eq(len, 12);
	ck_assert_str_eq(text, "twelve bytes");
	g_free(text);
	sup_fails(WDR_ERROR_FORMAT, "larger than 11",
		wdr_read_file(sup_path("f"), 11, &text, &len, &error));
}
END_TEST

START_TEST(missing_file_names_it)
{
	g_autoptr(GError) error = NULL;
	char *text = NULL;
	size_t len = 0;

	ck_assert(!wdr_read_file(sup_path("none"), 10, &text, &len, &error));
	ck_assert_int_eq(wdr_error_get_errno(error), ENOENT);
	ck_assert_ptr_nonnull(strstr(error->message, sup_path("none")));
}
END_TEST

START_TEST(short_read_names_the_byte)
{
	char buf[10];

	sup_write(sup_path("f"), "12345");
	int fd = open(sup_path("f"), O_RDONLY);
	sup_fails(WDR_ERROR_IO, "short read at byte 5", wdr_pread_all(fd, buf, 10, 0, &error));
	close(fd);
}
END_TEST

START_TEST(remove_folder_never_follows_links)
{
	sup_ok(wdr_make_folder(sup_path("kept"), &error));
	sup_ok(wdr_make_folder(sup_path("gone/deep"), &error));
	sup_write(sup_path("kept/file"), "x");
	ck_assert_int_eq(symlink(sup_path("kept"), sup_path("gone/deep/link")), 0);
	wdr_remove_folder(sup_path("gone"));
	ck_assert_int_ne(access(sup_path("gone"), F_OK), 0);
	ck_assert_int_eq(access(sup_path("kept/file"), F_OK), 0);
}
END_TEST

START_TEST(hash_is_what_xxh128sum_prints)
{
	char text[WDR_HASH_TEXT_LEN + 1];
	g_autofree char *data = g_strnfill(100000, 'h');

	sup_write(sup_path("f"), data);
	wdr_hash_to_text(wdr_hash(data, strlen(data)), text);
	ck_assert_msg(g_str_has_prefix(SUP_TOOL("xxh128sum", sup_path("f")), text), "%s", text);
}
END_TEST

START_TEST(holes_hash_as_zeros)
{
	g_autoptr(WdrHasher) h = wdr_hasher_new();
	g_autofree uint8_t *zeros = g_malloc0(300000);

	wdr_hasher_add(h, "a", 1);
	wdr_hasher_add_zeros(h, 299999);
	zeros[0] = 'a';
	ck_assert(wdr_hash_equal(wdr_hasher_result(h), wdr_hash(zeros, 300000)));
}
END_TEST

START_TEST(a_full_disk_is_no_space)
{
	g_autoptr(GError) error = NULL;

	wdr_error_set_errno(&error, ENOSPC, "writing %s", "x");
	ck_assert(g_error_matches(error, WDR_ERROR, WDR_ERROR_NO_SPACE));
	wdr_error_hint(&error, "first");
	wdr_error_hint(&error, "second");
	ck_assert_str_eq(wdr_error_get_hint(error), "first");
	ck_assert_int_eq(wdr_error_get_errno(error), ENOSPC);
}
END_TEST

START_TEST(a_stop_is_seen_once_asked_for)
{
	sup_ok(wdr_stop_check(&error));
	wdr_stop_request(SIGTERM);
	sup_fails(WDR_ERROR_STOPPED, "SIGTERM", wdr_stop_check(&error));
	wdr_stop_clear();
	sup_ok(wdr_stop_check(&error));
}
END_TEST

Suite *suite_io(void)
{
	Suite *s = suite_create("base/io");
	TCase *t = tcase_create("io");

	tcase_add_checked_fixture(t, sup_setup, sup_teardown);
	tcase_add_test(t, read_file_has_a_limit);
	tcase_add_test(t, missing_file_names_it);
	tcase_add_test(t, short_read_names_the_byte);
	tcase_add_test(t, remove_folder_never_follows_links);
	tcase_add_test(t, hash_is_what_xxh128sum_prints);
	tcase_add_test(t, holes_hash_as_zeros);
	tcase_add_test(t, a_full_disk_is_no_space);
	tcase_add_test(t, a_stop_is_seen_once_asked_for);
	suite_add_tcase(s, t);
	return s;
}
