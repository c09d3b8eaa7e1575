/* Recognizes boot loaders between the table and the first partition. */
#include "boot/board/loaderarea.h"

#include "base/io.h"
#include "base/text.h"

#include <string.h>

enum { CHUNK_BYTES = 64 * 1024, GPT_ENTRIES_BYTES = 128 * 128, VERSION_MAX = 16 };
/* A first partition further away than this has something else before it than a loader. */
#define AREA_BYTES_MAX (64 * WDR_MIB)

static const struct {
	uint64_t at;
	const char *bytes;
	size_t len;
	const char *what;
	bool has_boot_code;
} signatures[] = {
	{ 528, "@AML", 4, "Amlogic", true },
	{ 1024, "\xd1\x00\x20", 3, "i.MX", false },
	{ 8192 + 4, "eGON.BT0", 8, "Allwinner", false },
	{ 32768, "RKNS", 4, "Rockchip", false },
	{ 32768, "\x3b\x8c\xdc\xfc", 4, "Rockchip", false },
	{ 32768, "\xd1\x00\x20", 3, "i.MX 8M", false },
	{ 33792, "\xd1\x00\x20", 3, "i.MX 8M", false },
	{ 131072 + 4, "eGON.BT0", 8, "Allwinner", false },
	{ 131072 + 20, "CHSETTINGS", 10, "TI AM", false },
	{ 262144 + 20, "CHSETTINGS", 10, "TI AM", false },
	{ 393216 + 20, "CHSETTINGS", 10, "TI AM", false },
};

void wdr_loader_area_clear(WdrLoaderArea *a)
{
	g_clear_pointer(&a->what, g_free);
	a->size = 0;
}

uint64_t wdr_table_end(WdrTableKind kind, uint32_t sector_size)
{
	uint64_t sectors =
		kind == WDR_TABLE_GPT ? 2 + (GPT_ENTRIES_BYTES + sector_size - 1) / sector_size : 1;

	return sectors * sector_size;
}

static uint64_t first_partition(const WdrPartTable *t, uint64_t end)
{
	for (guint i = 0; i < t->partitions->len; i++)
		end = MIN(end, ((const WdrPartition *)t->partitions->pdata[i])->start);
	return MIN(end, AREA_BYTES_MAX);
}

/* "U-Boot 2023.01", "U-Boot SPL 2023.01": what the loader says of itself. */
char *wdr_loader_version_in(const uint8_t *buf, size_t len)
{
	static const char *const words[] = { "U-Boot ", "U-Boot SPL " };

	for (size_t i = 0; i < G_N_ELEMENTS(words); i++) {
		size_t word = strlen(words[i]);
		const uint8_t *at = memmem(buf, len, words[i], word);
		const char *digits = at ? (const char *)at + word : NULL;
		size_t room = at ? len - (size_t)(at - buf) - word : 0;
		size_t n = 0;
		while (n < MIN(room, VERSION_MAX) &&
			(g_ascii_isdigit(digits[n]) || digits[n] == '.'))
			n++;
		if (n >= 4)
			return g_strdup_printf("U-Boot %.*s", (int)n, digits);
	}
	return NULL;
}

static const char *family_of(WdrBlockDev *dev, WdrLoaderArea *ret)
{
	char found[16];

	for (size_t i = 0; i < G_N_ELEMENTS(signatures); i++) {
		if (signatures[i].at < ret->start ||
			signatures[i].at + signatures[i].len > ret->start + ret->size ||
			!wdr_blockdev_read(dev, found, signatures[i].len, signatures[i].at, NULL) ||
			memcmp(found, signatures[i].bytes, signatures[i].len) != 0)
			continue;
		ret->has_boot_code = signatures[i].has_boot_code;
		return signatures[i].what;
	}
	return NULL;
}

static char *what_of(const char *family, const char *version)
{
	if (!family && !version)
		return g_strdup("unknown");
	return g_strdup_printf("%s%s%s", family ? family : "", family && version ? ", " : "",
		version ? version : "");
}

const char *wdr_loader_family_in(const uint8_t *bytes, size_t len)
{
	/* In SPI flash, some begin at the first byte. */
	static const struct {
		size_t at;
		const char *bytes;
		size_t len;
		const char *what;
	} in_flash[] = { { 4, "eGON.BT0", 8, "Allwinner" }, { 0, "RKNS", 4, "Rockchip" },
		{ 0, "\x3b\x8c\xdc\xfc", 4, "Rockchip" } };

	for (size_t i = 0; i < G_N_ELEMENTS(signatures); i++) {
		if (signatures[i].at + signatures[i].len <= len &&
			memcmp(bytes + signatures[i].at, signatures[i].bytes, signatures[i].len) ==
				0)
			return signatures[i].what;
	}
	for (size_t i = 0; i < G_N_ELEMENTS(in_flash); i++) {
		if (in_flash[i].at + in_flash[i].len <= len &&
			memcmp(bytes + in_flash[i].at, in_flash[i].bytes, in_flash[i].len) == 0)
			return in_flash[i].what;
	}
	return NULL;
}

char *wdr_loader_in(const uint8_t *bytes, size_t len)
{
	size_t used = 0;

	while (used < len && (bytes[used] == 0xff || bytes[used] == 0))
		used++;
	if (used == len)
		return NULL;
	g_autofree char *version = wdr_loader_version_in(bytes, len);
	return what_of(wdr_loader_family_in(bytes, len), version);
}

bool wdr_loader_area_find(
	WdrBlockDev *dev, const WdrPartTable *t, WdrLoaderArea *ret, GError **error)
{
	g_autofree uint8_t *buf = g_malloc(CHUNK_BYTES);
	g_autofree char *version = NULL;
	uint64_t start = wdr_table_end(t->kind, wdr_blockdev_sector_size(dev));
	uint64_t end = first_partition(t, wdr_blockdev_size(dev));
	uint64_t last = 0;

	*ret = (WdrLoaderArea){ 0 };
	for (uint64_t at = start; at < end; at += CHUNK_BYTES) {
		size_t len = (size_t)MIN(CHUNK_BYTES, end - at);
		if (!wdr_blockdev_read(dev, buf, len, at, error))
			return false;
		if (wdr_is_zero(buf, len))
			continue;
		last = at + len;
		if (!version)
			version = wdr_loader_version_in(buf, len);
	}
	if (last == 0)
		return true;
	ret->start = start;
	ret->size = last - start;
	const char *family = family_of(dev, ret);
	ret->what = what_of(family, version);
	return true;
}
