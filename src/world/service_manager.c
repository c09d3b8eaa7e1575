/* Asks systemd about units. Interface: systemctl(1), sd_booted(3). */
#include "world/service_manager.h"

#include "base/text.h"

#include <string.h>

bool wdr_service_manager_has_transient(const WdrWorld *world)
{
	const char *bench = wdr_world_bench(world);
	g_autofree char *program = wdr_world_program(world, "systemd-run");

	return wdr_service_manager_is_there(world) && program &&
	       (!bench || g_str_has_prefix(program, bench));
}

bool wdr_service_manager_is_there(const WdrWorld *world)
{
	const char *bench = wdr_world_bench(world);
	g_autofree char *own = bench ? g_build_filename(bench, "bin", "systemctl", NULL) : NULL;

	return own ? g_file_test(own, G_FILE_TEST_IS_EXECUTABLE)
		   : g_file_test("/run/systemd/system", G_FILE_TEST_IS_DIR);
}

/* Empty where nothing is told. The caller's. */
static bool ask(
	const WdrWorld *world, const char *unit, const char *property, WdrRun *ret, GError **error)
{
	const char *argv[] = { "systemctl", "show", "--value", "--property", property, unit, NULL };

	if (!wdr_world_run(world, argv, NULL, ret, error))
		return false;
	g_strstrip(ret->output);
	return true;
}

char **wdr_service_units(const WdrWorld *world, const char *unit, const char *property)
{
	g_auto(WdrRun) run = { 0 };
	bool is_told = ask(world, unit, property, &run, NULL) && run.exit_code == 0;

	return g_strsplit(is_told && *run.output ? run.output : "", " ", -1);
}

bool wdr_service_property(
	const WdrWorld *world, const char *unit, const char *property, char **ret, GError **error)
{
	g_auto(WdrRun) run = { 0 };

	if (!ask(world, unit, property, &run, error))
		return false;
	if (run.exit_code == 0 && *run.output) {
		*ret = g_strdup(run.output);
		return true;
	}
	g_autofree char *said = wdr_escape(run.output);
	return wdr_error_set(error, WDR_ERROR_IO, "systemctl does not tell the %s of %s: %s",
		property, unit, said);
}
