/* An arrival as text or JSON. */
#pragma once

#include "base/cleanup.h"
#include "check/arrive.h"
#include "present/out.h"

void wdr_present_arrival(const WdrOut *out, const WdrArrival *a);
/* "wanderitas-arrival/2". */
/* The caller's. */
json_t *wdr_present_arrival_document(const WdrArrival *a);
void wdr_present_arrival_json(FILE *file, const WdrArrival *a);
