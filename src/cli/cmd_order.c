/* wanderitas order: shows and sets the boot order. */
#include "cli/common/plan_options.h"

#include "base/command.h"
#include "change/order.h"
#include "cli/common/step.h"
#include "present/show_order.h"

typedef struct {
	WdrStepOptions step;
	char *first, *number, *targets, *initial;
	char **despite;
	gboolean set_fuse;
} OrderOptions;

static void options_clear(OrderOptions *o)
{
	wdr_step_options_clear(&o->step);
	g_free(o->first);
	g_free(o->number);
	g_free(o->targets);
	g_free(o->initial);
	g_strfreev(o->despite);
}
G_DEFINE_AUTO_CLEANUP_CLEAR_FUNC(OrderOptions, options_clear)

static bool check(const OrderOptions *o, GError **error)
{
	int given = (o->first != NULL) + (o->number != NULL) + (o->targets != NULL);

	return given <= 1 ||
	       wdr_error_set(error, WDR_ERROR_USAGE,
		       "--first, --set and --targets each say what is tried first: give "
		       "one of them");
}

static bool parse(OrderOptions *o, WdrGlobals *globals, int argc, char **argv, GError **error)
{
	const GOptionEntry entries[] = {
		WDR_OPTION("first", 0, STRING, &o->first),
		WDR_OPTION("set", 0, STRING, &o->number),
		WDR_OPTION("targets", 0, STRING, &o->targets),
		WDR_OPTION("initial", 0, FILENAME, &o->initial),
		WDR_OPTION("set-fuse", 0, NONE, &o->set_fuse),
		WDR_OPTION("despite", 0, STRING_ARRAY, &o->despite),
		{ 0 },
	};

	const WdrStepUsage usage = { .command = &wdr_cmd_order, .own = entries };

	return wdr_cli_step_parse(&usage, globals, &o->step, &argc, &argv, error) &&
	       check(o, error);
}

static bool make_plan(OrderOptions *o, const WdrWorld *world, WdrOrderPlan **ret, GError **error)
{
	/* Where config.txt is; boards without a fuse do not need it. */
	if (!wdr_cli_running_disk(world, &o->step.on, NULL))
		g_debug("config.txt is not read: the disk that the system runs from is unknown");
	WdrOrderOptions options = { o->first, o->number, o->targets, o->initial, o->set_fuse != 0,
		o->step.on };
	return wdr_order_plan(world, &options, ret, error);
}

static void show(const WdrOut *out, const void *plan)
{
	wdr_present_order(out, plan);
}

static void show_json(FILE *file, const void *plan, const char *state)
{
	wdr_present_order_json(file, plan, state);
}

static bool write_plan(void *plan, const char *state, bool *ret_has_begun, GError **error)
{
	return wdr_order_write(plan, state, ret_has_begun, error);
}

static bool is_fine(const void *plan, bool is_done)
{
	const WdrOrderPlan *p = plan;

	(void)is_done;
	return p->left->len == 0;
}

const WdrStepSort wdr_step_order = { "order", show, show_json, write_plan, is_fine };

/* A board that then does not start can be helped by no card: more than a line of colour is asked
 * for. */
static bool may_lose_way_back(const OrderOptions *o, const WdrOrderPlan *p, GError **error)
{
	WdrOut out = wdr_out(stderr, true);

	if (!p->without_way_back ||
		(o->despite && g_strv_contains((const char *const *)o->despite, "way-back")))
		return true;
	wdr_out_text(&out, WDR_STYLE_PLAIN,
		"The order %s never tries a card: if nothing else boots, a card cannot help.\n"
		"Type the order (%s) to continue: ",
		p->without_way_back, p->without_way_back);
	if (wdr_cli_agree(p->without_way_back, NULL, "the order", NULL))
		return true;
	wdr_error_set(error, WDR_ERROR_REFUSED,
		"the order %s takes the way back by card away, and was not confirmed",
		p->without_way_back);
	g_autofree char *despite = wdr_command_again("--despite", "way-back");
	wdr_error_hint(error, "nothing was changed; to set it all the same: %s", despite);
	return false;
}

static bool is_asked(const OrderOptions *o)
{
	return o->first || o->number || o->targets || o->set_fuse;
}

static int order_run(WdrGlobals *globals, int argc, char **argv)
{
	g_auto(OrderOptions) o = { 0 };
	g_autoptr(GError) error = NULL;
	g_autoptr(WdrWorld) world = NULL;
	g_autoptr(WdrOrderPlan) p = NULL;

	if (!parse(&o, globals, argc, argv, &error) || !wdr_cli_world(globals, &world, &error) ||
		!make_plan(&o, world, &p, &error))
		return wdr_cli_fail(globals, error, WDR_EXIT_REFUSED);
	if (o.step.write && !is_asked(&o) && !wdr_order_has_work(p)) {
		wdr_error_set(&error, WDR_ERROR_USAGE,
			"there is nothing to apply: give --first, --set or --targets");
		return wdr_cli_fail(globals, error, WDR_EXIT_REFUSED);
	}
	if (o.step.write && !may_lose_way_back(&o, p, &error))
		return wdr_cli_fail(globals, error, WDR_EXIT_REFUSED);
	return wdr_cli_step(globals, &(WdrStepRun){ .sort = &wdr_step_order,
					     .state = o.step.state,
					     .world = world,
					     .has_work = wdr_order_has_work(p),
					     .is_writing = o.step.write != 0,
					     .is_asked = is_asked(&o),
					     .plan = p,
					     .has_unread = &p->has_unread });
}

const WdrCommand wdr_cmd_order = { "order", order_run };
