/* What became of the changes that were to be taken back. */
#pragma once

#include "change/rewind.h"
#include "present/out.h"

/* results: WdrRewound; NULL: no logbook was found. Returns how many were left as they are. */
unsigned wdr_present_rewound(const WdrOut *out, const char *logbook, const GPtrArray *results);
unsigned wdr_present_rewound_json(FILE *file, const char *logbook, const GPtrArray *results);
