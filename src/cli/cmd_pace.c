/* wanderitas pace: measures disks and compares records. */
#include "base/io.h"

#include "base/command.h"
#include "base/json.h"
#include "base/text.h"
#include "cli/common/cli.h"
#include "cli/common/progress.h"
#include "pace/pace_known.h"
#include "pace/pace_record.h"
#include "present/chart.h"
#include "present/show_pace.h"

#include <stdlib.h>
#include <string.h>

enum { SECONDS = 5, SECONDS_MAX = 3600 };

typedef struct {
	double seconds;
	char *write_to, *erase, *record, *chart;
	char **compare;
} PaceOptions;

static void options_clear(PaceOptions *o)
{
	g_free(o->write_to);
	g_free(o->erase);
	g_free(o->record);
	g_free(o->chart);
	g_strfreev(o->compare);
}
G_DEFINE_AUTO_CLEANUP_CLEAR_FUNC(PaceOptions, options_clear)

static bool parse(PaceOptions *o, WdrGlobals *globals, int *argc, char ***argv, GError **error)
{
	const GOptionEntry entries[] = {
		WDR_OPTION("seconds", 0, DOUBLE, &o->seconds),
		WDR_OPTION("write-to", 0, FILENAME, &o->write_to),
		WDR_OPTION("erase", 0, FILENAME, &o->erase),
		WDR_OPTION("compare", 0, FILENAME_ARRAY, &o->compare),
		WDR_OPTION("output", 'o', FILENAME, &o->record),
		WDR_OPTION("chart", 0, FILENAME, &o->chart),
		{ 0 },
	};

	if (!wdr_cli_parse(&wdr_cmd_pace, globals, entries, argc, argv, error))
		return false;
	if (!(o->seconds > 0) || o->seconds > SECONDS_MAX)
		return wdr_error_set(error, WDR_ERROR_USAGE,
			"--seconds takes more than 0 and at most %d", SECONDS_MAX);
	if (o->chart && !wdr_chart_is_name(o->chart))
		return wdr_error_set(error, WDR_ERROR_USAGE,
			"--chart draws a .png or a .svg file, not '%s'", o->chart);
	if (o->chart && !wdr_chart_is_there(error))
		return false;
	if (o->write_to && *argc != 2)
		return wdr_error_set(
			error, WDR_ERROR_USAGE, "--write-to goes with one disk: the partition's");
	if (o->erase && !o->write_to)
		return wdr_error_set(error, WDR_ERROR_USAGE, "--erase goes with --write-to");
	if (*argc < 2 && !o->compare) {
		wdr_error_set(error, WDR_ERROR_USAGE, "nothing to measure was named");
		g_autofree char *look = wdr_command("survey");
		wdr_error_hint(error,
			"disks are only read, folders are also written to (a scratch file); to list the "
			"disks: %s",
			look);
		return false;
	}
	return (!o->record || wdr_output_check(o->record, error)) &&
	       (!o->chart || wdr_output_check(o->chart, error));
}

static bool add_record(WdrPaceRecord *r, const char *path, bool is_all, GError **error)
{
	WdrPaceRecord *other = NULL;
	g_autofree char *label = wdr_pace_record_label(path);

	if (!wdr_pace_record_load(path, &other, error))
		return false;
	wdr_pace_record_take(r, other, label, is_all);
	return true;
}

static bool ask(const WdrPaceStretch *s, const char *given, GError **error)
{
	g_autofree char *base = g_path_get_basename(s->name);

	WdrOut out = wdr_out(stderr, true);
	if (!given)
		wdr_out_text(&out, WDR_STYLE_PLAIN,
			"%s will be overwritten: %s.\nIts contents will be lost. Type its name "
			"(%s) to continue: ",
			s->name, s->contents, base);
	return wdr_cli_agree(s->name, given, "the partition", error);
}

static bool measure_stretch(const PaceOptions *o, const WdrWorld *world, const char *disk,
	WdrPaced **ret, GError **error)
{
	g_auto(WdrPaceStretch) s = { 0 };

	return wdr_pace_stretch_find(world, disk, o->write_to, &s, error) &&
	       ask(&s, o->erase, error) &&
	       wdr_paced_measure_stretch(world, &s, o->seconds, ret, error);
}

/* With --compare, arguments that are records count as such. */
static bool is_record(const PaceOptions *o, const char *path)
{
	return o->compare && g_str_has_suffix(path, ".json");
}

/* An unknown word is reported before the first disk is measured. */
static bool check_all(
	const PaceOptions *o, const WdrWorld *world, int argc, char **argv, GError **error)
{
	for (int i = 1; i < argc; i++) {
		if (!is_record(o, argv[i]) && !wdr_paced_is_there(world, argv[i], error))
			return false;
	}
	return true;
}

