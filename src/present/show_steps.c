/* Facts and planned changes of the step commands, as text and JSON. */
#include "present/show_steps.h"

#include "base/command.h"
#include "base/json.h"
#include "base/text.h"
#include "change/fact.h"
#include "present/show_diff.h"
#include "present/show_finding.h"

#include <string.h>

void wdr_present_file_plans(const WdrOut *out, const GPtrArray *plans)
{
	for (guint i = 0; i < plans->len; i++) {
		const WdrFilePlan *p = plans->pdata[i];
		g_autofree char *file = wdr_escape(p->file);
		wdr_out_text(out, WDR_STYLE_HEADING, "\n/%s", file);
		wdr_out_text(out, WDR_STYLE_PLAIN, " (partition %u%s)", p->number,
			!p->content ? ", taken away"
			: p->is_new ? ", new"
				    : "");
		if (p->note)
			wdr_out_text(out, WDR_STYLE_PLAIN, ": %s", p->note);
		fputc('\n', out->file);
		if (p->diff)
			wdr_present_diff(out, p->diff);
	}
}

json_t *wdr_present_file_plans_json(const GPtrArray *plans)
{
	json_t *list = json_array();

	for (guint i = 0; i < plans->len; i++) {
		const WdrFilePlan *p = plans->pdata[i];
		g_autofree char *file = wdr_escape(p->file);
		json_array_append_new(list,
			json_pack("{s:i, s:s, s:s, s:o, s:o}", "partition", (int)p->number, "file",
				file, "change",
				!p->content ? "taken away"
				: p->is_new ? "new"
					    : "changed",
				"note", wdr_json_text(p->note), "diff", wdr_json_text(p->diff)));
	}
	return list;
}

void wdr_present_left(const WdrOut *out, const GPtrArray *left)
{
	if (left->len > 0)
		fputc('\n', out->file);
	for (guint i = 0; i < left->len; i++) {
		wdr_out_text(out, WDR_STYLE_WARNING, "to do by hand: ");
		wdr_out_hanging(out, WDR_STYLE_WARNING, 13, left->pdata[i]);
	}
}

void wdr_present_preview(const WdrOut *out)
{
	g_autofree char *write = wdr_command_again("--write");

	wdr_out_text(out, WDR_STYLE_GOOD, "\npreview only, nothing changed; to apply: %s\n", write);
}

void wdr_present_step_done(const WdrOut *out, const char *name, bool has_unread, const char *state)
{
	wdr_out_text(out, has_unread ? WDR_STYLE_WARNING : WDR_STYLE_GOOD, "\n%s done: %s\n", name,
		has_unread ? "it can be read back only after the next boot; check it then"
			   : "everything was read back");
	g_autofree char *undo = wdr_command("rewind", state);
	wdr_out_text(out, WDR_STYLE_FAINT, "the originals are in %s\nto restore them: %s\n", state,
		undo);
}

void wdr_present_facts(const WdrOut *out, const GPtrArray *facts)
{
	enum { NAME_WIDTH = 11, TEXT_AT = NAME_WIDTH + 2 };
	const char *before = "";

	for (guint i = 0; i < facts->len; i++) {
		const WdrFact *f = facts->pdata[i];
		WdrStyle style = f->is_warning ? WDR_STYLE_WARNING : WDR_STYLE_PLAIN;
		bool is_same = strcmp(f->name, before) == 0;
		wdr_out_text(out, WDR_STYLE_HEADING, "%-*s  ", NAME_WIDTH, is_same ? "" : f->name);
		wdr_out_hanging(out, style, TEXT_AT, f->text);
		before = f->name;
	}
}

json_t *wdr_present_facts_json(const GPtrArray *facts)
{
	json_t *list = json_array();

	for (guint i = 0; i < facts->len; i++) {
		const WdrFact *f = facts->pdata[i];
		json_array_append_new(list,
			wdr_present_finding_json(f->name,
				f->is_warning ? WDR_STATE_WARNING : WDR_STATE_OK, f->text, NULL));
	}
	return list;
}
