/* Checks a boot loader file before it is written. */
#include "boot/board/loaderfile.h"

#include "base/text.h"
#include "boot/board/loaderarea.h"

#include <string.h>

enum { PLACES_MAX = 3 };

/* What a file that begins where the chip looks has at its start, and where that is on a medium. */
static const struct {
	const char *family;
	size_t at;
	const char *bytes;
	size_t len;
	uint64_t places[PLACES_MAX + 1];
	const char *names; /* what else a file of the family holds; NULL: nothing that is known */
} families[] = {
	{ "Rockchip", 0, "RKNS", 4, { 32768 }, NULL },
	{ "Rockchip", 0, "\x3b\x8c\xdc\xfc", 4, { 32768 }, NULL },
	{ "Allwinner", 4, "eGON.BT0", 8, { 8192, 131072 }, NULL },
	/* Both begin alike; the device trees inside tell for which chips they are. */
	{ "i.MX 8M", 0, "\xd1\x00\x20", 3, { 33792, 32768 }, "fsl,imx8m" },
	{ "i.MX", 0, "\xd1\x00\x20", 3, { 1024 }, NULL },
	{ "TI AM", 20, "CHSETTINGS", 10, { 131072, 262144, 393216 }, NULL },
	{ "STM32MP", 0, "STM\x32", 4, { 0 }, NULL },
};

static const struct {
	const char *prefix, *family;
} chips[] = { { "rockchip,", "Rockchip" }, { "allwinner,", "Allwinner" },
	{ "fsl,imx8m", "i.MX 8M" }, { "fsl,imx", "i.MX" }, { "amlogic,", "Amlogic" },
	{ "ti,am", "TI AM" }, { "ti,dra7", "TI AM" }, { "ti,omap", "TI AM" },
	{ "samsung,exynos", "Exynos" }, { "st,stm32mp1", "STM32MP" }, { "sifive,fu", "SiFive" },
	{ "starfive,jh71", "StarFive" }, { "marvell,armada", "Armada" },
	{ "nvidia,tegra", "Tegra" }, { "qcom,", "Qualcomm" } };

void wdr_loader_file_clear(WdrLoaderFile *f)
{
	g_clear_pointer(&f->version, g_free);
}

/* Rockchip's chips read SPI flash in pieces of 2 KiB with 2 KiB of nothing behind each; on a medium
 * the pieces follow each other (U-Boot's tools/rkspi.c). */
static bool has_gaps(const uint8_t *bytes, size_t len)
{
	enum { PIECE = 2048 };
	bool is_gap = len > 2 * PIECE;

	for (size_t i = PIECE; is_gap && i < 2 * PIECE; i++)
		is_gap = bytes[i] == 0 || bytes[i] == 0xff;
	return is_gap;
}

static bool begins(size_t i, const uint8_t *bytes, size_t len)
{
	return families[i].at + families[i].len <= len &&
	       memcmp(bytes + families[i].at, families[i].bytes, families[i].len) == 0;
}

bool wdr_loader_file_begins_as(const uint8_t *bytes, size_t len, const char *family)
{
	for (size_t i = 0; i < G_N_ELEMENTS(families); i++) {
		if (strcmp(families[i].family, family) == 0 && begins(i, bytes, len))
			return true;
	}
	return false;
}

void wdr_loader_file_look(const uint8_t *bytes, size_t len, WdrLoaderFile *ret)
{
	*ret = (WdrLoaderFile){ .version = wdr_loader_version_in(bytes, len), .used = len };
	for (size_t i = 0; !ret->family && i < G_N_ELEMENTS(families); i++) {
		if (begins(i, bytes, len) &&
			(!families[i].names ||
				wdr_loader_file_names(bytes, len, families[i].names)))
			ret->family = families[i].family;
	}
	ret->is_whole = g_strcmp0(ret->family, "Rockchip") == 0 && has_gaps(bytes, len);
	if (!ret->family) {
		ret->family = wdr_loader_family_in(bytes, len);
		ret->is_whole = ret->family != NULL;
	}
	while (ret->used > 0 && (bytes[ret->used - 1] == 0xff || bytes[ret->used - 1] == 0))
		ret->used--;
}

bool wdr_loader_file_names(const uint8_t *bytes, size_t len, const char *compatible)
{
	return memmem(bytes, len, compatible, strlen(compatible)) != NULL;
}

const char *wdr_loader_family_of_chip(const char *compatible)
{
	for (size_t i = 0; i < G_N_ELEMENTS(chips); i++) {
		if (g_str_has_prefix(compatible, chips[i].prefix))
			return chips[i].family;
	}
	return NULL;
}

const char *wdr_loader_family_of(char *const *names)
{
	const char *family = NULL;

	for (size_t i = 0; names && !family && names[i]; i++)
		family = wdr_loader_family_of_chip(names[i]);
	return family;
}

const char *wdr_loader_wanted_instead(const char *what, char *const *names)
{
	const char *wanted = wdr_loader_family_of(names);
	const char *said = NULL;

	for (size_t i = 0; !said && i < G_N_ELEMENTS(chips); i++) {
		if (g_str_has_prefix(what, chips[i].family))
			said = chips[i].family;
	}
	/* Both kinds of i.MX begin alike. */
	bool is_alike = said && wanted && g_str_has_prefix(said, "i.MX") &&
			g_str_has_prefix(wanted, "i.MX");
	return !said || !wanted || is_alike || strcmp(said, wanted) == 0 ? NULL : wanted;
}

const uint64_t *wdr_loader_locations(const char *family)
{
	static const uint64_t none[] = { 0 };

	for (size_t i = 0; i < G_N_ELEMENTS(families); i++) {
		if (g_strcmp0(families[i].family, family) == 0)
			return families[i].places;
	}
	return none;
}

bool wdr_loader_fits_flash(const WdrLoaderFile *f)
{
	return f->is_whole || g_strcmp0(f->family, "Allwinner") == 0;
}
