/* Finds the disk image in a zip file by the central directory at its end.
 *
 * The local headers before each member are asked for their own length only: all else stands in the
 * central directory, and programs that write in one go leave the sizes in the local header empty.
 */
#include "packed/zip_file.h"

#include "base/cursor.h"
#include "base/io.h"
#include "base/text.h"

#include <string.h>

enum {
	END_SIGNATURE = 0x06054b50,
	END_BYTES = 22,
	END_DISK = 4,
	END_SIZE = 12,
	COMMENT_MAX = 65535,
	LOCATOR_SIGNATURE = 0x07064b50,
	LOCATOR_BYTES = 20,
	LOCATOR_OFFSET = 8,
	END64_SIGNATURE = 0x06064b50,
	END64_BYTES = 56,
	END64_SIZE = 40,
	ENTRY_SIGNATURE = 0x02014b50,
	ENTRY_FLAGS = 8,
	ENTRY_CRC = 16,
	ENTRY_LOCAL = 42,
	ENTRY_BYTES = 46,
	IS_ENCRYPTED = 1,
	METHOD_STORED = 0,
	METHOD_DEFLATE = 8,
	EXTRA_ZIP64 = 1,
	IN_ZIP64 = 0xffff,
	LOCAL_SIGNATURE = 0x04034b50,
	LOCAL_NAME_LEN = 26,
	LOCAL_BYTES = 30,
	/* Some ten thousand members: with so many it is no packed image. */
	DIRECTORY_MAX = 1024 * 1024,
};
#define IN_ZIP64_32 UINT64_C(0xffffffff)

typedef struct {
	int fd;
	uint64_t size;
	uint64_t directory, directory_size;
} Zip;

typedef struct {
	char *name;
	unsigned flags, method;
	uint32_t crc;
	uint64_t packed_size, size, local;
} Entry;

static void entry_free(gpointer data)
{
	Entry *e = data;

	g_free(e->name);
	g_free(e);
}

void wdr_zip_member_clear(WdrZipMember *m)
{
	g_free(m->name);
	memset(m, 0, sizeof(*m));
}

static bool damaged(GError **error, const char *what)
{
	return wdr_error_set(
		error, WDR_ERROR_FORMAT, "the zip file is damaged or cut short: %s", what);
}

/* ---- where the directory is ---- */

/* The place of the end record, which a comment may follow. */
static bool find_end(const Zip *z, uint64_t *ret_at, uint8_t end[END_BYTES], GError **error)
{
	size_t len = (size_t)MIN(z->size, (uint64_t)(END_BYTES + COMMENT_MAX));
	g_autofree uint8_t *tail = g_malloc(len);

	if (len < END_BYTES)
		return damaged(error, "it is too small");
	if (!wdr_pread_all(z->fd, tail, len, z->size - len, error))
		return false;
	for (size_t at = len - END_BYTES + 1; at-- > 0;) {
		if (wdr_get_le32(tail + at) != END_SIGNATURE)
			continue;
		memcpy(end, tail + at, END_BYTES);
		*ret_at = z->size - len + at;
		return true;
	}
	return damaged(error, "its directory is missing");
}

/* The record for more than 4 GiB, which a locator in front of the end record points to. */
static bool read_end64(Zip *z, uint64_t end_at, GError **error)
{
	uint8_t locator[LOCATOR_BYTES];
	uint8_t end[END64_BYTES];

	if (end_at < LOCATOR_BYTES)
		return true;
	if (!wdr_pread_all(z->fd, locator, sizeof(locator), end_at - LOCATOR_BYTES, error))
		return false;
	WdrCursor c = wdr_cursor(locator, sizeof(locator));
	if (wdr_cursor_le32(&c) != LOCATOR_SIGNATURE)
		return true;
	wdr_cursor_seek(&c, LOCATOR_OFFSET);
	uint64_t at = wdr_cursor_le64(&c);
	if (z->size < END64_BYTES || at > z->size - END64_BYTES)
		return damaged(error, "its directory lies behind its end");
	if (!wdr_pread_all(z->fd, end, sizeof(end), at, error))
		return false;
	c = wdr_cursor(end, sizeof(end));
	if (wdr_cursor_le32(&c) != END64_SIGNATURE)
		return damaged(error, "its directory is missing");
	wdr_cursor_seek(&c, END64_SIZE);
	z->directory_size = wdr_cursor_le64(&c);
	z->directory = wdr_cursor_le64(&c);
	return true;
}

