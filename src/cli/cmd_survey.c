/* wanderitas survey: the board, its disks, and what names them. */
#include "cli/cli.h"

#include "boot/system/finding.h"
#include "present/show_survey.h"

typedef struct {
	gboolean mentions;
} SurveyOptions;

static bool has_problem(const WdrSurvey *s)
{
	for (guint i = 0; i < s->disks->len; i++) {
		const WdrSurveyDisk *d = s->disks->pdata[i];
		if (d->problem || (d->system && d->system->table->damage))
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

static int survey_run(WdrGlobals *globals, int argc, char **argv)
{
	SurveyOptions o = { 0 };
	const GOptionEntry entries[] = {
		{ "mentions", 0, 0, G_OPTION_ARG_NONE, &o.mentions,
			"Only the places in boot and system files that name a disk", NULL },
		{ 0 },
	};
	g_autoptr(GError) error = NULL;
	g_autoptr(WdrWorld) world = NULL;
	g_autoptr(WdrSurvey) survey = NULL;

	if (!wdr_cli_parse(&wdr_cmd_survey, globals, entries, &argc, &argv, &error) ||
		!wdr_cli_world(globals, &world, &error) ||
		!wdr_survey_make(world, argv + 1, &survey, &error))
		return wdr_cli_fail(globals, error, WDR_EXIT_FOUND);
	WdrOut out = wdr_cli_stdout(globals);
	if (globals->json)
		wdr_present_survey_json(stdout, survey);
	else
		wdr_present_survey(&out, survey, o.mentions);
	return has_problem(survey) ? WDR_EXIT_FOUND : WDR_EXIT_DONE;
}

const WdrCommand wdr_cmd_survey = { "survey", "[DISK…]",
	"Show the board, its disks, and every place in files that names a disk.", WDR_GROUP_LOOK,
	survey_run };
