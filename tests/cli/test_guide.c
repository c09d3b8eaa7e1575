/* The guide in docs/: each of its commands is run, and what it prints is compared with the page. */
#include "support.h"

#include <string.h>

Suite *suite_guide(void);

START_TEST(the_guide_is_true)
{
	SupRun run = SUP_RUN(WDR_TEST_DATA "/../guide/check", sup_program(),
		WDR_TEST_DATA "/../../docs/guide.md");

	ck_assert_msg(run.code == 0, "%s%s", run.out, run.err);
}
END_TEST

/* The check sees a page that is not true: else it could not fail. */
START_TEST(an_untrue_page_is_seen)
{
	const char *page = sup_path("page.md");

	sup_write(page, "```console\n$ wanderitas demo\nwanderitas: demo takes two folders\n```\n");
	SupRun run = SUP_RUN(WDR_TEST_DATA "/../guide/check", sup_program(), page);
	ck_assert_int_eq(run.code, 1);
	ck_assert_ptr_nonnull(strstr(run.out, "+wanderitas: demo takes one folder"));
}
END_TEST

Suite *suite_guide(void)
{
	Suite *s = suite_create("cli/guide");
	TCase *t = tcase_create("guide");

	tcase_add_checked_fixture(t, sup_setup, sup_teardown);
	tcase_add_test(t, the_guide_is_true);
	tcase_add_test(t, an_untrue_page_is_seen);
	suite_add_tcase(s, t);
	return s;
}
