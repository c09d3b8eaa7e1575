/* The list of many boards, as a page and as a table, over reports of every kind. */
#include "support.h"

#include "check/report_index.h"
#include "pages/page_index.h"

#include <string.h>

Suite *suite_page_index(void);

/* A report with the members that a list takes something of. */
static json_t *report_of(const char *host, const char *serial, const char *state)
{
	json_error_t e;
	json_t *report = json_pack_ex(&e, 0,
		"{s:{s:s}, s:s, s:[{s:I, s:I}], s:{s:I, s:I, s:I}, s:{s:{s:s, s:s, s:s, s:s, s:I}}, s:[], "
		"s:[{s:s, s:s, s:s}]}",
		"moved", "host", host, "state", state, "steps", "at", (json_int_t)1795000000,
		"seconds", (json_int_t)90, "figures", "bytes", (json_int_t)300000000,
		"bytes_before", (json_int_t)100000000, "copy_ms", (json_int_t)2000, "itinerary",
		"target", "name", "sda", "medium", "USB disk", "model", "Reedbed SSD", "serial",
		serial, "size", (json_int_t)2147483648, "unreadable", "warnings", "from", "draft",
		"text", "the same everywhere", "hint", "look");

	ck_assert_msg(report != NULL, "%s", e.text);
	return report;
}

static json_t *index_of_two(const char *host, const char *serial)
{
	json_t *index = wdr_report_index_new(sup_world());
	g_autoptr(json_t) done = report_of(host, serial, "done");
	g_autoptr(json_t) broken = report_of("heron-hide-12", "RB-0002", "unfinished");

	json_object_set_new(done, "rehearsal", json_pack("{s:s}", "verdict", "boots"));
	wdr_report_index_add(index,
		&(WdrIndexedBoard){
			.name = "one", .label = "=1+1", .page = "one.html", .report = done });
	wdr_report_index_add(
		index, &(WdrIndexedBoard){ .name = "two", .page = "two.html", .report = broken });
	wdr_report_index_add(index, &(WdrIndexedBoard){ .name = "three", .host = "heron-hide-13" });
	return index;
}

START_TEST(what_a_list_takes)
{
	g_autoptr(json_t) index = index_of_two("heron-hide-11", "RB-0001");
	const json_t *boards = json_object_get(index, "boards");
	const json_t *one = json_array_get(boards, 0);
	const json_t *three = json_array_get(boards, 2);

	ck_assert_int_eq(json_integer_value(json_object_get(one, "finished_at")), 1795000090);
	ck_assert(json_real_value(json_object_get(one, "mb_per_s")) == 100.0);
	ck_assert(json_is_null(json_object_get(json_array_get(boards, 1), "finished_at")));
	ck_assert_str_eq(json_string_value(json_object_get(three, "state")), "none");
	ck_assert_str_eq(json_string_value(json_object_get(three, "host")), "heron-hide-13");
	ck_assert(json_is_null(json_object_get(three, "target")));
}
END_TEST

START_TEST(a_page)
{
	g_autoptr(json_t) index = index_of_two("heron-hide-11", "<b>\xe2\x80\xae\"");
	g_autofree char *page = wdr_page_index(index, "dock <1>");

	ck_assert_ptr_nonnull(strstr(page, "<h1>dock &lt;1&gt;</h1>"));
	ck_assert_ptr_nonnull(strstr(page, "1 of 3 copied and read back completely"));
	ck_assert_ptr_nonnull(strstr(page, "1 with something wrong"));
	ck_assert_ptr_nonnull(strstr(page, "<a href=\"one.html\">one</a>"));
	ck_assert_ptr_nonnull(strstr(page, "100 MB/s"));
	/* Once, with both boards. */
	const char *warning = strstr(page, "the same everywhere");
	ck_assert_ptr_nonnull(warning);
	ck_assert_ptr_null(strstr(warning + 1, "the same everywhere"));
	ck_assert_ptr_nonnull(strstr(page, ">one, two</td>"));
	ck_assert_ptr_null(strstr(page, "<b>"));
	ck_assert_ptr_null(strstr(page, "\xe2\x80\xae"));
}
END_TEST

START_TEST(a_table)
{
	g_autoptr(json_t) index = index_of_two("heron \"hide\"", "-RB,1");
	g_autofree char *csv = wdr_boards_csv(index);

	ck_assert_str_eq(csv,
		"\"board\",\"label\",\"host_name\",\"medium\",\"model\",\"serial\",\"size_bytes\","
		"\"finished\",\"copied\",\"rehearsed\",\"after_restart\"\r\n"
		"\"one\",\"'=1+1\",\"heron \"\"hide\"\"\",\"USB disk\",\"Reedbed SSD\",\"'-RB,1\","
		"\"2147483648\",\"2026-11-18 11:08:10Z\",\"complete\",\"boots\",\"not checked\"\r\n"
		"\"two\",\"\",\"heron-hide-12\",\"USB disk\",\"Reedbed SSD\",\"RB-0002\","
		"\"2147483648\",\"\",\"not finished\",\"not rehearsed\",\"not checked\"\r\n"
		"\"three\",\"\",\"heron-hide-13\",\"\",\"\",\"\",\"0\",\"\",\"not begun\",\"not "
		"rehearsed\",\"not checked\"\r\n");
}
END_TEST

static const char *const odd[] = { "{}", "[]", "null", "{\"warnings\": 5, \"steps\": {}}",
	"{\"state\": \"done\", \"steps\": [5], \"figures\": [], \"itinerary\": {\"target\": 5}}",
	"{\"state\": 7, \"warnings\": [1, null, {\"text\": 5}], \"moved\": {\"host\": 1}}",
	"{\"state\": \"done\", \"steps\": [{\"at\": 9223372036854775807}]}",
	"{\"itinerary\": {\"target\": {\"size\": -5, \"serial\": {}}}}",
	"{\"figures\": {\"bytes\": -1, \"copy_ms\": 0.001}}" };

START_TEST(whatever_a_report_is)
{
	json_error_t e;
	g_autoptr(json_t) report = json_loads(odd[_i], JSON_DECODE_ANY, &e);
	g_autoptr(json_t) index = wdr_report_index_new(sup_world());

	ck_assert_msg(report != NULL, "%s", e.text);
	wdr_report_index_add(index, &(WdrIndexedBoard){ .name = "odd", .report = report });
	g_autofree char *page = wdr_page_index(index, "odd");
	g_autofree char *csv = wdr_boards_csv(index);
	ck_assert(g_str_has_suffix(page, "</html>\n"));
	ck_assert_ptr_nonnull(strstr(csv, "\r\n\"odd\","));
}
END_TEST

Suite *suite_page_index(void)
{
	Suite *s = suite_create("pages/page_index");
	TCase *t = tcase_create("page_index");

	tcase_add_checked_fixture(t, sup_setup, sup_teardown);
	tcase_add_test(t, what_a_list_takes);
	tcase_add_test(t, a_page);
	tcase_add_test(t, a_table);
	tcase_add_loop_test(t, whatever_a_report_is, 0, (int)G_N_ELEMENTS(odd));
	suite_add_tcase(s, t);
	return s;
}
