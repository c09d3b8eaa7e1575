/* The words and colours of verdicts. */
#include "pages/page_verdict.h"

#include <string.h>

WdrVerdictText wdr_verdict_copied(const char *state, bool has_damage)
{
	if (strcmp(state, "none") == 0)
		return (WdrVerdictText){ "not begun", "not begun", "plain" };
	if (strcmp(state, "drawn") == 0)
		return (WdrVerdictText){ "planned, not carried out", "planned", "plain" };
	if (strcmp(state, "unfinished") == 0)
		return (WdrVerdictText){ "begun, and not finished", "not finished", "bad" };
	if (has_damage)
		return (WdrVerdictText){ "copied and read back, but for damaged files",
			"damaged files", "warning" };
	return (WdrVerdictText){ "copied and read back completely", "complete", "good" };
}

WdrVerdictText wdr_verdict_rehearsed(const char *verdict)
{
	static const WdrVerdictText all[] = {
		{ "rehearsed: boots", "boots", "good" },
		{ "rehearsed: boots with warnings", "boots with warnings", "warning" },
		{ "rehearsed: does not boot", "does not boot", "bad" },
		{ "rehearsed: unknown", "unknown", "bad" },
	};

	for (size_t i = 0; verdict && i < G_N_ELEMENTS(all); i++) {
		if (strcmp(verdict, all[i].brief) == 0)
			return all[i];
	}
	return (WdrVerdictText){ "not rehearsed", "not rehearsed", "plain" };
}

WdrVerdictText wdr_verdict_arrived(const json_t *arrived, const json_t *as_planned)
{
	if (!json_is_boolean(arrived))
		return (WdrVerdictText){ "not looked at after the restart yet", "not checked",
			"plain" };
	if (!json_is_true(arrived))
		return (WdrVerdictText){ "booted from the old disk", "old disk", "bad" };
	if (!json_is_true(as_planned))
		return (WdrVerdictText){ "booted from the new disk, not everything as planned",
			"not as planned", "warning" };
	return (WdrVerdictText){ "booted from the new disk, everything as planned", "as planned",
		"good" };
}
