/* wanderitas survey: the board, its disks, and what names them. */
#include "cli/common/cli.h"

#include "boot/board/board.h"
#include "boot/board/loaderarea.h"
#include "boot/board/loaderfile.h"
#include "boot/system/finding.h"
#include "cli/common/disk_wait.h"
#include "present/show_survey.h"

typedef struct {
	gboolean mentions, wait, names;
} SurveyOptions;

/* What boots a board is read from its cards and eMMC, not from other media; images are for boards
 * that nobody knows. */
static void find_loaders(const WdrWorld *world, WdrSurvey *s)
{
	g_auto(GStrv) names = wdr_board_names(world);

	for (guint i = 0; i < s->disks->len; i++) {
		WdrSurveyDisk *d = s->disks->pdata[i];
		bool is_card = wdr_medium_is_card(d->disk->medium);
		d->loader = d->system ? wdr_loader_on(d->system) : NULL;
		const char *wanted = d->loader && is_card && !d->disk->is_image
					     ? wdr_loader_wanted_instead(d->loader, names)
					     : NULL;
		if (wanted)
			d->loader_problem = g_strdup_printf(
				"this boot loader is not for this board, which has a chip of %s",
				wanted);
	}
}

static bool has_problem(const WdrSurvey *s)
{
	for (guint i = 0; i < s->disks->len; i++) {
		const WdrSurveyDisk *d = s->disks->pdata[i];
		if (d->problem || d->loader_problem || (d->system && d->system->table->damage))
			return true;
		for (guint k = 0; d->system && k < d->system->parts->len; k++) {
			const WdrSystemPart *p = d->system->parts->pdata[k];
			if (p->problem || p->is_unfinished)
				return true;
		}
		for (guint k = 0; d->system && k < d->system->mentions->len; k++) {
			g_autoptr(WdrFinding) f =
				wdr_finding_new(s, d, d->system->mentions->pdata[k]);
			if (f->is_grave)
				return true;
		}
	}
	return false;
}

static bool parse(SurveyOptions *o, WdrGlobals *globals, int *argc, char ***argv, GError **error)
{
	const GOptionEntry entries[] = {
		WDR_OPTION("mentions", 0, NONE, &o->mentions),
		WDR_OPTION("wait", 0, NONE, &o->wait),
		WDR_OPTION("names", 0, NONE, &o->names),
		{ 0 },
	};

	if (!wdr_cli_parse(&wdr_cmd_survey, globals, entries, argc, argv, error))
		return false;
	if (o->mentions + o->wait + o->names > 1)
		return wdr_error_set(
			error, WDR_ERROR_USAGE, "give only one of --mentions, --wait and --names");
	return *argc == 1 || !(o->wait || o->names) ||
	       wdr_error_set(error, WDR_ERROR_USAGE, "%s takes no disk, such as '%s'",
		       o->wait ? "--wait" : "--names", (*argv)[1]);
}

static bool print_names(const WdrWorld *world, GError **error)
{
	g_autoptr(GPtrArray) disks = NULL;

	if (!wdr_disks_list(world, &disks, error))
		return false;
	for (guint i = 0; i < disks->len; i++)
		printf("%s\n", ((const WdrDisk *)disks->pdata[i])->name);
	return true;
}

/* The answer is the name alone, for a script; what a person wants to know goes to stderr. */
static bool wait_for_disk(const WdrGlobals *globals, const WdrWorld *world, GError **error)
{
	WdrOut out = wdr_out(stderr, globals->no_color);
	g_autoptr(WdrDisk) disk = NULL;
	g_autoptr(WdrSurvey) survey = NULL;

	if (!wdr_cli_wait_for_disk(world, &out, &disk, error))
		return false;
	char *names[] = { disk->name, NULL };
	if (!wdr_survey_make(world, names, &survey, error))
		return false;
	find_loaders(world, survey);
	if (globals->json) {
		wdr_present_survey_json(stdout, survey);
		return true;
	}
	fputc('\n', stderr);
	wdr_present_survey(&out, survey, false);
	fflush(stderr);
	printf("%s\n", disk->name);
	return true;
}

static int survey_run(WdrGlobals *globals, int argc, char **argv)
{
	SurveyOptions o = { 0 };
	g_autoptr(GError) error = NULL;
	g_autoptr(WdrWorld) world = NULL;
	g_autoptr(WdrSurvey) survey = NULL;

	if (!parse(&o, globals, &argc, &argv, &error) || !wdr_cli_world(globals, &world, &error))
		return wdr_cli_fail(globals, error, WDR_EXIT_FOUND);
	if (o.wait || o.names)
		return (o.wait ? wait_for_disk(globals, world, &error) : print_names(world, &error))
			       ? WDR_EXIT_DONE
			       : wdr_cli_fail(globals, error, WDR_EXIT_FOUND);
	if (!wdr_survey_make(world, argv + 1, &survey, &error))
		return wdr_cli_fail(globals, error, WDR_EXIT_FOUND);
	find_loaders(world, survey);
	WdrOut out = wdr_cli_stdout(globals);
	if (globals->json)
		wdr_present_survey_json(stdout, survey);
	else
		wdr_present_survey(&out, survey, o.mentions);
	return has_problem(survey) ? WDR_EXIT_FOUND : WDR_EXIT_DONE;
}

const WdrCommand wdr_cmd_survey = { "survey", survey_run };
