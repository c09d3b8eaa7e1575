/* Which files are a boot loader, and where each of them goes: what there is to know about each
 * family of chips. Beside each row stands where it is from; docs/formats/boot-flows.md tells which
 * rows were tried. */
#include "boot/board/loader_set_priv.h"

#include "boot/board/device_tree.h"
#include "boot/board/loaderfile.h"

#include <string.h>

enum { KIB = 1024, SECTOR = 512 };

/* A file that begins so, and its place: a byte, or partitions of its own; its names behind them. */
#define FILE_AT(beginning_, at_, ...)                                                              \
	{                                                                                          \
		.names = { __VA_ARGS__ }, .beginning = (beginning_), .at = (at_)                   \
	}
#define PARTITION_FILE(beginning_, partitions_, ...)                                               \
	{                                                                                          \
		.names = { __VA_ARGS__ }, .beginning = (beginning_), .partitions = (partitions_)   \
	}

static const char signed_stage[] = "the chip maker's signed first stage (BL1)";

static const char *const first_stages[] = { "fsbl1", "fsbl2", NULL };
static const char *const second_stage[] = { "ssbl", NULL };
static const char *const type_5b19[] = { "5b193300-fc78-40cd-8002-e86c45580b47", NULL };
static const char *const type_2e54[] = { "2e54b353-1271-4842-806f-e436d6af6985", NULL };

