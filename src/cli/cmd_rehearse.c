/* wanderitas rehearse: would the board boot from this disk? */
#include "cli/common/step.h"

#include "boot/system/survey.h"
#include "check/planned_boot.h"
#include "check/root_and_boot.h"
#include "check/status.h"
#include "cli/common/keep.h"
#include "disk/backing.h"
#include "disk/users.h"
#include "journal/state_folder.h"
#include "present/show_itinerary.h"
#include "present/show_rehearsal.h"

#include <string.h>
#include <unistd.h>

typedef struct {
	char *medium, *without, *with;
} RehearseOptions;

/* What is rehearsed, and beside which disks. */
typedef struct {
	WdrDisk *disk, *without, *with; /* NULL: none was named */
	const char *medium;
	WdrSystem *system;
	GPtrArray *others, *away; /* WdrSystem; NULL: none */
} Rehearsed;

static void rehearsed_clear(Rehearsed *r)
{
	wdr_disk_free(r->disk);
	wdr_disk_free(r->without);
	wdr_disk_free(r->with);
	wdr_system_free(r->system);
	g_clear_pointer(&r->others, g_ptr_array_unref);
	g_clear_pointer(&r->away, g_ptr_array_unref);
}
G_DEFINE_AUTO_CLEANUP_CLEAR_FUNC(Rehearsed, rehearsed_clear)

static bool open_one(const WdrWorld *world, const WdrDisk *disk, GPtrArray **ret, GError **error)
{
	WdrSystem *system = NULL;

	if (!wdr_system_open(world, disk, &system, error))
		return false;
	*ret = g_ptr_array_new_with_free_func((GDestroyNotify)wdr_system_free);
	g_ptr_array_add(*ret, system);
	return true;
}

/* The disks that are treated as present, and those treated as unplugged. The disks beside an image
 * are not known. */
static bool find_beside(const WdrWorld *world, Rehearsed *r, GError **error)
{
	if (r->without)
		return wdr_systems_beside(world, r->disk, r->without, &r->others, error) &&
		       open_one(world, r->without, &r->away, error);
	if (r->with && !open_one(world, r->with, &r->others, error))
		return false;
	return r->disk->is_image || wdr_systems_beside(world, r->disk, r->with, &r->away, error);
}

static bool check_other(const WdrWorld *world, const WdrDisk *disk, const WdrDisk *other,
	const char *option, GError **error)
{
	return !other || !wdr_disk_is_same(world, disk, other) ||
	       wdr_error_set(error, WDR_ERROR_USAGE, "%s %s: that is the disk that is rehearsed",
		       option, other->name);
}

static bool open_all(const RehearseOptions *o, const WdrWorld *world, const char *named,
	Rehearsed *r, GError **error)
{
	if (o->without && o->with)
		return wdr_error_set(
			error, WDR_ERROR_USAGE, "give either --without or --with-disk, not both");
	if (!wdr_disk_find_source(world, named, &r->disk, error) ||
		!wdr_cli_medium(o->medium, &r->medium, error) ||
		(o->without && !wdr_disk_find(world, o->without, &r->without, error)) ||
		(o->with && !wdr_disk_find(world, o->with, &r->with, error)) ||
		!check_other(world, r->disk, r->without, "--without", error) ||
		!check_other(world, r->disk, r->with, "--with-disk", error) ||
		!wdr_system_open(world, r->disk, &r->system, error))
		return false;
	if (!r->medium && !r->disk->is_image)
		r->medium = r->disk->medium;
	return find_beside(world, r, error);
}

static void show(const WdrGlobals *globals, const char *name, const char *medium, const char *away,
	const WdrRehearsal *r)
{
	WdrOut out = wdr_cli_stdout(globals);

	if (globals->json)
		wdr_present_rehearsal_json(stdout, name, medium, r);
	else
		wdr_present_rehearsal(&out, name, medium, away, r);
}

/* A root that was moved alone does not start without its boot disk, nor that without it: what is
 * going to be restarted is both. */
