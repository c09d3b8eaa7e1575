/* The page over reports that are not as they should be: it stays a page, and what is in the report
 * stays text. */
#include "support.h"

#include "pages/page.h"

#include <string.h>

Suite *suite_page(void);

#define EVIL "\"'><script>x</script>&amp;\x01\x7f\xe2\x80\xae<!--"

/* As a report has it, with this text in every place that has text. */
static json_t *report_of(const char *text)
{
	json_error_t e;
	json_t *report = json_pack_ex(&e, 0,
		"{s:s, s:I, s:s, s:s, s:{s:s, s:s}, s:{s:s, s:s}, s:s, s:{s:s, s:I, s:{s:s, s:s, s:I}, "
		"s:{s:s, s:I}, s:[{s:i, s:s, s:s, s:{s:I, s:I, s:s}, s:{s:I, s:I, s:s}}], s:[{s:s, s:s, "
		"s:i, s:s}], s:[{s:s, s:I, s:I}], s:[{s:i, s:I, s:I, s:s, s:s}]}}",
		"format", "wanderitas-report/2", "made_at", (json_int_t)1795000000, "made_by", text,
		"records", text, "machine", "host", text, "board", text, "moved", "host", text,
		"system", text, "state", text, "itinerary", "what", text, "made_at",
		(json_int_t)1795000000, "source", "name", text, "model", text, "size",
		(json_int_t)1000000000, "target", "serial", text, "size", (json_int_t)2000000000,
		"partitions", "number", 1, "role", text, "fs", text, "from", "start",
		(json_int_t)1048576, "size", (json_int_t)500000000, "uuid", text, "to", "start",
		(json_int_t)1048576, "size", (json_int_t)900000000, "uuid", "new", "edits", "file",
		text, "on", text, "partition", 1, "diff", text, "left_behind", "pattern", text,
		"entries", (json_int_t)1, "bytes", (json_int_t)1, "on_target_now", "number", 1,
		"start", (json_int_t)1048576, "size", (json_int_t)900000000, "fs", text, "label",
		text);

	ck_assert_msg(report != NULL, "%s", e.text);
	json_object_set_new(report, "warnings",
		json_pack("[{s:s, s:s, s:s}]", "from", text, "text", text, "hint", text));
	json_object_set_new(report, "back", json_pack("[s]", text));
	json_object_set_new(
		report, "steps", json_pack("[{s:I, s:s}]", "at", (json_int_t)1, "what", text));
	json_object_set_new(
		report, "stops", json_pack("[{s:I, s:s}]", "at", (json_int_t)1, "why", text));
	json_object_set_new(report, "ready",
		json_pack("{s:[{s:s, s:s, s:s, s:s}]}", "checks", "name", text, "state", text,
			"text", text, "hint", text));
	json_object_set_new(report, "unreadable",
		json_pack(
			"[{s:i, s:s, s:I}]", "partition", 1, "path", text, "bytes", (json_int_t)5));
	return report;
}

static unsigned count(const char *text, const char *part)
{
	unsigned n = 0;

	for (const char *at = text; (at = strstr(at, part)); at += strlen(part))
		n++;
	return n;
}

START_TEST(text_stays_text)
{
	g_autoptr(json_t) evil = report_of(EVIL);
	g_autoptr(json_t) plain = report_of("heron");
	g_autofree char *bad = wdr_page(evil, NULL);
	g_autofree char *good = wdr_page(plain, NULL);

	/* As many tags as with harmless text, and none that ends an attribute. */
	ck_assert_uint_eq(count(bad, "<"), count(good, "<"));
	ck_assert_uint_eq(count(bad, ">"), count(good, ">"));
	ck_assert_uint_eq(count(bad, "\""), count(good, "\""));
	ck_assert_uint_gt(count(bad, "&lt;script&gt;"), 25);
	ck_assert_uint_eq(count(good, "heron"), count(bad, "&lt;script&gt;"));
	ck_assert_ptr_null(strchr(bad, '\x01'));
	ck_assert_ptr_null(strstr(bad, "\xe2\x80\xae"));
	ck_assert(g_utf8_validate(bad, -1, NULL));
}
END_TEST

/* A record of pace with such a name goes another way. */
START_TEST(measured_names_stay_text)
{
	g_autoptr(json_t) report = report_of("heron");
	g_autoptr(WdrPaceRecord) r = wdr_pace_record_new(sup_world(), 1);
	WdrPaced *p = wdr_paced_new(EVIL, "disk");

	p->model = g_strdup(EVIL);
	p->link.text = g_strdup(EVIL);
	p->label = g_strdup(EVIL);
	p->figures[WDR_PACE_READ_MANY] =
		(WdrPaceFigure){ .is_there = true, .median = 5e6, .min = 1e6, .max = 9e6 };
	wdr_pace_record_add(r, p);
	g_autofree char *page = wdr_page(report, r);
	ck_assert_ptr_null(strstr(page, "<script"));
	ck_assert_ptr_null(strchr(page, '\x01'));
	ck_assert_ptr_nonnull(strstr(page, ", unsteady"));
}
END_TEST

static const char *const sections[] = { "summary", "warnings", "disks", "layout", "identifiers",
	"edits", "checks", "copy", "left", "speeds", "back" };

static void expect_sections(json_t *report)
{
	g_autofree char *page = wdr_page(report, NULL);

	for (size_t i = 0; i < G_N_ELEMENTS(sections); i++) {
		g_autofree char *tag = g_strdup_printf("<section id=\"%s\">", sections[i]);
		ck_assert_msg(count(page, tag) == 1, "%s", tag);
	}
	ck_assert(g_str_has_suffix(page, "</html>\n"));
}

static const char *const odd[] = { "{}", "[]", "null", "5", "{\"itinerary\": 5, \"ready\": [1, 2]}",
	"{\"warnings\": {\"a\": 1}, \"steps\": [[], 1, null], \"back\": [1, {}]}",
	"{\"itinerary\": {\"source\": {\"size\": -5}, \"partitions\": [{\"to\": {\"start\": -1, "
	"\"size\": 9223372036854775807}}, 7]}}",
	"{\"itinerary\": {\"made_at\": 9223372036854775807, \"target\": {\"size\": 1}, "
	"\"partitions\": [{\"to\": {\"start\": 9223372036854775807, \"size\": "
	"9223372036854775807}}]}}" };

START_TEST(whatever_it_is_given)
{
	json_error_t e;
	g_autoptr(json_t) report = json_loads(odd[_i], JSON_DECODE_ANY, &e);

	ck_assert_msg(report != NULL, "%s", e.text);
	expect_sections(report);
}
END_TEST

Suite *suite_page(void)
{
	Suite *s = suite_create("pages/page");
	TCase *tc = tcase_create("page");

	tcase_add_checked_fixture(tc, sup_setup, sup_teardown);
	tcase_add_test(tc, text_stays_text);
	tcase_add_test(tc, measured_names_stay_text);
	tcase_add_loop_test(tc, whatever_it_is_given, 0, G_N_ELEMENTS(odd));
	suite_add_tcase(s, tc);
	return s;
}
