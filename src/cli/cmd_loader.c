/* wanderitas loader: shows and writes boot loaders outside of volumes. */
#include "cli/common/step.h"

#include "base/stat.h"
#include "base/json.h"
#include "change/loader/write_loader.h"
#include "present/show_steps.h"

#include <string.h>

typedef struct {
	WdrStepOptions step;
	char **despite;
	char *board, *erase;
	gboolean restore;
} LoaderOptions;

static void options_clear(LoaderOptions *o)
{
	wdr_step_options_clear(&o->step);
	g_strfreev(o->despite);
	g_free(o->board);
	g_free(o->erase);
}
G_DEFINE_AUTO_CLEANUP_CLEAR_FUNC(LoaderOptions, options_clear)

static bool check(const LoaderOptions *o, int argc, GError **error)
{
	for (size_t i = 0; o->despite && o->despite[i]; i++) {
		if (strcmp(o->despite[i], "kind") != 0 && strcmp(o->despite[i], "board") != 0)
			return wdr_error_set(error, WDR_ERROR_USAGE,
				"--despite is kind or board, not '%s'", o->despite[i]);
	}
	if (o->restore && (argc == 2 || o->board))
		return wdr_error_set(error, WDR_ERROR_USAGE,
			"--restore puts the saved original back: it takes no image");
	if (o->board && argc == 2)
		return wdr_error_set(
			error, WDR_ERROR_USAGE, "give either an image or --board, not both");
	return true;
}

static bool parse(LoaderOptions *o, WdrGlobals *globals, int *argc, char ***argv, GError **error)
{
	const GOptionEntry entries[] = {
		WDR_OPTION("despite", 0, STRING_ARRAY, &o->despite),
		WDR_OPTION("board", 0, STRING, &o->board),
		WDR_OPTION("erase", 0, STRING, &o->erase),
		WDR_OPTION("restore", 0, NONE, &o->restore),
		{ 0 },
	};

	const WdrStepUsage usage = {
		.command = &wdr_cmd_loader,
		.own = entries,
		.has_on = true,
		.instead = "it writes one image",
		.words_max = 1,
	};

	return wdr_cli_step_parse(&usage, globals, &o->step, argc, argv, error) &&
	       check(o, *argc, error);
}

/* The plan, and what answers the question about an eMMC boot partition; NULL: it is asked. */
typedef struct {
	WdrLoaderPlan *plan;
	const char *erase;
} Run;

static void show(const WdrOut *out, const void *run)
{
	const WdrLoaderPlan *p = ((const Run *)run)->plan;

	wdr_present_facts(out, p->facts);
}

static void show_json(FILE *file, const void *run, const char *state)
{
	const WdrLoaderPlan *p = ((const Run *)run)->plan;
	g_autoptr(json_t) root = json_pack("{s:s, s:o, s:b, s:o}", "format", "wanderitas-loader/2",
		"facts", wdr_present_facts_json(p->facts), "changes", p->writes->len > 0, "records",
		wdr_json_text(state));

	wdr_json_print(root, file);
}

/* A board without its eMMC's loader is one that does not boot at all. */
static bool ask(const WdrLoaderPlan *p, const char *given, GError **error)
{
	WdrOut out = wdr_out(stderr, true);

	if (!p->boot_partition)
		return true;
	if (!given)
		wdr_out_text(&out, WDR_STYLE_PLAIN,
			"The boot loader in %s will be overwritten. Type its name (%s) to continue: ",
			p->boot_partition, p->boot_partition);
	return wdr_cli_agree(p->boot_partition, given, "the eMMC boot partition", error);
}

static bool write_plan(void *run, const char *state, bool *ret_has_begun, GError **error)
{
	const Run *r = run;

	*ret_has_begun = false;
	return ask(r->plan, r->erase, error) &&
	       wdr_loader_write(r->plan, state, ret_has_begun, error);
}

static int restore(const LoaderOptions *o, const WdrGlobals *globals, const WdrWorld *world)
{
	g_autofree char *last =
		o->step.state ? g_build_filename(o->step.state, "logbook.jsonl", NULL) : NULL;
	g_autoptr(GError) error = NULL;

	if (!last && !wdr_loader_last(world, o->step.on, &last, &error))
		return wdr_cli_fail(globals, error, WDR_EXIT_REFUSED);
	return wdr_cli_rewind(globals, world, last, false);
}

/* Where it was written, what else could not be looked at does not matter. */
static bool is_fine(const void *run, bool is_done)
{
	return is_done || !((const Run *)run)->plan->has_unread;
}

static const WdrStepSort sort = { "loader", show, show_json, write_plan, is_fine };

static int loader_run(WdrGlobals *globals, int argc, char **argv)
{
	g_auto(LoaderOptions) o = { 0 };
	g_autoptr(GError) error = NULL;
	g_autoptr(WdrWorld) world = NULL;
	g_autoptr(WdrLoaderPlan) p = NULL;

	if (!parse(&o, globals, &argc, &argv, &error) || !wdr_cli_world(globals, &world, &error))
		return wdr_cli_fail(globals, error, WDR_EXIT_REFUSED);
	if (o.restore)
		return restore(&o, globals, world);
	WdrLoaderOptions options = { argc == 2 ? argv[1] : NULL, o.board, o.step.on, o.despite,
		argc == 2 || o.board || o.step.write };
	if (!wdr_loader_plan(world, &options, &p, &error))
		return wdr_cli_fail(globals, error, WDR_EXIT_REFUSED);
	g_autofree char *state = o.step.state ? g_strdup(o.step.state) : wdr_loader_state(p);
	Run run = { p, o.erase };
	return wdr_cli_step(globals, &(WdrStepRun){ .sort = &sort,
					     .state = state,
					     .world = world,
					     .has_work = p->writes->len > 0,
					     .is_writing = o.step.write != 0,
					     .is_asked = p->set != NULL,
					     .plan = &run });
}

const WdrCommand wdr_cmd_loader = { "loader", loader_run };
