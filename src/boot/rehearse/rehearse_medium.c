/* Whether the board would try this medium, and whether what its loader reads lies where that looks.
 */
#include "base/text.h"

#include "base/command.h"
#include "boot/board/boot_support.h"
#include "boot/board/loaderarea.h"
#include "boot/board/loaderfile.h"
#include "boot/rehearse/rehearse_priv.h"
#include "volume/lookup.h"

#include <string.h>

/* ---- firmware with a FAT boot volume ---- */

static bool is_medium(const WdrWalk *w, const char *name)
{
	return g_strcmp0(w->medium, name) == 0;
}

static bool fail_medium(WdrWalk *w, const char *hint, const char *format, ...) G_GNUC_PRINTF(3, 4);
static bool fail_medium(WdrWalk *w, const char *hint, const char *format, ...)
{
	va_list args;

	va_start(args, format);
	g_autofree char *text = g_strdup_vprintf(format, args);
	va_end(args);
	wdr_walk_say(w, WDR_STAGE_MEDIUM, WDR_STATE_STOP, hint, "%s", text);
	return false;
}

/* A disk of flesh and blood: no loop device, for one, of which nobody knows what it will be. */
static bool is_of_board(const char *medium)
{
	static const char *const media[] = { "SD card", "eMMC", "NVMe", "USB disk", "disk", NULL };

	return medium && g_strv_contains(media, medium);
}

static bool check_ability(WdrWalk *w, const WdrBoard *b)
{
	g_autofree char *why = NULL;
	const char *hint = NULL;
	WdrBootSupport ability = wdr_board_can(b, w->medium, &why, &hint);

	if (why)
		wdr_walk_say(w, WDR_STAGE_MEDIUM,
			ability == WDR_ABILITY_NONE ? WDR_STATE_STOP : WDR_STATE_WARNING, hint,
			"%s", why);
	return ability != WDR_ABILITY_NONE;
}

/* A disk that stays in, is tried before, and has boot files too. */
static const WdrSystem *earlier_disk(const WdrWalk *w, const WdrBootOrder *o, unsigned place)
{
	for (guint i = 0; w->others && i < w->others->len; i++) {
		const WdrSystem *other = w->others->pdata[i];
		unsigned at = 0;
		if (other->flow && wdr_boot_order_tries(o, other->medium, &at) && at < place)
			return other;
	}
	return NULL;
}

static bool check_order(WdrWalk *w, const WdrBoard *b)
{
	unsigned place = 0;

	if (!b->has_order) {
		g_autofree char *why =
			b->order_text
				? g_strdup_printf("the boot order %s is unknown to the firmware",
					  b->order_text)
				: g_strdup("the firmware's boot order is not known");
		wdr_walk_say(w, WDR_STAGE_MEDIUM, WDR_STATE_WARNING,
			"on the board, vcgencmd bootloader_config shows it", "%s", why);
		return true;
	}
	g_autofree char *words = wdr_boot_order_words(&b->order);
	if (!wdr_boot_order_tries(&b->order, w->medium, &place)) {
		const char *word = wdr_medium_word(w->medium);
		g_autofree char *better = wdr_boot_order_with_first(&b->order, w->medium);
		g_autofree char *command =
			word ? wdr_command("order", "--first", word, "--write") : NULL;
		g_autofree char *hint =
			word ? g_strdup_printf("to store BOOT_ORDER=%s: %s",
				       better ? better : "with it first", command)
			     : g_strdup("the firmware boots from SD, eMMC, USB and NVMe only");
		return fail_medium(w, hint, "the boot order %s never tries %s: it is %s",
			b->order_text, w->medium, words);
	}
	g_autofree char *date = b->firmware_date ? wdr_format_day(b->firmware_date) : g_strdup("?");
	wdr_walk_say(w, WDR_STAGE_MEDIUM, WDR_STATE_OK, NULL, "firmware of %s, boot order %s: %s",
		date, b->order_text, words);
	const WdrSystem *earlier = earlier_disk(w, &b->order, place);
	if (earlier)
		wdr_walk_say(w, WDR_STAGE_MEDIUM, WDR_STATE_WARNING, "take it out",
			"%s (%s) comes first, and has boot files too",
			earlier->home ? earlier->home : "another disk", earlier->medium);
	return true;
}

