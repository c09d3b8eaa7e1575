/* Rehearses a system that is not written yet: source volumes with the planned edits and
 * identifiers.
 *
 * The source is opened once more, its volumes get an overlay with the edited files, and its table
 * the new identifiers. All else is the same code as for a disk that is there. So the result before
 * the move is what rehearse says after it. */
#include "check/planned_boot.h"

#include "boot/system/survey.h"
#include "copy/volume_copy.h"
#include "plan/draft_edits.h"
#include "plan/logical_partitions.h"
#include "plan/running_source.h"
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
static bool stays_behind(void *exclude, const char *path, WdrKind kind)
{
	return wdr_exclude_rule(exclude, path, kind) != WDR_EXCLUDE_COPIED;
}

static void free_leave(void *exclude)
{
	wdr_exclude_free(exclude);
}

static bool use_overlay(const WdrWorld *world, const WdrItinerary *it, const WdrSystem *s,
	WdrSystemPart *p, bool on_source, GError **error)
{
	g_autoptr(GHashTable) contents = edits_of(it, s, p->partition->number, on_source, error);
	WdrOverlay over = { .contents = contents };

	if (!contents)
		return false;
	if (!on_source) {
		over.data = wdr_running_exclude(world, it, s, p, NULL);
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

/* The target, or with on_source the source of a root that moves alone: its boot files changed, its
 * old root still there. */
static bool plan(const WdrWorld *world, const WdrItinerary *it, bool on_source, WdrSystem **ret,
	GError **error)
{
	g_autoptr(WdrSystem) s = NULL;

	if (!open_source(world, it, &s, error) || !use_overlays(world, it, s, on_source, error))
		return false;
	if (!on_source) {
		use_table(s, it);
		use_disk(world, s, &it->target);
	}
	if (!wdr_system_look(s, world, error))
		return false;
	*ret = g_steal_pointer(&s);
	return true;
}

/* ---- the rehearsals ---- */

bool wdr_planned_rehearse(const WdrMachine *a, WdrRehearsal **ret, GError **error)
{
	g_autoptr(WdrSystem) target = NULL;
	g_autoptr(WdrSystem) source = NULL;
	bool is_root_alone = a->it->what == WDR_MOVE_ROOT;

	if (!plan(a->world, a->it, false, &target, error) ||
		(is_root_alone && !plan(a->world, a->it, true, &source, error)))
		return false;
	if (a->medium && a->it->target.is_image)
		replace(&target->medium, a->medium);
	*ret = is_root_alone ? wdr_machine_rehearse(a, source, target, true)
			     : wdr_machine_rehearse(a, target, NULL, true);
	return true;
}

WdrRehearsal *wdr_moved_rehearse(const WdrWorld *world, const WdrItinerary *it, WdrBootsWhere where)
{
	g_auto(WdrMachine) around = { 0 };
	g_autoptr(WdrSystem) system = NULL;

	wdr_machine_look(world, it, where, &around);
	if (!around.target || !wdr_system_open(world, around.target, &system, NULL))
		return NULL;
	if (it->what != WDR_MOVE_ROOT)
		return wdr_machine_rehearse(&around, system, NULL, false);
	return around.system ? wdr_machine_rehearse(&around, around.system, system, false) : NULL;
}
