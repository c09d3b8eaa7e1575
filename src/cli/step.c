#include "cli/step.h"

#include "boot/ability.h"
#include "cli/progress.h"
#include "move/outside.h"
#include "present/steps.h"

static char *state_of(const WdrStepRun *step)
{
	if (step->state)
		return g_canonicalize_filename(step->state, NULL);
	return step->site
		       ? wdr_onsite_state(step->site, step->name, wdr_world_now(step->site->world))
		       : wdr_outside_state(step->world, step->name);
}

bool wdr_cli_step(const WdrGlobals *globals, WdrStepRun *step, GError **error)
{
	WdrOut out = wdr_cli_stdout(globals);

	if (!step->has_work)
		return true;
	if (!step->is_writing) {
		if (!globals->json)
			wdr_out_text(
				&out, WDR_STYLE_GOOD, "\nnothing was changed; --write does it\n");
		return true;
	}
	g_autofree char *state = state_of(step);
	bool is_fine = step->write(step->data, state, &step->has_begun, error);
	wdr_progress_end();
	if (!is_fine) {
		if (step->has_begun)
			wdr_error_hint(error,
				"'wanderitas rewind %s' puts back what was changed until then",
				state);
		return false;
	}
	if (!globals->json)
		wdr_present_step_done(
			&out, step->name, step->has_unread && *step->has_unread, state);
	step->done_in = g_steal_pointer(&state);
	return true;
}

bool wdr_cli_medium(const char *text, const char **ret, GError **error)
{
	*ret = text ? wdr_medium_of_word(text) : NULL;
	return !text || *ret ||
	       wdr_error_set(
		       error, WDR_ERROR_USAGE, "--medium is nvme, usb, sd or emmc, not '%s'", text);
}