static void check_probe(WdrWalk *w, const WdrBoard *b, const WdrBootEntries *entries)
{
	if (b->series != 5 || !is_medium(w, "NVMe") || !entries->switches_pcie || b->probes_pcie)
		return;
	g_autofree char *command = wdr_command("order", "--first", "nvme", "--write");
	g_autofree char *hint = g_strdup_printf("to store PCIE_PROBE=1: %s", command);
	wdr_walk_say(w, WDR_STAGE_MEDIUM, WDR_STATE_WARNING, hint,
		"config.txt switches the PCIe connector on, as adapters want that do not "
		"announce themselves; the firmware looks for a drive behind those only with "
		"PCIE_PROBE=1");
}

static bool check_firmware(WdrWalk *w, const WdrBootEntries *entries)
{
	const WdrBoard *b = w->board;

	if (!b || b->series == 0 || !is_of_board(w->medium))
		return true;
	if (!check_ability(w, b) || (b->series >= 4 && !check_order(w, b)))
		return false;
	check_probe(w, b, entries);
	return true;
}

/* ---- U-Boot ---- */

/* A loader for another kind of chip: the board does not run it. */
static bool is_for_board(WdrWalk *w, const char *where, const char *what)
{
	const char *wanted = wdr_loader_wanted_instead(what, w->board->names);
	const char *home = w->s->home;

	if (!wanted)
		return true;
	g_autofree char *command = wdr_command("loader", "--on", home && *home ? home : "DISK");
	g_autofree char *hint =
		g_strdup_printf("to see what is installed for this board: %s", command);
	return fail_medium(w, hint, "the boot loader %s is %s, and this board has a chip of %s",
		where, what, wanted);
}

/* Another disk, which stays in, has the loader. */
static bool has_loader_beside(WdrWalk *w)
{
	for (guint i = 0; w->others && i < w->others->len; i++) {
		const WdrSystem *other = w->others->pdata[i];
		g_autofree char *what =
			wdr_medium_is_card(other->medium) ? wdr_loader_on(other) : NULL;
		if (!what || wdr_loader_wanted_instead(what, w->board->names))
			continue;
		wdr_walk_say(w, WDR_STAGE_MEDIUM, WDR_STATE_OK, NULL,
			"the boot loader on %s (%s) boots it", other->home ? other->home : "?",
			what);
		return true;
	}
	return false;
}

/* What the board boots by today lies on a disk that is treated as unplugged. */
static const WdrSystem *loader_away(const WdrWalk *w)
{
	for (guint i = 0; w->away && i < w->away->len; i++) {
		const WdrSystem *other = w->away->pdata[i];
		g_autofree char *what =
			wdr_medium_is_card(other->medium) ? wdr_loader_on(other) : NULL;
		if (what && !wdr_loader_wanted_instead(what, w->board->names))
			return other;
	}
	return NULL;
}

static bool say_flash(WdrWalk *w, const WdrBoardFlash *f)
{
	g_autofree char *where = g_strdup_printf("in %s %s", f->kind, f->name);

	if (strcmp(f->what, "unknown") == 0) {
		wdr_walk_say(w, WDR_STAGE_MEDIUM, WDR_STATE_WARNING, NULL,
			"%s %s holds something that is not known as a loader", f->kind, f->name);
		return true;
	}
	if (!is_for_board(w, where, f->what))
		return false;
	wdr_walk_say(w, WDR_STAGE_MEDIUM, WDR_STATE_OK, NULL, "the boot loader %s boots it: %s",
		where, f->what);
	return true;
}

/* Nothing is seen that would start it, and it cannot be said that there is nothing. */
static void say_unknown(WdrWalk *w, const WdrBoardFlash *f)
{
	if (f && f->problem)
		wdr_walk_say(w, WDR_STAGE_MEDIUM, WDR_STATE_WARNING, "root may read it",
			"it is unknown which boot loader boots it: %s", f->problem);
	else if (wdr_medium_is_card(w->medium))
		wdr_walk_say(w, WDR_STAGE_MEDIUM, WDR_STATE_WARNING, NULL,
			"no boot loader is seen on it, nor in SPI flash; it may be where it cannot be "
			"seen from here");
	else
		wdr_walk_say(w, WDR_STAGE_MEDIUM, WDR_STATE_WARNING, NULL,
			"it is unknown which boot loader boots it: the kernel knows no SPI flash");
}

static bool fail_empty(WdrWalk *w, const WdrBoardFlash *f)
{
	g_autofree char *command = wdr_command("loader", "--write");
	g_autofree char *hint = g_strdup_printf(
		"leave a card with a boot loader plugged in, or write the board's to the flash: %s",
		command);

	return fail_medium(w, hint, "SPI flash %s is empty: nothing on the board can read %s",
		f->name, w->medium);
}

