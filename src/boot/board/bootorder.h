/* The boot order of boards whose firmware is in an EEPROM: BOOT_ORDER=0x…, at most eight
 * hexadecimal digits, which are tried from the right. Source: the firmware's documentation. */
#pragma once

#include "base/error.h"

enum { WDR_ORDER_DIGITS_MAX = 8 };

typedef struct {
	unsigned digits[WDR_ORDER_DIGITS_MAX]; /* as they are tried */
	unsigned n;
	unsigned reached; /* of these: what follows "stop" or "start over" is never tried */
	bool starts_over;
} WdrBootOrder;

/* "0xf416", "f416". FORMAT: a digit that the firmware does not know, or too many. */
bool wdr_boot_order_parse(
	const char *text, WdrBootOrder *ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* As the firmware's settings have it, however it was given: "0xf416". The caller's. */
char *wdr_boot_order_number(const WdrBootOrder *o);
/* "NVMe, then SD or eMMC, then USB, then repeat". The caller's. */
char *wdr_boot_order_words(const WdrBootOrder *o);
/* One of what is reached: "NVMe". Static. */
const char *wdr_boot_order_word(const WdrBootOrder *o, unsigned place);
/* The medium, as in WdrDisk, that one of what is reached is for; NULL: none, or more than one that
 * boards can lack. Static. */
const char *wdr_boot_order_medium(const WdrBootOrder *o, unsigned place);
/* Whether it comes to this medium, as in WdrDisk; *ret_place (from 0) when. */
bool wdr_boot_order_tries(const WdrBootOrder *o, const char *medium, unsigned *ret_place);
/* The order with this medium put first, and the card somewhere behind it, as the number that it
 * would be; NULL: the firmware has no digit for it. The caller's. */
char *wdr_boot_order_with_first(const WdrBootOrder *o, const char *medium);
