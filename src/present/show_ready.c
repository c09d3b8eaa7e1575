/* The checks before a move as text and JSON. */
#include "present/show_ready.h"

#include "base/json.h"
#include "present/show_finding.h"

/* Names of stops, each once, with a blank between them; "" for none. The caller's. */
static char *stops_of(const GPtrArray *checks, const char *before)
{
	g_autoptr(GPtrArray) seen = g_ptr_array_new();
	GString *text = g_string_new(NULL);

	for (guint i = 0; i < checks->len; i++) {
		const WdrCheck *c = checks->pdata[i];
		if (c->state != WDR_STATE_STOP ||
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
	guint warnings = wdr_checks_count(checks, WDR_STATE_WARNING);
	g_autofree char *stops = stops_of(checks, "");
	g_autofree char *despite = stops_of(checks, "--despite ");

	if (!*stops) {
		wdr_out_text(out, warnings ? WDR_STYLE_WARNING : WDR_STYLE_GOOD,
			"ready: the move to %s can begin", target);
		wdr_out_text(out, WDR_STYLE_PLAIN, warnings ? "; %u warning%s\n" : "\n", warnings,
			warnings == 1 ? "" : "s");
		return;
	}
	wdr_out_text(out, WDR_STYLE_BAD, "not ready: %s\n", stops);
	wdr_out_text(out, WDR_STYLE_PLAIN, "  a move to %s is refused", target);
	if (!has_final(checks))
		wdr_out_text(out, WDR_STYLE_PLAIN, ", unless it is given %s", despite);
	fputc('\n', out->file);
}

void wdr_present_checks(const WdrOut *out, const GPtrArray *checks)
{
	const char *before = NULL;

	for (guint i = 0; i < checks->len; i++) {
		const WdrCheck *c = checks->pdata[i];
		wdr_present_finding(out, g_strcmp0(c->name, before) == 0 ? "" : c->name, c->state,
			c->text, c->hint);
		before = c->name;
	}
}

void wdr_present_ready(const WdrOut *out, const char *target, const GPtrArray *checks)
{
	wdr_present_checks(out, checks);
	fputc('\n', out->file);
	show_verdict(out, target, checks);
}

void wdr_present_unready(const WdrOut *out, const GPtrArray *checks, const char *const *despite)
{
	const char *before = NULL;

	if (wdr_checks_count(checks, WDR_STATE_OK) < checks->len)
		wdr_out_text(out, WDR_STYLE_HEADING, "\nCHECKS WITH WARNINGS OR STOPS\n");
	for (guint i = 0; i < checks->len; i++) {
		const WdrCheck *c = checks->pdata[i];
		bool is_waived = c->state == WDR_STATE_STOP && !c->is_final && despite &&
				 g_strv_contains(despite, c->name);
		if (c->state == WDR_STATE_OK)
			continue;
		const char *name = g_strcmp0(c->name, before) == 0 ? "" : c->name;
		if (is_waived)
			wdr_present_waived(out, name, c->text, c->hint);
		else
			wdr_present_finding(out, name, c->state, c->text, c->hint);
		before = c->name;
	}
}

json_t *wdr_present_checks_json(const GPtrArray *checks)
{
	json_t *list = json_array();

	for (guint i = 0; i < checks->len; i++) {
		const WdrCheck *c = checks->pdata[i];
		json_array_append_new(
			list, wdr_present_finding_json(c->name, c->state, c->text, c->hint));
	}
	return list;
}

json_t *wdr_present_ready_document(const char *target, const GPtrArray *checks)
{
	return json_pack("{s:s, s:o, s:b, s:b, s:o}", "format", "wanderitas-ready/2", "target",
		wdr_json_text(target), "ready", wdr_ready_stop(checks, NULL) == NULL,
		"can_be_waived", !has_final(checks), "checks", wdr_present_checks_json(checks));
}
