/* The state of this machine's move, and the next command, as text and JSON. */
#pragma once

#include "check/status.h"
#include "present/out.h"

/* problem: why the stage is unknown, with `s` NULL; otherwise NULL. */
void wdr_present_status(const WdrOut *out, const WdrStatus *s, const char *problem);
/* One line: the stage, and what is next. */
void wdr_present_status_short(FILE *file, const WdrStatus *s);
void wdr_present_status_json(FILE *file, const WdrStatus *s);
