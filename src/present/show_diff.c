/* Diffs in colour. */
#include "present/show_diff.h"

static WdrStyle style_of(const char *line)
{
	if (g_str_has_prefix(line, "---") || g_str_has_prefix(line, "+++"))
		return WDR_STYLE_HEADING;
	return *line == '-' ? WDR_STYLE_BAD : *line == '+' ? WDR_STYLE_GOOD : WDR_STYLE_FAINT;
}

void wdr_present_diff(const WdrOut *out, const char *diff)
{
	g_auto(GStrv) lines = g_strsplit(diff, "\n", -1);

	for (size_t i = 0; lines[i]; i++) {
		if (!*lines[i])
			continue;
		wdr_out_text(out, style_of(lines[i]), "%s", lines[i]);
		fputc('\n', out->file);
	}
}