/* The chip looks at this medium itself, and finds nothing. */
static bool fail_missing(WdrWalk *w, const char *why)
{
	const char *home = w->s->home;
	g_autofree char *command =
		wdr_command("loader", "--on", home && *home ? home : "DISK", "--write");
	g_autofree char *hint =
		g_strdup_printf("to write this board's boot loader to it: %s", command);

	return fail_medium(w, hint, "there is no boot loader on it, and %s", why);
}

/* The chip itself reads SPI flash, SD and eMMC; NVMe and USB are a loader's to read. */
static bool check_flash(WdrWalk *w)
{
	const WdrBoardFlash *f = wdr_board_loader(w->board);
	bool is_empty = f && !f->problem && wdr_board_flash_is_spi(f);

	if (f && f->what)
		return say_flash(w, f);
	if (has_loader_beside(w))
		return true;
	const WdrSystem *away = loader_away(w);
	g_autofree char *why = is_empty ? g_strdup_printf("SPI flash %s is empty", f->name)
			       : away   ? g_strdup_printf("the one on %s is treated as unplugged",
                                                away->home ? away->home : "the other disk")
					: NULL;
	if (why && wdr_medium_is_card(w->medium) && wdr_loader_family_of(w->board->names))
		return fail_missing(w, why);
	if (is_empty && !wdr_medium_is_card(w->medium))
		return fail_empty(w, f);
	say_unknown(w, f);
	return true;
}

/* U-Boot goes through boot_targets in turn. */
static bool check_targets(WdrWalk *w)
{
	static const struct {
		const char *medium, *name;
	} names[] = { { "SD card", "mmc" }, { "eMMC", "mmc" }, { "NVMe", "nvme" },
		{ "USB disk", "usb" }, { "disk", "scsi" } };
	const WdrBoard *b = w->board;

	if (b->targets_doubt)
		wdr_walk_say(w, WDR_STAGE_MEDIUM, WDR_STATE_WARNING, NULL, "%s", b->targets_doubt);
	if (!b->targets)
		return true;
	g_auto(GStrv) list = g_strsplit(b->targets, " ", -1);
	for (size_t i = 0; i < G_N_ELEMENTS(names); i++) {
		if (!is_medium(w, names[i].medium))
			continue;
		for (size_t k = 0; list[k]; k++) {
			if (!g_str_has_prefix(list[k], names[i].name))
				continue;
			wdr_walk_say(w, WDR_STAGE_MEDIUM, WDR_STATE_OK, NULL,
				"U-Boot's boot_targets (%s): %s", b->targets_said, b->targets);
			return true;
		}
		g_autofree char *list_with = g_strdup_printf("%s0 %s", names[i].name, b->targets);
		g_autofree char *command = wdr_command("order", "--targets", list_with, "--write");
		g_autofree char *hint = g_strdup_printf("to try it first: %s", command);
		return fail_medium(w, hint, "U-Boot's boot_targets (%s) have no %s: %s",
			b->targets_said, names[i].name, b->targets);
	}
	return true;
}

static bool check_loader(WdrWalk *w)
{
	if (!w->board || w->board->series > 0 || !is_of_board(w->medium))
		return true;
	g_autofree char *own = wdr_medium_is_card(w->medium) ? wdr_loader_on(w->s) : NULL;
	if (own && !is_for_board(w, "on it", own))
		return false;
	if (own)
		wdr_walk_say(
			w, WDR_STAGE_MEDIUM, WDR_STATE_OK, NULL, "the boot loader on it: %s", own);
	return (own || check_flash(w)) && check_targets(w);
}

/* ---- table and partitions ---- */

static bool is_marked(const WdrSystem *s, const WdrPartition *p)
{
	static const char efi_guid[] = "c12a7328-f81f-11d2-ba4b-00a0c93ec93b";

	return p->is_active ||
	       g_strcmp0(p->type, s->table->kind == WDR_TABLE_GPT ? efi_guid : "ef") == 0;
}

/* U-Boot looks at the marked partitions, and without a mark at the first one alone. */
static bool check_marks(WdrWalk *w, const WdrSystemPart *boot)
{
	const WdrSystem *s = w->s;
	bool has_marks = false;

	for (guint i = 0; i < s->parts->len; i++)
		has_marks |= is_marked(s, ((const WdrSystemPart *)s->parts->pdata[i])->partition);
	unsigned number = boot->partition->number;
	if (has_marks && !is_marked(s, boot->partition))
		return fail_medium(w,
			"mark it instead (sfdisk --activate, or GPT attribute 2), and unmark the other",
			"another partition is marked bootable, so U-Boot does not look at partition %u, "
			"which has the boot files",
			number);
	if (!has_marks && number != 1)
		return fail_medium(w, "mark it bootable (sfdisk --activate, or GPT attribute 2)",
			"no partition is marked bootable, so U-Boot looks at the first alone; the boot "
			"files are on partition %u",
			number);
	wdr_walk_say(w, WDR_STAGE_MEDIUM, WDR_STATE_OK, NULL,
		has_marks ? "%s; partition %u is marked bootable"
			  : "%s; no partition is marked bootable: U-Boot takes the first, %u",
		wdr_table_kind_name(s->table->kind), number);
	return true;
}

