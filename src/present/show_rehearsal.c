/* A rehearsal's stages as text and JSON. */
#include "present/show_rehearsal.h"

#include "base/json.h"
#include "present/show_finding.h"

static WdrStyle style_of(WdrVerdict verdict)
{
	return verdict == WDR_VERDICT_BOOTS      ? WDR_STYLE_GOOD
	       : verdict == WDR_VERDICT_WARNINGS ? WDR_STYLE_WARNING
						 : WDR_STYLE_BAD;
}

static void show_step(const WdrOut *out, const WdrStep *step, WdrStage before, bool is_first)
{
	bool is_new = is_first || step->stage != before;

	wdr_present_finding(out, is_new ? wdr_stage_name(step->stage) : "", step->state, step->text,
		step->hint);
}

static void show_verdict(
	const WdrOut *out, const char *how, const char *name, const WdrRehearsal *r)
{
	bool is_known = r->verdict != WDR_VERDICT_UNKNOWN;

	wdr_out_text(out, style_of(r->verdict), "%s: %s%s %s\n", how,
		is_known ? "" : "unknown whether ", name,
		is_known ? wdr_verdict_name(r->verdict) : "boots");
}

static void show_reason(const WdrOut *out, const WdrStep *step)
{
	wdr_out_text(out, WDR_STYLE_PLAIN, "  ");
	wdr_out_hanging(out, WDR_STYLE_PLAIN, 2, step->text);
	if (!step->hint)
		return;
	wdr_out_text(out, WDR_STYLE_PLAIN, "  -> ");
	wdr_out_hanging(out, WDR_STYLE_PLAIN, 5, step->hint);
}

void wdr_present_rehearsal(const WdrOut *out, const char *name, const char *medium,
	const char *without, const WdrRehearsal *r)
{
	WdrStage before = WDR_STAGE_MEDIUM;

	wdr_out_text(out, WDR_STYLE_HEADING, "%s%s%s%s%s; %s treated as unplugged\n\n", name,
		without ? "" : " alone", medium ? " (" : "", medium ? medium : "",
		medium ? ")" : "", without ? without : "all other disks");
	for (guint i = 0; i < r->steps->len; i++) {
		const WdrStep *step = r->steps->pdata[i];
		show_step(out, step, before, i == 0);
		before = step->stage;
	}
	fputc('\n', out->file);
	show_verdict(out, "rehearsed", name, r);
	if (r->reason)
		show_reason(out, r->reason);
}

void wdr_present_verdict(
	const WdrOut *out, const char *how, const char *name, const WdrRehearsal *r)
{
	show_verdict(out, how, name, r);
	if (r->reason) {
		show_reason(out, r->reason);
		return;
	}
	for (guint i = 0; i < r->steps->len; i++) {
		const WdrStep *step = r->steps->pdata[i];
		if (step->state == WDR_STATE_WARNING)
			show_reason(out, step);
	}
}

json_t *wdr_present_rehearsal_document(const char *name, const char *medium, const WdrRehearsal *r)
{
	json_t *steps = json_array();

	for (guint i = 0; i < r->steps->len; i++) {
		const WdrStep *step = r->steps->pdata[i];
		json_array_append_new(steps, wdr_present_finding_json(wdr_stage_name(step->stage),
						     step->state, step->text, step->hint));
	}
	return json_pack("{s:s, s:o, s:s?, s:s, s:o, s:o}", "format", "wanderitas-rehearsal/2",
		"disk", wdr_json_text(name), "medium", medium, "verdict",
		wdr_verdict_name(r->verdict), "reason",
		wdr_json_text(r->reason ? r->reason->text : NULL), "steps", steps);
}

void wdr_present_rehearsal_json(
	FILE *file, const char *name, const char *medium, const WdrRehearsal *r)
{
	g_autoptr(json_t) root = wdr_present_rehearsal_document(name, medium, r);

	wdr_json_print(root, file);
}
