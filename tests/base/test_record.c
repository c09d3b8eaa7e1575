#include "support.h"

#include "base/cleanup.h"
#include "base/record.h"

#include <fcntl.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

Suite *suite_record(void);

enum { NOBODY = 65534 };

static mode_t mode_of(const char *path)
{
	struct stat st;

	ck_assert_int_eq(lstat(path, &st), 0);
	return st.st_mode & 07777;
}

START_TEST(a_private_folder_and_its_files)
{
	size_t len = 0;

	sup_ok(wdr_make_private_folder(sup_path("a/state"), &error));
	sup_ok(wdr_make_private_folder(sup_path("a/state"), &error));
	ck_assert_uint_eq(mode_of(sup_path("a/state")), 0700);
	sup_ok(wdr_record_write(sup_path("a/state/f"), "an old text", 11, &error));
	sup_ok(wdr_record_write(sup_path("a/state/f"), "new", 3, &error));
	g_autofree char *text = sup_read(sup_path("a/state/f"), &len);
	ck_assert_str_eq(text, "new");
	ck_assert_uint_eq(mode_of(sup_path("a/state/f")), 0600);
	ck_assert_str_eq(SUP_TOOL("ls", sup_path("a/state")), "f\n");
}
END_TEST

START_TEST(no_folder)
{
	sup_fails(WDR_ERROR_IO, "none", wdr_record_write(sup_path("none/f"), "x", 1, &error));
	sup_fails(WDR_ERROR_IO, "none",
		wdr_record_open(sup_path("none/f"), WDR_RECORD_READ, &error) >= 0);
	sup_write(sup_path("file"), "x");
	sup_fails(WDR_ERROR_IO, "file", wdr_make_private_folder(sup_path("file"), &error));
	wdr_record_remove(sup_path("none/f"));
}
END_TEST

/* Not one way to open a record follows a link of its name. */
START_TEST(links_of_files)
{
	char *text = NULL;
	size_t len = 0;

	sup_ok(wdr_make_private_folder(sup_path("state"), &error));
	sup_write(sup_path("precious"), "precious\n");
	ck_assert_int_eq(symlink(sup_path("precious"), sup_path("state/f")), 0);
	sup_fails(WDR_ERROR_IO, "state/f",
		wdr_record_open(sup_path("state/f"), WDR_RECORD_APPEND, &error) >= 0);
	sup_fails(WDR_ERROR_IO, "state/f",
		wdr_record_read(sup_path("state/f"), 100, &text, &len, &error));
	g_autoptr(GError) error = NULL;
	g_auto(WdrFd) fd = wdr_record_open(sup_path("state/f"), WDR_RECORD_NEW, &error);
	ck_assert_int_eq(write(fd, "new", 3), 3);
	ck_assert_str_eq(SUP_TOOL("cat", sup_path("state/f")), "new");
	ck_assert_str_eq(SUP_TOOL("cat", sup_path("precious")), "precious\n");
}
END_TEST

/* Nothing of ours is written where others may write. */
START_TEST(others_may_write)
{
	sup_ok(wdr_make_private_folder(sup_path("state"), &error));
	sup_ok(wdr_record_write(sup_path("state/f"), "old", 3, &error));
	ck_assert_int_eq(chmod(sup_path("state"), 0770), 0);
	sup_fails(WDR_ERROR_REFUSED, "others may write",
		wdr_make_private_folder(sup_path("state"), &error));
	sup_fails(WDR_ERROR_REFUSED, "others may write",
		wdr_record_write(sup_path("state/f"), "new", 3, &error));
	sup_fails(WDR_ERROR_REFUSED, "others may write",
		wdr_record_open(sup_path("state/f"), WDR_RECORD_NEW, &error) >= 0);
	sup_fails(WDR_ERROR_REFUSED, "others may write",
		wdr_record_rename(sup_path("state/f"), sup_path("state/g"), &error));
	wdr_record_remove(sup_path("state/f"));
	ck_assert_str_eq(SUP_TOOL("cat", sup_path("state/f")), "old");
}
END_TEST

