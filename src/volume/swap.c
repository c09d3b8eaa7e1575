/* Reads and makes swap headers.
 *
 * Swap is never copied: what was swapped out belongs to the running kernel. An area of the same
 * size, label and a new UUID is made instead. A hibernated system is in there, too, and is reported
 * before. */
#include "volume/swap.h"

#include "base/cursor.h"

#include <string.h>

enum {
	VERSION_AT = 1024,
	LAST_PAGE_AT = 1028,
	BAD_PAGES_AT = 1032,
	LABEL_AT = WDR_SWAP_UUID_AT + WDR_SWAP_UUID_BYTES,
	MAGIC_BYTES = 10,
	PAGES_MIN = 10,
};
static const char magic[] = "SWAPSPACE2";

static const uint32_t page_sizes[] = { 4096, 8192, 16384, 65536 };

bool wdr_swap_parse(const uint8_t *head, size_t len, WdrSwap *ret)
{
	for (size_t i = 0; i < G_N_ELEMENTS(page_sizes); i++) {
		uint32_t page = page_sizes[i];
		if (len < page || memcmp(head + page - MAGIC_BYTES, magic, MAGIC_BYTES) != 0)
			continue;
		WdrCursor c = wdr_cursor(head, len);
		wdr_cursor_seek(&c, VERSION_AT);
		uint32_t version = wdr_cursor_le32(&c);
		*ret = (WdrSwap){ .page_bytes = page, .is_big_endian = version == 1u << 24 };
		if (version != 1 && !ret->is_big_endian)
			return false;
		memcpy(ret->uuid, head + WDR_SWAP_UUID_AT, WDR_SWAP_UUID_BYTES);
		memcpy(ret->label, head + LABEL_AT, WDR_SWAP_LABEL_BYTES);
		return true;
	}
	return false;
}

bool wdr_swap_parse_uuid(const char *text, uint8_t ret[WDR_SWAP_UUID_BYTES])
{
	size_t n = 0;

	for (const char *c = text ? text : ""; *c && n < WDR_SWAP_UUID_BYTES; c++) {
		if (*c == '-')
			continue;
		int high = g_ascii_xdigit_value(c[0]);
		int low = high >= 0 ? g_ascii_xdigit_value(c[1]) : -1;
		if (low < 0)
			return false;
		ret[n++] = (uint8_t)(high * 16 + low);
		c++;
	}
	return n == WDR_SWAP_UUID_BYTES;
}

static void put_u32(uint8_t *at, uint32_t value, bool is_big_endian)
{
	for (unsigned i = 0; i < 4; i++)
		at[is_big_endian ? 3 - i : i] = (uint8_t)(value >> (8 * i));
}

bool wdr_swap_make(const WdrSwap *swap, uint64_t size, uint8_t *buf)
{
	uint64_t pages = size / swap->page_bytes;

	if (pages < PAGES_MIN)
		return false;
	memset(buf, 0, swap->page_bytes);
	put_u32(buf + VERSION_AT, 1, swap->is_big_endian);
	put_u32(buf + LAST_PAGE_AT, (uint32_t)MIN(pages - 1, G_MAXUINT32), swap->is_big_endian);
	put_u32(buf + BAD_PAGES_AT, 0, swap->is_big_endian);
	memcpy(buf + WDR_SWAP_UUID_AT, swap->uuid, WDR_SWAP_UUID_BYTES);
	memcpy(buf + LABEL_AT, swap->label, WDR_SWAP_LABEL_BYTES);
	memcpy(buf + swap->page_bytes - MAGIC_BYTES, magic, MAGIC_BYTES);
	return true;
}

/* ---- swap files ---- */

typedef struct {
	WdrContent content;
	uint8_t *head;
	uint32_t head_bytes;
	uint64_t size, pos;
} Fresh;

/* Zeros are written: kernels before 5.8 take a range that was only allocated for a hole. */
static bool fresh_next(WdrContent *content, void *buf, size_t cap, WdrPiece *ret, GError **error)
{
	Fresh *f = WDR_DERIVED(content, Fresh, content);
	uint64_t len = MIN(cap, f->size - f->pos);

	(void)error;
	memset(buf, 0, (size_t)len);
	if (f->pos < f->head_bytes)
		memcpy(buf, f->head + f->pos, (size_t)MIN(len, f->head_bytes - f->pos));
	*ret = (WdrPiece){ .offset = f->pos, .len = len };
	f->pos += len;
	return true;
}

static void fresh_free(WdrContent *content)
{
	g_free(WDR_DERIVED(content, Fresh, content)->head);
	g_free(content);
}

static bool read_head(WdrContent *content, uint8_t *head, size_t *ret_len, GError **error)
{
	g_autofree uint8_t *buf = g_malloc(WDR_SWAP_HEAD_BYTES);
	WdrPiece piece = { 0 };

	/* A header lies in one piece with what comes before it. */
	*ret_len = 0;
	while (*ret_len < WDR_SWAP_HEAD_BYTES) {
		g_autoptr(GError) local = NULL;
		if (!wdr_content_next(
			    content, buf, WDR_SWAP_HEAD_BYTES - *ret_len, &piece, &local)) {
			/* No header can be read: not a swap area. Who reads it will see. */
			if (wdr_error_is_medium(local))
				return true;
			g_propagate_error(error, g_steal_pointer(&local));
			return false;
		}
		if (piece.len == 0 || piece.is_unwritten || piece.offset != *ret_len)
			return true;
		memcpy(head + *ret_len, buf, (size_t)piece.len);
		*ret_len += (size_t)piece.len;
	}
	return true;
}

static WdrContent *fresh_new(const WdrSwap *swap, uint64_t size)
{
	static const WdrContentOps ops = { fresh_next, fresh_free, NULL, NULL };
	Fresh *f = g_new0(Fresh, 1);

	f->content.ops = &ops;
	f->head = g_malloc(swap->page_bytes);
	f->head_bytes = swap->page_bytes;
	f->size = size;
	if (wdr_swap_make(swap, size, f->head))
		return &f->content;
	fresh_free(&f->content);
	return NULL;
}

bool wdr_swap_open_content(
	WdrVolume *v, const WdrNode *node, WdrEntry *entry, WdrContent **ret, GError **error)
{
	g_autoptr(WdrContent) content = NULL;
	uint64_t page = page_sizes[0];
	WdrSwap swap;
	size_t len = 0;

	if (!wdr_volume_open(v, node, entry, &content, error))
		return false;
	/* Few files are of whole pages; of those the start is read twice. */
	if (entry->size >= page * PAGES_MIN && entry->size % page == 0) {
		g_autofree uint8_t *head = g_malloc(WDR_SWAP_HEAD_BYTES);
		if (!read_head(content, head, &len, error))
			return false;
		g_clear_pointer(&content, wdr_content_free);
		if (wdr_swap_parse(head, len, &swap) && (*ret = fresh_new(&swap, entry->size)))
			return true;
		if (!wdr_volume_open(v, node, entry, &content, error))
			return false;
	}
	*ret = g_steal_pointer(&content);
	return true;
}
