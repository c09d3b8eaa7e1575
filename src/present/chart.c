/* Loads the library that draws charts, and hands it the figures. */
#include "present/chart.h"

#include "base/command.h"
#include "base/io.h"
#include "present/chart_part.h"

#include <gmodule.h>
#include <string.h>

enum { PLACES = 2 };

/* Of a program that was built and not installed, the part lies beside it. The caller's; ends with
 * NULL. */
static char **places(void)
{
	g_autofree char *program = g_file_read_link("/proc/self/exe", NULL);
	g_autofree char *folder = program ? g_path_get_dirname(program) : NULL;
	char **list = g_new0(char *, PLACES + 1);

	list[0] = g_build_filename(WDR_LIBRARY_FOLDER, "charts.so", NULL);
	if (folder)
		list[1] = g_build_filename(folder, "charts.so", NULL);
	return list;
}

/* It stays loaded. */
static const WdrChartPart *load(const char *path)
{
	GModule *module = g_module_open(path, G_MODULE_BIND_LOCAL);
	const WdrChartPart *part = NULL;
	void *symbol = NULL;

	if (module && g_module_symbol(module, WDR_CHART_PART_SYMBOL, &symbol))
		part = symbol;
	if (part && strcmp(part->version, WDR_VERSION) == 0) {
		g_module_make_resident(module);
		return part;
	}
	if (module)
		g_module_close(module);
	return NULL;
}

static const WdrChartPart *chart_part(void)
{
	static const WdrChartPart *part;
	static gsize is_looked_for;

	if (g_once_init_enter(&is_looked_for)) {
		g_auto(GStrv) list = places();
		for (size_t i = 0; list[i] && !part; i++)
			part = load(list[i]);
		g_once_init_leave(&is_looked_for, 1);
	}
	return part;
}

bool wdr_chart_is_there(GError **error)
{
	if (chart_part())
		return true;
	wdr_error_set(error, WDR_ERROR_REFUSED,
		"charts cannot be drawn: the package wanderitas-charts is not installed");
	g_autofree char *install = wdr_system_command("apt", "install", "wanderitas-charts");
	wdr_error_hint(error, "to install it: %s", install);
	return false;
}

bool wdr_chart_is_name(const char *path)
{
	return g_str_has_suffix(path, ".png") || g_str_has_suffix(path, ".svg");
}

bool wdr_chart_draw(const WdrPaceRecord *r, const char *path, GError **error)
{
	g_autoptr(GByteArray) bytes = NULL;
	bool has_any = false;

	for (guint i = 0; i < r->measured->len; i++)
		has_any |= wdr_paced_has_figures(r->measured->pdata[i]);
	if (!has_any)
		return wdr_error_set(
			error, WDR_ERROR_REFUSED, "there are no figures to draw in %s", path);
	if (!wdr_chart_is_there(error))
		return false;
	bytes = chart_part()->render(r, false, g_str_has_suffix(path, ".svg"));
	if (!bytes)
		return wdr_error_set(error, WDR_ERROR_IO, "drawing %s: out of memory", path);
	return wdr_write_output(path, bytes->data, bytes->len, error);
}

char *wdr_chart_svg(const WdrPaceRecord *r, bool is_dark)
{
	const WdrChartPart *part = chart_part();
	g_autoptr(GByteArray) bytes = part ? part->render(r, is_dark, true) : NULL;

	return bytes ? g_strndup((const char *)bytes->data, bytes->len) : NULL;
}
