/* Compares the list of disks with the one before, a few times a second.
 *
 * A disk counts as plugged in once two lists in a row have it: the kernel shows a disk before it
 * knows all of it. A card reader without a card has no size, and is in no list. */
#include "cli/common/disk_wait.h"

#include "base/stop.h"
#include "base/text.h"

#include <string.h>

enum { EVERY_MS = 300 };

static bool is_same(const WdrDisk *a, const WdrDisk *b)
{
	return strcmp(a->name, b->name) == 0 && a->size == b->size &&
	       g_strcmp0(a->serial, b->serial) == 0 && g_strcmp0(a->model, b->model) == 0;
}

static const WdrDisk *find_like(const GPtrArray *disks, const WdrDisk *disk)
{
	for (guint i = 0; i < disks->len; i++) {
		if (is_same(disks->pdata[i], disk))
			return disks->pdata[i];
	}
	return NULL;
}

static void tell(const WdrOut *out, WdrStyle style, const char *what, const WdrDisk *d)
{
	const char *const facts[] = { d->medium, d->link, d->model, d->serial };
	g_autofree char *size = wdr_format_size(d->size);

	wdr_out_text(out, style, "%s%s  %s", what, d->name, size);
	for (size_t i = 0; i < G_N_ELEMENTS(facts); i++) {
		if (facts[i])
			wdr_out_text(out, style, "  %s", facts[i]);
	}
	fputc('\n', out->file);
	fflush(out->file);
}

/* *known becomes what is there now, but for what came this moment. NULL: nothing was plugged in. */
static WdrDisk *compare(const WdrOut *out, GPtrArray **known, GPtrArray **fresh, GPtrArray *now)
{
	WdrDisk *found = NULL;

	for (guint i = (*known)->len; i-- > 0;) {
		if (!find_like(now, (*known)->pdata[i])) {
			tell(out, WDR_STYLE_WARNING, "taken out   ", (*known)->pdata[i]);
			g_ptr_array_remove_index(*known, i);
		}
	}
	g_autoptr(GPtrArray) come = g_ptr_array_new_with_free_func((GDestroyNotify)wdr_disk_free);
	for (guint i = now->len; i-- > 0 && !found;) {
		const WdrDisk *d = now->pdata[i];
		if (find_like(*known, d))
			continue;
		bool is_settled = find_like(*fresh, d) != NULL;
		WdrDisk *own = g_ptr_array_steal_index(now, i);
		if (is_settled)
			found = own;
		else
			g_ptr_array_add(come, own);
	}
	g_ptr_array_unref(*fresh);
	*fresh = g_steal_pointer(&come);
	return found;
}

bool wdr_cli_wait_for_disk(const WdrWorld *world, const WdrOut *out, WdrDisk **ret, GError **error)
{
	g_autoptr(GPtrArray) known = NULL;
	g_autoptr(GPtrArray) fresh = g_ptr_array_new_with_free_func((GDestroyNotify)wdr_disk_free);

	*ret = NULL;
	if (!wdr_disks_list(world, &known, error))
		return false;
	for (guint i = 0; i < known->len; i++)
		tell(out, WDR_STYLE_PLAIN, "present     ", known->pdata[i]);
	wdr_out_text(
		out, WDR_STYLE_PLAIN, "waiting: plug a disk in, or take one out (Ctrl-C ends)\n");
	fflush(out->file);
	for (;;) {
		g_autoptr(GPtrArray) now = NULL;
		if (!wdr_stop_check(NULL))
			return wdr_error_set(error, WDR_ERROR_STOPPED, "no disk was plugged in");
		/* A disk that goes while the list is made can spoil it; the next one is whole. */
		if (wdr_disks_list(world, &now, NULL))
			*ret = compare(out, &known, &fresh, now);
		if (*ret)
			break;
		g_usleep(EVERY_MS * 1000);
	}
	tell(out, WDR_STYLE_GOOD, "plugged in  ", *ret);
	return true;
}
