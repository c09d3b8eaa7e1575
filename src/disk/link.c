/* Reads the rate of the slowest link between a disk and the processor. */
#include "disk/link.h"

#include "base/io.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/sysmacros.h>

#define MBIT 1e6
#define GT 1e9

enum { IOS_BYTES_MAX = 4096, SECTOR = 512 };

void wdr_link_clear(WdrLink *link)
{
	g_free(link->text);
	*link = (WdrLink){ 0 };
}

/* Generations 1 and 2 send 10 bits for 8, later ones 130 for 128. */
static uint64_t pcie_rate(const char *text)
{
	char *end = NULL;
	double transfers = g_ascii_strtod(text + strlen("PCIe "), &end);
	const char *width = strstr(end, " x");
	guint64 lanes = width ? g_ascii_strtoull(width + strlen(" x"), NULL, 10) : 0;
	double coded = transfers > 5 ? 128.0 / 130 : 8.0 / 10;

	return (uint64_t)(transfers * GT * coded / 8 * (double)lanes);
}

/* USB 2 has no such encoding, and room for 13 packets of 512 bytes in each of 8000 microframes a
 * second; USB 3 sends 10 bits for 8 up to 5 Gbit/s, then 132 for 128. */
static uint64_t usb_rate(const char *text)
{
	double mbit = g_ascii_strtod(text + strlen("USB "), NULL);

	if (mbit == 480)
		return UINT64_C(13) * 512 * 8000;
	if (mbit < 480)
		return (uint64_t)(mbit * MBIT / 8);
	return (uint64_t)(mbit * MBIT / 8 * (mbit > 5000 ? 128.0 / 132 : 8.0 / 10));
}

uint64_t wdr_link_rate(const char *text)
{
	if (text && g_str_has_prefix(text, "PCIe "))
		return pcie_rate(text);
	return text && g_str_has_prefix(text, "USB ") ? usb_rate(text) : 0;
}

/* ---- the bus of a card: https://docs.kernel.org, drivers/mmc/core/debugfs.c ---- */

static guint64 ios_number(const char *ios, const char *key)
{
	const char *at = strstr(ios, key);

	return at ? g_ascii_strtoull(at + strlen(key) + strspn(at + strlen(key), " \t"), NULL, 10)
		  : 0;
}

/* What is in brackets after a key: "sd uhs SDR104". The caller's. */
static char *ios_words(const char *ios, const char *key)
{
	const char *at = strstr(ios, key);
	const char *value = at ? at + strlen(key) : "";
	g_autofree char *line = g_strndup(value, strcspn(value, "\n"));
	const char *open = strchr(line, '(');

	return open ? g_strndup(open + 1, strcspn(open + 1, ")")) : NULL;
}

WdrLink wdr_link_of_card_bus(const char *ios)
{
	/* Data is sent on both edges of the clock. */
	static const char *const doubled[] = { "DDR50", "DDR52", "HS400" };
	g_autofree char *timing = ios_words(ios, "\ntiming spec:");
	guint64 hertz = ios_number(ios, "\nactual clock:");
	guint64 width_log = ios_number(ios, "\nbus width:");
	unsigned edges = 1;

	if (!hertz)
		hertz = ios_number(ios, "clock:");
	if (!timing || !hertz || width_log > 3)
		return (WdrLink){ 0 };
	for (size_t i = 0; i < G_N_ELEMENTS(doubled); i++)
		edges = strstr(timing, doubled[i]) ? 2 : edges;
	unsigned lines = 1U << width_log;
	return (WdrLink){ g_strdup_printf("%s, %.0f MHz x %u", timing, (double)hertz / 1e6, lines),
		hertz * lines * edges / 8 };
}

/* The host that a card is in has its bus in debugfs, which only root may read. */
static WdrLink card_bus(const WdrWorld *world, const WdrDisk *disk)
{
	g_autofree char *in_sys = g_strdup_printf("/sys/block/%s/device", disk->name);
	g_autofree char *device = wdr_world_path(world, in_sys);
	g_autofree char *real = realpath(device, NULL);
	g_autofree char *card = real ? g_path_get_basename(real) : g_strdup("");
	/* "mmc0:aaaa"; where no link tells, the host has the disk's number. */
	g_autofree char *host = g_str_has_prefix(card, "mmc") && strchr(card, ':')
					? g_strndup(card, strcspn(card, ":"))
					: g_strdup_printf("mmc%s", disk->name + strlen("mmcblk"));
	g_autofree char *in_debug = g_strdup_printf("/sys/kernel/debug/%s/ios", host);
	g_autofree char *path = wdr_world_path(world, in_debug);
	g_autofree char *ios = NULL;
	size_t len = 0;

	if (!wdr_read_file(path, IOS_BYTES_MAX, &ios, &len, NULL))
		return (WdrLink){ 0 };
	return wdr_link_of_card_bus(ios);
}

WdrLink wdr_disk_link(const WdrWorld *world, const WdrDisk *disk)
{
	if (disk->is_image)
		return (WdrLink){ 0 };
	if (!disk->link && g_str_has_prefix(disk->name, "mmcblk"))
		return card_bus(world, disk);
	return (WdrLink){ g_strdup(disk->link), wdr_link_rate(disk->link) };
}

/* ---- the disk behind a device, and what goes on there ---- */

char *wdr_disk_name_of_device(const WdrWorld *world, dev_t device)
{
	g_autofree char *in_sys =
		g_strdup_printf("/sys/dev/block/%u:%u", major(device), minor(device));
	g_autofree char *link = wdr_world_path(world, in_sys);
	g_autofree char *real = realpath(link, NULL);
	g_autofree char *sign = g_build_filename(real ? real : "", "partition", NULL);

	if (!real)
		return NULL;
	if (!g_file_test(sign, G_FILE_TEST_EXISTS))
		return g_path_get_basename(real);
	g_autofree char *disk = g_path_get_dirname(real);
	return g_path_get_basename(disk);
}

bool wdr_disk_traffic(
	const WdrWorld *world, const char *name, uint64_t *ret_read, uint64_t *ret_written)
{
	g_autofree char *in_sys = g_strdup_printf("/sys/block/%s/stat", name);
	g_autofree char *path = wdr_world_path(world, in_sys);
	g_autofree char *line = wdr_read_line(path);
	unsigned long long read = 0;
	unsigned long long written = 0;

	/* Requests, merged, sectors, milliseconds; reads first. */
	if (!line || sscanf(line, "%*u %*u %llu %*u %*u %*u %llu", &read, &written) != 2)
		return false;
	*ret_read = read * SECTOR;
	*ret_written = written * SECTOR;
	return true;
}

bool wdr_disk_temperature(const WdrWorld *world, const char *name, int *ret)
{
	g_autofree char *in_sys = g_strdup_printf("/sys/block/%s/device", name);
	g_autofree char *folder = wdr_world_path(world, in_sys);
	g_autoptr(GDir) dir = g_dir_open(folder, 0, NULL);

	for (const char *entry; dir && (entry = g_dir_read_name(dir));) {
		g_autofree char *path = g_build_filename(folder, entry, "temp1_input", NULL);
		g_autofree char *line =
			g_str_has_prefix(entry, "hwmon") ? wdr_read_line(path) : NULL;
		if (line && *line) {
			*ret = (int)(g_ascii_strtoll(line, NULL, 10) / 1000);
			return true;
		}
	}
	return false;
}
