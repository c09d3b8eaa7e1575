/* The checks before a move, as text or JSON. */
#pragma once

#include "base/cleanup.h"
#include "check/ready.h"
#include "present/out.h"

/* All of them, and what comes of them. `target`: its name. */
void wdr_present_ready(const WdrOut *out, const char *target, const GPtrArray *checks);
/* Those that did not pass, for the end of another report; `despite` (names, NULL-ended) are shown
 * as waived. */
void wdr_present_unready(const WdrOut *out, const GPtrArray *checks, const char *const *despite);
/* A list of checks, whatever they are about. */
void wdr_present_checks(const WdrOut *out, const GPtrArray *checks);
json_t *wdr_present_checks_json(const GPtrArray *checks);
/* "wanderitas-ready/2". The caller's. */
json_t *wdr_present_ready_document(const char *target, const GPtrArray *checks);
