/* Holds what the parts of a boot loader say of their length, and their sums, against the file.
 *
 * Formats: Allwinner's header, U-Boot's include/sunxi_image.h; i.MX, the chips' reference manuals,
 * "Image Vector Table" and "Boot Data"; STM32, tools/stm32image.c; TI, the chips' reference
 * manuals, "Image Format" (GP header); U-Boot's image, include/image.h; FIT with data behind the
 * tree, doc/usage/fit/source_file_format.rst. */
#include "boot/board/loader_whole.h"

#include "base/cursor.h"
#include "base/text.h"
#include "boot/board/loaderfile.h"

#include <libfdt.h>
#include <string.h>
#include <zlib.h>

enum {
	EGON_SUM_AT = 12,
	EGON_LEN_AT = 16,
	EGON_SEED = 0x5f0a6c39,
	IVT_BOOT_DATA_AT = 16,
	IVT_SELF_AT = 20,
	IVT_PAGE = 0x1000,
	STM_HEADER_BYTES = 256,
	STM_SUM_AT = 0x44,
	STM_LEN_AT = 0x4c,
	CH_SIZE_AT = 512,
	IMAGE_HEADER_BYTES = 64,
	IMAGE_SUM_AT = 4,
	IMAGE_LEN_AT = 12,
	IMAGE_DATA_SUM_AT = 24,
	TREE_BYTES_MIN = 40,
	TREE_BYTES_MAX = 1024 * 1024,
	FIT_ALIGN = 4,
};

typedef struct {
	const char *file;
	const uint8_t *bytes;
	size_t len;
	unsigned images; /* of a second stage, that were found whole */
	GError **error;
} Check;

static bool cut_short(const Check *c, uint64_t needed)
{
	g_autofree char *is = wdr_format_count(c->len);
	g_autofree char *should = wdr_format_count(needed);

	wdr_error_set(c->error, WDR_ERROR_FORMAT, "%s is cut short: it has %s bytes, and needs %s",
		c->file, is, should);
	wdr_error_hint(c->error, "nothing was changed; get the file anew");
	return false;
}

static bool damaged(const Check *c, size_t at)
{
	wdr_error_set(c->error, WDR_ERROR_FORMAT,
		"%s is damaged: the sum of what begins at byte %zu is wrong", c->file, at);
	wdr_error_hint(c->error, "nothing was changed; get the file anew");
	return false;
}

/* ---- first stages ---- */

static bool check_egon(const Check *c)
{
	uint64_t len = wdr_get_le32(c->bytes + EGON_LEN_AT);
	uint32_t sum = EGON_SEED;

	if (len > c->len)
		return cut_short(c, len);
	for (size_t at = 0; at + 4 <= len; at += 4)
		sum += at == EGON_SUM_AT ? 0 : wdr_get_le32(c->bytes + at);
	return sum == wdr_get_le32(c->bytes + EGON_SUM_AT) || damaged(c, 0);
}

/* The addresses are those in memory; the chip loads from the start of a medium on, where the file
 * begins a little later. */
static bool check_ivt(const Check *c)
{
	uint32_t data = wdr_get_le32(c->bytes + IVT_BOOT_DATA_AT);
	uint32_t self = wdr_get_le32(c->bytes + IVT_SELF_AT);
	uint64_t at = (uint64_t)data - self;

	if (data < self || at + 8 > MIN(c->len, (size_t)IVT_PAGE))
		return true;
	uint32_t start = wdr_get_le32(c->bytes + at);
	uint64_t len = wdr_get_le32(c->bytes + at + 4);
	uint64_t before = self >= start ? self - start : 0;
	/* Lengths are rounded up to pages, and the last one need not be in the file. */
	return before > IVT_PAGE || len <= c->len + before + IVT_PAGE || cut_short(c, len - before);
}

static bool check_stm(const Check *c)
{
	uint64_t len = (uint64_t)STM_HEADER_BYTES + wdr_get_le32(c->bytes + STM_LEN_AT);
	uint32_t sum = 0;

	if (len > c->len)
		return cut_short(c, len);
	for (size_t at = STM_HEADER_BYTES; at < len; at++)
		sum += c->bytes[at];
	return sum == wdr_get_le32(c->bytes + STM_SUM_AT) || damaged(c, 0);
}

static bool check_ch(const Check *c)
{
	uint64_t len = (uint64_t)CH_SIZE_AT + wdr_get_le32(c->bytes + CH_SIZE_AT);

	return len <= c->len || cut_short(c, len);
}

