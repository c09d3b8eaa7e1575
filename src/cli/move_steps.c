#include "cli/move_steps.h"

#include "boot/ability.h"
#include "cli/step.h"
#include "move/drivers.h"
#include "move/firmware.h"
#include "move/order.h"
#include "present/drivers.h"
#include "present/firmware.h"
#include "present/order.h"

#include <string.h>

static const struct {
	const char *name;
	WdrMoveSteps step;
	const char *changes;
} names[] = { { "drivers", WDR_STEP_DRIVERS, "the source" },
	{ "order", WDR_STEP_ORDER, "the board" }, { "firmware", WDR_STEP_FIRMWARE, "the source" } };

bool wdr_move_step_named(const char *name, WdrMoveSteps *ret, const char **ret_changes)
{
	for (size_t i = 0; i < G_N_ELEMENTS(names); i++) {
		if (strcmp(name, names[i].name) != 0)
			continue;
		*ret = names[i].step;
		*ret_changes = names[i].changes;
		return true;
	}
	return false;
}

static bool write_drivers(void *plan, const char *state, bool *ret_has_begun, GError **error)
{
	return wdr_drivers_write(plan, state, ret_has_begun, error);
}

static const char *name_of(const WdrItineraryDisk *d)
{
	return d->is_image ? d->path : d->name;
}

static bool put_drivers(const WdrGlobals *globals, const WdrWorld *world, const WdrItinerary *it,
	WdrMoveStepsDone *ret, GError **error)
{
	WdrDriversOptions options = { .on = name_of(&it->source), .target = name_of(&it->target) };
	g_autoptr(WdrDriversPlan) p = NULL;
	WdrOut out = wdr_cli_stdout(globals);

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
	const WdrStepRun step = {
		.name = "drivers", .site = p->site, .write = write_drivers, .plan = p
	};
	if (!wdr_cli_step_write(globals, &step, &ret->has_begun, error))
		return false;
	ret->has_changed_source = true;
	return true;
}

static bool write_order(void *plan, const char *state, bool *ret_has_begun, GError **error)
{
	return wdr_order_write(plan, state, ret_has_begun, error);
}

static bool put_order(const WdrGlobals *globals, const WdrWorld *world, const WdrItinerary *it,
	WdrMoveStepsDone *ret, GError **error)
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
	if (!wdr_order_has_work(p))
		return true;
	const WdrStepRun step = { .name = "order",
		.world = world,
		.write = write_order,
		.has_unread = &p->has_unread,
		.plan = p };
	if (!globals->json && !globals->quiet)
		wdr_present_order(&out, p);
	return wdr_cli_step_write(globals, &step, &ret->has_begun, error);
}

static bool write_firmware(void *plan, const char *state, bool *ret_has_begun, GError **error)
{
	WdrFirmwarePlan *p = plan;

	return wdr_onsite_write(p->site, state, p->files, ret_has_begun, error);
}

/* From the system's package. */
static bool put_firmware(const WdrGlobals *globals, const WdrWorld *world, const WdrItinerary *it,
	WdrMoveStepsDone *ret, GError **error)
{
	WdrFirmwareOptions options = { .on = name_of(&it->source) };
	g_autoptr(WdrFirmwarePlan) p = NULL;
	WdrOut out = wdr_cli_stdout(globals);

	if (!wdr_firmware_plan(world, &options, &p, error))
		return false;
	if (p->files->len == 0)
		return true;
	if (!globals->json && !globals->quiet)
		wdr_present_firmware(&out, p);
	const WdrStepRun step = {
		.name = "firmware", .site = p->site, .write = write_firmware, .plan = p
	};
	if (!wdr_cli_step_write(globals, &step, &ret->has_begun, error))
		return false;
	ret->has_changed_source = true;
	return true;
}

bool wdr_move_steps_take(const WdrGlobals *globals, const WdrWorld *world, unsigned steps,
	const WdrItinerary *it, WdrMoveStepsDone *ret, GError **error)
{
	*ret = (WdrMoveStepsDone){ false, false };
	return (!(steps & WDR_STEP_ORDER) || put_order(globals, world, it, ret, error)) &&
	       (!(steps & WDR_STEP_DRIVERS) || put_drivers(globals, world, it, ret, error)) &&
	       (!(steps & WDR_STEP_FIRMWARE) || put_firmware(globals, world, it, ret, error));
}
