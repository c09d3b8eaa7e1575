/* Recognizes the board and gathers what its firmware says. */
#include "boot/board/board.h"

#include "base/cursor.h"
#include "base/io.h"
#include "base/text.h"
#include "boot/board/device_tree.h"
#include "boot/board/eeprom.h"
#include "boot/board/loaderarea.h"
#include "boot/board/ubootenv.h"
#include "disk/flash.h"
#include "world/ask_firmware.h"

#include <string.h>

enum { TREE_BYTES_MAX = 4096, BOOT_MODE_SD = 1, BOOT_MODE_USB = 4, BOOT_MODE_NVME = 6 };
#define FUSED_ROW "3020000a"

/* Boards by the first of their device tree's names; the sections of config.txt are those that the
 * firmware's documentation says hold on them. */
static const struct {
	const char *compatible;
	unsigned series;
	bool has_pcie;
	const char *filters[4];
} boards[] = {
	{ "raspberrypi,5-model-b", 5, true, { "pi5" } },
	{ "raspberrypi,500", 5, true, { "pi5", "pi500" } },
	{ "raspberrypi,5-compute-module", 5, true, { "pi5", "cm5" } },
	{ "raspberrypi,4-model-b", 4, false, { "pi4" } },
	{ "raspberrypi,400", 4, false, { "pi4", "pi400" } },
	{ "raspberrypi,4-compute-module", 4, true, { "pi4", "cm4" } },
	{ "raspberrypi,4-compute-module-s", 4, false, { "pi4", "cm4s" } },
	{ "raspberrypi,3-model-b-plus", 3, false, { "pi3", "pi3+" } },
	{ "raspberrypi,3-model-a-plus", 3, false, { "pi3", "pi3+" } },
	{ "raspberrypi,3-model-b", 3, false, { "pi3" } },
	{ "raspberrypi,3-compute-module", 3, false, { "pi3", "cm3" } },
	{ "raspberrypi,model-zero-2-w", 3, false, { "pi02" } },
};

/* The same by their processor, when the board is a new one. */
static const struct {
	const char *compatible;
	unsigned series;
} processors[] = { { "brcm,bcm2712", 5 }, { "brcm,bcm2711", 4 }, { "brcm,bcm2710", 3 },
	{ "brcm,bcm2837", 3 }, { "brcm,bcm2836", 2 }, { "brcm,bcm2835", 1 } };

static void flash_free(void *data)
{
	WdrBoardFlash *f = data;

	g_free(f->name);
	g_free(f->what);
	g_free(f->problem);
	g_free(f);
}

void wdr_board_free(WdrBoard *b)
{
	if (!b)
		return;
	g_strfreev(b->names);
	g_free(b->order_text);
	g_free(b->fuse);
	g_free(b->targets);
	g_free(b->targets_said);
	g_free(b->targets_doubt);
	if (b->flash)
		g_ptr_array_unref(b->flash);
	wdr_efi_settings_free(b->efi);
	g_free(b);
}

/* ---- the device tree ---- */

static char *property(const WdrWorld *world, const char *name, size_t *ret_len)
{
	g_autofree char *in_proc = g_strdup_printf("/proc/device-tree/%s", name);
	g_autofree char *path = wdr_world_path(world, in_proc);
	char *bytes = NULL;

	*ret_len = 0;
	return wdr_read_file(path, TREE_BYTES_MAX, &bytes, ret_len, NULL) ? bytes : NULL;
}

static unsigned cell(const WdrWorld *world, const char *name)
{
	size_t len = 0;
	g_autofree char *bytes = property(world, name, &len);

	if (len != 4)
		return 0;
	WdrCursor c = wdr_cursor(bytes, len);
	return wdr_cursor_be32(&c);
}

static void recognise(WdrBoard *b, const char *name)
{
	for (size_t i = 0; !b->filters && i < G_N_ELEMENTS(boards); i++) {
		if (strcmp(name, boards[i].compatible) != 0)
			continue;
		b->series = boards[i].series;
		b->has_pcie = boards[i].has_pcie;
		b->filters = boards[i].filters;
	}
	for (size_t i = 0; b->series == 0 && i < G_N_ELEMENTS(processors); i++) {
		if (strcmp(name, processors[i].compatible) != 0)
			continue;
		b->series = processors[i].series;
		b->has_pcie = b->series >= 4;
	}
}

char **wdr_board_names(const WdrWorld *world)
{
	size_t len = 0;
	g_autofree char *names = property(world, "compatible", &len);

	return names ? wdr_device_tree_names(names, len) : NULL;
}

/* "compatible" is strings one behind the other, the most particular first. */
static bool look_at_tree(const WdrWorld *world, WdrBoard *b)
{
	size_t len = 0;
	g_autofree char *names = property(world, "compatible", &len);
	size_t model_len = 0;
	g_autofree char *model = property(world, "model", &model_len);

	if (!names && !model)
		return false;
	b->names = wdr_device_tree_names(names ? names : "", len);
	for (size_t i = 0; b->names[i]; i++)
		recognise(b, b->names[i]);
	b->firmware_date = cell(world, "chosen/bootloader/build-timestamp");
	b->boot_mode = cell(world, "chosen/bootloader/boot-mode");
	return true;
}

/* ---- the firmware's own words ---- */

/* What follows a word at the start of a line; of several lines the last. NULL: no line has the
 * word.
 */
