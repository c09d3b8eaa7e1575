/* A bounds-checked reader over bytes that came from a disk, and writers of explicit byte order.
 *
 * A read or seek past the end sets the overrun flag, and that and all later reads give 0: a decoder
 * reads a whole structure and asks wdr_cursor_overrun() once. */
#pragma once

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

/* Hashes, kernel structures and what libraries hand over are in the order of the processor, and
 * nobody has tried all of it on one that stores the highest byte first. Not building there is
 * better than failing after a disk was erased. */
#if __BYTE_ORDER__ != __ORDER_LITTLE_ENDIAN__
#error "Wanderitas runs on little-endian processors only"
#endif

typedef struct {
	const uint8_t *data; /* borrowed */
	size_t len;
	size_t pos;
	bool overrun;
} WdrCursor;

WdrCursor wdr_cursor(const void *data, size_t len);
void wdr_cursor_seek(WdrCursor *c, size_t pos);
void wdr_cursor_skip(WdrCursor *c, size_t len);
bool wdr_cursor_overrun(const WdrCursor *c);
size_t wdr_cursor_left(const WdrCursor *c);

uint8_t wdr_cursor_u8(WdrCursor *c);
uint16_t wdr_cursor_le16(WdrCursor *c);
uint32_t wdr_cursor_le32(WdrCursor *c);
uint64_t wdr_cursor_le64(WdrCursor *c);
uint32_t wdr_cursor_be32(WdrCursor *c);
/* Borrowed bytes inside the cursor's data, NULL on overrun. */
const uint8_t *wdr_cursor_bytes(WdrCursor *c, size_t len);

void wdr_put_le16(uint8_t *at, uint16_t value);
void wdr_put_le32(uint8_t *at, uint32_t value);
void wdr_put_le64(uint8_t *at, uint64_t value);
void wdr_put_be32(uint8_t *at, uint32_t value);
uint16_t wdr_get_le16(const uint8_t *at);
uint32_t wdr_get_le32(const uint8_t *at);
uint32_t wdr_get_be32(const uint8_t *at);
