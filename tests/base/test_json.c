/* Text that is no UTF-8 in JSON: for people, and to be read back to the byte. */
#include "base/json.h"

#include "suite.h"

#include <string.h>

Suite *suite_json(void);

static const char *const texts[] = { "", "reed", "\xc3\xb6tter", "v\xf6gel", "\xff\xfe",
	"back\\slash", "v\xf6gel\\x41", "\x1b[31m" };

START_TEST(to_the_byte_and_back)
{
	const char *text = texts[_i];
	g_autoptr(json_t) root = json_pack("{s:o, s:o, s:n}", "bytes", wdr_json_bytes(text), "text",
		wdr_json_text(text), "nothing");
	char *dumped = json_dumps(root, 0);
	g_autoptr(json_t) again = json_loads(dumped, 0, NULL);
	g_autofree char *back = wdr_json_optional(again, "bytes");
	g_autofree char *shown = wdr_json_optional(again, "text");

	g_free(dumped);
	ck_assert_str_eq(back, text);
	ck_assert_ptr_nonnull(shown);
	ck_assert_ptr_null(wdr_json_optional(again, "nothing"));
	ck_assert_ptr_null(wdr_json_optional(again, "missing"));
}
END_TEST

static const char *const wrong[] = { "{\"a\": 1}", "{\"a\": {}}", "{\"a\": {\"escaped\": 1}}",
	"{\"a\": {\"escaped\": \"x\", \"b\": 1}}", "{\"a\": {\"escaped\": \"\\\\x00\"}}",
	"{\"a\": {\"other\": \"x\"}}", "{\"a\": [\"x\"]}" };

START_TEST(what_is_no_text)
{
	g_autoptr(json_t) root = json_loads(wrong[_i], 0, NULL);

	ck_assert_ptr_nonnull(root);
	ck_assert_ptr_null(wdr_json_optional(root, "a"));
}
END_TEST

START_TEST(for_people_all_is_text)
{
	g_autoptr(json_t) root = json_pack("{s:o, s:[o, {s:o}], s:i}", "a", wdr_json_bytes("\xf6"),
		"b", wdr_json_bytes("\xf7"), "c", wdr_json_bytes("d"), "e", 5);
	g_autoptr(json_t) want =
		json_pack("{s:s, s:[s, {s:s}], s:i}", "a", "\\xf6", "b", "\\xf7", "c", "d", "e", 5);

	wdr_json_show(root);
	ck_assert(json_equal(root, want));
}
END_TEST

Suite *suite_json(void)
{
	Suite *s = suite_create("base/json");
	TCase *t = tcase_create("json");

	tcase_add_loop_test(t, to_the_byte_and_back, 0, (int)G_N_ELEMENTS(texts));
	tcase_add_loop_test(t, what_is_no_text, 0, (int)G_N_ELEMENTS(wrong));
	tcase_add_test(t, for_people_all_is_text);
	suite_add_tcase(s, t);
	return s;
}