static char *value_of(const char *text, const char *word)
{
	g_auto(GStrv) lines = g_strsplit(text ? text : "", "\n", -1);
	char *found = NULL;

	for (size_t i = 0; lines[i]; i++) {
		if (!g_str_has_prefix(lines[i], word))
			continue;
		g_free(found);
		found = g_strstrip(g_strdup(lines[i] + strlen(word)));
	}
	return found;
}

static void ask_firmware(const WdrWorld *world, WdrBoard *b)
{
	g_auto(WdrEepromSettings) all = { 0 };
	g_autofree char *version = b->series >= 4 && !b->firmware_date
					   ? wdr_firmware_ask(world, "bootloader_version")
					   : NULL;
	g_autofree char *fuses = b->series == 3 ? wdr_firmware_ask(world, "otp_dump") : NULL;
	g_autofree char *stamp = value_of(version, "timestamp ");
	if (b->series >= 4)
		wdr_eeprom_read(world, &all);
	/* What matters is the next start. */
	const char *settings = all.waiting ? all.waiting : all.now;
	g_autofree char *probe = wdr_eeprom_value(settings, "PCIE_PROBE");

	if (stamp)
		b->firmware_date = g_ascii_strtoll(stamp, NULL, 10);
	b->probes_pcie = g_strcmp0(probe, "1") == 0;
	b->fuse = value_of(fuses, "17:");
	g_autofree char *order = wdr_eeprom_value(settings, "BOOT_ORDER");
	b->order_text = order ? wdr_escape(order) : NULL;
	b->has_order = order && wdr_boot_order_parse(order, &b->order, NULL);
}

/* ---- SPI flash ---- */

GPtrArray *wdr_board_look_at_flash(const WdrWorld *world)
{
	GPtrArray *all = g_ptr_array_new_with_free_func(flash_free);
	g_autoptr(GPtrArray) list = wdr_flash_list(world);

	for (guint i = 0; i < list->len; i++) {
		const WdrFlash *f = list->pdata[i];
		g_autofree uint8_t *bytes = NULL;
		g_autoptr(GError) error = NULL;
		size_t len = 0;
		WdrBoardFlash *found = g_new0(WdrBoardFlash, 1);
		found->name = g_strdup(f->name);
		found->kind = f->kind;
		found->size = f->size;
		if (wdr_flash_read(world, f, &bytes, &len, &error))
			found->what = wdr_loader_in(bytes, len);
		else
			found->problem = g_strdup(error->message);
		g_ptr_array_add(all, found);
	}
	return all;
}

/* ---- U-Boot's own settings ---- */

static void look_at_environment(const WdrWorld *world, WdrBoard *b)
{
	g_autoptr(WdrUbootEnv) e = wdr_uboot_env_find(world);

	if (!e)
		return;
	if (!e->current) {
		b->targets_doubt =
			g_strdup_printf("U-Boot's environment cannot be used, and it takes "
					"what it has built in: %s: %s",
				e->copies[e->n - 1].device, e->copies[e->n - 1].problem);
		return;
	}
	b->targets_said = wdr_uboot_env_location(e->current);
	const char *targets = g_hash_table_lookup(e->values, "boot_targets");
	bool is_usual = wdr_uboot_env_is_usual(e);
	if (targets && is_usual)
		b->targets = wdr_escape(targets);
	else if (!is_usual)
		b->targets_doubt = g_strdup_printf(
			"U-Boot's environment (%s) has its own bootcmd", b->targets_said);
}

WdrBoard *wdr_board_look(const WdrWorld *world)
{
	g_autoptr(WdrBoard) b = g_new0(WdrBoard, 1);

	b->efi = wdr_efi_settings_read(world);
	if (!look_at_tree(world, b)) {
		if (!b->efi)
			return NULL;
		b->names = g_new0(char *, 1);
	}
	if (b->series > 0)
		ask_firmware(world, b);
	else
		look_at_environment(world, b);
	b->flash = b->series > 0 ? g_ptr_array_new_with_free_func(flash_free)
				 : wdr_board_look_at_flash(world);
	return g_steal_pointer(&b);
}

/* ---- what comes of it ---- */

const char *wdr_board_booted_from(const WdrBoard *b)
{
	return b->boot_mode == BOOT_MODE_SD     ? "SD card"
	       : b->boot_mode == BOOT_MODE_USB  ? "USB disk"
	       : b->boot_mode == BOOT_MODE_NVME ? "NVMe"
						: NULL;
}

bool wdr_board_needs_fuse(const WdrBoard *b)
{
	return b->series == 3 && b->filters && strcmp(b->filters[0], "pi3") == 0 && !b->filters[1];
}

bool wdr_board_has_fuse(const WdrBoard *b)
{
	return b->fuse && g_ascii_strcasecmp(b->fuse, FUSED_ROW) == 0;
}

bool wdr_board_flash_is_spi(const WdrBoardFlash *f)
{
	return g_str_has_prefix(f->name, "mtd");
}

/* How much it looks like the one with the loader. */
static int rank(const WdrBoardFlash *f)
{
	if (!f->what)
		return wdr_board_flash_is_spi(f) ? 1 : 0;
	return strcmp(f->what, "unknown") == 0 ? 2 : 3;
}

const WdrBoardFlash *wdr_board_loader(const WdrBoard *b)
{
	const WdrBoardFlash *found = NULL;

	for (guint i = 0; i < b->flash->len; i++) {
		const WdrBoardFlash *f = b->flash->pdata[i];
		if (!found || rank(f) > rank(found))
			found = f;
	}
	return found;
}
