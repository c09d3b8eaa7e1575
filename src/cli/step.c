#include "cli/step.h"

#include "boot/ability.h"
#include "cli/progress.h"
#include "move/drivers.h"
#include "move/order.h"
#include "move/outside.h"
#include "present/drivers.h"
#include "present/order.h"
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
		wdr_present_step_done(&out, step->name, state);
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

static bool write_drivers(void *data, const char *state, bool *ret_has_begun, GError **error)
{
	return wdr_drivers_write(data, state, ret_has_begun, error);
}

static const char *name_of(const WdrItineraryDisk *d)
{
	return d->is_image ? d->path : d->name;
}

bool wdr_cli_put_drivers(const WdrGlobals *globals, const WdrWorld *world, const WdrItinerary *it,
	bool *ret, GError **error)
{
	WdrDriversOptions options = { .on = name_of(&it->source), .target = name_of(&it->target) };
	g_autoptr(WdrDriversPlan) p = NULL;
	WdrOut out = wdr_cli_stdout(globals);

	*ret = false;
	if (!wdr_drivers_plan(world, &options, &p, error))
		return false;
	if (!p->medium) {
		wdr_error_set(error, WDR_ERROR_REFUSED,
			"--with drivers: nobody knows what the image %s will be attached as",
			it->target.name);
		wdr_error_hint(error,
			"nothing was changed; 'wanderitas drivers --on %s --medium nvme' (or another) "
			"tells",
			it->source.name);
		return false;
	}
	if (p->missing == 0)
		return true;
	if (!globals->json && !globals->quiet)
		wdr_present_drivers(&out, p);
	if (p->files->len == 0 || (!p->is_first_fine && p->left->len > 0)) {
		wdr_error_set(error, WDR_ERROR_REFUSED, "--with drivers: %s",
			p->left->len > 0 ? (const char *)p->left->pdata[0]
					 : "nothing can be changed");
		wdr_error_hint(error, "nothing was changed");
		return false;
	}
	WdrStepRun step = { .name = "drivers",
		.site = p->site,
		.has_work = true,
		.is_writing = true,
		.write = write_drivers,
		.data = p };
	if (!wdr_cli_step(globals, &step, error))
		return false;
	g_free(step.done_in);
	*ret = true;
	return true;
}

static bool write_order(void *data, const char *state, bool *ret_has_begun, GError **error)
{
	return wdr_order_write(data, state, ret_has_begun, error);
}

bool wdr_cli_put_order(
	const WdrGlobals *globals, const WdrWorld *world, const WdrItinerary *it, GError **error)
{
	const char *word = it->target.is_image ? NULL : wdr_medium_word(it->target.medium);
	WdrOrderOptions options = { .first = word };
	g_autoptr(WdrOrderPlan) p = NULL;
	WdrOut out = wdr_cli_stdout(globals);

	if (!word) {
		wdr_error_set(error, WDR_ERROR_REFUSED,
			"--with order: no order is known that %s would have a place in",
			it->target.name);
		wdr_error_hint(error, "nothing was changed");
		return false;
	}
	if (!wdr_order_plan(world, &options, &p, error))
		return false;
	WdrStepRun step = { .name = "order",
		.world = world,
		.has_work = wdr_order_has_work(p),
		.is_writing = true,
		.write = write_order,
		.data = p };
	if (step.has_work && !globals->json && !globals->quiet)
		wdr_present_order(&out, p);
	if (!wdr_cli_step(globals, &step, error))
		return false;
	g_free(step.done_in);
	return true;
}
