/* Reads wear, temperature and errors that a disk reports. */
#include "disk/health/health.h"

#include "base/io.h"
#include "disk/health/ata_health.h"
#include "disk/health/nvme_health.h"

#include <string.h>

enum {
	/* A few failures come of probing a USB bridge for what it cannot do. */
	FAILURES_USUAL = 20,
	/* Of an eMMC, in steps of ten percent; 0 is "not told". */
	LIFE_STEPS = 10,
	LIFE_STEPS_BAD = 9,
	NVME_USED_BAD = 90, /* percent */
	SSD_USED_BAD = 90,
	RESERVE_NORMAL = 1,
	RESERVE_LOW = 2, /* four fifths are used */
};

static void health_free(void *data)
{
	g_free(((WdrHealth *)data)->text);
	g_free(data);
}

static void say(GPtrArray *list, bool is_bad, const char *format, ...) G_GNUC_PRINTF(3, 4);
static void say(GPtrArray *list, bool is_bad, const char *format, ...)
{
	WdrHealth *h = g_new0(WdrHealth, 1);
	va_list args;

	va_start(args, format);
	h->is_bad = is_bad;
	h->text = g_strdup_vprintf(format, args);
	va_end(args);
	g_ptr_array_add(list, h);
}

static char *attribute(const char *device, const char *name)
{
	g_autofree char *path = g_build_filename(device, name, NULL);

	return wdr_read_line(path);
}

/* The SD status register as the kernel shows it: 64 bytes in hexadecimal digits. Format: SD
 * Physical Layer Simplified Specification 6.00, section 4.10.2. */
enum { SSR_BYTES = 64, SSR_CLASS = 8, SSR_UHS = 14, SSR_VIDEO = 15, SSR_APPLICATION = 21 };

static bool read_status(const char *device, uint8_t ret[SSR_BYTES])
{
	g_autofree char *text = attribute(device, "ssr");

	if (!text || strlen(text) != SSR_BYTES * 2)
		return false;
	for (size_t i = 0; i < SSR_BYTES; i++) {
		int high = g_ascii_xdigit_value(text[i * 2]);
		int low = g_ascii_xdigit_value(text[i * 2 + 1]);
		if (high < 0 || low < 0)
			return false;
		ret[i] = (uint8_t)(high << 4 | low);
	}
	return true;
}

/* What is printed on a card: that it writes so many MB/s in sequence, or serves small files well.
 */
static void look_at_card(const char *device, GPtrArray *list)
{
	static const unsigned classes[] = { 0, 2, 4, 6, 10 };
	g_autoptr(GString) text = g_string_new(NULL);
	uint8_t ssr[SSR_BYTES];

	if (!read_status(device, ssr))
		return;
	unsigned speed = ssr[SSR_CLASS] < G_N_ELEMENTS(classes) ? classes[ssr[SSR_CLASS]] : 0;
	unsigned uhs = ssr[SSR_UHS] >> 4;
	unsigned application = ssr[SSR_APPLICATION] & 0x0f;
	if (speed > 0)
		g_string_append_printf(text, ", class %u", speed);
	if (uhs > 0)
		g_string_append_printf(text, ", U%u", uhs);
	if (ssr[SSR_VIDEO] > 0)
		g_string_append_printf(text, ", V%u", ssr[SSR_VIDEO]);
	if (application > 0)
		g_string_append_printf(text, ", A%u", application);
	if (text->len > 0)
		say(list, false, "it is marked %s", text->str + strlen(", "));
}

/* "0x02 0x01": of the two kinds of cells, the worse counts. */
static void look_at_mmc(const char *device, GPtrArray *list)
{
	g_autofree char *life = attribute(device, "life_time");
	g_autofree char *reserve = attribute(device, "pre_eol_info");
	g_auto(GStrv) words = g_strsplit(life ? life : "", " ", -1);
	guint64 steps = 0;

	look_at_card(device, list);
	for (size_t i = 0; words[i]; i++)
		steps = MAX(steps, g_ascii_strtoull(words[i], NULL, 16));
	if (steps > LIFE_STEPS)
		say(list, true, "it has outlived the life that it was made for");
	else if (steps > 0)
		say(list, steps >= LIFE_STEPS_BAD, "%u to %u %% of its life is used",
			(unsigned)(steps - 1) * 10, (unsigned)steps * 10);
	guint64 state = reserve ? g_ascii_strtoull(reserve, NULL, 16) : 0;
	if (state > RESERVE_NORMAL)
		say(list, true, "its spare blocks are %s",
			state == RESERVE_LOW ? "low" : "used up");
}

/* What the drive counts; a temperature that the kernel shows, too, has its limit beside it there.
 */