static bool find_directory(Zip *z, GError **error)
{
	uint8_t end[END_BYTES];
	uint64_t at = 0;

	if (!find_end(z, &at, end, error))
		return false;
	WdrCursor c = wdr_cursor(end, sizeof(end));
	wdr_cursor_seek(&c, END_DISK);
	uint16_t disk = wdr_cursor_le16(&c);
	wdr_cursor_seek(&c, END_SIZE);
	z->directory_size = wdr_cursor_le32(&c);
	z->directory = wdr_cursor_le32(&c);
	if (disk != 0 && disk != IN_ZIP64)
		return wdr_error_set(
			error, WDR_ERROR_UNSUPPORTED, "the zip file is one part of several");
	if (!read_end64(z, at, error))
		return false;
	if (z->directory > at || z->directory_size > at - z->directory)
		return damaged(error, "its directory lies behind its end");
	if (z->directory_size > DIRECTORY_MAX)
		return wdr_error_set(
			error, WDR_ERROR_UNSUPPORTED, "the zip file has too many files");
	return true;
}

/* ---- its entries ---- */

/* Sizes and offset that do not fit into 32 bits, in the order in which they are missing. */
static bool read_zip64(Entry *e, const uint8_t *extra, size_t len, GError **error)
{
	WdrCursor c = wdr_cursor(extra, len);
	uint64_t *const values[] = { &e->size, &e->packed_size, &e->local };

	while (wdr_cursor_left(&c) >= 4) {
		uint16_t id = wdr_cursor_le16(&c);
		uint16_t field_len = wdr_cursor_le16(&c);
		const uint8_t *field = wdr_cursor_bytes(&c, field_len);
		if (!field)
			return damaged(error, "an entry of its directory");
		if (id != EXTRA_ZIP64)
			continue;
		WdrCursor f = wdr_cursor(field, field_len);
		for (size_t i = 0; i < G_N_ELEMENTS(values); i++) {
			if (*values[i] == IN_ZIP64_32)
				*values[i] = wdr_cursor_le64(&f);
		}
		return !wdr_cursor_overrun(&f) || damaged(error, "an entry of its directory");
	}
	return true;
}

static bool read_entry(WdrCursor *c, Entry **ret, GError **error)
{
	size_t start = c->pos;
	Entry *e = g_new0(Entry, 1);

	if (wdr_cursor_le32(c) != ENTRY_SIGNATURE) {
		entry_free(e);
		return damaged(error, "an entry of its directory");
	}
	wdr_cursor_seek(c, start + ENTRY_FLAGS);
	e->flags = wdr_cursor_le16(c);
	e->method = wdr_cursor_le16(c);
	wdr_cursor_seek(c, start + ENTRY_CRC);
	e->crc = wdr_cursor_le32(c);
	e->packed_size = wdr_cursor_le32(c);
	e->size = wdr_cursor_le32(c);
	uint16_t name_len = wdr_cursor_le16(c);
	uint16_t extra_len = wdr_cursor_le16(c);
	uint16_t comment_len = wdr_cursor_le16(c);
	wdr_cursor_seek(c, start + ENTRY_LOCAL);
	e->local = wdr_cursor_le32(c);
	const uint8_t *name = wdr_cursor_bytes(c, name_len);
	const uint8_t *extra = wdr_cursor_bytes(c, extra_len);
	wdr_cursor_skip(c, comment_len);
	e->name = wdr_escape_line(name ? (const char *)name : "", name ? name_len : 0);
	bool is_whole = !wdr_cursor_overrun(c) || damaged(error, "an entry of its directory");
	if (!is_whole || !read_zip64(e, extra, extra_len, error)) {
		entry_free(e);
		return false;
	}
	*ret = e;
	return true;
}

