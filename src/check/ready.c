/* Runs all checks before a move, and tells which one stops it. */
#include "check/ready_priv.h"

#include <string.h>

static const char *const names[] = { WDR_CHECK_SOURCE, WDR_CHECK_TARGET, WDR_CHECK_ROOM,
	WDR_CHECK_LINK, WDR_CHECK_DISCARDS, WDR_CHECK_MEDIUM, WDR_CHECK_BOOT_FILES,
	WDR_CHECK_DRIVERS, WDR_CHECK_ROOT, WDR_CHECK_INIT, WDR_CHECK_MOUNTS, WDR_CHECK_SWAP,
	WDR_CHECK_IDENTIFIERS, WDR_CHECK_MENTIONS, WDR_CHECK_FILES, WDR_CHECK_WRITERS,
	WDR_CHECK_FIRST_BOOT, WDR_CHECK_POWER, WDR_CHECK_ERRORS, WDR_CHECK_HEALTH,
	WDR_CHECK_CLOCK };

bool wdr_check_is_name(const char *text)
{
	for (size_t i = 0; i < G_N_ELEMENTS(names); i++) {
		if (strcmp(names[i], text) == 0)
			return true;
	}
	return false;
}

char *wdr_check_names(void)
{
	GString *text = g_string_new(NULL);

	for (size_t i = 0; i < G_N_ELEMENTS(names); i++)
		g_string_append_printf(text, "%s%s", i ? ", " : "", names[i]);
	return g_string_free(text, FALSE);
}

GPtrArray *wdr_ready_checks(
	const WdrWorld *world, const WdrItinerary *it, WdrBootsWhere where, const char *medium)
{
	WdrReady r = { .checks = wdr_checks_new() };

	/* Disks that are not there any more are the move's to refuse. */
	wdr_machine_look(world, it, where, &r.around);
	r.around.medium = medium;
	wdr_ready_disks(&r);
	wdr_ready_start(&r);
	wdr_ready_system(&r);
	wdr_ready_machine(&r);
	wdr_machine_clear(&r.around);
	return r.checks;
}

/* The target is why, whatever is with the source. */
static bool is_bad_target(const WdrWorld *world, const char *from, const char *to)
{
	g_autoptr(WdrDisk) source = NULL;
	g_autoptr(WdrDisk) target = NULL;

	if (!wdr_disk_find(world, to, &target, NULL))
		return true;
	return from && wdr_disk_find_source(world, from, &source, NULL) &&
	       !wdr_check_target(world, source, target, NULL);
}

GPtrArray *wdr_ready_refusal(
	const WdrWorld *world, const char *from, const char *to, const GError *error)
{
	const char *name = WDR_CHECK_SOURCE;

	if (g_error_matches(error, WDR_ERROR, WDR_ERROR_USAGE) ||
		g_error_matches(error, WDR_ERROR, WDR_ERROR_IO) ||
		g_error_matches(error, WDR_ERROR, WDR_ERROR_STOPPED))
		return NULL;
	if (g_error_matches(error, WDR_ERROR, WDR_ERROR_NO_SPACE))
		name = WDR_CHECK_ROOM;
	else if (is_bad_target(world, from, to))
		name = WDR_CHECK_TARGET;
	GPtrArray *checks = wdr_checks_new();
	wdr_checks_say(
		checks, name, WDR_STATE_STOP, wdr_error_get_hint(error), "%s", error->message)
		->is_final = true;
	return checks;
}

const WdrCheck *wdr_ready_stop(const GPtrArray *checks, const char *const *despite)
{
	for (guint i = 0; i < checks->len; i++) {
		const WdrCheck *c = checks->pdata[i];
		if (c->state == WDR_STATE_STOP &&
			(c->is_final || !despite || !g_strv_contains(despite, c->name)))
			return c;
	}
	return NULL;
}
