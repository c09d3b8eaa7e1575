#include "support.h"

#include "base/text.h"

#include <string.h>

Suite *suite_text(void);

static const struct {
	uint64_t bytes;
	const char *want;
} sizes[] = { { 0, "0 B" }, { 1, "1 B" }, { 1023, "1023 B" }, { 1024, "1 KiB" },
	{ 1536, "1.5 KiB" }, { 1048576, "1 MiB" }, { 1048575, "1 MiB" }, { 629145600, "600 MiB" },
	{ UINT64_C(31914983424), "29.7 GiB" }, { UINT64_MAX, "16 EiB" } };

START_TEST(format_size)
{
	g_autofree char *got = wdr_format_size(sizes[_i].bytes);

	ck_assert_str_eq(got, sizes[_i].want);
}
END_TEST

static const struct {
	const char *text;
	uint64_t want;
} good_sizes[] = { { "0", 0 }, { "512B", 512 }, { "1K", 1024 }, { "512M", 536870912 },
	{ "4GiB", 4294967296 }, { "1.5G", 1610612736 }, { "2t", 2199023255552 }, { "10%", 100 },
	{ "100%", 1000 }, { "7B", 7 } };

START_TEST(parse_size)
{
	uint64_t got = 1;

	sup_ok(wdr_parse_size(good_sizes[_i].text, 1000, &got, &error));
	ck_assert_uint_eq(got, good_sizes[_i].want);
}
END_TEST

static const char *const bad_sizes[] = { "", "M", "-1", "1X", "1MB", "101%", "0x10", "1e", "inf",
	"nan", "99999999999T", " 1", "1 M", "10%%" };

static const struct {
	const char *text;
	size_t width;
	const char *want;
} wraps[] = { { "a heron", 20, "a heron" }, { "a heron at noon", 8, "a heron\nat noon" },
	{ "a heron at noon", 7, "a heron\nat noon" },
	{ "/dev/disk/by-uuid", 9, "/dev/disk\n/by-uuid" }, { "", 5, "" }, { "heron", 0, "heron" },
	{ "  3:1 x", 5, "  3:1\nx" }, { "V\xc3\xb6gel am See", 5, "V\xc3\xb6gel\nam\nSee" },
	{ "ab cd", 1, "a\nb\nc\nd" } };

static const struct {
	uint64_t count;
	const char *want;
} counts[] = { { 0, "0" }, { 999, "999" }, { 1000, "1,000" }, { 4217, "4,217" },
	{ 123456, "123,456" }, { 1234567890, "1,234,567,890" } };

START_TEST(counts_have_commas)
{
	g_autofree char *got = wdr_format_count(counts[_i].count);

	ck_assert_str_eq(got, counts[_i].want);
}
END_TEST

START_TEST(words_are_wrapped)
{
	g_autofree char *got = wdr_wrap_words(wraps[_i].text, wraps[_i].width);

	ck_assert_str_eq(got, wraps[_i].want);
}
END_TEST

START_TEST(parse_bad_size)
{
	uint64_t got = 77;

	sup_fails(WDR_ERROR_USAGE, "is not a size",
		wdr_parse_size(bad_sizes[_i], 1000, &got, &error));
	sup_fails(WDR_ERROR_USAGE, "'10' is a size without a unit",
		wdr_parse_size("10", 1000, &got, &error));
	ck_assert_uint_eq(got, 77);
}
END_TEST

static const struct {
	const char *in, *want;
} escapes[] = { { "plain", "plain" },
	{ "r\xc3\xa9"
	  "ed",
		"r\xc3\xa9"
		"ed" },
	{ "a\nb", "a\\x0ab" }, { "\x1b[31m", "\\x1b[31m" }, { "lat\xe9n", "lat\\xe9n" },
	{ "back\\slash", "back\\x5cslash" }, { "\xe2\x80\xae", "\\xe2\\x80\\xae" } };

START_TEST(escape)
{
	g_autofree char *got = wdr_escape(escapes[_i].in);

	/* The last is a mark that turns the direction of text: it must not reach a terminal. */
	if (_i == 6)
		ck_assert_msg(strchr(got, '\\') != NULL, "%s", got);
	else
		ck_assert_str_eq(got, escapes[_i].want);
	g_autofree char *back = wdr_unescape(got);
	ck_assert_str_eq(back, escapes[_i].in);
}
END_TEST

START_TEST(what_escaping_does_not_make)
{
	static const char *const wrong[] = { "\\", "a\\x", "\\x4", "\\xg0", "\\x00", "\\n",
		"\\\\" };

	ck_assert_ptr_null(wdr_unescape(wrong[_i]));
}
END_TEST

/* Every byte that a name can have. */
START_TEST(escape_and_back)
{
	char all[256] = "";

	for (int i = 1; i < 256; i++)
		all[i - 1] = (char)i;
	g_autofree char *escaped = wdr_escape(all);
	g_autofree char *back = wdr_unescape(escaped);
	ck_assert(g_utf8_validate(escaped, -1, NULL));
	ck_assert_str_eq(back, all);
}
END_TEST

START_TEST(escape_line_keeps_tabs_and_backslashes)
{
	g_autofree char *got = wdr_escape_line("a\tb\\040\x01", 8);

	ck_assert_str_eq(got, "a\tb\\040\\x01");
}
END_TEST

START_TEST(durations)
{
	g_autofree char *a = wdr_format_duration(8);
	g_autofree char *b = wdr_format_duration(727);
	g_autofree char *c = wdr_format_duration(3900);

	ck_assert_str_eq(a, "8 s");
	ck_assert_str_eq(b, "12 min 7 s");
	ck_assert_str_eq(c, "1 h 5 min");
}
END_TEST

START_TEST(rounding)
{
	ck_assert_uint_eq(wdr_round_up(0, 4096), 0);
	ck_assert_uint_eq(wdr_round_up(1, 4096), 4096);
	ck_assert_uint_eq(wdr_round_up(4096, 4096), 4096);
	ck_assert_uint_eq(wdr_round_down(4097, 4096), 4096);
	ck_assert_uint_eq(wdr_round_up(UINT64_MAX - 1, 4096), UINT64_MAX - 4095);
}
END_TEST

Suite *suite_text(void)
{
	Suite *s = suite_create("base/text");
	TCase *t = tcase_create("text");

	tcase_add_loop_test(t, format_size, 0, (int)G_N_ELEMENTS(sizes));
	tcase_add_loop_test(t, counts_have_commas, 0, (int)G_N_ELEMENTS(counts));
	tcase_add_loop_test(t, words_are_wrapped, 0, (int)G_N_ELEMENTS(wraps));
	tcase_add_loop_test(t, parse_size, 0, (int)G_N_ELEMENTS(good_sizes));
	tcase_add_loop_test(t, parse_bad_size, 0, (int)G_N_ELEMENTS(bad_sizes));
	tcase_add_loop_test(t, escape, 0, (int)G_N_ELEMENTS(escapes));
	tcase_add_loop_test(t, what_escaping_does_not_make, 0, 7);
	tcase_add_test(t, escape_and_back);
	tcase_add_test(t, escape_line_keeps_tabs_and_backslashes);
	tcase_add_test(t, durations);
	tcase_add_test(t, rounding);
	suite_add_tcase(s, t);
	return s;
}