static bool read_directory(const Zip *z, GPtrArray *entries, GError **error)
{
	g_autofree uint8_t *bytes = g_malloc((size_t)z->directory_size + 1);

	if (!wdr_pread_all(z->fd, bytes, (size_t)z->directory_size, z->directory, error))
		return false;
	WdrCursor c = wdr_cursor(bytes, (size_t)z->directory_size);
	while (wdr_cursor_left(&c) > 0) {
		Entry *e = NULL;
		if (!read_entry(&c, &e, error))
			return false;
		if (g_str_has_suffix(e->name, "/"))
			entry_free(e);
		else
			g_ptr_array_add(entries, e);
	}
	return true;
}

/* ---- the image among them ---- */

static bool is_called_image(const char *name)
{
	static const char *const suffixes[] = { ".img", ".raw", ".wic", ".sdcard", ".sdimg" };
	g_autofree char *lower = g_ascii_strdown(name, -1);

	for (size_t i = 0; i < G_N_ELEMENTS(suffixes); i++) {
		if (g_str_has_suffix(lower, suffixes[i]))
			return true;
	}
	return false;
}

/* NULL: none, or it is not clear which. */
static const Entry *choose(const GPtrArray *entries, unsigned *ret_images)
{
	const Entry *chosen = entries->len == 1 ? entries->pdata[0] : NULL;

	*ret_images = 0;
	for (guint i = 0; i < entries->len; i++) {
		const Entry *e = entries->pdata[i];
		if (is_called_image(e->name) && ++*ret_images == 1)
			chosen = e;
	}
	return *ret_images > 1 ? NULL : chosen;
}

/* Where its bytes begin: behind the header of its own. */
static bool find_data(const Zip *z, const Entry *e, uint64_t *ret, GError **error)
{
	uint8_t header[LOCAL_BYTES];

	if (z->size < LOCAL_BYTES || e->local > z->size - LOCAL_BYTES)
		return damaged(error, "its image lies behind its end");
	if (!wdr_pread_all(z->fd, header, sizeof(header), e->local, error))
		return false;
	WdrCursor c = wdr_cursor(header, sizeof(header));
	if (wdr_cursor_le32(&c) != LOCAL_SIGNATURE)
		return damaged(error, "its image does not begin where its directory says");
	wdr_cursor_seek(&c, LOCAL_NAME_LEN);
	uint64_t name_len = wdr_cursor_le16(&c);
	uint64_t extra_len = wdr_cursor_le16(&c);
	*ret = e->local + LOCAL_BYTES + name_len + extra_len;
	return (*ret <= z->size && e->packed_size <= z->size - *ret) ||
	       damaged(error, "its image lies behind its end");
}

bool wdr_zip_find_image(int fd, uint64_t zip_size, WdrZipMember *ret, GError **error)
{
	g_autoptr(GPtrArray) entries = g_ptr_array_new_with_free_func(entry_free);
	Zip z = { .fd = fd, .size = zip_size };
	unsigned images = 0;
	uint64_t data = 0;

	if (!find_directory(&z, error) || !read_directory(&z, entries, error))
		return false;
	const Entry *e = choose(entries, &images);
	if (!e)
		return images > 1
			       ? wdr_error_set(error, WDR_ERROR_UNSUPPORTED,
					 "the zip file has %u disk images", images)
			       : wdr_error_set(error, WDR_ERROR_UNSUPPORTED,
					 "no file in the zip file is called a disk image (.img)");
	if (e->flags & IS_ENCRYPTED)
		return wdr_error_set(
			error, WDR_ERROR_UNSUPPORTED, "%s in it is encrypted", e->name);
	if (e->method != METHOD_STORED && e->method != METHOD_DEFLATE)
		return wdr_error_set(error, WDR_ERROR_UNSUPPORTED,
			"%s in it is packed by method %u; deflate (8) and stored (0) are known",
			e->name, e->method);
	if (!find_data(&z, e, &data, error))
		return false;
	*ret = (WdrZipMember){ .name = g_strdup(e->name),
		.method = e->method == METHOD_DEFLATE ? "deflate" : "stored",
		.offset = data,
		.packed_size = e->packed_size,
		.size = e->size,
		.crc = e->crc };
	return true;
}
