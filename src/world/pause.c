/* Stops services and starts them again.
 *
 * A kill leaves no time to start anything. So the system's own manager is asked first to run a unit
 * that does nothing but wait for this process to end, and whose end starts the services. It is
 * ended in the same way when all goes well. */
#include "world/pause.h"

#include "base/command.h"
#include "base/io.h"
#include "base/text.h"
#include "world/service_manager.h"

#include <string.h>
#include <unistd.h>

enum { UNITS_MAX = 64 };

struct WdrPause {
	const WdrWorld *world;
	char **units;
	char *guard; /* NULL: there is none */
	int64_t begun_ns;
	int64_t begun_us; /* of the monotonic clock */
	bool is_over;
};

static char *full_name(const char *unit)
{
	return strchr(unit, '.') ? g_strdup(unit) : g_strconcat(unit, ".service", NULL);
}

/* systemd.unit(5): letters, digits, and these. */
static bool is_name(const char *unit)
{
	return g_ascii_isalnum(*unit) &&
	       strspn(unit,
		       "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789:-_.\\@") ==
		       strlen(unit);
}

static char **full_names(char *const *units)
{
	g_autoptr(GStrvBuilder) names = g_strv_builder_new();

	for (size_t i = 0; units[i]; i++) {
		g_autofree char *name = full_name(units[i]);
		g_strv_builder_add(names, name);
	}
	return g_strv_builder_end(names);
}

char *wdr_pause_names(char *const *units)
{
	g_auto(GStrv) names = full_names(units);

	return g_strjoinv(", ", names);
}

/* The innermost folder of the control group that is called as a unit is. */
static char *unit_in(const char *line)
{
	g_auto(GStrv) folders = g_strsplit(line, "/", -1);
	guint n = g_strv_length(folders);

	for (guint i = n; i > 0; i--) {
		if (g_str_has_suffix(folders[i - 1], ".service"))
			return g_strdup(folders[i - 1]);
	}
	return NULL;
}

char *wdr_unit_of_process(const char *process)
{
	g_autofree char *path = g_build_filename(process, "cgroup", NULL);
	g_autofree char *text = NULL;
	size_t len = 0;

	if (!wdr_read_file(path, 65536, &text, &len, NULL))
		return NULL;
	/* The unified hierarchy, or the one that systemd has beside the older ones. */
	g_auto(GStrv) lines = g_strsplit(text, "\n", -1);
	for (size_t i = 0; lines[i]; i++) {
		if (g_str_has_prefix(lines[i], "0::") || strstr(lines[i], ":name=systemd:"))
			return unit_in(lines[i]);
	}
	return NULL;
}

/* ---- asking ---- */

static bool check_unit(const WdrWorld *world, const char *unit, GError **error)
{
	g_autofree char *name = full_name(unit);
	g_autofree char *own = wdr_unit_of_process("/proc/self");
	g_autofree char *load = NULL;
	g_autofree char *active = NULL;

	if (!is_name(unit))
		return wdr_error_set(
			error, WDR_ERROR_USAGE, "--pause: '%s' is no name of a unit", unit);
	if (g_strcmp0(own, name) == 0)
		return wdr_error_set(
			error, WDR_ERROR_REFUSED, "--pause: this program itself runs in %s", name);
	if (!wdr_service_property(world, name, "LoadState", &load, error) ||
		!wdr_service_property(world, name, "ActiveState", &active, error))
		return false;
	if (strcmp(load, "loaded") != 0)
		wdr_error_set(
			error, WDR_ERROR_REFUSED, "--pause: there is no unit %s (%s)", name, load);
	else if (strcmp(active, "active") != 0)
		wdr_error_set(error, WDR_ERROR_REFUSED,
			"--pause: %s does not run (%s), so there is nothing to stop", name, active);
	else
		return true;
	g_autofree char *list = wdr_system_command("systemctl", "list-units", "--type=service");
	wdr_error_hint(error, "to see what runs: %s", list);
	return false;
}

bool wdr_pause_check(const WdrWorld *world, char *const *units, GError **error)
{
	if (!wdr_service_manager_has_transient(world))
		return wdr_error_set(error, WDR_ERROR_UNSUPPORTED,
			"--pause: services are stopped by systemd, which this machine does not run");
	for (size_t i = 0; units[i]; i++) {
		if (!check_unit(world, units[i], error))
			return false;
	}
	return true;
}

/* ---- stopping and starting ---- */

/* systemctl VERB UNIT…, NULL-ended. The caller's. */
static char **systemctl_words(const char *verb, char *const *units)
{
	g_autoptr(GStrvBuilder) words = g_strv_builder_new();

	g_strv_builder_add_many(words, "systemctl", verb, NULL);
	for (size_t i = 0; units[i]; i++)
		g_strv_builder_add(words, units[i]);
	return g_strv_builder_end(words);
}

static bool systemctl(const WdrWorld *world, const char *verb, char *const *units, GError **error)
{
	g_auto(GStrv) words = systemctl_words(verb, units);
	g_auto(WdrRun) run = { 0 };

	if (!wdr_world_run(world, (const char *const *)words, NULL, &run, error))
		return false;
	if (run.exit_code == 0)
		return true;
	g_autofree char *said = wdr_escape(g_strstrip(run.output));
	return wdr_error_set(error, WDR_ERROR_IO, "systemctl %s failed: %s", verb, said);
}

/* As ExecStopPost= takes it: systemd.service(5), "Command lines", and specifiers. */
static char *start_line(const WdrWorld *world, char *const *units)
{
	g_autofree char *program = wdr_world_program(world, "systemctl");
	GString *line = g_string_new("ExecStopPost=");

	g_string_append_printf(line, "%s start", program ? program : "/usr/bin/systemctl");
	for (size_t i = 0; units[i]; i++) {
		g_string_append_c(line, ' ');
		for (const char *c = units[i]; *c; c++)
			g_string_append_printf(line, *c == '\\' ? "\\%c" : "%c", *c);
	}
	return g_string_free(line, FALSE);
}

