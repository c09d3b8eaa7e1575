/* The order of firmware with a FAT boot volume: settings in an EEPROM, or a fuse. */
#include "change/order_priv.h"

#include "base/command.h"
#include "base/io.h"
#include "base/text.h"
#include "boot/board/boot_support.h"
#include "boot/formats/configlines.h"
#include "volume/lookup.h"
#include "world/ask_firmware.h"

#include <string.h>

enum { SMALL_FILE_BYTES = 65536 };

#define FUSE_LINE "program_usb_boot_mode=1"
#define CHANNEL_FILE "/etc/default/rpi-eeprom-update"

/* ---- what there is ---- */

/* "release" of "version 30de0ba5… (release)". */
static char *build_of(const char *version)
{
	const char *line = version ? strstr(version, "version ") : NULL;
	const char *open = line ? strchr(line, '(') : NULL;
	size_t len = open ? strcspn(open + 1, ")\n") : 0;

	return len > 0 ? g_strndup(open + 1, len) : NULL;
}

/* Where the system takes updates of the firmware from; NULL: nothing tells. */
static char *channel_of(const WdrWorld *world)
{
	g_autofree char *path = wdr_world_path(world, CHANNEL_FILE);
	g_autofree char *text = NULL;
	size_t len = 0;

	if (!wdr_read_file(path, SMALL_FILE_BYTES, &text, &len, NULL))
		return NULL;
	char *value = wdr_eeprom_value(text, "FIRMWARE_RELEASE_STATUS");
	return value ? g_strdelimit(value, "\"'", ' ') : NULL;
}

static void tell_firmware(WdrOrderPlan *p)
{
	g_autofree char *version = wdr_firmware_ask(p->world, "bootloader_version");
	g_autofree char *build = build_of(version);
	g_autofree char *channel = channel_of(p->world);
	g_autofree char *date = p->board->firmware_date ? wdr_format_day(p->board->firmware_date)
							: g_strdup("an unknown day");

	wdr_facts_add(p->facts, "firmware", false, "of %s%s%s", date, build ? ", build: " : "",
		build ? build : "");
	if (!channel)
		return;
	g_strstrip(channel);
	bool is_default = strcmp(channel, "default") == 0;
	wdr_facts_add(p->facts, "channel", !is_default, "%s (" CHANNEL_FILE ")%s", channel,
		is_default ? "" : ": it brings firmware that is still being tried");
}

static void tell_abilities(WdrOrderPlan *p)
{
	static const char *const media[] = { "SD card", "USB disk", "NVMe" };
	g_autoptr(GString) can = g_string_new(NULL);

	for (size_t i = 0; i < G_N_ELEMENTS(media); i++) {
		g_autofree char *why = NULL;
		const char *hint = NULL;
		WdrBootSupport a = wdr_board_can(p->board, media[i], &why, &hint);
		if (a == WDR_ABILITY_FULL)
			g_string_append_printf(can, "%s%s", can->len ? ", " : "", media[i]);
		else
			wdr_facts_add(p->facts, a == WDR_ABILITY_DOUBT ? "perhaps" : "not from",
				true, "%s: %s", media[i], why);
	}
	wdr_facts_add(p->facts, "boots from", false, "%s", can->str);
	const char *from = wdr_board_booted_from(p->board);
	if (from)
		wdr_facts_add(p->facts, "this boot", false, "from %s", from);
}

/* What speaks against an order, as far as this board tells. */
static void judge_order(WdrOrderPlan *p, const char *name, const WdrBootOrder *order)
{
	unsigned place = 0;

	for (unsigned i = 0; i < order->reached; i++) {
		g_autofree char *why = NULL;
		const char *hint = NULL;
		const char *medium = wdr_boot_order_medium(order, i);
		if (medium && wdr_board_can(p->board, medium, &why, &hint) == WDR_ABILITY_NONE)
			wdr_facts_add(p->facts, name, true, "%s has no effect: %s",
				wdr_boot_order_word(order, i), why);
	}
	if (order->n > order->reached + 1)
		wdr_facts_add(p->facts, name, true,
			"digits to the left of the first %s are never used",
			order->starts_over ? "f" : "e");
	if (!wdr_boot_order_tries(order, "SD card", &place))
		wdr_facts_add(p->facts, name, true,
			"it never tries a card: a card cannot help when nothing else boots");
}

