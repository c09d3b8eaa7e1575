/* What the steps around a move share when they are shown: files that are to be changed, and what
 * was done. */
#pragma once

#include "base/cleanup.h"
#include "change/disk_session.h"
#include "present/out.h"

/* Each file with its diff, or what becomes of it. */
void wdr_present_file_plans(const WdrOut *out, const GPtrArray *plans);
json_t *wdr_present_file_plans_json(const GPtrArray *plans);
/* Lines (char *) of what is left to the user. */
void wdr_present_left(const WdrOut *out, const GPtrArray *left);
/* "drivers done: …", with the way back; has_unread: something of it can be read back only later. */
/* Nothing was changed, and what changes it. */
void wdr_present_preview(const WdrOut *out);
void wdr_present_step_done(const WdrOut *out, const char *name, bool has_unread, const char *state);
/* WdrFact, one a line. */
void wdr_present_facts(const WdrOut *out, const GPtrArray *facts);
json_t *wdr_present_facts_json(const GPtrArray *facts);