static bool rehearse_together(
	const WdrGlobals *globals, const WdrWorld *world, const WdrDisk *disk, WdrVerdict *ret)
{
	g_autoptr(WdrItinerary) it = wdr_together_find(world, disk);
	g_autoptr(WdrRehearsal) r = it ? wdr_moved_rehearse(world, it, WDR_BOOTS_HERE) : NULL;

	if (!r)
		return false;
	g_autofree char *starts = wdr_present_what_starts(it);
	show(globals, starts, it->source.medium, "no disk", r);
	*ret = r->verdict;
	return true;
}

/* Of the target of this machine's move, for 'status' and the report. Whoever may not write to the
 * records rehearses all the same. */
static void keep(const WdrWorld *world, const WdrDisk *disk, const WdrRehearsal *r)
{
	g_autoptr(WdrStatus) status = NULL;

	if (!wdr_status_look(world, &status, NULL) || status->stage != WDR_STATUS_MOVED ||
		strcmp(status->it->target.name, disk->name) != 0 ||
		access(status->records, W_OK) != 0)
		return;
	g_autofree char *starts = wdr_present_what_starts(status->it);
	wdr_cli_keep(world, status->records, WDR_REHEARSAL_FILE,
		wdr_present_rehearsal_document(starts, status->it->target.medium, r));
}

static bool rehearse(RehearseOptions *o, WdrGlobals *globals, int argc, char **argv,
	WdrVerdict *ret, GError **error)
{
	const GOptionEntry entries[] = {
		WDR_OPTION("medium", 0, STRING, &o->medium),
		WDR_OPTION("without", 0, FILENAME, &o->without),
		WDR_OPTION("with-disk", 0, FILENAME, &o->with),
		{ 0 },
	};
	g_autoptr(WdrWorld) world = NULL;
	g_auto(Rehearsed) r = { 0 };

	if (!wdr_cli_parse(&wdr_cmd_rehearse, globals, entries, &argc, &argv, error))
		return false;
	if (argc != 2)
		return wdr_error_set(error, WDR_ERROR_USAGE, "rehearse takes one disk");
	if (!wdr_cli_world(globals, &world, error) || !open_all(o, world, argv[1], &r, error))
		return false;
	if (!o->medium && !o->without && !o->with && rehearse_together(globals, world, r.disk, ret))
		return true;
	/* An image is for whatever board it will be put into. */
	g_autoptr(WdrBoard) board = r.disk->is_image ? NULL : wdr_board_look(world);
	const char *fix_on = wdr_disk_is_live(world, r.disk) ? NULL : wdr_disk_word(r.disk);
	g_autoptr(WdrRehearsal) rehearsal =
		wdr_rehearse(r.system, &(WdrRehearsing){ .medium = r.medium,
					       .board = board,
					       .others = r.others,
					       .away = r.away,
					       .fix_on = fix_on });
	g_autofree char *both =
		r.with ? g_strdup_printf("%s with %s", r.disk->name, r.with->name) : NULL;
	show(globals, both ? both : r.disk->name, r.medium,
		r.without ? r.without->name
		: r.with  ? "all other disks"
			  : NULL,
		rehearsal);
	*ret = rehearsal->verdict;
	if (!o->medium && !o->without && !o->with)
		keep(world, r.disk, rehearsal);
	return true;
}

static int rehearse_run(WdrGlobals *globals, int argc, char **argv)
{
	RehearseOptions o = { 0 };
	g_autoptr(GError) error = NULL;
	WdrVerdict verdict = WDR_VERDICT_BOOTS;
	bool is_fine = rehearse(&o, globals, argc, argv, &verdict, &error);

	g_free(o.medium);
	g_free(o.without);
	g_free(o.with);
	if (!is_fine)
		return wdr_cli_fail(globals, error, WDR_EXIT_FOUND);
	return verdict <= WDR_VERDICT_WARNINGS ? WDR_EXIT_DONE : WDR_EXIT_FOUND;
}

const WdrCommand wdr_cmd_rehearse = { "rehearse", rehearse_run };
