/* Plans and writes the edits that make one disk name its own identifiers. */
#include "change/readdress.h"

#include "base/record.h"
#include "change/change.h"
#include "change/disk_session.h"
#include "change/renew_identifiers.h"
#include "disk/backing.h"
#include "plan/draft_edits.h"
#include "plan/new_identifiers.h"
#include "plan/second_machine.h"

#include <string.h>

struct WdrReaddress {
	const WdrWorld *world;
	WdrReaddressOptions options;
	WdrDiskSession *site;
	WdrSystem *system; /* the site's */
	WdrDisk *disk;
	WdrItinerary *it;
	GPtrArray *files; /* WdrFilePlan */
	unsigned left;
};

void wdr_readdress_free(WdrReaddress *r)
{
	if (!r)
		return;
	wdr_disk_session_free(r->site);
	wdr_itinerary_free(r->it);
	g_ptr_array_unref(r->files);
	g_free(r);
}

const WdrItinerary *wdr_readdress_itinerary(const WdrReaddress *r)
{
	return r->it;
}

const GPtrArray *wdr_readdress_files(const WdrReaddress *r)
{
	return r->files;
}

unsigned wdr_readdress_left(const WdrReaddress *r)
{
	return r->left;
}

/* ---- the plan ---- */

static void add_part(WdrReaddress *r, const WdrSystemPart *from)
{
	WdrItineraryPart *p = wdr_itinerary_part_like(from);

	p->to.start = p->from.start;
	p->to.size = p->from.size;
	p->to.uuid = g_strdup(p->from.uuid);
	p->to.label = g_strdup(p->from.label);
	p->to.partuuid = g_strdup(p->from.partuuid);
	p->to.partlabel = g_strdup(p->from.partlabel);
	g_ptr_array_add(r->it->parts, p);
}

static bool choose_identifiers(WdrReaddress *r, const WdrDraftOptions *options, GError **error)
{
	WdrItinerary *it = r->it;

	if (!r->options.renews) {
		it->table_id = g_strdup(it->source.table_id);
		return true;
	}
	return wdr_identifiers_choose(it, it->source.table_id, options, error);
}

/* What is still wrong when all edits are made, and that a boot would stumble over. Other mentions
 * may well name a disk that is not plugged in. */
static void count_left(WdrReaddress *r)
{
	r->left += r->system->unread->len;
	for (guint i = 0; i < r->system->mentions->len; i++) {
		const WdrMention *m = r->system->mentions->pdata[i];
		unsigned count = 0;
		(void)wdr_system_resolve(r->system, &m->identifier, &count);
		/* A root that moved alone has its boot elsewhere. */
		bool is_elsewhere = m->use == WDR_USE_BOOT && !r->system->boot;
		if (count == 1 || m->frozen || m->use == WDR_USE_OTHER || is_elsewhere)
			continue;
		bool is_edited = false;
		for (guint k = 0; k < r->it->edits->len; k++)
			is_edited |= wdr_edit_covers(r->it->edits->pdata[k], m);
		r->left += is_edited ? 0 : 1;
	}
}

static bool has_volume(const WdrReaddress *r, const char *uuid)
{
	for (guint i = 0; i < r->system->parts->len; i++) {
		const WdrSystemPart *p = r->system->parts->pdata[i];
		if (g_strcmp0(p->probe.uuid, uuid) == 0)
			return true;
	}
	return false;
}

/* The other disk calls itself, or one of its volumes, the same as this one. */
static bool is_clashing(const WdrReaddress *r, const WdrDisk *other)
{
	g_autoptr(WdrBlockDev) dev = NULL;
	g_autoptr(WdrPartTable) table = NULL;

	if (wdr_disk_is_same(r->world, other, r->disk) ||
		!wdr_blockdev_open(other->path, WDR_OPEN_READ, &dev, NULL) ||
		!wdr_parttable_read(dev, &table, NULL) || table->kind == WDR_TABLE_NONE)
		return false;
	bool is_same = g_strcmp0(table->id, r->it->source.table_id) == 0;
	for (guint i = 0; !is_same && i < table->partitions->len; i++) {
		const WdrPartition *p = table->partitions->pdata[i];
		g_auto(WdrProbe) probe = { 0 };
		is_same = wdr_probe_read(dev, p->start, p->size, &probe, NULL) && probe.uuid &&
			  has_volume(r, probe.uuid);
	}
	return is_same;
}

/* While both are in, nobody can know which of them it is. */
static void note_clashes(WdrReaddress *r)
{
	g_autoptr(GPtrArray) disks = NULL;

	if (!wdr_disks_list(r->world, &disks, NULL))
		return;
	for (guint i = 0; i < disks->len; i++) {
		const WdrDisk *d = disks->pdata[i];
		if (is_clashing(r, d))
			g_ptr_array_add(r->it->notes,
				g_strdup_printf("%s has the same identifiers as %s%s", d->name,
					r->disk->name,
					r->options.renews
						? " until this is written"
						: ": while both are plugged in, references name both; "
						  "--renew gives this disk its own"));
	}
}

