/* Looks once at the disks of an itinerary and at all others, for the checks and rehearsals. */
#include "check/machine.h"

#include "boot/system/survey.h"
#include "disk/users.h"
#include "plan/running_source.h"

void wdr_machine_look(
	const WdrWorld *world, const WdrItinerary *it, WdrBootsWhere where, WdrMachine *ret)
{
	*ret = (WdrMachine){ .world = world, .it = it };
	(void)!wdr_itinerary_disk_find(world, &it->source, &ret->source, NULL);
	(void)!wdr_itinerary_disk_find(world, &it->target, &ret->target, NULL);
	if (ret->source)
		(void)!wdr_running_open(world, ret->source, &ret->system, NULL);
	if (where == WDR_BOOTS_HERE && ret->source && ret->target &&
		!(ret->source->is_image && ret->target->is_image))
		(void)!wdr_systems_beside(world, ret->source, ret->target, &ret->others, NULL);
}

void wdr_machine_clear(WdrMachine *a)
{
	g_clear_pointer(&a->others, g_ptr_array_unref);
	g_clear_pointer(&a->system, wdr_system_free);
	g_clear_pointer(&a->source, wdr_disk_free);
	g_clear_pointer(&a->target, wdr_disk_free);
}

bool wdr_machine_runs_source(const WdrMachine *a)
{
	return a->source && wdr_disk_has_root(a->world, a->source);
}

/* What advice is about: before a move its source, afterwards the disk that was made. */
static void set_fix(const WdrMachine *a, bool is_planned, bool is_root_alone, WdrRehearsing *how)
{
	bool is_on_source = is_planned || is_root_alone;

	if (!is_on_source)
		how->fix_on = wdr_itinerary_disk_word(&a->it->target);
	else if (!wdr_machine_runs_source(a))
		how->fix_on = wdr_itinerary_disk_word(&a->it->source);
	how->fix_for = is_on_source ? wdr_itinerary_disk_word(&a->it->target) : NULL;
}

WdrRehearsal *wdr_machine_rehearse(
	const WdrMachine *a, WdrSystem *starts, WdrSystem *root, bool is_planned)
{
	const WdrItineraryDisk *disk = root ? &a->it->source : &a->it->target;
	g_autoptr(WdrBoard) board = disk->is_image ? NULL : wdr_board_look(a->world);
	g_autoptr(GPtrArray) beside = g_ptr_array_new();
	g_autoptr(GPtrArray) away = g_ptr_array_new();

	/* Of an image nobody knows what it will be beside. */
	bool is_known = a->others && !a->it->target.is_image;
	if (is_known)
		g_ptr_array_extend(beside, a->others, NULL, NULL);
	if (root)
		g_ptr_array_add(beside, root);
	else if (a->system)
		g_ptr_array_add(away, a->system);
	WdrRehearsing how = { .board = board,
		.others = is_known || root ? beside : NULL,
		.away = away,
		.is_planned = is_planned };
	set_fix(a, is_planned, root != NULL, &how);
	return wdr_rehearse(starts, &how);
}
