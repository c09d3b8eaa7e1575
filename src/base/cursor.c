/* Reading integers and byte ranges from a buffer, with every bound checked. */
#include "base/cursor.h"

#include <glib.h>

WdrCursor wdr_cursor(const void *data, size_t len)
{
	return (WdrCursor){ .data = data, .len = len };
}

void wdr_cursor_seek(WdrCursor *c, size_t pos)
{
	if (pos > c->len)
		c->overrun = true;
	else
		c->pos = pos;
}

size_t wdr_cursor_left(const WdrCursor *c)
{
	return c->overrun ? 0 : c->len - c->pos;
}

const uint8_t *wdr_cursor_bytes(WdrCursor *c, size_t len)
{
	if (c->overrun || len > c->len - c->pos) {
		c->overrun = true;
		return NULL;
	}
	const uint8_t *at = c->data + c->pos;
	c->pos += len;
	return at;
}

void wdr_cursor_skip(WdrCursor *c, size_t len)
{
	(void)wdr_cursor_bytes(c, len);
}

bool wdr_cursor_overrun(const WdrCursor *c)
{
	return c->overrun;
}

static uint64_t little_endian(WdrCursor *c, size_t len)
{
	const uint8_t *at = wdr_cursor_bytes(c, len);
	uint64_t value = 0;

	for (size_t i = len; at && i > 0; i--)
		value = value << 8 | at[i - 1];
	return value;
}

uint8_t wdr_cursor_u8(WdrCursor *c)
{
	return (uint8_t)little_endian(c, 1);
}

uint16_t wdr_cursor_le16(WdrCursor *c)
{
	return (uint16_t)little_endian(c, 2);
}

uint32_t wdr_cursor_le32(WdrCursor *c)
{
	return (uint32_t)little_endian(c, 4);
}

uint64_t wdr_cursor_le64(WdrCursor *c)
{
	return little_endian(c, 8);
}

uint32_t wdr_cursor_be32(WdrCursor *c)
{
	/* The macro may use its argument four times. */
	uint32_t swapped = wdr_cursor_le32(c);

	return GUINT32_SWAP_LE_BE(swapped);
}

void wdr_put_be32(uint8_t *at, uint32_t value)
{
	wdr_put_le32(at, GUINT32_SWAP_LE_BE(value));
}

void wdr_put_le16(uint8_t *at, uint16_t value)
{
	at[0] = (uint8_t)value;
	at[1] = (uint8_t)(value >> 8);
}

void wdr_put_le32(uint8_t *at, uint32_t value)
{
	wdr_put_le16(at, (uint16_t)value);
	wdr_put_le16(at + 2, (uint16_t)(value >> 16));
}

void wdr_put_le64(uint8_t *at, uint64_t value)
{
	wdr_put_le32(at, (uint32_t)value);
	wdr_put_le32(at + 4, (uint32_t)(value >> 32));
}

uint16_t wdr_get_le16(const uint8_t *at)
{
	return (uint16_t)(at[0] | (unsigned)at[1] << 8);
}

uint32_t wdr_get_le32(const uint8_t *at)
{
	return wdr_get_le16(at) | (uint32_t)wdr_get_le16(at + 2) << 16;
}

uint32_t wdr_get_be32(const uint8_t *at)
{
	return (uint32_t)at[0] << 24 | (uint32_t)at[1] << 16 | (uint32_t)at[2] << 8 | at[3];
}
