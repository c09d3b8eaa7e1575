/* What the parts of a boot order's plan share. Private to this folder. */
#pragma once

#include "change/order.h"

void wdr_order_leave(WdrOrderPlan *p, const char *text);
/* One more of the plan's orders, without any media yet. */
WdrOrderTold *wdr_order_told(WdrOrderPlan *p, const char *name, const char *value);
/* order_firmware.c, order_uboot.c, order_efi.c */
bool wdr_order_of_firmware(WdrOrderPlan *p, const WdrOrderOptions *o, GError **error);
bool wdr_order_of_uboot(WdrOrderPlan *p, const WdrOrderOptions *o, GError **error);
bool wdr_order_of_efi(WdrOrderPlan *p, const WdrOrderOptions *o, GError **error);