static bool check_first(const Check *c)
{
	static const struct {
		const char *family;
		size_t header;
		bool (*check)(const Check *c);
	} stages[] = {
		{ "Allwinner", 20, check_egon },
		{ "i.MX", 32, check_ivt },
		{ "STM32MP", STM_HEADER_BYTES, check_stm },
		{ "TI AM", CH_SIZE_AT + 8, check_ch },
	};

	for (size_t i = 0; i < G_N_ELEMENTS(stages); i++) {
		if (!wdr_loader_file_begins_as(c->bytes, c->len, stages[i].family))
			continue;
		return stages[i].header > c->len ? cut_short(c, stages[i].header)
						 : stages[i].check(c);
	}
	return true;
}

/* ---- images of a second stage ---- */

/* The magic number comes up in code as well: only with the header's own sum it is a header. */
static bool check_image(Check *c, size_t at)
{
	uint8_t header[IMAGE_HEADER_BYTES];

	if (c->len - at < IMAGE_HEADER_BYTES)
		return true;
	memcpy(header, c->bytes + at, sizeof(header));
	uint32_t sum = wdr_get_be32(header + IMAGE_SUM_AT);
	memset(header + IMAGE_SUM_AT, 0, 4);
	if (crc32(0, header, sizeof(header)) != sum)
		return true;
	uint64_t len = wdr_get_be32(header + IMAGE_LEN_AT);
	const uint8_t *data = c->bytes + at + IMAGE_HEADER_BYTES;
	if (len > c->len - at - IMAGE_HEADER_BYTES)
		return cut_short(c, at + IMAGE_HEADER_BYTES + len);
	if (crc32(0, data, (uInt)len) != wdr_get_be32(header + IMAGE_DATA_SUM_AT))
		return damaged(c, at);
	c->images++;
	return true;
}

static uint64_t cell(const void *tree, int node, const char *name, bool *ret_is_there)
{
	int len = 0;
	const uint8_t *value = fdt_getprop(tree, node, name, &len);

	*ret_is_there = value && len == 4;
	return *ret_is_there ? wdr_get_be32(value) : 0;
}

/* What the images of a FIT have behind its tree. */
static bool check_fit_images(Check *c, const void *tree, size_t at, int images)
{
	uint64_t behind = at + wdr_round_up(fdt_totalsize(tree), FIT_ALIGN);
	int node = 0;

	fdt_for_each_subnode(node, tree, images)
	{
		bool has_size = false;
		bool has_offset = false;
		bool has_position = false;
		uint64_t size = cell(tree, node, "data-size", &has_size);
		uint64_t offset = cell(tree, node, "data-offset", &has_offset);
		uint64_t position = cell(tree, node, "data-position", &has_position);
		uint64_t end = has_position ? at + position + size : behind + offset + size;
		if (has_size && (has_offset || has_position) && end > c->len)
			return cut_short(c, end);
	}
	c->images++;
	return true;
}

static bool check_fit(Check *c, size_t at)
{
	size_t size = c->len - at >= TREE_BYTES_MIN ? wdr_get_be32(c->bytes + at + 4) : 0;
	/* One that holds its data itself is as large as these. */
	bool may_be = size >= TREE_BYTES_MIN && size <= c->len - at &&
		      (size <= TREE_BYTES_MAX || at == 0);

	if (at == 0 && size > c->len)
		return cut_short(c, size);
	if (!may_be)
		return true;
	g_autofree void *tree = g_memdup2(c->bytes + at, size);
	if (fdt_check_full(tree, size) != 0)
		return true;
	int images = fdt_path_offset(tree, "/images");
	return images < 0 || check_fit_images(c, tree, at, images);
}

static bool check_all(Check *c, const char *magic, bool (*check)(Check *c, size_t at))
{
	for (size_t at = 0; at < c->len;) {
		const uint8_t *found = memmem(c->bytes + at, c->len - at, magic, 4);
		if (!found)
			return true;
		at = (size_t)(found - c->bytes);
		if (!check(c, at))
			return false;
		at += 4;
	}
	return true;
}

bool wdr_loader_check_whole(
	const char *file, const uint8_t *bytes, size_t len, bool holds_all, GError **error)
{
	Check c = { file, bytes, len, 0, error };

	if (!check_first(&c) || !check_all(&c, "\x27\x05\x19\x56", check_image) ||
		!check_all(&c, "\xd0\x0d\xfe\xed", check_fit))
		return false;
	if (!holds_all || c.images > 0)
		return true;
	wdr_error_set(
		error, WDR_ERROR_FORMAT, "%s is cut short: its second stage is not in it", file);
	wdr_error_hint(error, "nothing was changed; get the file anew");
	return false;
}
