/* What is on the source: duplicate identifiers, mentions that stay as they are, files that
 * cannot be copied, programs that write, first-start steps still to come. */
#include "volume/lookup.h"

#include "base/command.h"
#include "base/text.h"
#include "boot/rehearse/boot_entry.h"
#include "check/ready_priv.h"
#include "plan/database_writers.h"
#include "plan/running_source.h"

#include <string.h>

enum { TOLD_MAX = 5 };

/* ---- identifiers ---- */

/* Where an identifier was seen: char * -> its first place (char *). */
typedef struct {
	WdrReady *r;
	GHashTable *places;
	unsigned clashes;
} Identifiers;

/* Where an identifier was seen, and what gives that disk other ones. */
typedef struct {
	const char *text, *hint;
} Place;

static void see_identifier(Identifiers *a, const char *tag, const char *value, const Place *place)
{
	if (!value || !*value)
		return;
	g_autofree char *identifier = g_strdup_printf("%s=%s", tag, value);
	const char *first = g_hash_table_lookup(a->places, identifier);
	if (!first) {
		g_hash_table_insert(a->places, g_steal_pointer(&identifier), g_strdup(place->text));
		return;
	}
	a->clashes++;
	wdr_checks_say(a->r->checks, WDR_CHECK_IDENTIFIERS, WDR_STATE_WARNING, place->hint,
		"duplicate %s: %s and %s", identifier, first, place->text);
}

static void see_system(Identifiers *a, const WdrSystem *s, const char *name)
{
	g_autofree char *renew =
		s->home ? wdr_command("readdress", s->home, "--renew", "--write") : NULL;

	for (guint i = 0; i < s->parts->len; i++) {
		const WdrSystemPart *p = s->parts->pdata[i];
		g_autofree char *text =
			g_strdup_printf("partition %u of %s", p->partition->number, name);
		const Place place = { text, renew ? renew : "unplug one of the two disks" };
		see_identifier(a, "UUID", p->probe.uuid, &place);
		see_identifier(a, "PARTUUID", p->partition->partuuid, &place);
	}
}

static void check_identifiers(WdrReady *r)
{
	const WdrItinerary *it = r->around.it;
	g_autoptr(GHashTable) places =
		g_hash_table_new_full(g_str_hash, g_str_equal, g_free, g_free);
	Identifiers a = { r, places, 0 };

	if (r->around.system)
		see_system(&a, r->around.system, it->source.name);
	for (guint i = 0; r->around.others && i < r->around.others->len; i++) {
		const WdrSystem *s = r->around.others->pdata[i];
		see_system(&a, s, s->home ? s->home : "another disk");
	}
	for (guint i = 0; i < it->parts->len; i++) {
		const WdrItineraryPart *p = it->parts->pdata[i];
		g_autofree char *text = g_strdup_printf("the new partition %u", p->number);
		const Place place = { text, "unplug the source before the first boot" };
		see_identifier(&a, "UUID", p->to.uuid, &place);
		see_identifier(&a, "PARTUUID", p->to.partuuid, &place);
	}
	if (a.clashes == 0)
		wdr_checks_say(r->checks, WDR_CHECK_IDENTIFIERS, WDR_STATE_OK, NULL,
			"no duplicate UUIDs or PARTUUIDs");
}

/* ---- mentions ---- */

/* It will be true on the target too: a label that is kept, for one. */
static bool stays_true(const WdrReady *r, const WdrMention *m, const WdrSystemPart *part)
{
	const WdrItineraryPart *p = wdr_itinerary_part(r->around.it, part->partition->number);

	if (!p)
		return true;
	WdrIdentity id = wdr_itinerary_identity(r->around.it, p);
	return wdr_identifier_matches(&m->identifier, &id);
}

/* It names the source, no edit covers it, and it is more than a line that was taken out. */
static bool stays(const WdrReady *r, const WdrMention *m)
{
	unsigned count = 0;

	if (!m->frozen || m->identifier.kind == WDR_BY_NUMBER ||
		strcmp(m->frozen, WDR_FROZEN_COMMENT) == 0)
		return false;
	for (guint i = 0; i < r->around.it->edits->len; i++) {
		if (wdr_edit_covers(r->around.it->edits->pdata[i], m))
			return false;
	}
	const WdrSystemPart *part = wdr_system_resolve(r->around.system, &m->identifier, &count);
	return part && !stays_true(r, m, part);
}

