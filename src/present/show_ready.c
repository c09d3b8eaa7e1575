/* The checks before a move as text and JSON. */
#include "present/show_ready.h"

#include "base/json.h"
#include "present/show_rehearsal.h"

static const struct {
	const char *name; /* in JSON */
	const char *mark;
	WdrStyle style;
} results[] = { { "pass", "ok", WDR_STYLE_PLAIN }, { "remark", "remark", WDR_STYLE_REMARK },
	{ "stop", "STOP", WDR_STYLE_BAD } };

static void show(const WdrOut *out, const WdrCheck *c, const char *name, const char *mark)
{
	wdr_present_finding(out, results[c->result].style, name, mark, c->evidence,
		c->result == WDR_CHECK_PASS ? NULL : c->remedy);
}

/* Names of stops, each once, with a blank between them; "" for none. The caller's. */
static char *stops_of(const GPtrArray *checks, const char *before)
{
	g_autoptr(GPtrArray) seen = g_ptr_array_new();
	GString *text = g_string_new(NULL);

	for (guint i = 0; i < checks->len; i++) {
		const WdrCheck *c = checks->pdata[i];
		if (c->result != WDR_CHECK_STOP ||
			g_ptr_array_find_with_equal_func(seen, c->name, g_str_equal, NULL))
			continue;
		g_ptr_array_add(seen, (gpointer)(uintptr_t)c->name);
		g_string_append_printf(text, "%s%s%s", text->len ? " " : "", before, c->name);
	}
	return g_string_free(text, FALSE);
}

static bool has_final(const GPtrArray *checks)
{
	for (guint i = 0; i < checks->len; i++) {
		if (((const WdrCheck *)checks->pdata[i])->is_final)
			return true;
	}
	return false;
}

static void show_verdict(const WdrOut *out, const char *target, const GPtrArray *checks)
{
	guint remarks = wdr_checks_count(checks, WDR_CHECK_REMARK);
	g_autofree char *stops = stops_of(checks, "");
	g_autofree char *despite = stops_of(checks, "--despite ");

	if (!*stops) {
		wdr_out_text(out, remarks ? WDR_STYLE_REMARK : WDR_STYLE_GOOD,
			"ready: the move to %s can begin", target);
		wdr_out_text(out, WDR_STYLE_PLAIN, remarks ? "; %u remark%s\n" : "\n", remarks,
			remarks == 1 ? "" : "s");
		return;
	}
	wdr_out_text(out, WDR_STYLE_BAD, "not ready: %s\n", stops);
	wdr_out_text(out, WDR_STYLE_PLAIN, "  a move to %s is refused", target);
	if (!has_final(checks))
		wdr_out_text(out, WDR_STYLE_PLAIN, ", unless it is given %s", despite);
	fputc('\n', out->file);
}

void wdr_present_checks(const WdrOut *out, const GPtrArray *checks, const char *stop)
{
	const char *before = NULL;

	for (guint i = 0; i < checks->len; i++) {
		const WdrCheck *c = checks->pdata[i];
		show(out, c, g_strcmp0(c->name, before) == 0 ? "" : c->name,
			c->result == WDR_CHECK_STOP ? stop : results[c->result].mark);
		before = c->name;
	}
}

void wdr_present_ready(const WdrOut *out, const char *target, const GPtrArray *checks)
{
	wdr_present_checks(out, checks, results[WDR_CHECK_STOP].mark);
	fputc('\n', out->file);
	show_verdict(out, target, checks);
}

void wdr_present_unready(const WdrOut *out, const GPtrArray *checks, const char *const *despite)
{
	const char *before = NULL;

	if (wdr_checks_count(checks, WDR_CHECK_PASS) < checks->len)
		wdr_out_text(out, WDR_STYLE_HEADING, "\nCHECKS that have something to say\n");
	for (guint i = 0; i < checks->len; i++) {
		const WdrCheck *c = checks->pdata[i];
		bool is_waved = c->result == WDR_CHECK_STOP && !c->is_final && despite &&
				g_strv_contains(despite, c->name);
		if (c->result == WDR_CHECK_PASS)
			continue;
		show(out, c, g_strcmp0(c->name, before) == 0 ? "" : c->name,
			is_waved ? "waived" : results[c->result].mark);
		before = c->name;
	}
}

json_t *wdr_present_checks_json(const GPtrArray *checks)
{
	json_t *list = json_array();

	for (guint i = 0; i < checks->len; i++) {
		const WdrCheck *c = checks->pdata[i];
		json_array_append_new(list,
			json_pack("{s:s, s:s, s:o, s:o}", "check", c->name, "result",
				results[c->result].name, "evidence", wdr_json_text(c->evidence),
				"remedy", wdr_json_text(c->remedy)));
	}
	return list;
}

json_t *wdr_present_ready_document(const char *target, const GPtrArray *checks)
{
	return json_pack("{s:s, s:o, s:b, s:b, s:o}", "format", "wanderitas-ready/2", "target",
		wdr_json_text(target), "ready", wdr_ready_stop(checks, NULL) == NULL,
		"can_be_waived", !has_final(checks), "checks", wdr_present_checks_json(checks));
}

void wdr_present_ready_json(FILE *file, const char *target, const GPtrArray *checks)
{
	g_autoptr(json_t) root = wdr_present_ready_document(target, checks);

	json_dumpf(root, file, JSON_INDENT(2));
	fputc('\n', file);
}
