/* What boards with firmware in an EEPROM, or with boot code in their chip, can boot from at all. */
#pragma once

#include "boot/board/board.h"

typedef enum {
	WDR_ABILITY_FULL,
	WDR_ABILITY_DOUBT, /* perhaps */
	WDR_ABILITY_NONE,
} WdrBootSupport;

/* medium as in WdrDisk. *ret_why: what speaks against it; NULL: nothing does; the caller's.
 * *ret_hint is static, or NULL. */
WdrBootSupport wdr_board_can(
	const WdrBoard *b, const char *medium, char **ret_why, const char **ret_hint);

/* "nvme" for "NVMe", as options have it; NULL: there is none. */
const char *wdr_medium_word(const char *medium);
/* And back; NULL: it is no such word. */
const char *wdr_medium_of_word(const char *word);
