/* Reads and seals U-Boot's legacy images. */
#include "boot/formats/image.h"

#include "base/cursor.h"
#include "boot/formats/mention.h"

#include <string.h>
#include <zlib.h>

enum {
	MAGIC = 0x27051956,
	AT_HEADER_CRC = 4,
	AT_SIZE = 12,
	AT_DATA_CRC = 24,
	AT_TYPE = 30,
	AT_NAME = 32,
	NAME_BYTES = 32,
	SCRIPTS_MAX = 16,
};

static uint32_t checksum(const uint8_t *bytes, size_t len)
{
	return (uint32_t)crc32_z(crc32_z(0, NULL, 0), bytes, len);
}

static uint32_t header_checksum(const uint8_t *bytes)
{
	uint8_t header[WDR_IMAGE_HEADER_BYTES];

	memcpy(header, bytes, sizeof(header));
	memset(header + AT_HEADER_CRC, 0, 4);
	return checksum(header, sizeof(header));
}

static bool find_text(WdrCursor *c, WdrLoaderImage *ret, GError **error)
{
	uint32_t first = wdr_cursor_be32(c);
	uint32_t more = first;

	for (unsigned i = 0; more != 0 && i < SCRIPTS_MAX; i++)
		more = wdr_cursor_be32(c);
	if (wdr_cursor_overrun(c) || more != 0 || first == 0 || first > wdr_cursor_left(c))
		return wdr_error_set(error, WDR_ERROR_FORMAT, "its list of lengths makes no sense");
	ret->text_at = c->pos;
	ret->text_bytes = first;
	return true;
}

bool wdr_loader_image_parse(const void *bytes, size_t len, WdrLoaderImage *ret, GError **error)
{
	WdrCursor c = wdr_cursor(bytes, len);
	uint32_t magic = wdr_cursor_be32(&c);
	uint32_t header_crc = wdr_cursor_be32(&c);

	wdr_cursor_seek(&c, AT_SIZE);
	uint32_t size = wdr_cursor_be32(&c);
	wdr_cursor_seek(&c, AT_DATA_CRC);
	uint32_t data_crc = wdr_cursor_be32(&c);
	wdr_cursor_seek(&c, AT_TYPE);
	*ret = (WdrLoaderImage){ .type = wdr_cursor_u8(&c), .data_bytes = size };
	wdr_cursor_seek(&c, AT_NAME);
	const uint8_t *name = wdr_cursor_bytes(&c, NAME_BYTES);
	if (wdr_cursor_overrun(&c) || magic != MAGIC)
		return wdr_error_set(error, WDR_ERROR_FORMAT, "this is no loader image");
	memcpy(ret->name, name, NAME_BYTES);
	if (header_checksum(bytes) != header_crc)
		return wdr_error_set(error, WDR_ERROR_FORMAT,
			"the header's checksum is wrong; the loader would refuse it");
	if (size > wdr_cursor_left(&c))
		return wdr_error_set(error, WDR_ERROR_FORMAT, "it is cut short: %u of %zu bytes",
			size, wdr_cursor_left(&c));
	if (checksum((const uint8_t *)bytes + WDR_IMAGE_HEADER_BYTES, size) != data_crc)
		return wdr_error_set(error, WDR_ERROR_FORMAT,
			"the data's checksum is wrong; the loader would refuse it");
	c.len = WDR_IMAGE_HEADER_BYTES + (size_t)size;
	return ret->type != WDR_IMAGE_SCRIPT || find_text(&c, ret, error);
}

/* Size and checksums of the data behind the header. */
static void seal(uint8_t *bytes, size_t data_bytes)
{
	wdr_put_be32(bytes + AT_SIZE, (uint32_t)data_bytes);
	wdr_put_be32(bytes + AT_DATA_CRC, checksum(bytes + WDR_IMAGE_HEADER_BYTES, data_bytes));
	wdr_put_be32(bytes + AT_HEADER_CRC, header_checksum(bytes));
}

void wdr_loader_image_seal(uint8_t *bytes, const WdrLoaderImage *before, ptrdiff_t delta)
{
	wdr_put_be32(
		bytes + WDR_IMAGE_HEADER_BYTES, (uint32_t)((ptrdiff_t)before->text_bytes + delta));
	seal(bytes, (size_t)((ptrdiff_t)before->data_bytes + delta));
}

GBytes *wdr_loader_image_wrap(uint8_t type, const char *name, const void *data, size_t len)
{
	enum { AT_OS = 28, AT_ARCHITECTURE = 29, OS_LINUX = 5, ARM64 = 22, LIST_BYTES = 8 };
	size_t list = type == WDR_IMAGE_SCRIPT ? LIST_BYTES : 0;
	uint8_t *bytes = g_malloc0(WDR_IMAGE_HEADER_BYTES + list + len);

	wdr_put_be32(bytes, MAGIC);
	bytes[AT_OS] = OS_LINUX;
	bytes[AT_ARCHITECTURE] = ARM64;
	bytes[AT_TYPE] = type;
	memcpy(bytes + AT_NAME, name, MIN(strlen(name), NAME_BYTES));
	if (list)
		wdr_put_be32(bytes + WDR_IMAGE_HEADER_BYTES, (uint32_t)len);
	if (len > 0)
		memcpy(bytes + WDR_IMAGE_HEADER_BYTES + list, data, len);
	seal(bytes, list + len);
	return g_bytes_new_take(bytes, WDR_IMAGE_HEADER_BYTES + list + len);
}

GBytes *wdr_loader_image_rewrap(const void *header, const void *data, size_t len)
{
	uint8_t *bytes = g_malloc(WDR_IMAGE_HEADER_BYTES + len);

	memcpy(bytes, header, WDR_IMAGE_HEADER_BYTES);
	memcpy(bytes + WDR_IMAGE_HEADER_BYTES, data, len);
	seal(bytes, len);
	return g_bytes_new_take(bytes, WDR_IMAGE_HEADER_BYTES + len);
}

bool wdr_image_read(const WdrReading *r, GError **error)
{
	WdrLoaderImage image;

	if (!wdr_loader_image_parse(r->text, r->len, &image, error)) {
		g_prefix_error(error, "%s: ", r->file);
		return false;
	}
	if (image.type != WDR_IMAGE_SCRIPT)
		return true;
	g_autofree char *text = g_strndup(r->text + image.text_at, image.text_bytes);
	WdrReading inner = { r->file, text, image.text_bytes, r->base + image.text_at, r->mentions,
		r->warnings };
	return wdr_script_read(&inner, error);
}
