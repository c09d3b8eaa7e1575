/* The boot order of boards whose firmware is in an EEPROM: BOOT_ORDER=0x…, at most eight
 * hexadecimal digits, which are tried from the right. Source: the firmware's documentation. */
#pragma once

#include "base/error.h"

enum { WDR_ORDER_DIGITS_MAX = 8 };

typedef struct {
	unsigned digits[WDR_ORDER_DIGITS_MAX]; /* as they are tried */
	unsigned n;
	unsigned reached; /* of these: what stands behind "stop" or "start over" is never tried */
	bool starts_over;
} WdrBootOrder;

/* "0xf416", "f416". FORMAT: a digit that the firmware does not know, or too many. */
bool wdr_boot_order_parse(
	const char *text, WdrBootOrder *ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* "NVMe, then SD or eMMC, then USB, then from the start again". The caller's. */
char *wdr_boot_order_words(const WdrBootOrder *o);
/* Whether it comes to this medium, as in WdrDisk; *ret_place (from 0) when. */
bool wdr_boot_order_tries(const WdrBootOrder *o, const char *medium, unsigned *ret_place);
/* The order with this medium put first, and the card somewhere behind it, as the number that it
 * would be; NULL: the firmware has no digit for it. The caller's. */
char *wdr_boot_order_with_first(const WdrBootOrder *o, const char *medium);
