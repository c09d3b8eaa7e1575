/* The further steps of a move that the user agreed to with --with. */
#include "cli/common/move_steps.h"

#include "base/command.h"
#include "boot/board/boot_support.h"
#include "change/add_drivers.h"
#include "change/order.h"
#include "change/update_firmware.h"
#include "cli/common/step.h"

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
			"--with drivers: it is unknown how the image %s will be attached",
			it->target.name);
		g_autofree char *look = wdr_command("drivers", "--on",
			wdr_itinerary_disk_word(&it->source), "--medium", "nvme");
		wdr_error_hint(error, "nothing was changed; for an NVMe drive: %s", look);
		return false;
	}
	if (p->missing == 0)
		return true;
	if (p->files->len == 0 || (!p->is_first_fine && p->left->len > 0)) {
		if (!globals->json && !globals->quiet)
			wdr_step_drivers.show(&out, p);
		wdr_error_set(error, WDR_ERROR_REFUSED, "--with drivers: %s",
			p->left->len > 0 ? (const char *)p->left->pdata[0]
					 : "nothing can be changed");
		wdr_error_hint(error, "nothing was changed");
		return false;
	}
	const WdrStepRun step = { .sort = &wdr_step_drivers, .plan = p, .site = p->site };
	if (!wdr_cli_step_write(globals, &step, &ret->has_begun, error))
		return false;
	ret->has_changed_source = true;
	return true;
}

static bool write_order(const WdrGlobals *globals, const WdrWorld *world, const char *first,
	bool *ret_has_begun, GError **error)
{
	WdrOrderOptions options = { .first = first };
	g_autoptr(WdrOrderPlan) p = NULL;

	if (!wdr_order_plan(world, &options, &p, error))
		return false;
	if (!wdr_order_has_work(p))
		return true;
	const WdrStepRun step = {
		.sort = &wdr_step_order, .plan = p, .world = world, .has_unread = &p->has_unread
	};
	return wdr_cli_step_write(globals, &step, ret_has_begun, error);
}

/* Whether it can be done is asked before the move all the same. */
static bool check_later_order(const WdrWorld *world, GError **error)
{
	static const char command[] = "efibootmgr";
	g_autofree char *program = wdr_world_program(world, command);
	g_autofree char *install = wdr_system_command("apt", "install", command);

	if (program)
		return true;
	wdr_error_set(error, WDR_ERROR_REFUSED,
		"--with order: the program %s, which makes the firmware's entry, is not installed",
		command);
	wdr_error_hint(error, "nothing was changed; to install it on Debian: %s", install);
	return false;
}

static bool put_order(const WdrGlobals *globals, const WdrWorld *world, const WdrItinerary *it,
	WdrMoveStepsDone *ret, GError **error)
{
	const char *word = it->target.is_image ? NULL : wdr_medium_word(it->target.medium);

	if (!word) {
		wdr_error_set(error, WDR_ERROR_REFUSED,
			"--with order: no order is known that %s would have a place in",
			it->target.name);
		wdr_error_hint(error, "nothing was changed");
		return false;
	}
	if (wdr_order_comes_after(world))
		return check_later_order(world, error);
	return write_order(globals, world, word, &ret->has_begun, error);
}

bool wdr_move_steps_finish(const WdrGlobals *globals, const WdrWorld *world, unsigned steps,
	const WdrItinerary *it, GError **error)
{
	bool has_begun = false;

	return !(steps & WDR_STEP_ORDER) || !wdr_order_comes_after(world) ||
	       write_order(globals, world, it->target.name, &has_begun, error);
}

/* From the system's package. */
static bool put_firmware(const WdrGlobals *globals, const WdrWorld *world, const WdrItinerary *it,
	WdrMoveStepsDone *ret, GError **error)
{
	WdrFirmwareOptions options = { .on = name_of(&it->source) };
	g_autoptr(WdrFirmwarePlan) p = NULL;

	if (!wdr_firmware_plan(world, &options, &p, error))
		return false;
	if (p->files->len == 0)
		return true;
	const WdrStepRun step = { .sort = &wdr_step_firmware, .plan = p, .site = p->site };
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
