/* Files of a fixed size with texts inside them: UEFI programs with kernel arguments or a
 * configuration, and GRUB's environment block. A text may grow within its room; nothing else
 * moves. */
#pragma once

#include "base/error.h"

#include <stddef.h>

typedef struct {
	size_t at, bytes; /* of the text in the file */
	size_t room;      /* that it may fill */
	size_t length_at; /* of a 32-bit number that tells its length; 0: there is none */
	char padding;     /* what fills the rest of the room */
	const char *what; /* "kernel arguments"; static */
} WdrTextRoom;

/* GArray of WdrTextRoom by place; NULL: this is no such file. The caller's. */
GArray *wdr_text_rooms(const char *bytes, size_t len);
/* Puts another text into a room. REFUSED: it does not fit. `bytes` is the whole file. */
bool wdr_text_room_fill(const WdrTextRoom *room, char *bytes, const char *text, size_t len,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