static bool has_fat_type(const WdrSystem *s, const WdrSystemPart *p)
{
	static const char *const types[] = { "0b", "0c", "0e" };
	bool is_fat = s->table->kind != WDR_TABLE_MBR;

	for (size_t i = 0; i < G_N_ELEMENTS(types); i++)
		is_fat |= g_strcmp0(p->partition->type, types[i]) == 0;
	return is_fat;
}

/* A FAT partition with a lower number, when none leads on. NULL: there is none. */
static const WdrSystemPart *earlier_fat(const WdrSystem *s, const WdrSystemPart *boot)
{
	if (s->autoboot && s->autoboot_to != 0)
		return NULL;
	for (guint i = 0; i < s->parts->len; i++) {
		const WdrSystemPart *p = s->parts->pdata[i];
		if (p->partition->number < boot->partition->number && has_fat_type(s, p) &&
			g_strcmp0(p->probe.type, "vfat") == 0 && p->volume)
			return p;
	}
	return NULL;
}

/* Of two boot volumes that take turns, the one for a trial is not walked: that is another boot. */
static bool check_autoboot(WdrWalk *w, const WdrSystemPart *boot)
{
	const WdrSystem *s = w->s;

	if (!s->autoboot || s->autoboot_to == 0)
		return true;
	unsigned on = s->autoboot->partition->number;
	if (s->autoboot_to != boot->partition->number)
		return fail_medium(w, "correct boot_partition= in autoboot.txt",
			"autoboot.txt on partition %u leads to partition %u, which has no boot files",
			on, s->autoboot_to);
	g_autofree char *trial =
		s->autoboot_trial != s->autoboot_to
			? g_strdup_printf(
				  ", and for a trial (tryboot) to partition %u", s->autoboot_trial)
			: g_strdup("");
	wdr_walk_say(w, WDR_STAGE_MEDIUM, WDR_STATE_OK, NULL,
		"autoboot.txt on partition %u leads to partition %u%s", on, s->autoboot_to, trial);
	return true;
}

static bool check_firmware_medium(WdrWalk *w, const WdrSystemPart *boot)
{
	const WdrSystem *s = w->s;

	if (!has_fat_type(s, boot))
		return fail_medium(w, "give it type 0c (sfdisk --part-type)",
			"partition %u has type %s, which the firmware does not take for a FAT partition",
			boot->partition->number, boot->partition->type);
	const WdrSystemPart *earlier = earlier_fat(s, boot);
	if (earlier)
		return fail_medium(w, "give that one another type, or put the boot files on it",
			"the firmware reads the first FAT partition, %u; the boot files are on %u",
			earlier->partition->number, boot->partition->number);
	if (!check_autoboot(w, boot))
		return false;
	unsigned series = w->board ? w->board->series : 0;
	bool is_gpt = s->table->kind == WDR_TABLE_GPT;
	if (is_gpt && series > 0 && series < 4)
		return fail_medium(w, "move to an MBR: --table mbr",
			"a GPT is read by boards with firmware in an EEPROM only; this is one of the "
			"%u series",
			series);
	if (boot->fat.width == 12)
		wdr_walk_say(w, WDR_STAGE_MEDIUM, WDR_STATE_WARNING, NULL,
			"partition %u is FAT12; whether the firmware reads that is not known",
			boot->partition->number);
	if (is_gpt && series == 0)
		wdr_walk_say(w, WDR_STAGE_MEDIUM, WDR_STATE_WARNING, NULL,
			"a GPT is read by boards with firmware in an EEPROM only (4 and 5 series)");
	else
		wdr_walk_say(w, WDR_STAGE_MEDIUM, WDR_STATE_OK, NULL, "%s; partition %u is FAT",
			wdr_table_kind_name(s->table->kind), boot->partition->number);
	return true;
}

/* U-Boot 2023.01 reads metadata_csum_seed and orphan_file, and fails on inline_data. The others
 * were not tried. */
