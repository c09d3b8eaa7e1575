/* wanderitas move: shows the itinerary, asks, moves, and tells what was done. */
#include "cli/common/plan_options.h"

#include "base/command.h"
#include "base/text.h"
#include "boot/system/survey.h"
#include "check/ready.h"
#include "cli/common/expected.h"
#include "cli/common/keep.h"
#include "cli/many/move_roster.h"
#include "cli/common/move_steps.h"
#include "cli/common/perform.h"
#include "cli/common/under_way.h"
#include "plan/target_partition.h"
#include "present/show_itinerary.h"
#include "present/show_ready.h"

#include <string.h>

typedef struct {
	WdrPlanOptions plan;
	char *erase;
	char **despite;
	char *ready;       /* the checks, as JSON */
	const char *given; /* an itinerary, or what --resume goes on with; borrowed; NULL: none */
	char *roster, *slot;
	gboolean resume, accept_damage;
	double look_s;        /* seconds that looking took here */
	double copy_per_s;    /* as in WdrWork */
	bool has_begun_steps; /* one of --with failed after something may have been changed */
	bool has_taken_steps; /* of --with: something of the source is another now */
} MoveOptions;

static bool check_despite(char *const *despite, GError **error)
{
	for (size_t i = 0; despite && despite[i]; i++) {
		if (wdr_check_is_name(despite[i]))
			continue;
		g_autofree char *names = wdr_check_names();
		wdr_error_set(
			error, WDR_ERROR_USAGE, "--despite: there is no check '%s'", despite[i]);
		wdr_error_hint(error, "the checks are %s", names);
		return false;
	}
	return true;
}

static bool parse(MoveOptions *o, WdrGlobals *globals, int *argc, char ***argv, GError **error)
{
	const GOptionEntry more[] = {
		WDR_OPTION("erase", 0, FILENAME, &o->erase),
		WDR_OPTION("resume", 0, NONE, &o->resume),
		WDR_OPTION("accept-damage", 0, NONE, &o->accept_damage),
		WDR_OPTION("despite", 0, STRING_ARRAY, &o->despite),
		WDR_OPTION("roster", 0, FILENAME, &o->roster),
		WDR_OPTION("slot", 0, STRING, &o->slot),
		{ 0 },
	};
	g_autofree GOptionEntry *entries = wdr_plan_options_entries(&o->plan, more);
	const WdrPlanOptions *p = &o->plan;

	if (!wdr_cli_parse(&wdr_cmd_move, globals, entries, argc, argv, error))
		return false;
	if (!check_despite(o->despite, error))
		return false;
	if (*argc > 2)
		return wdr_error_set(error, WDR_ERROR_USAGE,
			"move takes one itinerary, not also '%s'", (*argv)[2]);
	if (o->roster && (*argc == 2 || p->to || p->state))
		return wdr_error_set(error, WDR_ERROR_USAGE,
			"--roster names all targets: give no itinerary, --to or --state");
	if (o->slot && (!o->roster || o->resume))
		return wdr_error_set(error, WDR_ERROR_USAGE,
			"--slot moves one slot of a --roster anew, without --resume");
	if ((*argc == 2 || o->resume || o->roster) &&
		(p->to || p->from || p->what || p->table || p->into || p->leave_free ||
			p->boot_size || p->leave_behind || p->pause || p->second || p->with ||
			p->name_by || p->keep_identifiers || p->sector_size))
		return wdr_error_set(error, WDR_ERROR_USAGE,
			"give either an itinerary file or --from/--to options, not both%s",
			o->roster ? "; a roster has them in its file" : "");
	o->given = *argc == 2 ? (*argv)[1] : NULL;
	return true;
}

static bool ask(const WdrItinerary *it, const char *given, GError **error)
{
	g_autofree char *erased = wdr_itinerary_erased(it);
	g_autofree char *base = g_path_get_basename(erased);

	WdrOut out = wdr_out(stderr, true);
	if (!given) {
		wdr_present_erased(&out, it);
		wdr_out_text(&out, WDR_STYLE_PLAIN,
			"Everything on %s will be erased. Type its name (%s) to continue: ", erased,
			base);
	}
	return wdr_cli_agree(
		erased, given, it->into ? "the partition to move into" : "the target", error);
}

/* What was agreed to by name is done first, and the itinerary is drawn of what there is then. */
static bool take_steps(MoveOptions *o, const WdrGlobals *globals, const WdrWorld *world,
	WdrItinerary **it, GError **error)
{
	WdrMoveStepsDone done;

	bool is_fine = wdr_move_steps_take(globals, world, o->plan.steps, *it, &done, error);
	o->has_begun_steps = done.has_begun;
	o->has_taken_steps = done.has_changed_source;
	if (!is_fine || !done.has_changed_source)
		return is_fine;
	g_clear_pointer(it, wdr_itinerary_free);
	return wdr_plan_options_draft(world, &o->plan, it, error);
}

static bool get_itinerary(MoveOptions *o, const WdrGlobals *globals, const WdrWorld *world,
	char **ret_state, WdrItinerary **ret, GError **error)
{
	int64_t begun = g_get_monotonic_time();

	if (o->resume)
		return wdr_cli_find_move(world, o->plan.state, o->given, ret_state, ret, error);
	if (!(o->given ? wdr_cli_load_itinerary(o->given, ret, error)
		       : wdr_plan_options_draft(world, &o->plan, ret, error)))
		return false;
	if (!take_steps(o, globals, world, ret, error))
		return false;
	*ret_state = o->plan.state ? g_canonicalize_filename(o->plan.state, NULL)
				   : wdr_move_default_state(world, &(*ret)->target);
	o->look_s = wdr_seconds_since(begun);
	return true;
}

