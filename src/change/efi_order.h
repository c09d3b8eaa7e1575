/* Changing the boot entries of UEFI firmware by the operating system's command for them
 * (efibootmgr), and the way back.
 *
 * The way back is a short text, which is kept like the original of a file:
 *   UEFI
 *   order=0001,0000
 *   remove=0003 PARTUUID FILE      an entry that was made, if it is still that one */
#pragma once

#include "boot/board/efi_settings.h"

typedef struct {
	unsigned number; /* of the entry that is to be first */
	bool is_new;     /* it is to be made, of the rest here */
	char *name, *partuuid, *file;
	char *disk; /* path of its device */
	unsigned partition;
} WdrEfiFirst;
void wdr_efi_first_clear(WdrEfiFirst *f);

/* The order as text, "0001,0000", with `first` (NULL: none) in front. The caller's. */
char *wdr_efi_order_text(const WdrEfiSettings *e, const WdrEfiFirst *first);
/* The number that a new entry gets. */
unsigned wdr_efi_free_number(const WdrEfiSettings *e);
/* The way back from what is there now. The caller's. */
char *wdr_efi_way_back(const WdrEfiSettings *e, const WdrEfiFirst *first);
bool wdr_efi_is_way_back(const char *text);
/* Makes the entry, sets the order, and reads both back. UNSUPPORTED: there is no such command. */
bool wdr_efi_put_first(const WdrWorld *world, const WdrEfiSettings *e, const WdrEfiFirst *first,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Nothing is to be done to go back. */
bool wdr_efi_is_back(const WdrEfiSettings *e, const char *text);
/* Goes back. *ret_was_back: nothing was to be done. */
bool wdr_efi_go_back(const WdrWorld *world, const char *text, bool *ret_was_back,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
