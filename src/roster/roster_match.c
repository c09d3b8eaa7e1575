/* Which disk goes into which slot. A rule that fits two disks, or two rules that fit one, are a
 * mistake that erases the wrong disk: nothing is guessed. */
#include "roster/roster.h"

#include "base/json.h"
#include "base/text.h"
#include "disk/backing.h"

#include <fnmatch.h>
#include <string.h>

static bool fits_pattern(const char *pattern, const char *text)
{
	return !pattern || (text && fnmatch(pattern, text, 0) == 0);
}

static bool fits(const WdrWorld *world, const WdrRosterSlot *slot, const WdrDisk *disk)
{
	g_autofree char *port = slot->port ? wdr_disk_port(world, disk) : NULL;

	return fits_pattern(slot->port, port) && fits_pattern(slot->serial, disk->serial) &&
	       fits_pattern(slot->model, disk->model) && fits_pattern(slot->medium, disk->medium) &&
	       (slot->at_least == 0 || disk->size >= slot->at_least) &&
	       (slot->at_most == 0 || disk->size <= slot->at_most);
}

static bool refuse(const WdrRoster *r, const WdrRosterSlot *slot, GError **error,
	const char *format, ...) G_GNUC_PRINTF(4, 5);
static bool refuse(
	const WdrRoster *r, const WdrRosterSlot *slot, GError **error, const char *format, ...)
{
	va_list args;

	va_start(args, format);
	g_autofree char *what = g_strdup_vprintf(format, args);
	va_end(args);
	return wdr_error_set(error, WDR_ERROR_REFUSED, "%s:%u: slot '%s' %s", r->path, slot->line,
		slot->name, what);
}

/* An image lies beside the roster, unless its path says where. */
static bool match_image(
	const WdrWorld *world, const WdrRoster *r, WdrRosterSlot *slot, GError **error)
{
	g_autofree char *folder = g_path_get_dirname(r->path);
	g_autofree char *path = g_path_is_absolute(slot->image) || strcmp(folder, ".") == 0
					? g_strdup(slot->image)
					: g_build_filename(folder, slot->image, NULL);

	if (wdr_disk_find(world, path, &slot->disk, error))
		return true;
	g_prefix_error(error, "%s:%u: slot '%s': ", r->path, slot->line, slot->name);
	return false;
}

static bool match_disk(const WdrWorld *world, const WdrRoster *r, WdrRosterSlot *slot,
	const GPtrArray *disks, GError **error)
{
	g_autoptr(GString) names = g_string_new(NULL);
	const WdrDisk *found = NULL;
	unsigned n = 0;

	for (guint i = 0; i < disks->len; i++) {
		const WdrDisk *d = disks->pdata[i];
		if (!fits(world, slot, d))
			continue;
		g_string_append_printf(names, "%s%s", n++ ? ", " : "", d->name);
		found = d;
	}
	if (n == 0)
		return refuse(r, slot, error, "fits no disk that is plugged in");
	if (n > 1)
		return refuse(r, slot, error, "fits %u disks (%s); it must fit one", n, names->str);
	return wdr_disk_find(world, found->name, &slot->disk, error);
}

/* By the bytes behind the name: two names may be one disk. */
static bool check_alone(const WdrWorld *world, const WdrRoster *r, const WdrRosterSlot *slot,
	const WdrDisk *source, GError **error)
{
	if (wdr_disk_is_same(world, slot->disk, source))
		return refuse(r, slot, error, "fits the source, %s", wdr_disk_word(source));
	for (guint i = 0; r->slots->pdata[i] != slot; i++) {
		const WdrRosterSlot *other = r->slots->pdata[i];
		if (wdr_disk_is_same(world, other->disk, slot->disk))
			return refuse(r, slot, error, "fits %s, which slot '%s' (line %u) has",
				wdr_disk_word(slot->disk), other->name, other->line);
	}
	return true;
}

bool wdr_roster_match(const WdrWorld *world, WdrRoster *r, const WdrDisk *source, GError **error)
{
	g_autoptr(GPtrArray) disks = NULL;

	if (!wdr_disks_list(world, &disks, error))
		return false;
	for (guint i = 0; i < r->slots->len; i++) {
		WdrRosterSlot *slot = r->slots->pdata[i];
		g_clear_pointer(&slot->disk, wdr_disk_free);
		if (!(slot->image ? match_image(world, r, slot, error)
				  : match_disk(world, r, slot, disks, error)) ||
			!check_alone(world, r, slot, source, error))
			return false;
	}
	return true;
}

char *wdr_roster_draw(const WdrWorld *world, const char *from, const GPtrArray *disks)
{
	g_autoptr(json_t) slots = json_array();

	for (guint i = 0; i < disks->len; i++) {
		const WdrDisk *d = disks->pdata[i];
		g_autofree char *port = wdr_disk_port(world, d);
		g_autofree char *name = g_strdup_printf("slot-%u", i + 1);
		json_t *slot = json_object();
		json_object_set_new(slot, "name", json_string(name));
		if (port)
			json_object_set_new(slot, "port", json_string(port));
		else if (d->serial)
			json_object_set_new(slot, "serial", wdr_json_text(d->serial));
		else
			json_object_set_new(slot, "model", wdr_json_text(d->model));
		json_array_append_new(slots, slot);
	}
	g_autoptr(json_t) document = json_pack(
		"{s:s, s:s*, s:O}", "format", "wanderitas-roster/1", "from", from, "slots", slots);
	g_autofree char *text = json_dumps(document, JSON_INDENT(2));
	return g_strconcat(text, "\n", NULL);
}