/* Of several that a folder has all files for, the first counts. */
const WdrLoaderRow wdr_loader_rows[] = {
	/* U-Boot's doc/board/rockchip/rockchip.rst; README.Debian of u-boot-rockchip: seek=64 and
	 * seek=16384. The one file is both, with what lies between. */
	{
		.family = "Rockchip",
		.parts = { FILE_AT(WDR_BEGINS_AS_FAMILY, 64 * SECTOR, "u-boot-rockchip.bin") },
	},
	{
		.family = "Rockchip",
		.parts = { FILE_AT(WDR_BEGINS_AS_FAMILY, 64 * SECTOR, "idbloader.img"),
			FILE_AT(WDR_BEGINS_AS_IMAGE, 16384 * SECTOR, "u-boot.itb", "u-boot.img") },
	},
	{
		.family = "Rockchip",
		.place = WDR_LOADER_FLASH,
		.parts = { FILE_AT(WDR_BEGINS_AS_FAMILY, 0, "u-boot-rockchip-spi.bin") },
	},
	/* U-Boot's doc/board/allwinner/sunxi.rst: 8 KiB of a medium, the first byte of SPI flash
	 * and of an eMMC boot partition; README.Debian of u-boot-sunxi: bs=1024 seek=8. */
	{
		.family = "Allwinner",
		.parts = { FILE_AT(WDR_BEGINS_AS_FAMILY, 8 * KIB, "u-boot-sunxi-with-spl.bin") },
		.has_boot_part = true,
	},
	/* u-boot-install-sunxi64 of u-boot-sunxi: blocks 1 and 5 of 8 KiB. */
	{
		.family = "Allwinner",
		.parts = { FILE_AT(WDR_BEGINS_AS_FAMILY, 8 * KIB, "sunxi-spl.bin"),
			FILE_AT(WDR_BEGINS_AS_IMAGE, 40 * KIB, "u-boot-sunxi-with-spl.fit.itb",
				"u-boot.itb") },
		.has_boot_part = true,
	},
	{
		.family = "Allwinner",
		.place = WDR_LOADER_FLASH,
		.parts = { FILE_AT(WDR_BEGINS_AS_FAMILY, 0, "u-boot-sunxi-with-spl.bin") },
	},
	/* README.Debian of u-boot-imx: bs=1k, seek=1 and seek=69. */
	{
		.family = "i.MX",
		.parts = { FILE_AT(WDR_BEGINS_AS_FAMILY, 1 * KIB, "u-boot-with-spl.imx",
			"u-boot-dtb.imx", "u-boot.imx") },
		.has_boot_part = true,
		.boot_part_at = 1 * KIB,
	},
	{
		.family = "i.MX",
		.parts = { FILE_AT(WDR_BEGINS_AS_FAMILY, 1 * KIB, "SPL"),
			FILE_AT(WDR_BEGINS_AS_IMAGE, 69 * KIB, "u-boot.img") },
		.has_boot_part = true,
		.boot_part_at = 1 * KIB,
	},
	/* U-Boot's doc/board/nxp/imx8mm_evk.rst and its neighbours: seek=33, and 32 (0 in an eMMC
	 * boot partition) for the two later chips. */
	{
		.family = "i.MX 8M",
		.chips = { "fsl,imx8mq", "fsl,imx8mm" },
		.parts = { FILE_AT(WDR_BEGINS_AS_FAMILY, 33 * KIB, "flash.bin") },
		.has_boot_part = true,
		.boot_part_at = 33 * KIB,
	},
	{
		.family = "i.MX 8M",
		.chips = { "fsl,imx8mn", "fsl,imx8mp" },
		.parts = { FILE_AT(WDR_BEGINS_AS_FAMILY, 32 * KIB, "flash.bin") },
		.has_boot_part = true,
	},
	/* README.Debian of u-boot-omap: seek=256 and seek=768. */
	{
		.family = "TI AM",
		.parts = { FILE_AT(WDR_BEGINS_AS_FAMILY, 256 * SECTOR, "MLO"),
			FILE_AT(WDR_BEGINS_AS_IMAGE, 768 * SECTOR, "u-boot.img") },
	},
	/* U-Boot's doc/README.arndale (seek=1, 17, 49) and README.odroid of u-boot-exynos (blocks
	 * 1, 31, 63, in an eMMC boot partition one less). The chip's maker signs the first stage.
	 */
	{
		.family = "Exynos",
		.chips = { "samsung,exynos5250" },
		.parts = { FILE_AT(WDR_BEGINS_ANYHOW, 17 * SECTOR, "arndale-spl.bin"),
			FILE_AT(WDR_BEGINS_ANYHOW, 49 * SECTOR, "u-boot.bin") },
		.needs = signed_stage,
		.needs_at = 1 * SECTOR,
	},
	{
		.family = "Exynos",
		.chips = { "samsung,exynos4412", "samsung,exynos5" },
		.parts = { FILE_AT(WDR_BEGINS_ANYHOW, 63 * SECTOR, "u-boot.bin") },
		.has_boot_part = true,
		.boot_part_at = 62 * SECTOR,
		.needs = signed_stage,
		.needs_at = 1 * SECTOR,
	},
	/* README.Debian of u-boot-stm32. */
	{
		.family = "STM32MP",
		.place = WDR_LOADER_PARTITIONS,
		.parts = { PARTITION_FILE(WDR_BEGINS_AS_FAMILY, first_stages, "u-boot-spl.stm32"),
			PARTITION_FILE(
				WDR_BEGINS_AS_IMAGE, second_stage, "u-boot.itb", "u-boot.img") },
		.has_boot_part = true,
	},
	/* U-Boot's doc/board/sifive/unmatched.rst and doc/board/starfive/visionfive2.rst: the two
	 * use the same two partition types the other way round. */
	{
		.family = "SiFive",
		.place = WDR_LOADER_PARTITIONS,
		.parts = { PARTITION_FILE(WDR_BEGINS_ANYHOW, type_5b19, "u-boot-spl.bin"),
			PARTITION_FILE(WDR_BEGINS_AS_IMAGE, type_2e54, "u-boot.itb") },
	},
	{
		.family = "StarFive",
		.place = WDR_LOADER_PARTITIONS,
		.parts = { PARTITION_FILE(
				   WDR_BEGINS_ANYHOW, type_2e54, "u-boot-spl.bin.normal.out"),
			PARTITION_FILE(WDR_BEGINS_AS_IMAGE, type_5b19, "u-boot.itb") },
	},
};

/* Chips whose ROM looks at 128 KiB, too, where a GPT leaves room: linux-sunxi's "Bootable SD card".
 * U-Boot's first stage finds the second as far behind it. */
