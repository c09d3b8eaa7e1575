/* Recognizes boot loaders between the table and the first partition. */
#include "boot/board/loaderarea.h"

#include "base/io.h"
#include "base/text.h"

#include <string.h>

enum {
	CHUNK_BYTES = 64 * 1024,
	GPT_ENTRIES_BYTES = 128 * 128,
	VERSION_MAX = 16,
	OVERLAP_BYTES = 4096,
	PARTITION_BYTES_MAX = 2 * 1024 * 1024
};
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

/* The digits of a version behind a word, as many as there are bytes for it. */
static size_t version_len(const uint8_t *at, size_t room)
{
	size_t n = 0;

	while (n < MIN(room, VERSION_MAX) && (g_ascii_isdigit(at[n]) || at[n] == '.'))
		n++;
	return n;
}

/* "U-Boot 2023.01", "U-Boot SPL 2023.01": what the loader says of itself, among other lines that
 * name it. */
char *wdr_loader_version_in(const uint8_t *buf, size_t len)
{
	static const char word[] = "U-Boot ";
	static const char stage[] = "SPL ";
	const size_t word_len = strlen(word);
	const size_t stage_len = strlen(stage);

	for (size_t at = 0; at < len;) {
		const uint8_t *found = memmem(buf + at, len - at, word, word_len);
		if (!found)
			break;
		at = (size_t)(found - buf) + word_len;
		if (len - at >= stage_len && memcmp(buf + at, stage, stage_len) == 0)
			at += stage_len;
		size_t n = version_len(buf + at, len - at);
		if (n >= 4)
			return g_strdup_printf("U-Boot %.*s", (int)n, (const char *)buf + at);
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

/* How U-Boot looks for what it boots: its settings, which are text in it, have the one or the other
 * command. Boards of one version differ in that. */
static const char *way_in(const uint8_t *bytes, size_t len)
{
	static const struct {
		const char *text, *way;
	} ways[] = { { "distro_bootcmd=", "distro boot" }, { "bootflow scan", "standard boot" } };

	for (size_t i = 0; i < G_N_ELEMENTS(ways); i++) {
		if (memmem(bytes, len, ways[i].text, strlen(ways[i].text)))
			return ways[i].way;
	}
	return NULL;
}

static char *what_of(const char *family, const char *version, const char *way)
{
	if (!family && !version)
		return g_strdup("unknown");
	return g_strdup_printf("%s%s%s%s%s%s", family ? family : "", family && version ? ", " : "",
		version ? version : "", way ? " (" : "", way ? way : "", way ? ")" : "");
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
	return what_of(wdr_loader_family_in(bytes, len), version, way_in(bytes, len));
}

bool wdr_loader_area_find(
	WdrBlockDev *dev, const WdrPartTable *t, WdrLoaderArea *ret, GError **error)
{
	g_autofree uint8_t *buf = g_malloc(CHUNK_BYTES);
	g_autofree char *version = NULL;
	uint64_t start = wdr_table_end(t->kind, wdr_blockdev_sector_size(dev));
	uint64_t end = first_partition(t, wdr_blockdev_size(dev));
	uint64_t last = 0;
	const char *way = NULL;

	*ret = (WdrLoaderArea){ 0 };
	/* Each stretch begins with the end of the one before, so that no text is cut in two. */
	for (uint64_t at = start; at < end; at += CHUNK_BYTES - OVERLAP_BYTES) {
		size_t len = (size_t)MIN(CHUNK_BYTES, end - at);
		if (!wdr_blockdev_read(dev, buf, len, at, error))
			return false;
		if (wdr_is_zero(buf, len))
			continue;
		last = at + len;
		if (!version)
			version = wdr_loader_version_in(buf, len);
		if (!way)
			way = way_in(buf, len);
	}
	if (last == 0)
		return true;
	ret->start = start;
	ret->size = last - start;
	const char *family = family_of(dev, ret);
	ret->what = what_of(family, version, way);
	return true;
}

/* Names: README.Debian of u-boot-stm32. Types: U-Boot's doc/board/sifive/unmatched.rst; StarFive's
 * chips use the same two. */
bool wdr_loader_is_partition(const WdrPartition *p)
{
	static const char *const names[] = { "fsbl1", "fsbl2", "ssbl", NULL };
	static const char *const types[] = { "5b193300-fc78-40cd-8002-e86c45580b47",
		"2e54b353-1271-4842-806f-e436d6af6985", NULL };

	return (p->name && g_strv_contains(names, p->name)) ||
	       (p->type && g_strv_contains(types, p->type));
}

char *wdr_loader_in_partitions(WdrBlockDev *dev, const WdrPartTable *t)
{
	g_autofree uint8_t *buf = g_malloc(PARTITION_BYTES_MAX);
	g_autofree char *version = NULL;
	bool is_used = false;

	for (guint i = 0; t && i < t->partitions->len && !version; i++) {
		const WdrPartition *p = t->partitions->pdata[i];
		size_t len = (size_t)MIN(p->size, (uint64_t)PARTITION_BYTES_MAX);
		if (!wdr_loader_is_partition(p) ||
			!wdr_blockdev_read(dev, buf, len, p->start, NULL))
			continue;
		is_used |= !wdr_is_zero(buf, len);
		version = wdr_loader_version_in(buf, len);
	}
	return version ? g_steal_pointer(&version) : is_used ? g_strdup("unknown") : NULL;
}

char *wdr_loader_on(const WdrSystem *s)
{
	g_auto(WdrLoaderArea) area = { 0 };
	g_autofree char *in_partitions = wdr_loader_in_partitions(s->dev, s->table);

	if (in_partitions && strcmp(in_partitions, "unknown") != 0)
		return g_steal_pointer(&in_partitions);
	if (!wdr_loader_area_find(s->dev, s->table, &area, NULL) || area.size == 0 ||
		strcmp(area.what, "unknown") == 0)
		return NULL;
	return g_steal_pointer(&area.what);
}
