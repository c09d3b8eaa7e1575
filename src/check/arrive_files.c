/* Whether the packing lists still hold: a sample of the files, or all of them.
 *
 * A file that has the size and time of its copy, but another content, is damaged. What has another
 * time was changed by the system since, which is no fault. */
#include "base/stop.h"
#include "base/text.h"

#include "boot/formats/fstab.h"
#include "check/arrive_priv.h"
#include "copy/packing_list.h"

#include <string.h>
#include <unistd.h>

enum { SAMPLE_FILES = 400, TOLD_MAX = 5, FEW_FILES = 20, GONE_PERCENT = 5 };
/* Longer ones are no part of a sample. */
#define SAMPLE_FILE_BYTES (UINT64_C(64) * 1024 * 1024)

typedef struct {
	WdrArriving *a;
	WdrVolume *volume;
	WdrHasher *hasher;
	uint64_t same, changed, gone, wrong;
	bool has_left_out; /* files that are no part of the sample */
} Comparing;

static void tell(Comparing *c, const char *path, const char *what)
{
	if (++c->wrong <= TOLD_MAX)
		wdr_checks_say(c->a->checks, WDR_ARRIVED_FILES, WDR_STATE_STOP,
			"copy it again from the old disk, and check the health of the new disk",
			"/%s: %s", path, what);
}

static bool hash_of(
	Comparing *c, const WdrNode *node, WdrEntry *entry, WdrHash *ret, GError **error)
{
	g_autoptr(WdrContent) content = NULL;

	return wdr_volume_open(c->volume, node, entry, &content, error) &&
	       wdr_content_hash(content, entry->size, c->hasher, ret, error);
}

/* What has another time or size was changed by the system since, and is the system's affair. */
static void compare(Comparing *c, const WdrListEntry *p)
{
	g_auto(WdrEntry) entry = { 0 };
	g_autoptr(GError) error = NULL;
	WdrNode node = { 0, p->path };
	WdrHash now;
	bool is_found = false;

	if (!wdr_volume_lookup(c->volume, p->path, &is_found, &node.id, &entry, &error)) {
		tell(c, p->path, error->message);
		return;
	}
	if (!is_found) {
		c->gone++;
		return;
	}
	if (entry.kind != WDR_KIND_FILE || entry.size != p->size ||
		entry.mtime.sec != p->mtime.sec || entry.mtime.nsec != p->mtime.nsec) {
		c->changed++;
		return;
	}
	if (!hash_of(c, &node, &entry, &now, &error))
		tell(c, p->path, error->message);
	else if (!wdr_hash_equal(now, p->content))
		tell(c, p->path,
			"it has other bytes than were copied, with the same size and time");
	else
		c->same++;
}

/* What a swap file holds is the kernel's affair. */
static bool is_swap(const WdrArriving *a, const char *path)
{
	g_autofree char *full = g_strconcat("/", path, NULL);
	bool is_one = g_strv_contains((const char *const *)a->swaps, full);

	for (guint i = 0; !is_one && i < a->fstab->len; i++) {
		const WdrFstabLine *l = a->fstab->pdata[i];
		is_one = strcmp(l->type, "swap") == 0 && strcmp(l->device, full) == 0;
	}
	return is_one;
}

static bool is_file(const WdrListEntry *p)
{
	return !p->is_link && p->kind == WDR_KIND_FILE && p->has_content;
}

static bool walk_list(Comparing *c, const char *path, uint64_t entries, GError **error)
{
	g_autoptr(WdrPacking) list = NULL;
	const WdrListEntry *p = NULL;
	uint64_t step = c->a->all ? 1 : MAX(1, entries / SAMPLE_FILES);

	if (!wdr_packing_open(path, &list, error))
		return false;
	for (uint64_t at = 0;; at++) {
		if (!wdr_stop_check(error) || !wdr_packing_next(list, &p, error))
			return false;
		if (!p)
			return true;
		bool is_wanted = c->a->all || (at % step == 0 && p->size <= SAMPLE_FILE_BYTES);
		/* The first that is left out tells all that is to be known. */
		if (!is_file(p) || (!is_wanted && c->has_left_out) || is_swap(c->a, p->path))
			continue;
		if (is_wanted)
			compare(c, p);
		else
			c->has_left_out = true;
	}
}

static void check_part(Comparing *c, const WdrItineraryPart *p)
{
	g_autofree char *path = wdr_packing_file(c->a->records, p->number);
	const WdrSystemPart *now = wdr_arriving_part(c->a, p);
	WdrPartMethod method = wdr_itinerary_method(p);
	g_autoptr(GError) error = NULL;

	if (!now || !now->volume || (method != WDR_METHOD_EXT && method != WDR_METHOD_FAT))
		return;
	c->volume = now->volume;
	if (access(path, F_OK) != 0)
		wdr_checks_say(c->a->checks, WDR_ARRIVED_FILES, WDR_STATE_WARNING, NULL,
			"the packing list of partition %u is not there any more", p->number);
	/* It was read back when it was written. */
	else if (!walk_list(c, path, p->entries, &error))
		wdr_checks_say(c->a->checks, WDR_ARRIVED_FILES, WDR_STATE_STOP,
			"check the health of the new disk", "a packing list is damaged: %s",
			error->message);
}

/* A system takes a few of its files away while it runs; many are no system's work. */
static void tell_counts(const Comparing *c)
{
	uint64_t all = c->same + c->changed + c->gone;
	g_autofree char *same = wdr_format_count(c->same);
	g_autofree char *changed = wdr_format_count(c->changed);
	g_autofree char *gone = wdr_format_count(c->gone);
	bool are_many = c->gone > FEW_FILES && c->gone > all / 100 * GONE_PERCENT;

	wdr_checks_say(c->a->checks, WDR_ARRIVED_FILES, are_many ? WDR_STATE_WARNING : WDR_STATE_OK,
		are_many ? "were they removed on purpose? The old disk has them still" : NULL,
		"%s files are as they were copied, %s changed since, %s gone%s", same, changed,
		gone, !c->has_left_out ? "" : " (a sample; --all compares every file)");
}

void wdr_arrive_files(WdrArriving *a)
{
	g_autoptr(WdrHasher) hasher = wdr_hasher_new();
	Comparing c = { .a = a, .hasher = hasher };

	wdr_world_step(a->world, a->all ? "comparing every file with the packing lists"
					: "comparing a sample of the files with the packing lists");
	for (guint i = 0; i < a->it->parts->len; i++)
		check_part(&c, a->it->parts->pdata[i]);
	if (c.wrong > TOLD_MAX)
		wdr_checks_say(a->checks, WDR_ARRIVED_FILES, WDR_STATE_STOP, NULL,
			"and %" G_GUINT64_FORMAT " more", c.wrong - TOLD_MAX);
	if (c.wrong == 0)
		tell_counts(&c);
}
