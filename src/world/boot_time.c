/* Asks systemd for the moments of the boot.
 *
 * Their meaning: org.freedesktop.systemd1(5), "Properties". Firmware and loader are counted
 * backwards from the kernel's start, all others forwards. */
#include "world/boot_time.h"

#include "base/text.h"
#include "world/service_manager.h"

#include <string.h>

typedef struct {
	const char *name;
	int64_t us; /* 0: not told, or not reached */
} Moment;

enum { FIRMWARE, LOADER, INITRAMFS, USERSPACE, FINISH, MOMENTS };

static const struct {
	const char *name, *key;
} parts[WDR_BOOT_PARTS] = {
	[WDR_BOOT_FIRMWARE] = { "firmware", "firmware_us" },
	[WDR_BOOT_LOADER] = { "loader", "loader_us" },
	[WDR_BOOT_KERNEL] = { "kernel", "kernel_us" },
	[WDR_BOOT_INITRAMFS] = { "initramfs", "initramfs_us" },
	[WDR_BOOT_SERVICES] = { "services", "services_us" },
};

const char *wdr_boot_part_key(WdrBootPart part)
{
	return parts[part].key;
}

static void take_line(Moment *moments, const char *line)
{
	for (size_t i = 0; i < MOMENTS; i++) {
		size_t len = strlen(moments[i].name);
		if (strncmp(line, moments[i].name, len) != 0 || line[len] != '=')
			continue;
		uint64_t us = g_ascii_strtoull(line + len + 1, NULL, 10);
		moments[i].us = us <= (uint64_t)WDR_BOOT_TIME_MAX_US ? (int64_t)us : 0;
	}
}

static bool ask(const WdrWorld *world, Moment *moments)
{
	const char *argv[MOMENTS * 2 + 3] = { "systemctl", "show" };
	g_auto(WdrRun) run = { 0 };

	for (size_t i = 0; i < MOMENTS; i++) {
		argv[i * 2 + 2] = "--property";
		argv[i * 2 + 3] = moments[i].name;
	}
	if (!wdr_service_manager_is_there(world) || !wdr_world_run(world, argv, NULL, &run, NULL) ||
		run.exit_code != 0)
		return false;
	g_auto(GStrv) lines = g_strsplit(run.output, "\n", -1);
	for (size_t i = 0; lines[i]; i++)
		take_line(moments, lines[i]);
	return true;
}

bool wdr_boot_time_ask(const WdrWorld *world, WdrBootTime *ret)
{
	Moment m[MOMENTS] = {
		[FIRMWARE] = { "FirmwareTimestampMonotonic", 0 },
		[LOADER] = { "LoaderTimestampMonotonic", 0 },
		[INITRAMFS] = { "InitRDTimestampMonotonic", 0 },
		[USERSPACE] = { "UserspaceTimestampMonotonic", 0 },
		[FINISH] = { "FinishTimestampMonotonic", 0 },
	};

	if (!ask(world, m) || m[USERSPACE].us == 0 || m[FINISH].us < m[USERSPACE].us ||
		m[INITRAMFS].us > m[USERSPACE].us)
		return false;
	*ret = (WdrBootTime){ {
		[WDR_BOOT_FIRMWARE] = MAX(m[FIRMWARE].us - m[LOADER].us, 0),
		[WDR_BOOT_LOADER] = m[LOADER].us,
		[WDR_BOOT_KERNEL] = m[INITRAMFS].us ? m[INITRAMFS].us : m[USERSPACE].us,
		[WDR_BOOT_INITRAMFS] = m[INITRAMFS].us ? m[USERSPACE].us - m[INITRAMFS].us : 0,
		[WDR_BOOT_SERVICES] = m[FINISH].us - m[USERSPACE].us,
	} };
	return true;
}

int64_t wdr_boot_time_all(const WdrBootTime *t)
{
	int64_t all = 0;

	for (unsigned i = 0; i < WDR_BOOT_PARTS; i++)
		all += t->us[i];
	return all;
}

char *wdr_boot_time_text(int64_t us)
{
	double seconds = (double)us / G_USEC_PER_SEC;

	return seconds < 60 ? g_strdup_printf("%.1f s", seconds)
			    : wdr_format_duration((uint64_t)(seconds + 0.5));
}

char *wdr_boot_time_parts(const WdrBootTime *t)
{
	GString *text = g_string_new(NULL);

	for (unsigned i = 0; i < WDR_BOOT_PARTS; i++) {
		g_autofree char *time = wdr_boot_time_text(t->us[i]);
		if (t->us[i] > 0)
			g_string_append_printf(
				text, "%s%s %s", text->len ? ", " : "", parts[i].name, time);
	}
	return g_string_free(text, FALSE);
}
