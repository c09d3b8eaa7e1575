/* Looks for possible causes of a disk's failure: kernel log, link, bridge, undervoltage.
 *
 * Each line says what was seen, not what is certainly the cause. */
#include "disk/health/failure_clues.h"

#include "base/cleanup.h"
#include "base/io.h"
#include "base/text.h"
#include "world/ask_firmware.h"

#include <fcntl.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

enum {
	RECORD_BYTES_MAX = 8192, /* the kernel's own limit */
	RECORDS_MAX = 200000,
	SHOWN_MAX = 5, /* the last ones */
	SUPERSPEED_MBIT = 5000,
	/* What a disk's driver says comes a little before udev sees the disk. */
	ARRIVING_US = 5 * 1000 * 1000,
	/* Bits of the answer. */
	VOLTAGE_IS_LOW = 1 << 0,
	VOLTAGE_WAS_LOW = 1 << 16,
};

/* What the drivers call what a disk belongs to: nvme0n1 is nvme0's, mmcblk0 mmc0's. NULL: none. */
static char *controller_of(const char *disk_name)
{
	if (g_str_has_prefix(disk_name, "nvme"))
		return g_strndup(disk_name, 4 + strspn(disk_name + 4, "0123456789"));
	return g_str_has_prefix(disk_name, "mmcblk")
		       ? g_strdup_printf("mmc%s:", disk_name + strlen("mmcblk"))
		       : NULL;
}

char *wdr_kernel_trouble(const char *record, const char *disk_name)
{
	/* What the block layer and the drivers of disks write when something fails. */
	static const char *const words[] = { "error", "timeout", "timed out", "reset", "failed",
		"offline", "disconnect", "abort", "Sense Key" };
	const char *text = strchr(record, ';');
	size_t len = strlen(disk_name);
	g_autofree char *controller = controller_of(disk_name);

	if (!text)
		return NULL;
	text++;
	const char *name = strstr(text, disk_name);
	bool is_other = name && g_ascii_isalnum(name[len]) && name[len] != 'p';
	if ((!name || is_other) && !(controller && strstr(text, controller)))
		return NULL;
	for (size_t i = 0; i < G_N_ELEMENTS(words); i++) {
		if (strstr(text, words[i])) {
			/* Lines that begin with a blank are for machines. */
			g_autofree char *line = g_strndup(text, strcspn(text, "\n"));
			return wdr_escape(line);
		}
	}
	return NULL;
}

static guint64 throttled_bits(const char *answer)
{
	const char *value = strstr(answer, "throttled=");

	return value ? g_ascii_strtoull(value + strlen("throttled="), NULL, 16) : 0;
}

const char *wdr_undervoltage(const char *answer)
{
	guint64 bits = throttled_bits(answer);

	if (bits & VOLTAGE_IS_LOW)
		return "the board's firmware says that the voltage is too low now: use a stronger power "
		       "supply, or a powered hub";
	return bits & VOLTAGE_WAS_LOW
		       ? "the board's firmware says that the voltage was too low since the boot: "
			 "use a stronger power supply, or a powered hub"
		       : NULL;
}

/* A disk of this name came: what was said before is of another one, or of another plug. */
static bool is_arrival(const char *record, const char *name)
{
	g_autofree char *scsi = g_strdup_printf("[%s] Attached", name);
	g_autofree char *card = g_strdup_printf(";%s: mmc", name);
	g_autofree char *sectors = g_strdup_printf("[%s] ", name);
	/* A loop device that got a file, a reader that got a card. */
	g_autofree char *medium = g_strdup_printf(";%s: detected capacity change from 0 to ", name);
	g_autofree char *controller = controller_of(name);
	g_autofree char *pci =
		g_strdup_printf(";nvme %s: pci function", controller ? controller : "(none)");

	return strstr(record, scsi) || strstr(record, card) || strstr(record, pci) ||
	       strstr(record, medium) ||
	       (strstr(record, sectors) && strstr(record, "logical blocks:"));
}

/* "PRIORITY,NUMBER,TIME,…": microseconds; 0: it does not say. */
static int64_t time_of(const char *record)
{
	g_auto(GStrv) words = g_strsplit(record, ",", 4);

	return g_strv_length(words) > 2 ? g_ascii_strtoll(words[2], NULL, 10) : 0;
}

static void take_trouble(GPtrArray *lines, const char *record, const char *name, int64_t since_us)
{
	if (is_arrival(record, name))
		g_ptr_array_set_size(lines, 0);
	if (time_of(record) < since_us)
		return;
	char *line = wdr_kernel_trouble(record, name);
	if (!line)
		return;
	if (lines->len == SHOWN_MAX)
		g_ptr_array_remove_index(lines, 0);
	g_ptr_array_add(lines, line);
}