static const char *const second_places[] = { "allwinner,sun8i-h2-plus", "allwinner,sun8i-h3",
	"allwinner,sun50i-", NULL };
enum { SECOND_PLACE = 128 * KIB };

/* Boards whose second stage lies elsewhere: u-boot-install-rockchip has it (UBOOT_OFFSET). */
static const struct {
	const char *board;
	uint64_t second_at;
} exceptions[] = { { "puma-rk3399", 512 * SECTOR } };

/* Boards that call themselves otherwise in the kernel's device tree than in U-Boot's. */
static const struct {
	const char *folder;
	const char *const boards[5];
} other_names[] = {
	{ "arndale", { "insignal,arndale" } },
	{ "starfive_visionfive2", { "starfive,visionfive-2-v1.2a" } },
	{ "odroid", { "hardkernel,odroid-u3", "hardkernel,odroid-x", "hardkernel,odroid-x2",
			    "hardkernel,odroid-u2" } },
	{ "odroid-xu3", { "hardkernel,odroid-xu3", "hardkernel,odroid-xu3-lite",
				"hardkernel,odroid-xu4", "hardkernel,odroid-hc1" } },
};

/* Files that are no boot loader as they are, by their folder or by their family of chips. */
static const struct {
	const char *of, *why;
} not_alone[] = {
	/* U-Boot's configs/novena_defconfig and novena-rawsd_defconfig. */
	{ "novena", "its first stage reads u-boot.img from a FAT partition" },
	{ "Amlogic", "its u-boot.bin has to be packed with the chip maker's signed stages first" },
	{ "Armada", "its u-boot.bin has to be packed with Trusted Firmware first" },
	{ "Tegra", "the chip maker's program writes it, through a cable" },
	{ "Qualcomm", "fastboot writes it, through a cable" },
};

const size_t wdr_loader_n_rows = G_N_ELEMENTS(wdr_loader_rows);

static bool begins_with_any(const char *const *prefixes, char *const *names)
{
	for (size_t i = 0; names[i]; i++) {
		for (size_t k = 0; prefixes[k]; k++) {
			if (g_str_has_prefix(names[i], prefixes[k]))
				return true;
		}
	}
	return false;
}

bool wdr_loader_is_of(const char *family, const GPtrArray *trees)
{
	for (guint i = 0; i < trees->len; i++) {
		const WdrDeviceTree *t = trees->pdata[i];
		if (g_strcmp0(wdr_loader_family_of(t->names), family) == 0)
			return true;
	}
	return false;
}

static bool names_any(const char *const *prefixes, const GPtrArray *trees)
{
	for (guint i = 0; i < trees->len; i++) {
		const WdrDeviceTree *t = trees->pdata[i];
		if (begins_with_any(prefixes, t->names))
			return true;
	}
	return false;
}

bool wdr_loader_row_is_for(const WdrLoaderRow *row, const GPtrArray *trees)
{
	return wdr_loader_is_of(row->family, trees) &&
	       (!row->chips[0] || names_any(row->chips, trees));
}

uint64_t wdr_loader_other_place(const GPtrArray *trees)
{
	return names_any(second_places, trees) ? SECOND_PLACE : 0;
}

uint64_t wdr_loader_second_place(const char *board)
{
	for (size_t i = 0; i < G_N_ELEMENTS(exceptions); i++) {
		if (strcmp(board, exceptions[i].board) == 0)
			return exceptions[i].second_at;
	}
	return 0;
}

const char *const *wdr_loader_other_names(const char *board)
{
	for (size_t i = 0; i < G_N_ELEMENTS(other_names); i++) {
		if (strcmp(board, other_names[i].folder) == 0)
			return other_names[i].boards;
	}
	return NULL;
}

const char *wdr_loader_not_alone(const char *board, const GPtrArray *trees)
{
	for (size_t i = 0; i < G_N_ELEMENTS(not_alone); i++) {
		if (strcmp(board, not_alone[i].of) == 0 || wdr_loader_is_of(not_alone[i].of, trees))
			return not_alone[i].why;
	}
	return NULL;
}