static void tell_order(WdrOrderPlan *p, const char *name, const char *settings)
{
	g_autofree char *text = wdr_eeprom_value(settings, "BOOT_ORDER");
	g_autoptr(GError) error = NULL;
	WdrBootOrder order = { 0 };

	if (!text) {
		wdr_facts_add(p->facts, name, true,
			"the settings have no BOOT_ORDER: the firmware's own");
		return;
	}
	if (!wdr_boot_order_parse(text, &order, &error)) {
		wdr_facts_add(p->facts, name, true, "%s", error->message);
		return;
	}
	g_autofree char *words = wdr_boot_order_words(&order);
	wdr_facts_add(p->facts, name, false, "%s: %s", text, words);
	judge_order(p, name, &order);
	g_autofree char *number = wdr_boot_order_number(&order);
	WdrOrderTold *told = wdr_order_told(p, name, number);
	told->starts_over = order.starts_over;
	for (unsigned i = 0; i < order.reached; i++)
		g_ptr_array_add(told->tries, g_strdup(wdr_boot_order_word(&order, i)));
}

/* ---- changing it ---- */

static const char *next_settings(const WdrOrderPlan *p)
{
	return p->settings.waiting ? p->settings.waiting : p->settings.now;
}

static bool is_first(const WdrBootOrder *order, const char *medium)
{
	unsigned place = 0;

	return wdr_boot_order_tries(order, medium, &place) && place == 0;
}

/* The order that is asked for; NULL: an error was set. The caller's. */
static char *wanted_order(const WdrOrderPlan *p, const WdrOrderOptions *o, GError **error)
{
	g_autofree char *text = wdr_eeprom_value(next_settings(p), "BOOT_ORDER");
	const char *medium = o->first ? wdr_medium_of_word(o->first) : NULL;
	g_autofree char *why = NULL;
	const char *hint = NULL;
	WdrBootOrder order = { 0 };

	if (o->number)
		return wdr_boot_order_parse(o->number, &order, error)
			       ? wdr_boot_order_number(&order)
			       : NULL;
	if (!medium) {
		wdr_error_set(error, WDR_ERROR_USAGE,
			"--first is nvme, usb, sd or emmc on this board, not '%s'", o->first);
		return NULL;
	}
	if (wdr_board_can(p->board, medium, &why, &hint) == WDR_ABILITY_NONE) {
		wdr_error_set(error, WDR_ERROR_REFUSED, "%s", why);
		wdr_error_hint(error, "nothing was changed; %s", hint ? hint : "");
		return NULL;
	}
	if (text && !wdr_boot_order_parse(text, &order, error)) {
		wdr_error_hint(error, "nothing was changed; --set ORDER sets a whole new order");
		return NULL;
	}
	return is_first(&order, medium) ? g_steal_pointer(&text)
					: wdr_boot_order_with_first(&order, medium);
}

/* A plain adapter is looked at only with a setting of the firmware. */
static void add_probe(const WdrOrderPlan *p, const WdrOrderOptions *o, char **settings)
{
	g_autofree char *probe = wdr_eeprom_value(*settings, "PCIE_PROBE");

	if (p->board->series != 5 || g_strcmp0(o->first, "nvme") != 0 || g_strcmp0(probe, "1") == 0)
		return;
	g_autofree char *before = *settings;
	*settings = wdr_eeprom_with(before, "PCIE_PROBE", "1");
}

/* An order that nobody can read may come to it. */
static bool tries_card(const char *text)
{
	WdrBootOrder order = { 0 };
	unsigned place = 0;

	return !text || !wdr_boot_order_parse(text, &order, NULL) ||
	       wdr_boot_order_tries(&order, "SD card", &place);
}