static bool check_features(WdrWalk *w, const WdrSystemPart *boot)
{
	static const char *const untried[] = { "encrypt", "casefold", "bigalloc" };
	g_auto(GStrv) features =
		g_strsplit_set(boot->ext.features ? boot->ext.features : "", " ,", -1);

	for (size_t i = 0; i < G_N_ELEMENTS(untried); i++) {
		if (g_strv_contains((const char *const *)features, untried[i]))
			wdr_walk_say(w, WDR_STAGE_BOOT, WDR_STATE_WARNING, NULL,
				"partition %u is ext4 with %s; whether U-Boot reads that is not known",
				boot->partition->number, untried[i]);
	}
	if (!g_strv_contains((const char *const *)features, "inline_data"))
		return true;
	wdr_walk_say(w, WDR_STAGE_BOOT, WDR_STATE_STOP,
		"create the volume again without it (a move keeps features as they are)",
		"partition %u is ext4 with inline_data, which U-Boot (2023.01) cannot read",
		boot->partition->number);
	return false;
}

/* ---- files that look like the ones that are read ---- */

static const struct {
	const char *flow;
	const char *files[6];
} look_alikes[] = {
	{ "firmware", { "config.txt", "cmdline.txt", "boot/config.txt", "boot/cmdline.txt",
			      "boot/firmware/config.txt", "boot/firmware/cmdline.txt" } },
	{ "extlinux", { "extlinux/extlinux.conf", "boot/extlinux/extlinux.conf" } },
	{ "loader script", { "boot.scr", "boot/boot.scr" } },
};

static bool is_read(
	const WdrWalk *w, const WdrSystemPart *boot, const WdrSystemPart *p, const char *file)
{
	const char *folder = w->s->boot_folder ? w->s->boot_folder : "";
	size_t len = strlen(folder);

	return p == boot && strncmp(file, folder, len) == 0 &&
	       !g_str_has_prefix(file + len, "boot/");
}

static void tell_look_alikes(WdrWalk *w, const WdrSystemPart *boot, const char *const *files)
{
	for (guint i = 0; i < w->s->parts->len; i++) {
		const WdrSystemPart *p = w->s->parts->pdata[i];
		for (size_t k = 0; p->volume && k < G_N_ELEMENTS(look_alikes[0].files); k++) {
			g_auto(WdrEntry) entry = { 0 };
			if (!files[k] || is_read(w, boot, p, files[k]) ||
				!wdr_follow(p->volume, files[k], NULL, NULL, &entry) ||
				entry.kind != WDR_KIND_FILE)
				continue;
			wdr_walk_say(w, WDR_STAGE_BOOT, WDR_STATE_OK, NULL,
				"partition %u has /%s, too, which is not read",
				p->partition->number, files[k]);
		}
	}
}

static void walk_look_alikes(WdrWalk *w, const WdrSystemPart *boot)
{
	for (size_t i = 0; i < G_N_ELEMENTS(look_alikes); i++) {
		if (g_strcmp0(w->s->flow, look_alikes[i].flow) == 0)
			tell_look_alikes(w, boot, look_alikes[i].files);
	}
}

static bool is_flow(const WdrWalk *w, const char *flow)
{
	return g_strcmp0(w->s->flow, flow) == 0;
}

/* Firmware that has started this machine by UEFI lies in its own flash. Otherwise U-Boot may start
 * such programs, too. */
static bool check_efi(WdrWalk *w, const WdrBootEntries *entries)
{
	bool has_firmware = !w->board || w->board->efi;

	return (has_firmware || check_loader(w)) && wdr_walk_efi(w, entries);
}

static bool check_place(WdrWalk *w, const WdrBootEntries *entries)
{
	if (is_flow(w, "firmware"))
		return check_firmware(w, entries) && check_firmware_medium(w, entries->part);
	if (is_flow(w, "UEFI"))
		return check_efi(w, entries);
	return check_loader(w) && check_marks(w, entries->part) && check_features(w, entries->part);
}

bool wdr_walk_medium(WdrWalk *w, const WdrBootEntries *entries)
{
	const WdrSystemPart *boot = entries->part;

	if (!check_place(w, entries))
		return false;
	if (!is_flow(w, "UEFI"))
		wdr_walk_say(w, WDR_STAGE_BOOT, WDR_STATE_OK, NULL, "%s on partition %u (%s)",
			is_flow(w, "firmware")   ? "config.txt and cmdline.txt"
			: is_flow(w, "extlinux") ? "extlinux/extlinux.conf"
						 : "boot.scr",
			boot->partition->number, boot->probe.type);
	walk_look_alikes(w, boot);
	return true;
}
