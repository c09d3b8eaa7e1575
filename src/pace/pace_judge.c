/* Warnings and notes on figures: whether they can be relied on, whether the disk is as fast as
 * its link lets it be, and what the likely cause is where it is not. */
#include "base/text.h"

#include "disk/health/failure_clues.h"
#include "pace/pace_figures.h"

#include <string.h>

#define MB 1e6
#define ZEROS_MANY 0.5
#define FAR_BELOW 0.6   /* of the link's rate */
#define NEAR_LIMIT 0.75 /* of it: more than the link allows cannot be had */
#define MORE_THAN_ALL 1.1
#define PROCESSOR_BUSY 0.9

enum {
	HOT_CELSIUS = 70,
	USB_SUPERSPEED_MBIT = 5000,
	AGAIN_MIN = 3, /* a stretch that is read so often may come from the disk's own memory */
};

static void G_GNUC_PRINTF(2, 3) warn(WdrPaced *p, const char *format, ...)
{
	va_list args;

	va_start(args, format);
	g_ptr_array_add(p->warnings, g_strdup_vprintf(format, args));
	va_end(args);
}

/* ---- whether they can be relied on ---- */

static void judge_way(WdrPaced *p)
{
	if (!p->is_past_cache)
		warn(p, "the page cache could not be passed by here: the figures may be those of "
			"this machine's memory");
	if (p->is_stand_in)
		warn(p, "this is a file: the figures are those of the disk of this machine that it "
			"lies on, not of the medium that it is made for");
}

static void judge_contents(WdrPaced *p)
{
	const WdrPaceFigure *f = &p->figures[WDR_PACE_READ_IN_SEQUENCE];
	const WdrPaceFigure *many = &p->figures[WDR_PACE_READ_AT_RANDOM];
	double zeros = MAX(f->is_there ? f->zeros : 0, many->is_there ? many->zeros : 0);

	if (zeros > ZEROS_MANY)
		warn(p,
			"%.0f %% of what was read were zeros: for places that nothing was written to "
			"a disk may answer without its flash; to be sure, measure a folder on it",
			zeros * 100);
	if (f->is_there && p->span > 0 && f->bytes / p->span >= AGAIN_MIN) {
		g_autofree char *span = wdr_format_size(p->span);
		warn(p,
			"its %s were read %" G_GUINT64_FORMAT
			" times over: a disk's own memory may have served a part",
			span, f->bytes / p->span);
	}
}

static void judge_steadiness(WdrPaced *p)
{
	g_autoptr(GString) list = g_string_new(NULL);

	for (size_t i = 0; i < WDR_PACE_KINDS; i++) {
		const WdrPaceFigure *f = &p->figures[i];
		const WdrPaceKindInfo *kind = wdr_pace_kind((WdrPaceKind)i);
		double unit = kind->is_random ? kind->request_bytes : MB;
		if (f->is_there && wdr_pace_is_unsteady(f))
			g_string_append_printf(list, "%s%s (from %.*f to %.*f %s)",
				list->len ? "; " : "", kind->text, kind->is_random ? 0 : 1,
				f->min / unit, kind->is_random ? 0 : 1, f->max / unit,
				kind->is_random ? "requests/s" : "MB/s");
	}
	if (list->len > 0)
		warn(p,
			"too unsteady to be relied on: %s; measure for longer (--seconds), with nothing "
			"else going on",
			list->str);
}

static void judge_processor(WdrPaced *p)
{
	for (size_t i = 0; i < WDR_PACE_KINDS; i++) {
		const WdrPaceFigure *f = &p->figures[i];
		if (f->is_there && f->cpu > PROCESSOR_BUSY) {
			warn(p, "%s: this machine's processor was the limit, not the disk",
				wdr_pace_kind((WdrPaceKind)i)->text);
			return;
		}
	}
}

/* ---- the disk and its link ---- */

static double fastest(const WdrPaced *p)
{
	double read = p->figures[WDR_PACE_READ_IN_SEQUENCE].median;

	return MAX(read, p->figures[WDR_PACE_WRITE_IN_SEQUENCE].median);
}

/* The link is the limit: whether there is a better one to be had. */
static void judge_full_link(const WdrWorld *world, WdrPaced *p, const WdrDisk *disk)
{
	g_autofree char *best = wdr_disk_best_link(world, disk);
	const char *text = p->link.text;

	if (g_str_has_prefix(text, "USB ") &&
		g_ascii_strtoull(text + strlen("USB "), NULL, 10) < USB_SUPERSPEED_MBIT)
		warn(p, "it is as fast as its link lets it be, and that is slow: a USB 3 port and "
			"cable allow ten times as much");
	else if (best && wdr_link_rate(best) > p->link.rate)
		warn(p,
			"it is as fast as its link lets it be; the drive itself can do %s (the "
			"command tune shows what the board can do)",
			best);
	else
		warn(p, "it is as fast as its link lets it be");
}

static void judge_heat(const WdrWorld *world, const WdrDisk *disk, GString *causes)
{
	int celsius = 0;

	if (wdr_disk_temperature(world, disk->name, &celsius) && celsius >= HOT_CELSIUS)
		g_string_append_printf(causes,
			"; it is at %d degrees, and drives slow down when they are hot", celsius);
}

static void judge_bridge(const WdrWorld *world, const WdrDisk *disk, GString *causes)
{
	g_autofree char *driver = wdr_disk_usb_driver(world, disk);

	if (g_strcmp0(driver, "usb-storage") == 0)
		g_string_append(causes,
			"; its bridge is driven by usb-storage, which has one request under way at a "
			"time: uas is faster, where the bridge can do it");
}

static void judge_slow(const WdrWorld *world, WdrPaced *p, const WdrDisk *disk)
{
	g_autoptr(GString) causes = g_string_new(NULL);
	g_autoptr(GPtrArray) signs = wdr_failure_clues(world, disk);

	judge_heat(world, disk, causes);
	judge_bridge(world, disk, causes);
	for (guint i = 0; i < signs->len; i++)
		g_string_append_printf(causes, "; %s", (char *)signs->pdata[i]);
	if (causes->len == 0)
		g_string_append(
			causes, g_str_has_prefix(disk->name, "mmcblk")
					? "; most cards are slower than their bus"
					: "; nothing is seen that slows it down: the disk itself "
					  "may not be faster, or be worn or nearly full");
	/* Behind the first "; ". */
	warn(p, "it is far below its link, at %.0f %% of it. Likely causes: %s",
		fastest(p) / (double)p->link.rate * 100, causes->str + 2);
}

static void judge_link(const WdrWorld *world, WdrPaced *p)
{
	g_autoptr(WdrDisk) disk = NULL;

	/* The figures of a file say nothing about the bus of the disk that it replaces. */
	if (p->is_stand_in || !p->disk || p->link.rate == 0 || fastest(p) == 0 ||
		!wdr_disk_find(world, p->disk, &disk, NULL))
		return;
	if (fastest(p) > MORE_THAN_ALL * (double)p->link.rate)
		warn(p, "that is more than its link allows: some of it came from a cache");
	else if (fastest(p) >= NEAR_LIMIT * (double)p->link.rate)
		judge_full_link(world, p, disk);
	else if (fastest(p) < FAR_BELOW * (double)p->link.rate)
		judge_slow(world, p, disk);
}

void wdr_paced_judge(const WdrWorld *world, WdrPaced *p)
{
	judge_way(p);
	judge_contents(p);
	judge_steadiness(p);
	judge_processor(p);
	judge_link(world, p);
}
