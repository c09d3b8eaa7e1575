/* Power, failures since the start, health and clock of the machine that the move runs on. */
#include "base/command.h"
#include "base/text.h"

#include "check/ready_priv.h"
#include "disk/health/failure_clues.h"
#include "disk/health/health.h"
#include "disk/health/nvme_health.h"

#include <string.h>

/* 2026-01-01: this program is younger. */
#define CLOCK_SINCE INT64_C(1767225600)

static void check_power(WdrReady *r)
{
	const char *text = NULL;
	bool is_now = false;
	bool is_image = !r->around.source || !r->around.target ||
			(r->around.source->is_image && r->around.target->is_image);

	if (is_image || !wdr_ask_voltage(r->around.world, &text, &is_now))
		return;
	wdr_checks_say(r->checks, WDR_CHECK_POWER,
		!text    ? WDR_STATE_OK
		: is_now ? WDR_STATE_STOP
			 : WDR_STATE_WARNING,
		NULL, "%s", text ? text : "the voltage was never too low since the boot");
}

/* The connector of the boards of the 5 series, by their documents. */
#define CONNECTOR_MILLIWATTS 5000

static void check_connector(WdrReady *r)
{
	const WdrDisk *target = r->around.target;
	WdrNvmeHealth health;

	if (!target || !wdr_nvme_health_ask(r->around.world, target, &health) ||
		health.max_milliwatts == 0)
		return;
	g_autoptr(WdrBoard) board = wdr_board_look(r->around.world);
	if (!board || board->series != 5)
		return;
	bool is_hungry = health.max_milliwatts > CONNECTOR_MILLIWATTS;
	wdr_checks_say(r->checks, WDR_CHECK_POWER, is_hungry ? WDR_STATE_WARNING : WDR_STATE_OK,
		is_hungry ? "use an adapter with its own power supply, or a drive that draws less"
			  : NULL,
		"%s may draw %.1f W, and the board's PCIe connector gives %.0f W", target->name,
		health.max_milliwatts / 1000.0, CONNECTOR_MILLIWATTS / 1000.0);
}

/* What the medium failed to read or write, as opposed to resets and the like. */
static bool is_failure(const char *line)
{
	return strstr(line, "I/O error") || strstr(line, "medium error") ||
	       strstr(line, "critical target error");
}

static void check_errors(WdrReady *r, const WdrDisk *disk, bool is_target)
{
	if (!disk || disk->is_image)
		return;
	g_autoptr(GPtrArray) lines = wdr_disk_kernel_lines(r->around.world, disk->name, 0);
	for (guint i = 0; lines && i < lines->len; i++) {
		const char *line = lines->pdata[i];
		bool is_bad = is_target && is_failure(line);
		g_autofree char *evidence =
			g_strdup_printf("the kernel says of %s: %s", disk->name, line);
		wdr_checks_add(r->checks, WDR_CHECK_ERRORS,
			is_bad ? WDR_STATE_STOP : WDR_STATE_WARNING,
			is_bad ? "another cable, port, power supply or drive"
			       : "check cable, port and power supply",
			evidence);
	}
	g_autofree char *by_root = wdr_command_by_root();
	if (!lines && is_target)
		wdr_checks_say(r->checks, WDR_CHECK_ERRORS, WDR_STATE_WARNING, by_root,
			"the kernel's log cannot be read: it is unknown whether disks failed since the boot");
	else if (lines && lines->len == 0)
		wdr_checks_say(r->checks, WDR_CHECK_ERRORS, WDR_STATE_OK, NULL,
			"the kernel log has no errors of %s", disk->name);
}

static void check_health(WdrReady *r, const WdrDisk *disk)
{
	if (!disk)
		return;
	g_autoptr(GPtrArray) health = wdr_disk_health(r->around.world, disk);
	for (guint i = 0; i < health->len; i++) {
		const WdrHealth *h = health->pdata[i];
		wdr_checks_say(r->checks, WDR_CHECK_HEALTH,
			h->is_bad ? WDR_STATE_WARNING : WDR_STATE_OK,
			h->is_bad ? "do not trust it with anything that is nowhere else" : NULL,
			"%s: %s", disk->name, h->text);
	}
}

/* The newest time among what a system without a battery for its clock writes at each shutdown. */
static int64_t newest_time(const WdrReady *r, const char **ret_file)
{
	static const char *const files[] = { "etc/fake-hwclock.data",
		"var/lib/systemd/timesync/clock", "etc/fstab", "var/log/syslog", "var/log/wtmp" };
	const WdrSystemPart *root = r->around.system ? r->around.system->root : NULL;
	int64_t newest = 0;

	for (size_t i = 0; root && root->volume && i < G_N_ELEMENTS(files); i++) {
		g_auto(WdrEntry) entry = { 0 };
		bool is_found = false;
		if (!wdr_volume_lookup(root->volume, files[i], &is_found, NULL, &entry, NULL) ||
			!is_found || entry.mtime.sec <= newest)
			continue;
		newest = entry.mtime.sec;
		*ret_file = files[i];
	}
	return newest;
}

static void check_clock(WdrReady *r)
{
	g_autofree char *hint = wdr_system_command("timedatectl", "set-ntp", "true");
	int64_t now = wdr_world_now(r->around.world);
	const char *file = NULL;
	int64_t newest = newest_time(r, &file);
	g_autofree char *says = wdr_format_time(now);
	g_autofree char *of = wdr_format_time(newest);

	if (now < CLOCK_SINCE)
		wdr_checks_say(r->checks, WDR_CHECK_CLOCK, WDR_STATE_WARNING, hint,
			"the clock says %s: it was not set since the boot, and edited files get its time",
			says);
	else if (now < newest)
		wdr_checks_say(r->checks, WDR_CHECK_CLOCK, WDR_STATE_WARNING, hint,
			"the clock says %s, but /%s is of %s", says, file, of);
	else
		wdr_checks_say(
			r->checks, WDR_CHECK_CLOCK, WDR_STATE_OK, NULL, "the clock says %s", says);
}

void wdr_ready_machine(WdrReady *r)
{
	check_power(r);
	check_connector(r);
	check_errors(r, r->around.source, false);
	check_errors(r, r->around.target, true);
	check_health(r, r->around.source);
	check_health(r, r->around.target);
	check_clock(r);
}