/* One that cannot be measured does not keep the others from it. */
static bool take_failure(WdrPaceRecord *r, const char *what, GError *failure, GError **error)
{
	const char *hint = wdr_error_get_hint(failure);
	g_autofree char *message = wdr_escape(failure->message);

	if (g_error_matches(failure, WDR_ERROR, WDR_ERROR_STOPPED)) {
		g_propagate_error(error, failure);
		return false;
	}
	WdrPaced *p = wdr_paced_new(what, "none");
	p->failure = g_strdup_printf("%s%s%s", message, hint ? "; " : "", hint ? hint : "");
	wdr_pace_record_add(r, p);
	g_error_free(failure);
	return true;
}

static bool measure_next(const PaceOptions *o, const WdrWorld *world, const char *what,
	bool is_alone, WdrPaceRecord *r, GError **error)
{
	WdrPaced *p = NULL;
	GError *failure = NULL;

	if (o->write_to ? measure_stretch(o, world, what, &p, &failure)
			: wdr_paced_measure(world, what, o->seconds, &p, &failure)) {
		wdr_pace_keep(world, p);
		p->label = g_strdup(o->compare ? "now" : NULL);
		wdr_pace_record_add(r, p);
		return true;
	}
	if (!is_alone)
		return take_failure(r, what, failure, error);
	g_propagate_error(error, failure);
	return false;
}

static bool gather(const PaceOptions *o, const WdrWorld *world, int argc, char **argv,
	WdrPaceRecord *r, GError **error)
{
	bool is_all = true;

	for (int i = 1; i < argc; i++)
		is_all &= is_record(o, argv[i]);
	if (!check_all(o, world, argc, argv, error))
		return false;
	for (size_t i = 0; o->compare && o->compare[i]; i++) {
		if (!add_record(r, o->compare[i], is_all, error))
			return false;
	}
	for (int i = 1; i < argc; i++) {
		if (is_record(o, argv[i]) ? !add_record(r, argv[i], is_all, error)
					  : !measure_next(o, world, argv[i], argc == 2, r, error))
			return false;
	}
	return true;
}

static bool has_failure(const WdrPaceRecord *r)
{
	for (guint i = 0; i < r->measured->len; i++) {
		if (((const WdrPaced *)r->measured->pdata[i])->failure)
			return true;
	}
	return false;
}

static bool keep(const PaceOptions *o, const WdrPaceRecord *r, GError **error)
{
	return (!o->record || wdr_pace_record_save(r, o->record, error)) &&
	       (!o->chart || wdr_chart_draw(r, o->chart, error));
}

static void show(
	const PaceOptions *o, const WdrGlobals *globals, bool is_kept, const WdrPaceRecord *r)
{
	WdrOut out = wdr_cli_stdout(globals);

	if (globals->json) {
		g_autoptr(json_t) root = wdr_pace_record_to_json(r);
		wdr_json_print(root, stdout);
		return;
	}
	wdr_present_pace(&out, r);
	if (is_kept && o->record)
		wdr_out_text(&out, WDR_STYLE_FAINT, "the figures are in %s\n", o->record);
	if (is_kept && o->chart)
		wdr_out_text(&out, WDR_STYLE_FAINT, "the chart is in %s\n", o->chart);
}

static int pace_run(WdrGlobals *globals, int argc, char **argv)
{
	g_auto(PaceOptions) o = { .seconds = SECONDS };
	g_autoptr(GError) error = NULL;
	g_autoptr(WdrWorld) world = NULL;

	if (!parse(&o, globals, &argc, &argv, &error) || !wdr_cli_world(globals, &world, &error))
		return wdr_cli_fail(globals, error, WDR_EXIT_REFUSED);
	g_autoptr(WdrPaceRecord) r = wdr_pace_record_new(world, o.seconds);
	/* What was measured is shown, also when something ended it or it could not be kept. */
	bool is_fine = gather(&o, world, argc, argv, r, &error) && keep(&o, r, &error);
	wdr_progress_end();
	if (r->measured->len > 0)
		show(&o, globals, is_fine, r);
	if (!is_fine)
		return (r->measured->len > 0 ? wdr_cli_fail_told : wdr_cli_fail)(globals, error,
			g_error_matches(error, WDR_ERROR, WDR_ERROR_STOPPED) ? WDR_EXIT_STOPPED
									     : WDR_EXIT_REFUSED);
	return has_failure(r) ? WDR_EXIT_FOUND : WDR_EXIT_DONE;
}

const WdrCommand wdr_cmd_pace = { "pace", pace_run };
