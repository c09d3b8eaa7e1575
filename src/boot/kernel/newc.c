/* Writes a newc archive. */
#include "boot/kernel/newc.h"

#include <stdio.h>
#include <string.h>

/* Names and data begin at multiples of this. */
enum { ALIGN = 4, HEADER_BYTES = 110 };

static const char trailer[] = "TRAILER!!!";

void wdr_newc_begin(WdrNewc *n, GByteArray *bytes, int64_t mtime)
{
	*n = (WdrNewc){ .bytes = bytes,
		.begun = bytes->len,
		.next_inode = 1,
		.mtime = (uint32_t)CLAMP(mtime, 0, G_MAXUINT32) };
}

static void align(WdrNewc *n)
{
	static const uint8_t zeros[ALIGN];

	g_byte_array_append(n->bytes, zeros, (ALIGN - (n->bytes->len - n->begun) % ALIGN) % ALIGN);
}

typedef struct {
	uint32_t inode, mode, links;
} Head;

static void put(WdrNewc *n, const char *path, const Head *head, const void *data, size_t len)
{
	size_t name_len = strlen(path) + 1;
	char header[HEADER_BYTES + 1];

	/* Magic; inode, mode, owner, group, links, time, size; numbers of two devices; the name's
	 * length with its 0; a sum that this form does not use. */
	g_snprintf(header, sizeof(header),
		"070701%08X%08X%08X%08X%08X%08X%08X%08X%08X%08X%08X%08X%08X", head->inode,
		head->mode, 0u, 0u, head->links, n->mtime, (unsigned)len, 0u, 0u, 0u, 0u,
		(unsigned)name_len, 0u);
	g_byte_array_append(n->bytes, (const guint8 *)header, HEADER_BYTES);
	g_byte_array_append(n->bytes, (const guint8 *)path, (guint)name_len);
	align(n);
	if (len > 0)
		g_byte_array_append(n->bytes, data, (guint)len);
	align(n);
}

bool wdr_newc_add(
	WdrNewc *n, const char *path, uint32_t mode, const void *data, size_t len, GError **error)
{
	/* The array's own limit is below the format's. */
	if (len > G_MAXINT32 - n->bytes->len || strlen(path) > 4096)
		return wdr_error_set(error, WDR_ERROR_UNSUPPORTED,
			"/%s is too large for an initramfs archive", path);
	bool is_folder = (mode & 0170000) == 0040000;
	Head head = { n->next_inode++, mode, is_folder ? 2 : 1 };
	put(n, path, &head, data, len);
	return true;
}

void wdr_newc_end(WdrNewc *n)
{
	put(n, trailer, &(Head){ .links = 1 }, NULL, 0);
}
