/* Where the drivers are that a kernel needs before root is there. */
#pragma once

#include "change/add_drivers.h"
#include "present/out.h"

void wdr_present_drivers(const WdrOut *out, const WdrDriversPlan *p);
/* "wanderitas-drivers/2"; state: where the records of what was done are; NULL: nothing was. */
void wdr_present_drivers_json(FILE *file, const WdrDriversPlan *p, const char *state);
