#include "present/order.h"

#include "present/diff.h"
#include "present/steps.h"

void wdr_present_order(const WdrOut *out, const WdrOrderPlan *p)
{
	wdr_present_facts(out, p->facts);
	if (p->diff) {
		fputc('\n', out->file);
		wdr_present_diff(out, p->diff);
		if (p->new_settings)
			wdr_out_text(out, WDR_STYLE_PLAIN,
				"\nthe firmware uses its settings from the next start on\n");
	}
	wdr_present_file_plans(out, p->files);
	wdr_present_left(out, p->left);
}

void wdr_present_order_json(FILE *file, const WdrOrderPlan *p, const char *state)
{
	g_autoptr(json_t) root = json_pack("{s:s, s:o, s:s?, s:o, s:o, s:s?}", "format",
		"wanderitas-order/1", "facts", wdr_present_facts_json(p->facts), "diff", p->diff,
		"files", wdr_present_file_plans_json(p->files), "left",
		wdr_present_texts_json(p->left), "state", state);

	json_dumpf(root, file, JSON_INDENT(2));
	fputc('\n', file);
}
