/* wanderitas loader: shows and writes boot loaders outside of volumes. */
#include "cli/common/step.h"

#include "base/stat.h"
#include "base/json.h"
#include "change/write_loader.h"
#include "present/show_steps.h"

#include <string.h>

typedef struct {
	WdrStepOptions step;
	char **despite;
	gboolean restore;
} LoaderOptions;

static void options_clear(LoaderOptions *o)
{
	wdr_step_options_clear(&o->step);
	g_strfreev(o->despite);
}
G_DEFINE_AUTO_CLEANUP_CLEAR_FUNC(LoaderOptions, options_clear)

static bool check(const LoaderOptions *o, int argc, GError **error)
{
	for (size_t i = 0; o->despite && o->despite[i]; i++) {
		if (strcmp(o->despite[i], "kind") != 0 && strcmp(o->despite[i], "board") != 0)
			return wdr_error_set(error, WDR_ERROR_USAGE,
				"--despite is kind or board, not '%s'", o->despite[i]);
	}
	if (o->restore && argc == 2)
		return wdr_error_set(error, WDR_ERROR_USAGE,
			"--restore puts the saved original back: it takes no image");
	/* An image is looked at only when it is named; the machine's own devices always are. */
	if (o->step.on && argc < 2 && !o->restore && !wdr_is_file(o->step.on))
		return wdr_error_set(error, WDR_ERROR_USAGE,
			"--on needs an image that is written there, or --restore");
	return !o->step.write || argc == 2 ||
	       wdr_error_set(error, WDR_ERROR_USAGE, "--write needs an image to be written");
}

static bool parse(LoaderOptions *o, WdrGlobals *globals, int *argc, char ***argv, GError **error)
{
	const GOptionEntry entries[] = {
		WDR_OPTION("despite", 0, STRING_ARRAY, &o->despite),
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

static void show(const WdrOut *out, const void *plan)
{
	const WdrLoaderPlan *p = plan;

	wdr_present_facts(out, p->facts);
}

static void show_json(FILE *file, const void *plan, const char *state)
{
	const WdrLoaderPlan *p = plan;
	g_autoptr(json_t) root = json_pack("{s:s, s:o, s:b, s:o}", "format", "wanderitas-loader/2",
		"facts", wdr_present_facts_json(p->facts), "changes", p->bytes != NULL, "records",
		wdr_json_text(state));

	wdr_json_print(root, file);
}

static bool write_plan(void *plan, const char *state, bool *ret_has_begun, GError **error)
{
	return wdr_loader_write(plan, state, ret_has_begun, error);
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
static bool is_fine(const void *plan, bool is_done)
{
	return is_done || !((const WdrLoaderPlan *)plan)->has_unread;
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
	WdrLoaderOptions options = { argc == 2 ? argv[1] : NULL, o.step.on, o.despite };
	if (!wdr_loader_plan(world, &options, &p, &error))
		return wdr_cli_fail(globals, error, WDR_EXIT_REFUSED);
	g_autofree char *state = o.step.state ? g_strdup(o.step.state) : wdr_loader_state(p);
	return wdr_cli_step(globals, &(WdrStepRun){ .sort = &sort,
					     .state = state,
					     .world = world,
					     .has_work = p->bytes != NULL,
					     .is_writing = o.step.write != 0,
					     .is_asked = options.image != NULL,
					     .plan = p });
}

const WdrCommand wdr_cmd_loader = { "loader", loader_run };
