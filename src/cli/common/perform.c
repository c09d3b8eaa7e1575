/* A move from its first write to its summary. */
#include "cli/common/perform.h"

#include "base/text.h"
#include "check/planned_boot.h"
#include "cli/common/keep.h"
#include "cli/common/move_steps.h"
#include "cli/common/progress.h"
#include "cli/common/under_way.h"
#include "present/show_itinerary.h"

static void tell(const WdrGlobals *globals, const WdrItinerary *it, const WdrMoveResult *result,
	const WdrRehearsal *rehearsal)
{
	WdrOut out = wdr_cli_stdout(globals);

	if (globals->json)
		wdr_present_moved_json(stdout, it, result, rehearsal);
	else
		wdr_present_moved(&out, it, result, rehearsal);
}

/* The steps that need the finished disk. The disk is whole without them, so their failure is told
 * beside it; the rehearsal then says what is left to do. */
static bool finish(const WdrGlobals *globals, const WdrWorld *world, const WdrItinerary *it,
	const WdrPerforming *how)
{
	g_autoptr(GError) error = NULL;
	WdrOut out = wdr_out(stderr, globals->no_color);

	if (wdr_move_steps_finish(globals, world, how->steps, it, &error))
		return true;
	wdr_out_text(&out, WDR_STYLE_BAD, "--with order: %s\n", error->message);
	if (wdr_error_get_hint(error))
		wdr_out_text(&out, WDR_STYLE_PLAIN, "  %s\n", wdr_error_get_hint(error));
	return false;
}

int wdr_cli_perform(const WdrGlobals *globals, const WdrWorld *world, const WdrItinerary *it,
	const WdrPerforming *how)
{
	g_autoptr(GError) error = NULL;
	g_auto(WdrMoveResult) result = { 0 };
	bool has_begun = false;

	bool is_done = wdr_move(world, it, &how->move, &has_begun, &result, &error);
	result.has_taken_steps = how->has_taken_steps;
	if (!is_done && has_begun)
		return wdr_cli_fail_begun(globals, world, error, it, &result);
	if (!is_done)
		return wdr_cli_fail(globals, error, WDR_EXIT_REFUSED);
	wdr_progress_end();
	bool is_finished = finish(globals, world, it, how);
	int64_t begun = g_get_monotonic_time();
	g_autoptr(WdrRehearsal) rehearsal = wdr_moved_rehearse(world, it, how->where);
	result.rehearse_s = wdr_seconds_since(begun);
	result.look_s += how->look_s;
	result.all_s += how->look_s + result.rehearse_s;
	g_autofree char *starts = wdr_present_what_starts(it);
	if (rehearsal)
		wdr_cli_keep(world, how->move.state, WDR_REHEARSAL_FILE,
			wdr_present_rehearsal_document(starts, it->target.medium, rehearsal));
	tell(globals, it, &result, rehearsal);
	return result.caught_up.pause_problem || !is_finished ? WDR_EXIT_FOUND : WDR_EXIT_DONE;
}