static void look_at_nvme_log(const WdrNvmeHealth *h, bool has_temperature, GPtrArray *list)
{
	if (h->is_read_only)
		say(list, true, "it takes no more writes");
	if (h->is_unreliable)
		say(list, true, "it says of itself that it is not reliable any more");
	if (h->is_low_on_spares || h->spare < h->spare_threshold)
		say(list, true, "its spare blocks are low: %u %% are left, and %u %% is the limit",
			h->spare, h->spare_threshold);
	say(list, h->used >= NVME_USED_BAD, "%u %% of its life is used", h->used);
	if (h->media_errors > 0)
		say(list, true, "it could not read or keep its data %" G_GUINT64_FORMAT " times",
			h->media_errors);
	if (h->power_losses > 0)
		say(list, false, "it lost its power %" G_GUINT64_FORMAT " times without notice",
			h->power_losses);
	if (!has_temperature && h->degrees > 0)
		say(list, false, "it is %d degrees warm", h->degrees);
}

/* hwmonN of the controller has thousandths of a degree. */
static void look_at_temperature(const char *device, GPtrArray *list)
{
	g_autoptr(GDir) dir = g_dir_open(device, 0, NULL);

	for (const char *name; dir && (name = g_dir_read_name(dir));) {
		g_autofree char *sensor = g_build_filename(device, name, NULL);
		if (!g_str_has_prefix(name, "hwmon"))
			continue;
		g_autofree char *now = attribute(sensor, "temp1_input");
		g_autofree char *max = attribute(sensor, "temp1_max");
		gint64 degrees = now ? g_ascii_strtoll(now, NULL, 10) / 1000 : 0;
		gint64 limit = max ? g_ascii_strtoll(max, NULL, 10) / 1000 : 0;
		if (degrees > 0)
			say(list, limit > 0 && degrees >= limit,
				"it is %" G_GINT64_FORMAT " degrees warm%s", degrees,
				limit > 0 && degrees >= limit ? ", and slows itself down" : "");
	}
}

static void look_at_nvme(
	const WdrWorld *world, const WdrDisk *disk, const char *device, GPtrArray *list)
{
	g_autofree char *state = attribute(device, "state");
	WdrNvmeHealth health;

	if (state && strcmp(state, "live") != 0)
		say(list, true, "the kernel calls its controller '%s'", state);
	guint before = list->len;
	look_at_temperature(device, list);
	if (wdr_nvme_health_ask(world, disk, &health))
		look_at_nvme_log(&health, list->len > before, list);
}

static void say_sectors(const WdrAtaHealth *h, GPtrArray *list)
{
	if (h->reallocated + h->pending + h->uncorrectable == 0)
		return;
	say(list, h->pending > 0 || h->uncorrectable > 0,
		"%" G_GUINT64_FORMAT " of its sectors were replaced, %" G_GUINT64_FORMAT
		" wait for it, %" G_GUINT64_FORMAT " could not be read",
		h->reallocated, h->pending, h->uncorrectable);
}

static void say_ata(const WdrAtaHealth *h, GPtrArray *list)
{
	if (!h->is_told)
		say(list, false, "it keeps no watch over itself (no SMART)");
	if (h->has_status)
		say(list, h->is_failing, "%s (SMART)",
			h->is_failing ? "it says of itself that it will fail soon"
				      : "it says of itself that it is well");
	say_sectors(h, list);
	if (h->has_used)
		say(list, h->used >= SSD_USED_BAD, "%u %% of its life is used", h->used);
	if (h->is_told && !h->has_status && !h->has_attributes)
		say(list, false, "it tells nothing of its health");
}

static void look_at_ata(const WdrWorld *world, const WdrDisk *disk, GPtrArray *list)
{
	g_autofree char *ids = wdr_disk_usb_ids(world, disk);
	WdrAtaHealth health;

	switch (wdr_ata_health_ask(world, disk, &health)) {
	case WDR_ATA_ANSWERED:
		say_ata(&health, list);
		break;
	case WDR_ATA_BRIDGE:
		say(list, false,
			"its USB bridge (%s) does not tell which disk is behind it: its health is "
			"unknown",
			ids ? ids : "of an unknown kind");
		break;
	case WDR_ATA_UNANSWERED:
		say(list, false, "it cannot be asked for its health");
		break;
	case WDR_ATA_NONE:
		break;
	}
}

static void look_at_scsi(const char *device, GPtrArray *list)
{
	g_autofree char *failed = attribute(device, "ioerr_cnt");
	guint64 count = failed ? g_ascii_strtoull(failed, NULL, 16) : 0;

	if (failed)
		say(list, count > FAILURES_USUAL,
			"it has failed %" G_GUINT64_FORMAT " requests since it was plugged in",
			count);
}

GPtrArray *wdr_disk_health(const WdrWorld *world, const WdrDisk *disk)
{
	GPtrArray *list = g_ptr_array_new_with_free_func(health_free);
	g_autofree char *in_sys = g_strdup_printf("/sys/block/%s/device", disk->name);
	g_autofree char *device = wdr_world_path(world, in_sys);

	if (disk->is_image)
		return list;
	if (g_str_has_prefix(disk->name, "mmcblk"))
		look_at_mmc(device, list);
	else if (g_str_has_prefix(disk->name, "nvme"))
		look_at_nvme(world, disk, device, list);
	else {
		look_at_scsi(device, list);
		look_at_ata(world, disk, list);
	}
	return list;
}
