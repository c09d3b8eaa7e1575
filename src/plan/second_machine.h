/* A copy that becomes a second machine: another host name, and nothing of what only one machine may
 * have. A table tells what that is. */
#pragma once

#include "plan/file_plan.h"
#include "plan/itinerary.h"

/* USAGE: it is no host name. */
bool wdr_second_machine_check_name(const char *name, GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* For a move: the user's patterns of what stays behind (NULL: none) and those of the table. The
 * caller's. */
char **wdr_second_machine_patterns(char *const *own);
/* One of the table's. */
bool wdr_second_machine_is_pattern(const char *pattern);
/* Adds the edits of the new root, and notes of what is left to the user. */
bool wdr_second_machine_edit(WdrItinerary *it, const WdrSystem *system, const char *name,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* For a finished disk: what becomes of its files (WdrFilePlan), and notes (char *). UNSUPPORTED: it
 * has no root. */
bool wdr_second_machine_plan(const WdrSystem *system, const char *name, GPtrArray *plans,
	GPtrArray *notes, GError **error) G_GNUC_WARN_UNUSED_RESULT;
