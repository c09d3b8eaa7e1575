/* What could not be read, and what can be seen of why. */
#pragma once

#include "base/cleanup.h"
#include "copy/unreadable.h"
#include "present/out.h"

/* A table of what is missing (WdrUnreadable). */
void wdr_present_unreadable(const WdrOut *out, const GPtrArray *missing);
json_t *wdr_present_unreadable_json(const GPtrArray *missing);
/* One line a sign (char *) below a heading; nothing for none. */
void wdr_present_failure_clues(const WdrOut *out, const char *disk, const GPtrArray *signs);
