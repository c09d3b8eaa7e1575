/* What was put back, as text and JSON. */
#include "present/show_rewind.h"

#include "base/json.h"
#include "base/text.h"
#include "present/show_diff.h"

static unsigned count_left(const GPtrArray *results)
{
	unsigned left = 0;

	for (guint i = 0; results && i < results->len; i++)
		left += ((const WdrRewound *)results->pdata[i])->is_back ? 0 : 1;
	return left;
}

unsigned wdr_present_rewound(const WdrOut *out, const char *logbook, const GPtrArray *results)
{
	unsigned left = count_left(results);

	if (!logbook) {
		fputs("there is no change to undo\n", out->file);
		return 0;
	}
	if (results->len == 0)
		wdr_out_text(out, WDR_STYLE_PLAIN,
			"%s: nothing was changed in place, or all of it is back already\n",
			logbook);
	for (guint i = 0; i < results->len; i++) {
		const WdrRewound *r = results->pdata[i];
		g_autofree char *what = wdr_escape(r->what);
		if (r->is_back) {
			wdr_out_text(out, WDR_STYLE_GOOD, "%s%s\n",
				r->was_back ? "was back already  " : "put back  ", what);
			continue;
		}
		wdr_out_text(out, WDR_STYLE_WARNING, "left      %s: %s\n", what, r->why);
		if (r->diff)
			wdr_present_diff(out, r->diff);
	}
	if (left)
		fputs("\n--force puts back what was left, and loses what was changed since\n",
			out->file);
	return left;
}

unsigned wdr_present_rewound_json(FILE *file, const char *logbook, const GPtrArray *results)
{
	json_t *list = json_array();

	for (guint i = 0; results && i < results->len; i++) {
		const WdrRewound *r = results->pdata[i];
		g_autofree char *what = wdr_escape(r->what);
		json_array_append_new(list,
			json_pack("{s:s, s:s, s:o, s:o}", "what", what, "result",
				r->was_back  ? "was back"
				: r->is_back ? "put back"
					     : "not put back",
				"why", wdr_json_text(r->why), "diff", wdr_json_text(r->diff)));
	}
	g_autoptr(json_t) root = json_pack("{s:s, s:o, s:o}", "format", "wanderitas-rewind/1",
		"logbook", wdr_json_text(logbook), "changes", list);
	wdr_json_print(root, file);
	return count_left(results);
}
