#include "cpio.h"

#include "support.h"

#include <archive_entry.h>
#include <string.h>

static la_ssize_t collect(struct archive *a, void *bytes, const void *data, size_t len)
{
	(void)a;
	g_byte_array_append(bytes, data, (guint)len);
	return (la_ssize_t)len;
}

struct archive *cpio_begin(
	GByteArray *to, int (*packing)(struct archive *a), const char *options, int end)
{
	struct archive *a = archive_write_new();

	archive_write_set_format_cpio_newc(a);
	if (packing)
		ck_assert_int_eq(packing(a), ARCHIVE_OK);
	if (options)
		ck_assert_int_eq(archive_write_set_options(a, options), ARCHIVE_OK);
	archive_write_set_bytes_per_block(a, 512);
	archive_write_set_bytes_in_last_block(a, end);
	archive_write_open(a, to, NULL, collect, NULL);
	return a;
}

void cpio_add(struct archive *a, const char *path, unsigned mode, const char *text)
{
	struct archive_entry *e = archive_entry_new();
	unsigned kind = mode & 0170000;

	archive_entry_set_pathname(e, path);
	archive_entry_set_mode(e, (__LA_MODE_T)mode);
	archive_entry_set_size(e, kind == 0100000 ? (la_int64_t)strlen(text) : 0);
	if (kind == 0120000)
		archive_entry_set_symlink(e, text);
	ck_assert_int_eq(archive_write_header(a, e), ARCHIVE_OK);
	if (kind == 0100000)
		archive_write_data(a, text, strlen(text));
	archive_entry_free(e);
}

void cpio_end(struct archive *a)
{
	archive_write_close(a);
	archive_write_free(a);
}