static bool begin_guard(WdrPause *p, GError **error)
{
	g_autofree char *name = g_strdup_printf("wanderitas-pause-%d.service", (int)getpid());
	g_autofree char *unit = g_strconcat("--unit=", name, NULL);
	g_autofree char *stop_post = start_line(p->world, p->units);
	g_autofree char *names = wdr_pause_names(p->units);
	g_autofree char *text =
		g_strdup_printf("--description=Starts %s when wanderitas has ended", names);
	g_autofree char *pid = g_strdup_printf("--pid=%d", (int)getpid());
	g_autofree char *tail = wdr_world_program(p->world, "tail");
	const char *argv[] = { "systemd-run", "--quiet", "--collect", unit, text, "--property",
		stop_post, tail ? tail : "/usr/bin/tail", pid, "-f", "/dev/null", NULL };
	g_auto(WdrRun) run = { 0 };

	if (!wdr_world_run(p->world, argv, NULL, &run, error))
		return false;
	g_autofree char *said = wdr_escape(g_strstrip(run.output));
	if (run.exit_code != 0)
		return wdr_error_set(error, WDR_ERROR_IO, "systemd-run failed: %s", said);
	p->guard = g_steal_pointer(&name);
	return true;
}

/* Units that go down with one: its parts, and those that cannot be without it. systemctl waits for
 * those alone that it is told to stop, and the start of one does not bring these back. And what
 * would start it again meanwhile. A target is no more than a list of others. */
static void add_related(const WdrWorld *world, GPtrArray *units, const char *unit)
{
	static const char *const properties[] = { "ConsistsOf", "RequiredBy", "BoundBy",
		"TriggeredBy" };

	for (size_t i = 0; i < G_N_ELEMENTS(properties); i++) {
		g_auto(GStrv) found = wdr_service_units(world, unit, properties[i]);
		for (size_t k = 0; found[k] && units->len < UNITS_MAX; k++) {
			g_autofree char *active = NULL;
			bool is_known = g_ptr_array_find_with_equal_func(
				units, found[k], g_str_equal, NULL);
			if (!is_known && is_name(found[k]) &&
				!g_str_has_suffix(found[k], ".target") &&
				wdr_service_property(
					world, found[k], "ActiveState", &active, NULL) &&
				strcmp(active, "active") == 0)
				g_ptr_array_add(units, g_strdup(found[k]));
		}
	}
}

/* The units that are meant, and all that go down with them, NULL-ended. */
static char **all_of(const WdrWorld *world, char *const *named)
{
	g_autoptr(GPtrArray) units = g_ptr_array_new();

	for (size_t i = 0; named[i]; i++)
		g_ptr_array_add(units, full_name(named[i]));
	for (guint i = 0; i < units->len; i++)
		add_related(world, units, units->pdata[i]);
	g_ptr_array_add(units, NULL);
	return (char **)g_ptr_array_steal(units, NULL);
}

static int64_t now_ns(void)
{
	return g_get_real_time() * 1000;
}

bool wdr_pause_begin(const WdrWorld *world, char *const *units, WdrPause **ret, GError **error)
{
	g_autoptr(WdrPause) p = g_new0(WdrPause, 1);

	p->world = world;
	p->is_over = true;
	if (!wdr_pause_check(world, units, error))
		return false;
	p->units = all_of(world, units);
	if (!begin_guard(p, error))
		return false;
	p->is_over = false;
	p->begun_us = g_get_monotonic_time();
	if (!systemctl(world, "stop", p->units, error))
		return false;
	p->begun_ns = now_ns();
	*ret = g_steal_pointer(&p);
	return true;
}

char *const *wdr_pause_units(const WdrPause *p)
{
	return p->units;
}

int64_t wdr_pause_begun_ns(const WdrPause *p)
{
	return p->begun_ns;
}

/* Also of a unit that starts well and fails a moment later. */
static bool check_running(const WdrPause *p, GError **error)
{
	for (size_t i = 0; p->units[i]; i++) {
		g_autofree char *active = NULL;
		if (!wdr_service_property(p->world, p->units[i], "ActiveState", &active, error))
			return false;
		if (strcmp(active, "active") != 0)
			return wdr_error_set(error, WDR_ERROR_IO, "%s is %s", p->units[i], active);
	}
	return true;
}

bool wdr_pause_end(WdrPause *p, double *ret_s, GError **error)
{
	g_autoptr(GError) failure = NULL;
	bool is_fine = systemctl(p->world, "start", p->units, &failure);

	p->is_over = true;
	*ret_s = wdr_seconds_since(p->begun_us);
	/* Its end starts them once more, which does nothing where they run. */
	char *guard[] = { p->guard, NULL };
	if (p->guard && !systemctl(p->world, "stop", guard, NULL))
		g_debug("%s could not be ended", p->guard);
	g_clear_pointer(&p->guard, g_free);
	if (is_fine && check_running(p, &failure))
		return true;
	g_auto(GStrv) words = systemctl_words("start", p->units);
	g_autofree char *again = wdr_system_command_of((const char *const *)words);
	wdr_error_set(error, WDR_ERROR_IO, "not all services run again: %s; to start them: %s",
		failure ? failure->message : "unknown", again);
	return false;
}

void wdr_pause_free(WdrPause *p)
{
	double seconds = 0;

	if (!p)
		return;
	if (!p->is_over && !wdr_pause_end(p, &seconds, NULL))
		g_debug("not all services run again");
	g_strfreev(p->units);
	g_free(p->guard);
	g_free(p);
}
