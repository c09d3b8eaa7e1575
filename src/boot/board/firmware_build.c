/* Finds the build date in firmware files. */
#include "boot/board/firmware_build.h"

#include <glib.h>
#include <string.h>

static const char word[] = "VC_BUILD_ID_TIME: ";
static const char months[][4] = { "Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep",
	"Oct", "Nov", "Dec" };

/* "Aug 15 2022", and not the time of day, which has the same name before it. */
static int64_t day_of(const char *text, size_t len)
{
	g_autofree char *copy = g_strndup(text, MIN(len, 32));
	g_auto(GStrv) words = g_strsplit_set(copy, " \n", -1);
	int month = 0;
	unsigned n = 0;
	const char *parts[3] = { NULL };

	for (size_t i = 0; words[i] && n < 3; i++) {
		if (*words[i])
			parts[n++] = words[i];
	}
	if (n < 3)
		return 0;
	for (size_t i = 0; i < G_N_ELEMENTS(months); i++) {
		if (strcmp(parts[0], months[i]) == 0)
			month = (int)i + 1;
	}
	int day = (int)g_ascii_strtoull(parts[1], NULL, 10);
	int year = (int)g_ascii_strtoull(parts[2], NULL, 10);
	if (month == 0 || day < 1 || day > 31 || year < 2000 || year > 9999)
		return 0;
	g_autoptr(GDateTime) t = g_date_time_new_utc(year, month, day, 0, 0, 0);
	return t ? g_date_time_to_unix(t) : 0;
}

int64_t wdr_build_day(const void *bytes, size_t len)
{
	const char *at = bytes;
	const char *end = at + len;
	int64_t day = 0;

	while (day == 0 && (at = memmem(at, (size_t)(end - at), word, strlen(word)))) {
		at += strlen(word);
		day = day_of(at, (size_t)(end - at));
	}
	return day;
}

WdrFirmwareSet wdr_firmware_set(const char *name)
{
	g_autofree char *lower = g_ascii_strdown(name, -1);
	bool is_start = g_str_has_prefix(lower, "start") && g_str_has_suffix(lower, ".elf");
	bool is_fixup = g_str_has_prefix(lower, "fixup") && g_str_has_suffix(lower, ".dat");

	if (strcmp(lower, "bootcode.bin") == 0)
		return WDR_FIRMWARE_OLD;
	if (!is_start && !is_fixup)
		return WDR_FIRMWARE_NONE;
	return lower[strlen("start")] == '4' ? WDR_FIRMWARE_4 : WDR_FIRMWARE_OLD;
}
