/* What could not be read, and possible causes. */
#include "present/show_trouble.h"

#include "base/text.h"

enum { SHOWN_MAX = 40, RANGES_SHOWN_MAX = 3 };

static char *ranges_text(const WdrUnreadable *m)
{
	GString *text = g_string_new(NULL);

	if (!m->ranges)
		return g_string_free(g_string_append(text, "all of it"), FALSE);
	for (guint i = 0; i < m->ranges->len && i < RANGES_SHOWN_MAX; i++) {
		const WdrRange *r = &g_array_index(m->ranges, WdrRange, i);
		g_string_append_printf(text, "%s%" G_GUINT64_FORMAT "-%" G_GUINT64_FORMAT,
			i ? ", " : "", r->offset, r->offset + r->len - 1);
	}
	if (m->ranges->len > RANGES_SHOWN_MAX)
		g_string_append_printf(text, ", %u more", m->ranges->len - RANGES_SHOWN_MAX);
	return g_string_free(text, FALSE);
}

void wdr_present_unreadable(const WdrOut *out, const GPtrArray *missing)
{
	static const WdrColumn columns[] = { { "PARTITION", true }, { "COULD NOT BE READ", false },
		{ "BYTES", false }, { "MISSING", true } };
	g_autoptr(WdrGrid) g = wdr_grid_new(columns, G_N_ELEMENTS(columns));

	for (guint i = 0; i < missing->len && i < SHOWN_MAX; i++) {
		const WdrUnreadable *m = missing->pdata[i];
		g_autofree char *number = g_strdup_printf("%u", m->partition);
		g_autofree char *path =
			m->path ? g_strconcat("/", m->path, NULL) : g_strdup("(its own blocks)");
		g_autofree char *ranges = ranges_text(m);
		g_autofree char *bytes =
			m->ranges ? wdr_format_size(wdr_unreadable_bytes(m)) : g_strdup("");
		const char *cells[] = { number, path, ranges, bytes };
		wdr_grid_row(g, WDR_STYLE_BAD, cells);
	}
	wdr_grid_print(g, out);
	if (missing->len > SHOWN_MAX)
		wdr_out_text(out, WDR_STYLE_PLAIN, "... and %u more; the logbook has all\n",
			missing->len - SHOWN_MAX);
}

json_t *wdr_present_unreadable_json(const GPtrArray *missing)
{
	json_t *list = json_array();

	for (guint i = 0; missing && i < missing->len; i++) {
		const WdrUnreadable *m = missing->pdata[i];
		json_t *ranges = m->ranges ? json_array() : json_null();
		for (guint n = 0; m->ranges && n < m->ranges->len; n++) {
			const WdrRange *r = &g_array_index(m->ranges, WdrRange, n);
			json_array_append_new(
				ranges, json_pack("{s:I, s:I}", "offset", (json_int_t)r->offset,
						"length", (json_int_t)r->len));
		}
		json_array_append_new(
			list, json_pack("{s:i, s:s?, s:o}", "partition", (int)m->partition, "path",
				      m->path, "ranges", ranges));
	}
	return list;
}

void wdr_present_failure_clues(const WdrOut *out, const char *disk, const GPtrArray *signs)
{
	if (signs->len == 0)
		return;
	wdr_out_text(out, WDR_STYLE_HEADING, "possible causes of the failure of %s:\n", disk);
	for (guint i = 0; i < signs->len; i++)
		wdr_out_text(out, WDR_STYLE_WARNING, "  %s\n", (const char *)signs->pdata[i]);
}
