/* What could not be read, and what can be seen of why. */
#pragma once

#include "base/cleanup.h"
#include "move/missing.h"
#include "present/out.h"

/* A table of what is missing (WdrMissing). */
void wdr_present_missing(const WdrOut *out, const GPtrArray *missing);
json_t *wdr_present_missing_json(const GPtrArray *missing);
/* One line a sign (char *) below a heading; nothing for none. */
void wdr_present_signs(const WdrOut *out, const char *disk, const GPtrArray *signs);
