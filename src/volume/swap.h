/* Swap areas: partitions and files. Format: union swap_header of the kernel's include/linux/swap.h,
 * in the byte order of the machine that made it. */
#pragma once

#include "volume/volume.h"

enum {
	WDR_SWAP_HEAD_BYTES = 65536, /* the largest page there is */
	WDR_SWAP_UUID_AT = 1036,
	WDR_SWAP_UUID_BYTES = 16,
	WDR_SWAP_LABEL_BYTES = 16,
};

typedef struct {
	uint32_t page_bytes;
	bool is_big_endian;
	uint8_t uuid[WDR_SWAP_UUID_BYTES];
	char label[WDR_SWAP_LABEL_BYTES + 1];
} WdrSwap;

/* The first bytes of an area (a page of the machine at least); false: this is none. */
bool wdr_swap_parse(const uint8_t *head, size_t len, WdrSwap *ret);
/* "0f7b7d0a-4c4e-…" as it lies in the header; false: that is not what the text is. */
bool wdr_swap_parse_uuid(const char *text, uint8_t ret[WDR_SWAP_UUID_BYTES]);
/* A fresh area's first page (page_bytes of buf), for `size` bytes. False: too small. */
bool wdr_swap_make(const WdrSwap *swap, uint64_t size, uint8_t *buf);

/* As wdr_volume_open(), but a swap file's content is that of a fresh one of the same size: the old
 * one is not read, and has no holes. */
bool wdr_swap_open_content(WdrVolume *v, const WdrNode *node, WdrEntry *entry, WdrContent **ret,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