/* A user may keep the folder on another disk by a link of their own. */
START_TEST(a_link_of_our_own)
{
	sup_ok(wdr_make_private_folder(sup_path("big"), &error));
	ck_assert_int_eq(symlink("big", sup_path("state")), 0);
	sup_ok(wdr_make_private_folder(sup_path("state"), &error));
	sup_ok(wdr_record_write(sup_path("state/f"), "new", 3, &error));
	ck_assert_str_eq(SUP_TOOL("cat", sup_path("big/f")), "new");
	ck_assert_int_eq(symlink("nowhere", sup_path("dangling")), 0);
	sup_fails(WDR_ERROR_IO, "dangling", wdr_make_private_folder(sup_path("dangling"), &error));
	ck_assert_int_eq(symlink("endless", sup_path("endless")), 0);
	sup_fails(WDR_ERROR_IO, "endless", wdr_make_private_folder(sup_path("endless"), &error));
}
END_TEST

/* The folder was exchanged by somebody who may rename things beside it. As root alone. */
START_TEST(a_folder_exchanged)
{
	char *text = NULL;
	size_t len = 0;

	if (!sup_is_root()) {
		sup_say_skipped("a_folder_exchanged");
		return;
	}
	sup_ok(wdr_make_private_folder(sup_path("state"), &error));
	sup_ok(wdr_record_write(sup_path("state/f"), "old", 3, &error));
	SUP_TOOL("mkdir", "-m", "755", sup_path("others"));
	SUP_TOOL("mkdir", "-m", "700", sup_path("victim"));
	ck_assert_int_eq(chown(sup_path("others"), NOBODY, NOBODY), 0);
	ck_assert_int_eq(rename(sup_path("state"), sup_path("old")), 0);
	ck_assert_int_eq(symlink("victim", sup_path("state")), 0);
	ck_assert_int_eq(lchown(sup_path("state"), NOBODY, NOBODY), 0);
	sup_fails(WDR_ERROR_REFUSED, "a link that another user made",
		wdr_record_write(sup_path("state/f"), "new", 3, &error));
	sup_fails(WDR_ERROR_REFUSED, "a link that another user made",
		wdr_make_private_folder(sup_path("state"), &error));
	sup_fails(WDR_ERROR_REFUSED, "a link that another user made",
		wdr_record_read(sup_path("state/f"), 100, &text, &len, &error));
	ck_assert_int_eq(unlink(sup_path("state")), 0);
	ck_assert_int_eq(rename(sup_path("others"), sup_path("state")), 0);
	sup_fails(WDR_ERROR_REFUSED, "others may write",
		wdr_record_write(sup_path("state/f"), "new", 3, &error));
	ck_assert_str_eq(SUP_TOOL("ls", sup_path("victim")), "");
	ck_assert_str_eq(SUP_TOOL("ls", sup_path("state")), "");
}
END_TEST

START_TEST(renamed_and_removed)
{
	sup_ok(wdr_make_private_folder(sup_path("state"), &error));
	sup_ok(wdr_record_write(sup_path("state/f"), "f", 1, &error));
	sup_ok(wdr_record_rename(sup_path("state/f"), sup_path("state/g"), &error));
	ck_assert_str_eq(SUP_TOOL("ls", sup_path("state")), "g\n");
	wdr_record_remove(sup_path("state/g"));
	ck_assert_str_eq(SUP_TOOL("ls", sup_path("state")), "");
	sup_fails(WDR_ERROR_IO, "state/f",
		wdr_record_rename(sup_path("state/f"), sup_path("state/g"), &error));
}
END_TEST

Suite *suite_record(void)
{
	Suite *s = suite_create("base/record");
	TCase *t = tcase_create("record");

	tcase_add_checked_fixture(t, sup_setup, sup_teardown);
	tcase_add_test(t, a_private_folder_and_its_files);
	tcase_add_test(t, no_folder);
	tcase_add_test(t, links_of_files);
	tcase_add_test(t, others_may_write);
	tcase_add_test(t, a_link_of_our_own);
	tcase_add_test(t, a_folder_exchanged);
	tcase_add_test(t, renamed_and_removed);
	suite_add_tcase(s, t);
	return s;
}
