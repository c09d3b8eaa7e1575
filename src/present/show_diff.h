/* Unified diffs, coloured on a terminal. */
#pragma once

#include "present/out.h"

void wdr_present_diff(const WdrOut *out, const char *diff);
