/* One line of a checklist, as text and JSON; all checklists use it. */
#pragma once

#include "base/json.h"
#include "base/state.h"
#include "present/out.h"

/* `about` is what the line is about; "" where the line before has it. `hint` (NULL: none) is shown
 * where something is wrong. */
void wdr_present_finding(
	const WdrOut *out, const char *about, WdrState state, const char *text, const char *hint);
/* A stop that the user chose to pass. */
void wdr_present_waived(const WdrOut *out, const char *about, const char *text, const char *hint);
/* {"name", "state", "text", "hint"}; the caller's. */
json_t *wdr_present_finding_json(
	const char *name, WdrState state, const char *text, const char *hint);
