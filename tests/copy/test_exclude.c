#include "support.h"

#include "base/io.h"
#include "base/text.h"
#include "plan/measure.h"
#include "volume/tree/tree.h"

#include <string.h>
#include <unistd.h>

Suite *suite_exclude(void);

static const struct {
	const char *pattern, *point, *path;
	bool is_left;
} rules[] = {
	{ "/var/cache/apt", "/", "var/cache/apt", true },
	{ "/var/cache/apt", "/", "var/cache/apt/archives", false }, /* its folder is left already */
	{ "/var/cache/*", "/", "var/cache/apt", true },
	{ "/var/cache/*", "/", "var/cache", false },
	{ "/var/*/x", "/", "var/cache/deep/x", false },
	{ "/home/*/.cache", "/", "home/warden/.cache", true },
	{ "/var/cache/*", "/", "var/cache/.hidden", true },
	{ "*.log", "/", "var/log/heard.log", true },
	{ "*.log", "/", "heard.log", true },
	{ "*.log", NULL, "heard.log", true },
	{ "*.log", "/", "heard.log.1", false },
	{ "/srv/sound/*.wav", "/srv/sound", "a.wav", true },
	{ "/srv/sound/*.wav", "/srv/sound/", "a.wav", true },
	{ "/srv/sound/*.wav", "/srv/soundtrack", "a.wav", false },
	{ "/srv/sound/*.wav", "/srv", "sound/a.wav", true },
	{ "/srv/sound/*.wav", NULL, "sound/a.wav", false },
	{ "/a[bc]", "/", "ac", true },
};

START_TEST(patterns_match)
{
	char *patterns[] = { (char *)rules[_i].pattern, NULL };
	g_autoptr(WdrExclude) exclude = wdr_exclude_new(patterns, rules[_i].point);

	ck_assert_msg((wdr_exclude_rule(exclude, rules[_i].path, WDR_KIND_FILE) == 0) ==
			      rules[_i].is_left,
		"%s, %s", rules[_i].pattern, rules[_i].path);
}
END_TEST

START_TEST(sockets_and_own_paths)
{
	g_autoptr(WdrExclude) exclude = wdr_exclude_new(NULL, "/");

	ck_assert_int_eq(wdr_exclude_rule(exclude, "run/s", WDR_KIND_SOCKET), WDR_EXCLUDE_COPIED);
	wdr_exclude_sockets(exclude);
	wdr_exclude_path(exclude, "var/lib/ours");
	ck_assert_int_eq(wdr_exclude_rule(exclude, "run/s", WDR_KIND_SOCKET), WDR_EXCLUDE_OURS);
	ck_assert_int_eq(wdr_exclude_rule(exclude, "run/s", WDR_KIND_FIFO), WDR_EXCLUDE_COPIED);
	ck_assert_int_eq(
		wdr_exclude_rule(exclude, "var/lib/ours", WDR_KIND_FOLDER), WDR_EXCLUDE_OURS);
	ck_assert_int_eq(wdr_exclude_rule(NULL, "any", WDR_KIND_FILE), WDR_EXCLUDE_COPIED);
}
END_TEST

static const char *const useless[] = { "", "var/cache", "/var/", "/", "/var//x", "/var/**/x" };

START_TEST(useless_patterns_are_refused)
{
	char *patterns[] = { (char *)"fine", (char *)useless[_i], NULL };

	sup_fails(WDR_ERROR_USAGE, "would match nothing", wdr_exclude_check(patterns, &error));
}
END_TEST

START_TEST(what_is_left_is_counted)
{
	char *patterns[] = { (char *)"/cache", (char *)"*.tmp", NULL };
	g_autoptr(WdrExclude) exclude = wdr_exclude_new(patterns, "/");
	g_autoptr(GPtrArray) left = wdr_left_new(patterns);
	g_autoptr(WdrVolume) v = NULL;
	WdrMeasure m;

	sup_ok(wdr_make_folder(sup_path("t/cache/deep"), &error));
	sup_ok(wdr_make_folder(sup_path("t/kept"), &error));
	sup_write(sup_path("t/cache/deep/a"), "12345");
	sup_write(sup_path("t/cache/b.tmp"), "67");
	sup_write(sup_path("t/kept/c.tmp"), "8");
	sup_write(sup_path("t/kept/d"), "four");
	ck_assert_int_eq(link(sup_path("t/kept/d"), sup_path("t/kept/e")), 0);
	sup_ok(wdr_tree_volume_open(sup_path("t"), &v, &error));
	sup_ok(wdr_measure(v, exclude, left, 4096, &m, &error));
	const WdrLeft *cache = left->pdata[0];
	const WdrLeft *tmp = left->pdata[1];
	ck_assert_uint_eq(cache->entries, 4); /* the folder, what is in it, and b.tmp */
	ck_assert_uint_eq(cache->bytes, 7);
	ck_assert_uint_eq(tmp->entries, 1);
	ck_assert_uint_eq(m.entries, 3); /* the root, kept, and d with its two names once */
	ck_assert_uint_eq(m.bytes, 4);
	ck_assert_uint_eq(m.room % 4096, 0);
}
END_TEST

Suite *suite_exclude(void)
{
	Suite *s = suite_create("copy/exclude");
	TCase *tc = tcase_create("exclude");

	tcase_add_checked_fixture(tc, sup_setup, sup_teardown);
	tcase_add_loop_test(tc, patterns_match, 0, G_N_ELEMENTS(rules));
	tcase_add_test(tc, sockets_and_own_paths);
	tcase_add_loop_test(tc, useless_patterns_are_refused, 0, G_N_ELEMENTS(useless));
	tcase_add_test(tc, what_is_left_is_counted);
	suite_add_tcase(s, tc);
	return s;
}
