#include "support.h"

#include "base/stat.h"

#include <errno.h>
#include <fcntl.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/sysmacros.h>
#include <unistd.h>

Suite *suite_stat(void);

static const int64_t dates[] = { 0, 2147483647, 2147483648 /* 2038 */, 2524608000 /* 2050 */,
	4102444800 /* 2100 */ };

START_TEST(dates_after_2038)
{
	WdrStat st;
	const char *path = sup_path("later");

	sup_write(path, "heron");
	int fd = open(path, O_RDWR);
	ck_assert_int_eq(wdr_set_mtime(fd, dates[_i], 123456789), 0);
	ck_assert_int_eq(wdr_fstat(fd, &st), 0);
	ck_assert_int_eq(st.stx_mtime.tv_sec, dates[_i]);
	ck_assert_uint_eq(st.stx_mtime.tv_nsec, 123456789);
	ck_assert_int_ne(st.stx_atime.tv_sec, dates[_i]);
	close(fd);
	ck_assert(wdr_is_file(path));
	/* The system's own program, where it can say such dates. */
	if (sizeof(time_t) > 4) {
		g_autofree char *want = g_strdup_printf("%lld\n", (long long)dates[_i]);
		ck_assert_str_eq(SUP_TOOL("stat", "-c", "%Y", path), want);
	}
}
END_TEST

START_TEST(links_are_followed_or_not)
{
	WdrStat st;

	ck_assert_int_eq(symlink("nowhere", sup_path("link")), 0);
	ck_assert_int_eq(wdr_lstat(sup_path("link"), &st), 0);
	ck_assert(S_ISLNK(st.stx_mode));
	ck_assert_int_ne(wdr_stat(sup_path("link"), &st), 0);
	ck_assert_int_eq(errno, ENOENT);
	ck_assert(!wdr_is_file(sup_path("link")));
	ck_assert(!wdr_is_folder(sup_path("link")));
	ck_assert(wdr_is_folder(sup_path(".")));
	ck_assert(!wdr_is_file(sup_path(".")));
}
END_TEST

START_TEST(devices_have_two_numbers)
{
	WdrStat st;

	ck_assert_int_eq(wdr_stat("/dev/null", &st), 0);
	ck_assert(wdr_stat_node(&st) == makedev(1, 3));
	ck_assert(wdr_stat_device(&st) != wdr_stat_node(&st));
}
END_TEST

Suite *suite_stat(void)
{
	Suite *s = suite_create("base/stat");
	TCase *tc = tcase_create("stat");

	tcase_add_checked_fixture(tc, sup_setup, sup_teardown);
	tcase_add_loop_test(tc, dates_after_2038, 0, G_N_ELEMENTS(dates));
	tcase_add_test(tc, links_are_followed_or_not);
	tcase_add_test(tc, devices_have_two_numbers);
	suite_add_tcase(s, tc);
	return s;
}
