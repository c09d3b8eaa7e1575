/* The order in which the board tries its media. */
#pragma once

#include "change/order.h"
#include "present/out.h"

void wdr_present_order(const WdrOut *out, const WdrOrderPlan *p);
/* "wanderitas-order/2"; state as for wdr_present_drivers_json(). */
void wdr_present_order_json(FILE *file, const WdrOrderPlan *p, const char *state);