static bool draw(WdrReaddress *r, GError **error)
{
	WdrItinerary *it = r->it;
	WdrDraftOptions options = { .what = WDR_MOVE_NOTHING,
		.has_name_by = r->options.has_name_by,
		.name_by = r->options.name_by,
		.keep_identifiers = !r->options.renews };

	it->what = WDR_MOVE_NOTHING;
	it->made_by = g_strdup(WDR_VERSION);
	it->made_at = wdr_world_now(r->world);
	if (!wdr_itinerary_disk_describe(r->disk, r->system->dev, &it->source, error) ||
		!wdr_itinerary_disk_describe(r->disk, r->system->dev, &it->target, error))
		return false;
	it->table = it->source.table;
	for (guint i = 0; i < r->system->parts->len; i++) {
		const WdrSystemPart *p = r->system->parts->pdata[i];
		if (!p->partition->is_extended)
			add_part(r, p);
	}
	if (!choose_identifiers(r, &options, error) ||
		!wdr_edits_make(it, r->system, &options, error))
		return false;
	if (r->options.second_name && !wdr_second_machine_plan(r->system, r->options.second_name,
					      r->files, it->notes, error))
		return false;
	count_left(r);
	note_clashes(r);
	return true;
}

bool wdr_readdress_plan(const WdrWorld *world, const char *disk, const WdrReaddressOptions *options,
	WdrReaddress **ret, GError **error)
{
	g_autoptr(WdrReaddress) r = g_new0(WdrReaddress, 1);

	r->world = world;
	r->options = *options;
	r->it = wdr_itinerary_new();
	r->files = wdr_file_plans_new();
	if (options->is_running && options->renews) {
		wdr_error_set(error, WDR_ERROR_USAGE,
			"--running --renew: a mounted file system cannot get a new UUID");
		wdr_error_hint(error, "boot from another disk, and renew this one from there");
		return false;
	}
	if (!wdr_disk_session_open(world, disk, options->is_running, &r->site, error))
		return false;
	r->system = r->site->system;
	r->disk = r->site->disk;
	if ((!options->is_running && !wdr_change_check_rest(world, r->disk, error)) ||
		!draw(r, error))
		return false;
	*ret = g_steal_pointer(&r);
	return true;
}

/* ---- doing it ---- */

char *wdr_readdress_default_state(const WdrReaddress *r)
{
	return wdr_disk_session_state(r->site, "readdress", r->it->made_at);
}

static bool set_identifiers(WdrReaddress *r, WdrChanging *c, GError **error)
{
	g_autoptr(WdrIdentifiers) was = wdr_identifiers_of(r->it, false);
	g_autoptr(WdrIdentifiers) is = wdr_identifiers_of(r->it, true);
	g_autoptr(WdrChange) change = NULL;

	if (!r->options.renews)
		return true;
	change = wdr_change_of_disk(c, is->table_id);
	change->identifiers = wdr_identifiers_to_json(was);
	return wdr_logbook_change(c->logbook, change, error) &&
	       wdr_identifiers_set(r->world, r->disk, is, error) &&
	       wdr_logbook_changed(c->logbook, change->number, error);
}

static bool change_all(WdrReaddress *r, const char *state, WdrLogbook *logbook, GError **error)
{
	WdrChanging c = { .world = r->world,
		.logbook = logbook,
		.state = state,
		.disk = r->disk,
		.system = r->system,
		.next = 1 };
	g_autoptr(WdrBlockDev) dev = NULL;

	if (!set_identifiers(r, &c, error) ||
		(!r->options.is_running &&
			!wdr_blockdev_open(r->disk->path, WDR_OPEN_WRITE, &dev, error)))
		return false;
	g_free(r->system->table->id);
	r->system->table->id = g_strdup(r->it->table_id);
	c.dev = dev;
	for (guint i = 0; i < r->it->edits->len; i++) {
		if (!wdr_change_file(&c, r->it->edits->pdata[i], false, error))
			return false;
	}
	return wdr_file_plans_apply(r->files, &c, error) && wdr_logbook_done(logbook, error);
}

bool wdr_readdress_write(WdrReaddress *r, const char *state, bool *ret_has_begun, GError **error)
{
	g_autofree char *itinerary = g_build_filename(state, "itinerary.json", NULL);
	g_autofree char *json = wdr_itinerary_to_json(r->it);
	g_autoptr(WdrLogbook) logbook = NULL;
	GError *failure = NULL;

	*ret_has_begun = false;
	if (!wdr_disk_session_check(r->site, error) || !wdr_make_private_folder(state, error) ||
		!wdr_record_write(itinerary, json, strlen(json), error) ||
		!wdr_disk_session_begin(r->site, state, "itinerary.json", &logbook, error))
		return false;
	*ret_has_begun = true;
	if (change_all(r, state, logbook, &failure))
		return true;
	wdr_logbook_stopped(logbook, failure->message);
	g_propagate_error(error, failure);
	return false;
}