static void check_mentions(WdrReady *r)
{
	const GPtrArray *unread = r->around.system->unread;
	unsigned left = 0;

	for (guint i = 0; i < unread->len; i++)
		wdr_checks_say(r->checks, WDR_CHECK_MENTIONS, WDR_STATE_STOP,
			"make it smaller, or mend it",
			"/%s cannot be read (too large, damaged, or no text): it is unknown "
			"whether it names the old disk, and it would not be edited",
			(const char *)unread->pdata[i]);
	for (guint i = 0; i < r->around.system->mentions->len; i++) {
		const WdrMention *m = r->around.system->mentions->pdata[i];
		if (!stays(r, m) || ++left > TOLD_MAX)
			continue;
		wdr_checks_say(r->checks, WDR_CHECK_MENTIONS, WDR_STATE_WARNING,
			"edit it by hand after the move, if it is still needed",
			"/%s:%u still names the old disk and is not edited automatically: %s (%s)",
			m->file, m->line, m->text, m->frozen);
	}
	g_autofree char *all = wdr_command("survey", "--mentions");
	if (left > TOLD_MAX)
		wdr_checks_say(r->checks, WDR_CHECK_MENTIONS, WDR_STATE_WARNING, all, "and %u more",
			left - TOLD_MAX);
	if (left == 0 && unread->len == 0)
		wdr_checks_say(r->checks, WDR_CHECK_MENTIONS, WDR_STATE_OK, NULL,
			"every reference is updated; %u file%s will be edited",
			r->around.it->edits->len, r->around.it->edits->len == 1 ? "" : "s");
}

/* ---- swap, files ---- */

static void check_swap(WdrReady *r)
{
	for (guint i = 0; i < r->around.it->parts->len; i++) {
		const WdrItineraryPart *p = r->around.it->parts->pdata[i];
		if (p->role == WDR_ROLE_SWAP)
			wdr_checks_say(r->checks, WDR_CHECK_SWAP, WDR_STATE_OK, NULL,
				"partition %u is created anew, without its contents", p->number);
	}
	for (guint i = 0; r->around.system && i < r->around.system->mentions->len; i++) {
		const WdrMention *m = r->around.system->mentions->pdata[i];
		unsigned count = 0;
		if (m->use == WDR_USE_RESUME &&
			!wdr_system_resolve(r->around.system, &m->identifier, &count))
			wdr_checks_say(r->checks, WDR_CHECK_SWAP, WDR_STATE_WARNING,
				"take it out, or name a swap area that is there",
				"/%s:%u: %s matches no swap area of the source: the boot waits for it",
				m->file, m->line, m->text);
	}
}

static void check_files(WdrReady *r)
{
	uint64_t unread = 0;
	uint64_t entries = 0;

	for (guint i = 0; i < r->around.it->parts->len; i++) {
		const WdrItineraryPart *p = r->around.it->parts->pdata[i];
		unread += p->unread;
		entries += p->entries;
	}
	g_autofree char *all = wdr_format_count(entries);
	if (unread)
		wdr_checks_say(r->checks, WDR_CHECK_FILES, WDR_STATE_WARNING,
			"a move names them all, and ends only with --accept-damage",
			"%" G_GUINT64_FORMAT " folders or entries cannot be read", unread);
	else
		wdr_checks_say(r->checks, WDR_CHECK_FILES, WDR_STATE_OK, NULL,
			"all %s entries can be copied", all);
}

/* Of a service with instances, the one that is for all of them stops each. */
static bool is_paused(char *const *pause, const char *unit)
{
	for (size_t i = 0; pause && unit && pause[i]; i++) {
		size_t len = strcspn(pause[i], ".");
		if (strncmp(pause[i], unit, len) == 0 && (unit[len] == '.' || unit[len] == '@'))
			return true;
	}
	return false;
}

static void check_writer(WdrReady *r, const WdrWriter *w)
{
	g_autofree char *again = w->unit ? wdr_command_again("--pause", w->unit) : NULL;
	g_autofree char *hint =
		again ? g_strdup_printf("to have it stopped for the last pass: %s", again)
		      : g_strdup("stop it before the move, or before the last catchup");

	if (is_paused(r->around.it->pause, w->unit))
		wdr_checks_say(r->checks, WDR_CHECK_WRITERS, WDR_STATE_OK, NULL,
			"%s (%s) has files in %s open for writing, and is stopped for the last pass",
			w->name, w->unit, w->folder);
	else
		wdr_checks_say(r->checks, WDR_CHECK_WRITERS, WDR_STATE_WARNING, hint,
			"%s has %u file%s in %s open for writing: they are copied as after a power "
			"cut",
			w->name, w->files, w->files == 1 ? "" : "s", w->folder);
}

static void check_writers(WdrReady *r)
{
	if (!r->around.system || !wdr_running_is(r->around.system))
		return;
	g_autoptr(GPtrArray) writers = wdr_writers_find(r->around.world);
	for (guint i = 0; i < writers->len; i++)
		check_writer(r, writers->pdata[i]);
	if (writers->len == 0)
		wdr_checks_say(r->checks, WDR_CHECK_WRITERS, WDR_STATE_OK, NULL,
			"no database has files open for writing");
}

