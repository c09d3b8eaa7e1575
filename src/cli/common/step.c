/* The frame of the step commands: look, show, write. */
#include "cli/common/step.h"

#include "base/command.h"
#include "boot/board/boot_support.h"
#include "change/raw_change.h"
#include "cli/common/progress.h"
#include "present/show_steps.h"

void wdr_step_options_clear(WdrStepOptions *o)
{
	g_clear_pointer(&o->on, g_free);
	g_clear_pointer(&o->state, g_free);
}

static void append_options(GArray *all, const WdrStepUsage *usage, WdrStepOptions *o)
{
	const GOptionEntry on = WDR_OPTION("on", 0, FILENAME, &o->on);
	const GOptionEntry shared[] = {
		WDR_OPTION("write", 0, NONE, &o->write),
		WDR_OPTION("state", 0, FILENAME, &o->state),
	};

	for (size_t i = 0; usage->own[i].long_name; i++)
		g_array_append_val(all, usage->own[i]);
	if (usage->has_on)
		g_array_append_val(all, on);
	g_array_append_vals(all, shared, G_N_ELEMENTS(shared));
}

bool wdr_cli_step_parse(const WdrStepUsage *usage, WdrGlobals *globals, WdrStepOptions *o,
	int *argc, char ***argv, GError **error)
{
	/* GLib wants an empty one at the end. */
	g_autoptr(GArray) all = g_array_new(TRUE, FALSE, sizeof(GOptionEntry));

	append_options(all, usage, o);
	if (!wdr_cli_parse(usage->command, globals, (const GOptionEntry *)(void *)all->data, argc,
		    argv, error))
		return false;
	int extra = usage->words_max + 1;
	return *argc <= extra ||
	       wdr_error_set(error, WDR_ERROR_USAGE, "%s takes no '%s'%s%s", usage->command->name,
		       (*argv)[extra], usage->instead ? "; " : "",
		       usage->instead ? usage->instead : "");
}

static char *state_of(const WdrStepRun *step)
{
	if (step->state)
		return g_canonicalize_filename(step->state, NULL);
	return step->site ? wdr_disk_session_state(
				    step->site, step->sort->name, wdr_world_now(step->site->world))
			  : wdr_raw_change_state(step->world, step->sort->name);
}

/* *ret_done_in is where the records are; the caller's; NULL: it failed. */
static bool write_it(const WdrGlobals *globals, const WdrStepRun *step, char **ret_done_in,
	bool *ret_has_begun, GError **error)
{
	WdrOut out = wdr_cli_stdout(globals);
	g_autofree char *state = state_of(step);
	bool is_fine = step->sort->write(step->plan, state, ret_has_begun, error);

	wdr_progress_end();
	if (!is_fine) {
		g_autofree char *undo = wdr_command("rewind", state);
		if (*ret_has_begun)
			wdr_error_hint(error, "to restore what was changed until then: %s", undo);
		return false;
	}
	if (!globals->json)
		wdr_present_step_done(
			&out, step->sort->name, step->has_unread && *step->has_unread, state);
	*ret_done_in = g_steal_pointer(&state);
	return true;
}

bool wdr_cli_step_write(
	const WdrGlobals *globals, const WdrStepRun *step, bool *ret_has_begun, GError **error)
{
	g_autofree char *done_in = NULL;
	WdrOut out = wdr_cli_stdout(globals);

	if (!globals->json && !globals->quiet)
		step->sort->show(&out, step->plan);
	return write_it(globals, step, &done_in, ret_has_begun, error);
}

int wdr_cli_step(const WdrGlobals *globals, const WdrStepRun *step)
{
	WdrOut out = wdr_cli_stdout(globals);
	g_autofree char *done_in = NULL;
	g_autoptr(GError) error = NULL;
	bool has_begun = false;

	if (!globals->json)
		step->sort->show(&out, step->plan);
	if (step->has_work && step->is_writing &&
		!write_it(globals, step, &done_in, &has_begun, &error))
		return wdr_cli_fail(
			globals, error, has_begun ? WDR_EXIT_STOPPED : WDR_EXIT_REFUSED);
	if (globals->json)
		step->sort->show_json(stdout, step->plan, done_in);
	else if (step->has_work && !done_in)
		wdr_present_preview(&out);
	bool is_fine = !step->sort->is_fine || step->sort->is_fine(step->plan, done_in != NULL);
	if (!globals->json && is_fine && !step->has_work && step->is_asked)
		wdr_out_text(&out, WDR_STYLE_GOOD, "\nalready set; nothing to do\n");
	return is_fine ? WDR_EXIT_DONE : WDR_EXIT_FOUND;
}

bool wdr_cli_medium(const char *text, const char **ret, GError **error)
{
	*ret = text ? wdr_medium_of_word(text) : NULL;
	return !text || *ret ||
	       wdr_error_set(
		       error, WDR_ERROR_USAGE, "--medium is nvme, usb, sd or emmc, not '%s'", text);
}
