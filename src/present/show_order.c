/* The boot order as text and JSON. */
#include "present/show_order.h"

#include "base/json.h"
#include "present/show_diff.h"
#include "present/show_steps.h"

void wdr_present_order(const WdrOut *out, const WdrOrderPlan *p)
{
	wdr_present_facts(out, p->facts);
	if (p->diff) {
		fputc('\n', out->file);
		wdr_present_diff(out, p->diff);
		if (p->new_settings || p->has_efi_work)
			wdr_out_text(out, WDR_STYLE_PLAIN,
				"\nthe firmware uses its settings from the next boot on\n");
	}
	wdr_present_file_plans(out, p->files);
	wdr_present_left(out, p->left);
}

static json_t *orders_json(const GPtrArray *orders)
{
	json_t *list = json_array();

	for (guint i = 0; i < orders->len; i++) {
		const WdrOrderTold *t = orders->pdata[i];
		json_array_append_new(
			list, json_pack("{s:s, s:o, s:o, s:b}", "name", t->name, "value",
				      wdr_json_text(t->value), "tries", wdr_json_texts(t->tries),
				      "starts_over", (int)t->starts_over));
	}
	return list;
}

void wdr_present_order_json(FILE *file, const WdrOrderPlan *p, const char *state)
{
	g_autoptr(json_t) root = json_pack("{s:s, s:o, s:o, s:o, s:o, s:o, s:o}", "format",
		"wanderitas-order/2", "facts", wdr_present_facts_json(p->facts), "orders",
		orders_json(p->orders), "diff", wdr_json_text(p->diff), "files",
		wdr_present_file_plans_json(p->files), "todo", wdr_json_texts(p->left), "records",
		wdr_json_text(state));

	wdr_json_print(root, file);
}
