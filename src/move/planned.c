#include "move/planned.h"

#include "boot/survey.h"
#include "move/carry.h"
#include "move/edits.h"
#include "move/logical.h"
#include "move/running.h"
#include "volume/overlay.h"

#include <string.h>

/* ---- files as they will be ---- */

static WdrReplacements *edits_of(
	const WdrItinerary *it, const WdrSystem *s, unsigned number, bool on_source, GError **error)
{
	g_autoptr(GHashTable) all = wdr_replacements_new();

	for (guint i = 0; i < it->edits->len; i++) {
		const WdrEdit *edit = it->edits->pdata[i];
		GBytes *bytes = NULL;
		if (edit->number != number || edit->is_on_source != on_source)
			continue;
		if (!wdr_edit_read(s, edit, &bytes, error))
			return NULL;
		g_hash_table_insert(all, g_strdup(edit->file), bytes);
	}
	return g_steal_pointer(&all);
}

/* A folder that stays behind is asked for before what is in it. */
static bool stays_behind(void *leave, const char *path, WdrKind kind)
{
	return wdr_leave_rule(leave, path, kind) != WDR_LEAVE_CARRIED;
}

static void free_leave(void *leave)
{
	wdr_leave_free(leave);
}

static bool use_overlay(const WdrWorld *world, const WdrItinerary *it, const WdrSystem *s,
	WdrSystemPart *p, bool on_source, GError **error)
{
	g_autoptr(GHashTable) contents = edits_of(it, s, p->partition->number, on_source, error);
	g_autofree char **patterns = wdr_itinerary_patterns(it);
	WdrOverlay over = { .contents = contents };

	if (!contents)
		return false;
	if (!on_source) {
		over.data = wdr_running_leave(world, s, p, patterns, NULL);
		over.hides = stays_behind;
		over.free_data = free_leave;
	}
	p->volume = wdr_overlay_new(p->volume, &over);
	return true;
}

static bool use_overlays(
	const WdrWorld *world, const WdrItinerary *it, WdrSystem *s, bool on_source, GError **error)
{
	for (guint i = 0; i < s->parts->len; i++) {
		WdrSystemPart *p = s->parts->pdata[i];
		if (p->volume && !use_overlay(world, it, s, p, on_source, error))
			return false;
	}
	return true;
}

/* ---- the disk as it will be ---- */

static void replace(char **at, const char *with)
{
	g_free(*at);
	*at = g_strdup(with);
}

/* Parts that do not come along go. */
static void use_table(WdrSystem *s, const WdrItinerary *it)
{
	WdrPartTable *table = wdr_itinerary_table(it);

	for (guint i = s->parts->len; i-- > 0;) {
		WdrSystemPart *p = s->parts->pdata[i];
		WdrItineraryPart *plan = wdr_itinerary_part(it, p->partition->number);
		unsigned number = plan ? wdr_itinerary_new_number(it, plan) : 0;
		p->partition = NULL;
		for (guint k = 0; plan && k < table->partitions->len; k++) {
			WdrPartition *to = table->partitions->pdata[k];
			if (to->number == number)
				p->partition = to;
		}
		if (!p->partition) {
			g_ptr_array_remove_index(s->parts, i);
			continue;
		}
		replace(&p->probe.uuid, plan->to.uuid);
		replace(&p->probe.label, plan->to.label);
	}
	wdr_parttable_free(s->table);
	s->table = table;
}

static void use_disk(const WdrWorld *world, WdrSystem *s, const WdrItineraryDisk *d)
{
	g_autoptr(WdrDisk) disk = NULL;

	if (wdr_itinerary_disk_find(world, d, &disk, NULL)) {
		g_ptr_array_unref(s->modules);
		s->modules = wdr_disk_modules(world, disk);
	}
	replace(&s->home, d->is_image ? NULL : d->name);
	replace(&s->serial, d->serial);
	replace(&s->medium, d->is_image ? NULL : d->medium);
}

/* The source as it is read in a move. */
static bool open_source(
	const WdrWorld *world, const WdrItinerary *it, WdrSystem **ret, GError **error)
{
	g_autoptr(WdrDisk) disk = NULL;

	return wdr_itinerary_disk_find(world, &it->source, &disk, error) &&
	       wdr_running_open(world, disk, ret, error);
}

static bool plan_target(
	const WdrWorld *world, const WdrItinerary *it, WdrSystem **ret, GError **error)
{
	g_autoptr(WdrSystem) s = NULL;

	if (!open_source(world, it, &s, error) || !use_overlays(world, it, s, false, error))
		return false;
	use_table(s, it);
	use_disk(world, s, &it->target);
	wdr_system_look_again(s, world);
	*ret = g_steal_pointer(&s);
	return true;
}

/* Its boot files changed, its old root still there. */
static bool plan_source(
	const WdrWorld *world, const WdrItinerary *it, WdrSystem **ret, GError **error)
{
	g_autoptr(WdrSystem) s = NULL;

	if (!open_source(world, it, &s, error) || !use_overlays(world, it, s, true, error))
		return false;
	wdr_system_look_again(s, world);
	*ret = g_steal_pointer(&s);
	return true;
}

/* ---- the rehearsal ---- */

static GPtrArray *disks_beside(const WdrWorld *world, const WdrItinerary *it)
{
	g_autoptr(WdrDisk) source = NULL;
	g_autoptr(WdrDisk) target = NULL;
	GPtrArray *others = NULL;

	if (it->target.is_image || !wdr_itinerary_disk_find(world, &it->source, &source, NULL) ||
		!wdr_itinerary_disk_find(world, &it->target, &target, NULL) ||
		!wdr_systems_beside(world, source, target, &others, NULL))
		return NULL;
	return others;
}

/* What is thought away, and may come back: the source as it is. */
static GPtrArray *disks_away(const WdrWorld *world, const WdrItinerary *it)
{
	GPtrArray *away = g_ptr_array_new_with_free_func((GDestroyNotify)wdr_system_free);
	g_autoptr(WdrDisk) disk = NULL;
	WdrSystem *s = NULL;

	if (it->what == WDR_MOVE_EVERYTHING && !it->source.is_image &&
		wdr_itinerary_disk_find(world, &it->source, &disk, NULL) &&
		wdr_system_open(world, disk, &s, NULL))
		g_ptr_array_add(away, s);
	return away;
}

bool wdr_planned_rehearse(
	const WdrWorld *world, const WdrItinerary *it, WdrRehearsal **ret, GError **error)
{
	g_autoptr(WdrSystem) target = NULL;
	g_autoptr(WdrSystem) source = NULL;
	bool is_root_alone = it->what == WDR_MOVE_ROOT;
	const WdrItineraryDisk *starts = is_root_alone ? &it->source : &it->target;

	if (!plan_target(world, it, &target, error) ||
		(is_root_alone && !plan_source(world, it, &source, error)))
		return false;
	g_autoptr(GPtrArray) others = disks_beside(world, it);
	g_autoptr(GPtrArray) away = disks_away(world, it);
	if (is_root_alone) {
		others = others ? others
				: g_ptr_array_new_with_free_func((GDestroyNotify)wdr_system_free);
		g_ptr_array_add(others, target);
	}
	g_autoptr(WdrBoard) board = starts->is_image ? NULL : wdr_board_look(world);
	*ret = wdr_rehearse(
		is_root_alone ? source : target, &(WdrRehearsing){ NULL, board, others, away });
	if (is_root_alone)
		target = NULL; /* it is the list's */
	return true;
}