/* Each read of the device gives one record; a bench's stand-in is a plain file of lines. */
static void read_kernel_log(int fd, const char *name, int64_t since_us, GPtrArray *lines)
{
	g_autofree char *record = g_malloc(RECORD_BYTES_MAX + 1);

	for (unsigned i = 0; i < RECORDS_MAX; i++) {
		ssize_t got = read(fd, record, RECORD_BYTES_MAX);
		/* EPIPE: records were overwritten while we read. */
		if (got < 0 && (errno == EPIPE || errno == EINTR))
			continue;
		if (got <= 0)
			return;
		record[got] = '\0';
		g_auto(GStrv) each = g_strsplit(record, "\n", -1);
		for (size_t n = 0; each[n]; n++)
			take_trouble(lines, each[n], name, since_us);
	}
}

static void look_at_link(const WdrDisk *disk, GPtrArray *signs)
{
	bool is_usb = disk->link && g_str_has_prefix(disk->link, "USB ");
	guint64 mbit = is_usb ? g_ascii_strtoull(disk->link + strlen("USB "), NULL, 10) : 0;

	if (mbit > 0 && mbit < SUPERSPEED_MBIT)
		g_ptr_array_add(signs,
			g_strdup_printf("%s runs at %s: a USB 2 port or cable, or a link that fell "
					"back; try another port and cable",
				disk->name, disk->link));
}

static void look_at_bridge(const WdrWorld *world, const WdrDisk *disk, GPtrArray *signs)
{
	g_autofree char *driver = wdr_disk_usb_driver(world, disk);

	if (driver && strcmp(driver, "uas") == 0)
		g_ptr_array_add(signs,
			g_strdup_printf("the USB bridge of %s is driven by uas: some bridges fail "
					"with it under load, and work with usb-storage",
				disk->name));
}

bool wdr_ask_voltage(const WdrWorld *world, const char **ret_text, bool *ret_is_now)
{
	g_autofree char *answer = wdr_firmware_ask(world, "get_throttled");

	if (!answer)
		return false;
	*ret_text = wdr_undervoltage(answer);
	*ret_is_now = (throttled_bits(answer) & VOLTAGE_IS_LOW) != 0;
	return true;
}

static void ask_firmware(const WdrWorld *world, GPtrArray *signs)
{
	const char *text = NULL;
	bool is_now = false;

	if (wdr_ask_voltage(world, &text, &is_now) && text)
		g_ptr_array_add(signs, g_strdup(text));
}

/* When udev first saw the disk that has this name now: 0: nobody says. */
static int64_t arrived_us(const WdrWorld *world, const char *disk_name)
{
	g_autofree char *in_sys = g_strdup_printf("/sys/block/%s/dev", disk_name);
	g_autofree char *number = wdr_world_line(world, in_sys);
	g_autofree char *in_run = g_strdup_printf("/run/udev/data/b%s", number ? number : "");
	g_autofree char *path = wdr_world_path(world, in_run);
	g_autofree char *text = NULL;
	size_t len = 0;

	if (!number || !wdr_read_file(path, RECORD_BYTES_MAX * 8, &text, &len, NULL))
		return 0;
	const char *line = g_str_has_prefix(text, "I:") ? text : strstr(text, "\nI:");
	return line ? g_ascii_strtoll(strchr(line, ':') + 1, NULL, 10) : 0;
}

GPtrArray *wdr_disk_kernel_lines(const WdrWorld *world, const char *disk_name, int64_t since_us)
{
	int64_t came = arrived_us(world, disk_name) - ARRIVING_US;
	g_autofree char *path = wdr_world_path(world, "/dev/kmsg");
	g_auto(WdrFd) fd = open(path, O_RDONLY | O_NONBLOCK | O_CLOEXEC);

	if (fd < 0)
		return NULL;
	GPtrArray *lines = g_ptr_array_new_with_free_func(g_free);
	read_kernel_log(fd, disk_name, MAX(since_us, came), lines);
	return lines;
}

GPtrArray *wdr_failure_clues(const WdrWorld *world, const WdrDisk *disk)
{
	GPtrArray *signs = g_ptr_array_new_with_free_func(g_free);

	if (disk->is_image)
		return signs;
	ask_firmware(world, signs);
	look_at_link(disk, signs);
	look_at_bridge(world, disk, signs);
	g_autoptr(GPtrArray) lines =
		wdr_disk_kernel_lines(world, disk->name, wdr_world_began_us(world));
	for (guint i = 0; lines && i < lines->len; i++)
		g_ptr_array_add(signs, g_strdup_printf("kernel: %s", (char *)lines->pdata[i]));
	return signs;
}
