/* A disk opened for changes in place: at rest or through its mounts, with its checks and its
 * logbook.
 *
 * All step commands and readdress use it. It asks the same questions as a move (who uses the disk,
 * is it the running one), and then changes files through a mount where there is one: writing to a
 * disk under a mounted volume would destroy it. */
#include "change/disk_session.h"

#include "base/record.h"
#include "disk/mounts.h"
#include "disk/users.h"
#include "journal/state_folder.h"
#include "volume/tree/tree.h"

#include <string.h>

void wdr_disk_session_free(WdrDiskSession *o)
{
	if (!o)
		return;
	wdr_system_free(o->system);
	wdr_disk_free(o->disk);
	wdr_itinerary_disk_clear(&o->seen);
	g_free(o);
}

/* ---- opening ---- */

static bool use_mounts(WdrDiskSession *o, GError **error)
{
	for (guint i = 0; i < o->system->parts->len; i++) {
		WdrSystemPart *p = o->system->parts->pdata[i];
		g_autoptr(WdrMount) mount = wdr_disk_mount(o->world, o->disk, p->partition->number);
		WdrVolume *tree = NULL;
		if (!mount || !p->volume)
			continue;
		if (!wdr_disk_mount_shows_all(o->world, mount, error)) {
			g_prefix_error(
				error, "%s: partition %u: ", o->disk->name, p->partition->number);
			return false;
		}
		g_autofree char *folder = wdr_world_path(o->world, mount->point);
		g_autofree char *full = g_canonicalize_filename(folder, NULL);
		if (!wdr_tree_volume_open(full, &tree, error))
			return false;
		wdr_system_use_tree(p, tree);
	}
	return true;
}

static bool check_parts(const WdrDiskSession *o, GError **error)
{
	if (o->system->table->kind == WDR_TABLE_NONE)
		return wdr_error_set(
			error, WDR_ERROR_FORMAT, "%s has no partition table", o->disk->name);
	for (guint i = 0; i < o->system->parts->len; i++) {
		const WdrSystemPart *p = o->system->parts->pdata[i];
		if (p->is_unfinished)
			return wdr_error_set(error, WDR_ERROR_REFUSED,
				"%s is the target of an unfinished move", o->disk->name);
		if (p->problem)
			return wdr_error_set(error, WDR_ERROR_FORMAT, "%s: partition %u: %s",
				o->disk->name, p->partition->number, p->problem);
	}
	return true;
}

bool wdr_disk_session_open(const WdrWorld *world, const char *disk, bool is_running,
	WdrDiskSession **ret, GError **error)
{
	g_autoptr(WdrDiskSession) o = g_new0(WdrDiskSession, 1);

	o->world = world;
	o->is_running = is_running;
	if (!wdr_disk_find(world, disk, &o->disk, error) ||
		!wdr_system_read(world, o->disk, &o->system, error) ||
		!wdr_parttable_check(o->system->table, o->system->dev, error) ||
		!check_parts(o, error) || (is_running && !use_mounts(o, error)) ||
		!wdr_system_look(o->system, world, error) ||
		!wdr_itinerary_disk_describe(o->disk, o->system->dev, &o->seen, error))
		return false;
	*ret = g_steal_pointer(&o);
	return true;
}

static bool is_running_from(const WdrWorld *world, const char *disk)
{
	g_autoptr(WdrDisk) d = NULL;

	if (!wdr_world_is_running(world) || !wdr_disk_find(world, disk, &d, NULL) || d->is_image)
		return false;
	return wdr_disk_has_root(world, d);
}

bool wdr_disk_session_find(
	const WdrWorld *world, const char *disk, WdrDiskSession **ret, GError **error)
{
	return wdr_disk_session_open(world, disk, is_running_from(world, disk), ret, error);
}

/* ---- records ---- */

char *wdr_disk_records(const WdrWorld *world, const WdrDisk *disk)
{
	if (!disk->is_image)
		return wdr_world_path(world, WDR_STATE_FOLDER);
	g_autofree char *full = g_canonicalize_filename(disk->path, NULL);
	return g_strconcat(full, ".wanderitas", NULL);
}

char *wdr_disk_state(const WdrWorld *world, const WdrDisk *disk, const char *what, int64_t at)
{
	g_autofree char *base = wdr_disk_records(world, disk);

	return g_strdup_printf("%s/%s-%s-%" G_GINT64_FORMAT, base, what,
		disk->is_image ? "image" : disk->name, at);
}

char *wdr_disk_session_state(const WdrDiskSession *o, const char *what, int64_t at)
{
	return wdr_disk_state(o->world, o->disk, what, at);
}

static bool check_disk(const WdrDiskSession *o, GError **error)
{
	g_autoptr(WdrBlockDev) dev = NULL;
	g_auto(WdrItineraryDisk) now = { 0 };

	return wdr_blockdev_open(o->disk->path, WDR_OPEN_READ, &dev, error) &&
	       wdr_itinerary_disk_describe(o->disk, dev, &now, error) &&
	       wdr_itinerary_check_disk(&o->seen, &now, "disk", error);
}

bool wdr_disk_session_check(const WdrDiskSession *o, GError **error)
{
	return (o->is_running || wdr_change_check_rest(o->world, o->disk, error)) &&
	       check_disk(o, error);
}

bool wdr_disk_session_begin(const WdrDiskSession *o, const char *state, const char *plan_file,
	WdrLogbook **ret, GError **error)
{
	g_autofree char *path = g_build_filename(state, "logbook.jsonl", NULL);

	return wdr_disk_session_check(o, error) && wdr_make_private_folder(state, error) &&
	       wdr_logbook_begin(o->world, path, plan_file, ret, error);
}

/* ---- contents ---- */

bool wdr_file_plans_apply(const GPtrArray *plans, WdrChanging *c, GError **error)
{
	for (guint i = 0; i < plans->len; i++) {
		const WdrFilePlan *p = plans->pdata[i];
		WdrNewContent n = { p->number, p->file, p->is_new ? NULL : &p->before, p->content,
			p->mode };
		if (!wdr_change_content(c, &n, error))
			return false;
	}
	return true;
}

static bool write_all(WdrDiskSession *o, WdrLogbook *logbook, const char *state,
	const GPtrArray *plans, GError **error)
{
	g_autoptr(WdrBlockDev) dev = NULL;
	WdrChanging c = { .world = o->world,
		.logbook = logbook,
		.state = state,
		.disk = o->disk,
		.system = o->system,
		.next = 1 };

	if (!o->is_running && !wdr_blockdev_open(o->disk->path, WDR_OPEN_WRITE, &dev, error))
		return false;
	c.dev = dev;
	return wdr_file_plans_apply(plans, &c, error) && wdr_logbook_done(logbook, error);
}

bool wdr_disk_session_write(WdrDiskSession *o, const char *state, const GPtrArray *plans,
	bool *ret_has_begun, GError **error)
{
	g_autoptr(WdrLogbook) logbook = NULL;
	GError *failure = NULL;

	*ret_has_begun = false;
	if (!wdr_disk_session_begin(o, state, NULL, &logbook, error))
		return false;
	*ret_has_begun = true;
	if (write_all(o, logbook, state, plans, &failure))
		return true;
	wdr_logbook_stopped(logbook, failure->message);
	g_propagate_error(error, failure);
	return false;
}