/* An itinerary of another day: what changed on the target since is shown, and an answer that was
 * given beforehand does not cover it. */
static bool tell_changes(
	const MoveOptions *o, const WdrWorld *world, WdrItinerary *it, GError **error)
{
	g_autoptr(GPtrArray) changes = NULL;

	if (!(o->resume ? wdr_move_look_again_at_target(world, it, &changes, error)
			: wdr_move_look_at_target(world, it, &changes, error)))
		return false;
	if (changes->len == 0)
		return true;
	WdrOut out = wdr_out(stderr, true);
	wdr_out_text(&out, WDR_STYLE_PLAIN,
		"\nThe target %s has changed since the itinerary was drawn:\n", it->target.name);
	for (guint i = 0; i < changes->len; i++)
		wdr_out_text(&out, WDR_STYLE_PLAIN, "  %s\n", (const char *)changes->pdata[i]);
	fflush(stderr);
	if (!o->erase)
		return true;
	wdr_error_set(error, WDR_ERROR_REFUSED,
		"the target %s is not as it was when the itinerary was drawn", it->target.name);
	g_autofree char *draw = wdr_itinerary_redraw_command(it);
	wdr_error_hint(error,
		"nothing was written; --erase agreed to what was there then. Answer the question by hand, "
		"or draw a new itinerary: %s",
		draw);
	return false;
}

/* The checks that stop and were not named. */
static bool is_ready(MoveOptions *o, const WdrGlobals *globals, const WdrWorld *world,
	const WdrItinerary *it, GError **error)
{
	g_autoptr(GPtrArray) checks = wdr_ready_checks(world, it, WDR_BOOTS_HERE, NULL);
	const char *const *despite = (const char *const *)o->despite;
	const WdrCheck *stop = wdr_ready_stop(checks, despite);
	WdrOut out = wdr_cli_stdout(globals);
	g_autoptr(json_t) document = wdr_present_ready_document(it->target.name, checks);

	o->ready = json_dumps(document, JSON_INDENT(2));
	if (!it->source.is_image && !it->target.is_image)
		wdr_cli_keep_ready(world, document);
	if (!globals->json && !globals->quiet)
		wdr_present_unready(&out, checks, despite);
	if (!stop)
		return true;
	wdr_error_set(error, WDR_ERROR_REFUSED, "the check '%s' stops the move: %s", stop->name,
		stop->text);
	/* A command comes last. */
	g_autofree char *despite_it = wdr_command_again("--despite", stop->name);
	if (stop->hint)
		wdr_error_hint(error,
			"nothing was written; add --despite %s to move all the same; to fix it: %s",
			stop->name, stop->hint);
	else
		wdr_error_hint(error, "nothing was written; to move all the same: %s", despite_it);
	return false;
}

/* Shows what is going to be done, and asks; who goes on was asked before the target was erased. */
static bool may_go_on(MoveOptions *o, const WdrGlobals *globals, const WdrWorld *world,
	WdrItinerary *it, const char *state, GError **error)
{
	const WdrExpected expected = wdr_cli_expect(world, it);

	WdrOut out = wdr_cli_stdout(globals);
	bool was_begun = false;

	o->copy_per_s = expected.copy_per_s;
	if (o->resume && !wdr_move_was_begun(state, &was_begun, error))
		return false;
	if (was_begun)
		return true;
	if (!globals->json && !globals->quiet) {
		wdr_present_itinerary(&out, it);
		wdr_cli_show_expected(&out, it, &expected);
	}
	int64_t begun = g_get_monotonic_time();
	if (!o->resume && !is_ready(o, globals, world, it, error))
		return false;
	o->look_s += wdr_seconds_since(begun);
	fflush(stdout);
	return (o->plan.to || tell_changes(o, world, it, error)) && ask(it, o->erase, error);
}

static int move(MoveOptions *o, WdrGlobals *globals, int argc, char **argv)
{
	g_autoptr(GError) error = NULL;
	g_autoptr(WdrWorld) world = NULL;
	g_autoptr(WdrItinerary) it = NULL;
	g_autofree char *state = NULL;

	if (!parse(o, globals, &argc, &argv, &error))
		return wdr_cli_fail(globals, error, WDR_EXIT_REFUSED);
	if (o->roster)
		return wdr_move_roster(
			globals, &(WdrMoveRoster){ o->roster, o->slot, o->erase,
					 (const char *const *)o->despite, o->resume != 0 });
	if (!wdr_cli_world(globals, &world, &error) ||
		!get_itinerary(o, globals, world, &state, &it, &error) ||
		!may_go_on(o, globals, world, it, state, &error))
		return wdr_cli_fail(
			globals, error, o->has_begun_steps ? WDR_EXIT_STOPPED : WDR_EXIT_REFUSED);
	return wdr_cli_perform(globals, world, it,
		&(WdrPerforming){ .move = { .state = state,
					  .copy_per_s = o->copy_per_s,
					  .looked_at = o->plan.source,
					  .is_resuming = o->resume != 0,
					  .accepts_damage = o->accept_damage != 0,
					  .ready = o->ready },
			.look_s = o->look_s,
			.steps = o->plan.steps,
			.has_taken_steps = o->has_taken_steps });
}

static int move_run(WdrGlobals *globals, int argc, char **argv)
{
	MoveOptions o = { .plan = { .takes_steps = true, .keeps_source = true } };
	int code = move(&o, globals, argc, argv);

	wdr_plan_options_clear(&o.plan);
	g_free(o.erase);
	g_free(o.ready);
	g_free(o.roster);
	g_free(o.slot);
	g_strfreev(o.despite);
	return code;
}

const WdrCommand wdr_cmd_move = { "move", move_run };
