/* How long the boot took, beside that from the old disk. */
#include "check/arrive_priv.h"

#include "journal/move_progress.h"

/* So much longer is no noise: a service or a mount waits for something. */
#define SLOWER_TIMES 1.5
#define SLOWER_US (5 * (int64_t)G_USEC_PER_SEC)

static bool had_boot_time(const char *records, WdrBootTime *ret)
{
	g_autofree char *path = g_build_filename(records, "logbook.jsonl", NULL);
	g_auto(WdrMoveProgress) logged = { 0 };

	if (!wdr_move_progress_read(path, &logged, NULL))
		return false;
	*ret = logged.boot_time;
	return logged.has_boot_time;
}

static void say(const WdrArriving *a, const WdrArrivalBootTimes *times)
{
	int64_t now = wdr_boot_time_all(&times->now);
	int64_t before = times->has_before ? wdr_boot_time_all(&times->before) : 0;
	bool is_slow = before > 0 && now > (int64_t)((double)before * SLOWER_TIMES) + SLOWER_US;
	g_autofree char *took = wdr_boot_time_text(now);
	g_autofree char *was = wdr_boot_time_text(before);
	g_autofree char *parts = wdr_boot_time_parts(&times->now);
	g_autofree char *beside =
		before > 0 ? g_strdup_printf(" (%s from %s)", was, a->it->source.name)
			   : g_strdup("");

	wdr_checks_say(a->checks, WDR_ARRIVED_BOOT_TIME, is_slow ? WDR_STATE_WARNING : WDR_STATE_OK,
		is_slow ? "to see what was waited for: systemd-analyze critical-chain" : NULL,
		"the boot took %s%s%s: %s", took,
		times->now.us[WDR_BOOT_FIRMWARE] + times->now.us[WDR_BOOT_LOADER] > 0
			? ""
			: " from the kernel's start",
		beside, parts);
}

void wdr_arrive_boot_time(const WdrArriving *a, WdrArrivalBootTimes *ret)
{
	ret->has_now = wdr_boot_time_ask(a->world, &ret->now);
	ret->has_before = had_boot_time(a->records, &ret->before);
	if (ret->has_now)
		say(a, ret);
}
