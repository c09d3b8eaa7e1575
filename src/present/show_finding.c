/* One line of a checklist, as text and JSON. */
#include "present/show_finding.h"

static const WdrStyle styles[] = { WDR_STYLE_PLAIN, WDR_STYLE_WARNING, WDR_STYLE_BAD,
	WDR_STYLE_WARNING };

static void show(const WdrOut *out, const char *about, WdrStyle style, const char *mark,
	const char *text, const char *hint)
{
	enum { ABOUT_WIDTH = 11, MARK_WIDTH = 7, TEXT_AT = ABOUT_WIDTH + MARK_WIDTH + 4 };

	wdr_out_text(out, style, "%-*s  %-*s  ", ABOUT_WIDTH, about, MARK_WIDTH, mark);
	wdr_out_hanging(out, style, TEXT_AT, text);
	if (!hint)
		return;
	wdr_out_text(out, WDR_STYLE_FAINT, "%*s-> ", TEXT_AT, "");
	wdr_out_hanging(out, WDR_STYLE_FAINT, TEXT_AT + 3, hint);
}

void wdr_present_finding(
	const WdrOut *out, const char *about, WdrState state, const char *text, const char *hint)
{
	show(out, about, styles[state], wdr_state_name(state), text,
		state == WDR_STATE_OK ? NULL : hint);
}

void wdr_present_waived(const WdrOut *out, const char *about, const char *text, const char *hint)
{
	show(out, about, styles[WDR_STATE_STOP], "waived", text, hint);
}

json_t *wdr_present_finding_json(
	const char *name, WdrState state, const char *text, const char *hint)
{
	return json_pack("{s:s, s:s, s:o, s:o}", "name", name, "state", wdr_state_name(state),
		"text", wdr_json_text(text), "hint", wdr_json_text(hint));
}