/* ---- first-start steps ---- */

/* Words of a kernel command line that are taken out again by what they start. */
static void check_arguments(WdrReady *r, unsigned *found)
{
	static const char *const usual[] = { "init=/sbin/init", "init=/usr/sbin/init",
		"init=/bin/init", "init=/lib/systemd/systemd", "init=/usr/lib/systemd/systemd",
		"init=/bin/systemd" };
	static const char *const once[] = { "init=", "systemd.run=", "systemd.unit=", "firstboot",
		"first-boot" };
	g_autoptr(WdrBootEntries) entries = wdr_boot_entries_find(r->around.system, NULL, NULL);
	const WdrBootEntry *entry = entries->list->len ? entries->list->pdata[0] : NULL;
	g_auto(GStrv) words =
		g_strsplit_set(entry && entry->arguments ? entry->arguments : "", " \t", -1);

	for (size_t i = 0; words[i]; i++) {
		bool is_once = false;
		for (size_t k = 0; k < G_N_ELEMENTS(once); k++)
			is_once |= g_str_has_prefix(words[i], once[k]);
		for (size_t k = 0; k < G_N_ELEMENTS(usual); k++)
			is_once &= strcmp(words[i], usual[k]) != 0;
		if (!is_once)
			continue;
		(*found)++;
		wdr_checks_say(r->checks, WDR_CHECK_FIRST_BOOT, WDR_STATE_WARNING,
			"boot the source once and let it finish, then move it",
			"%s: %s: a step of the first-boot setup is pending, and may change "
			"partitions and identifiers",
			entry->arguments_said, words[i]);
	}
}

typedef struct {
	WdrReady *r;
	const char *folder;
	unsigned *found;
} Wants;

static bool see_unit(void *data, const WdrName *name, GError **error)
{
	static const char *const words[] = { "resize", "firstboot", "first-boot", "firstrun",
		"first-run", "growroot", "growpart" };
	const Wants *w = data;

	(void)error;
	for (size_t i = 0; i < G_N_ELEMENTS(words); i++) {
		if (!strstr(name->name, words[i]))
			continue;
		(*w->found)++;
		wdr_checks_say(w->r->checks, WDR_CHECK_FIRST_BOOT, WDR_STATE_WARNING,
			"boot the source once and let it finish, then move it",
			"/%s/%s is enabled: a service that changes partitions at the next boot",
			w->folder, name->name);
		break;
	}
	return true;
}

static void check_units(WdrReady *r, unsigned *found)
{
	static const char *const folders[] = { "etc/systemd/system/multi-user.target.wants",
		"etc/systemd/system/sysinit.target.wants", "etc/systemd/system/basic.target.wants",
		"etc/systemd/system/local-fs.target.wants", "etc/rcS.d" };

	for (size_t i = 0; i < G_N_ELEMENTS(folders); i++) {
		g_auto(WdrEntry) entry = { 0 };
		g_autofree char *path = NULL;
		WdrNode node = { 0, NULL };
		if (!wdr_follow(
			    r->around.system->root->volume, folders[i], &path, &node.id, &entry) ||
			entry.kind != WDR_KIND_FOLDER)
			continue;
		node.path = path;
		Wants w = { r, folders[i], found };
		(void)!wdr_volume_list(r->around.system->root->volume, &node, see_unit, &w, NULL);
	}
}

/* An image that was never started has none, or an empty one. */
static void check_machine_id(WdrReady *r, unsigned *found)
{
	size_t len = 0;
	g_autofree char *id =
		wdr_follow_read(r->around.system->root->volume, "etc/machine-id", 4096, &len);

	if (!id || (*g_strstrip(id) && strcmp(id, "uninitialized") != 0))
		return;
	(*found)++;
	wdr_checks_say(r->checks, WDR_CHECK_FIRST_BOOT, WDR_STATE_WARNING, NULL,
		"/etc/machine-id is %s: this system was never booted; the next boot runs its first-boot setup",
		*id ? "\"uninitialized\"" : "empty");
}

static void check_first_start(WdrReady *r)
{
	unsigned found = 0;

	check_arguments(r, &found);
	if (r->around.system->root && r->around.system->root->volume) {
		check_units(r, &found);
		check_machine_id(r, &found);
	}
	if (found == 0)
		wdr_checks_say(r->checks, WDR_CHECK_FIRST_BOOT, WDR_STATE_OK, NULL,
			"no first-boot setup is pending");
}

void wdr_ready_system(WdrReady *r)
{
	check_swap(r);
	check_identifiers(r);
	if (r->around.system)
		check_mentions(r);
	check_files(r);
	check_writers(r);
	if (r->around.system)
		check_first_start(r);
}
