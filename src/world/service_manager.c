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

bool wdr_service_property(
	const WdrWorld *world, const char *unit, const char *property, char **ret, GError **error)
{
	const char *argv[] = { "systemctl", "show", "--value", "--property", property, unit, NULL };
	g_auto(WdrRun) run = { 0 };

	if (!wdr_world_run(world, argv, NULL, &run, error))
		return false;
	g_strstrip(run.output);
	if (run.exit_code == 0 && *run.output) {
		*ret = g_strdup(run.output);
		return true;
	}
	g_autofree char *said = wdr_escape(run.output);
	return wdr_error_set(error, WDR_ERROR_IO, "systemctl does not tell the %s of %s: %s",
		property, unit, said);
}