static bool plan_settings(WdrOrderPlan *p, const WdrOrderOptions *o, GError **error)
{
	const char *before = next_settings(p);

	if (!before || !wdr_eeprom_has_command(p->world)) {
		wdr_error_set(error, WDR_ERROR_UNSUPPORTED,
			"the firmware's settings cannot be %s here", before ? "changed" : "read");
		wdr_error_hint(error, "the system's commands for them are vcgencmd and "
				      "rpi-eeprom-config; nothing was changed");
		return false;
	}
	g_autofree char *text = wdr_eeprom_value(before, "BOOT_ORDER");
	g_autofree char *order = wanted_order(p, o, error);
	if (!order)
		return false;
	char *after = g_strcmp0(text, order) == 0 ? g_strdup(before)
						  : wdr_eeprom_with(before, "BOOT_ORDER", order);
	add_probe(p, o, &after);
	tell_order(p, "then", after);
	if (strcmp(before, after) == 0) {
		g_free(after);
		return true;
	}
	p->new_settings = after;
	if (tries_card(text) && !tries_card(order))
		p->without_way_back = g_strdup(order);
	p->diff = wdr_diff("the firmware's settings", before, strlen(before), after, strlen(after));
	return true;
}

/* ---- the fuse ---- */

static void tell_fuse(WdrOrderPlan *p)
{
	const WdrBoard *b = p->board;

	if (!b->fuse)
		wdr_facts_add(p->facts, "fuse", true,
			"unknown: on the board, vcgencmd otp_dump shows it");
	else
		wdr_facts_add(p->facts, "fuse", false, "%s (OTP row 17 is %s)",
			wdr_board_has_fuse(b) ? "set: it boots from USB" : "not set", b->fuse);
}

/* A card that keeps the line would set the fuse of every board that it is put into. */
static void plan_fuse(WdrOrderPlan *p, const WdrOrderOptions *o)
{
	const WdrSystemPart *boot = p->site ? p->site->system->boot : NULL;
	size_t len = 0;
	g_autofree char *text = boot && boot->volume ? wdr_follow_read(boot->volume, "config.txt",
							       WDR_BOOT_FILE_BYTES_MAX, &len)
						     : NULL;
	g_autoptr(GBytes) content = NULL;

	if (!text)
		return;
	bool has_line = wdr_config_has_line(text, len, FUSE_LINE);
	g_autofree char *remove = wdr_command("order", "--write");
	if (wdr_board_has_fuse(p->board) && has_line) {
		wdr_facts_add(p->facts, "config.txt", true,
			"still has " FUSE_LINE ": in another board "
			"this card would set its fuse too");
		content = wdr_config_without_line(text, len, FUSE_LINE);
	} else if (o->sets_fuse && !wdr_board_has_fuse(p->board) && !has_line) {
		wdr_facts_add(p->facts, "config.txt", true,
			"gets " FUSE_LINE
			": one boot with it sets the fuse, which nothing can undo; "
			"to remove the line after that boot: %s",
			remove);
		content = wdr_config_with_line(text, len, FUSE_LINE);
	} else if (has_line) {
		wdr_facts_add(p->facts, "config.txt", true,
			"has " FUSE_LINE ": restart once, then look "
			"here again");
	}
	if (content)
		wdr_file_plans_add(
			p->files, boot->partition->number, "config.txt", text, len, content);
}

bool wdr_order_of_firmware(WdrOrderPlan *p, const WdrOrderOptions *o, GError **error)
{
	bool has_settings = p->board->series >= 4;
	bool wants_order = o->first || o->number;

	if (o->targets || o->initial)
		return wdr_error_set(error, WDR_ERROR_USAGE,
			"--targets and --initial are for boards with U-Boot");
	if (o->sets_fuse && !wdr_board_needs_fuse(p->board))
		return wdr_error_set(
			error, WDR_ERROR_USAGE, "this board has no fuse that it needs");
	if (has_settings) {
		wdr_eeprom_read(p->world, &p->settings);
		tell_firmware(p);
	}
	tell_abilities(p);
	if (has_settings) {
		tell_order(p, "order", p->settings.now);
		if (p->settings.waiting)
			tell_order(p, "next boot", p->settings.waiting);
	} else {
		wdr_facts_add(p->facts, "order", false,
			"boards of the %u series try the SD card, then what else they can; there is "
			"nothing to set",
			p->board->series);
	}
	if (wdr_board_needs_fuse(p->board)) {
		tell_fuse(p);
		plan_fuse(p, o);
	}
	if (wants_order && !has_settings)
		return wdr_error_set(error, WDR_ERROR_REFUSED,
			"boards of the %u series have no order that could be set",
			p->board->series);
	return !wants_order || plan_settings(p, o, error);
}
