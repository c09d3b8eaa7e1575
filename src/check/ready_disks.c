/* The target is safe to erase, the contents fit, and how fast the links are. */
#include "base/command.h"
#include "base/text.h"

#include "check/ready_priv.h"
#include "disk/health/discards.h"
#include "disk/link.h"
#include "plan/target_partition.h"

#include <string.h>

enum {
	SPARE_PERCENT = 5, /* less of root is too little to live with */
	UNUSED_PERCENT = 5,
	SUPERSPEED_MBIT = 5000,
	/* What is left of a link's rate for data, in percent. */
	USB_2_SHARE = 66,
	USB_3_SHARE = 64,
	PCIE_SHARE = 80,
};

/* Fit to be shown. */
static char *describe(const WdrItineraryDisk *d)
{
	g_autofree char *size = wdr_format_size(d->size);
	g_autofree char *text = g_strdup_printf("%s (%s, %s%s%s)", d->name, d->medium, size,
		d->model ? ", " : "", d->model ? d->model : "");

	return wdr_escape(text);
}

static void say_empty(WdrReady *r, const char *what)
{
	g_autofree char *evidence =
		g_strdup_printf("%s is not mounted, not in use, and has nothing on it", what);

	wdr_checks_add(r->checks, WDR_CHECK_TARGET, WDR_STATE_OK, NULL, evidence);
}

static void check_target(WdrReady *r)
{
	const WdrItinerary *it = r->around.it;
	g_autofree char *what = describe(&it->target);
	g_autofree char *erased = wdr_itinerary_erased(it);
	g_autofree char *hint = g_strdup_printf(
		"make sure that nothing on it is needed; a move asks for the name %s", erased);
	guint found = 0;

	for (guint i = 0; i < it->target_contents->len; i++) {
		const WdrTargetContent *o = it->target_contents->pdata[i];
		g_autofree char *text = wdr_target_content_text(o);
		if (!o->fs && o->is_blank)
			continue;
		g_autofree char *evidence =
			g_strdup_printf("what is on %s will be erased: %s", what, text);
		wdr_checks_add(r->checks, WDR_CHECK_TARGET, WDR_STATE_WARNING, hint, evidence);
		found++;
	}
	if (found == 0)
		say_empty(r, what);
}

static void check_room(WdrReady *r)
{
	for (guint i = 0; i < r->around.it->parts->len; i++) {
		const WdrItineraryPart *p = r->around.it->parts->pdata[i];
		WdrPartMethod method = wdr_itinerary_method(p);
		if (method != WDR_METHOD_EXT && method != WDR_METHOD_FAT)
			continue;
		g_autofree char *bytes = wdr_format_size(p->bytes);
		g_autofree char *spare = wdr_format_size(p->spare);
		bool is_tight =
			p->role == WDR_ROLE_ROOT && p->spare < p->to.size / 100 * SPARE_PERCENT;
		wdr_checks_say(r->checks, WDR_CHECK_ROOM,
			is_tight ? WDR_STATE_WARNING : WDR_STATE_OK,
			is_tight ? "a larger target, or make room on the source" : NULL,
			"partition %u (%s): %s to copy, %s stay free", p->number,
			*wdr_role_name(p->role) ? wdr_role_name(p->role) : p->fs, bytes, spare);
	}
}

/* MB/s that a link lets through; 0: it is not understood. */
static double rate_of(const char *link, bool *ret_is_slow)
{
	*ret_is_slow = false;
	if (g_str_has_prefix(link, "USB ")) {
		double mbit = g_ascii_strtod(link + 4, NULL);
		*ret_is_slow = mbit < SUPERSPEED_MBIT;
		return mbit / 8 * (*ret_is_slow ? USB_2_SHARE : USB_3_SHARE) / 100;
	}
	return (double)wdr_link_rate(link) / 1e6 * PCIE_SHARE / 100;
}

static void check_link(WdrReady *r, const WdrItineraryDisk *d, const WdrDisk *now)
{
	bool is_slow = false;
	double rate = d->link ? rate_of(d->link, &is_slow) : 0;

	if (rate <= 0)
		return;
	g_autofree char *best = now ? wdr_disk_best_link(r->around.world, now) : NULL;
	bool could_more = best && strcmp(best, d->link) != 0;
	wdr_checks_say(r->checks, WDR_CHECK_LINK, is_slow ? WDR_STATE_WARNING : WDR_STATE_OK,
		is_slow ? "use a USB 3 port and cable" : NULL,
		"%s: %s, about %.0f MB/s at most%s%s%s", d->name, d->link, rate,
		could_more ? "; the drive could do " : "", could_more ? best : "",
		is_slow ? "; a drive does not get faster there than a good card" : "");
}

/* Of a hundred, how much of the target no partition takes. */
static unsigned unused_percent(const WdrItinerary *it)
{
	uint64_t end = 0;

	for (guint i = 0; i < it->parts->len; i++) {
		const WdrItineraryPart *p = it->parts->pdata[i];
		end = MAX(end, p->to.start + p->to.size);
	}
	return end < it->target.size ? (unsigned)((it->target.size - end) * 100 / it->target.size)
				     : 0;
}

/* A drive that is never told what is unused has what is never written. */
static void check_discards(WdrReady *r)
{
	const WdrDisk *target = r->around.target;

	if (!target || wdr_disk_discards(r->around.world, target) != WDR_DISCARDS_DO_NOT)
		return;
	unsigned unused = unused_percent(r->around.it);
	g_autofree char *more = wdr_command_again("--leave-free", "10%");
	if (unused >= UNUSED_PERCENT || r->around.it->into)
		wdr_checks_say(r->checks, WDR_CHECK_DISCARDS, WDR_STATE_OK, NULL,
			"discards do not reach %s; %u %% of it stays unused", target->name, unused);
	else
		wdr_checks_say(r->checks, WDR_CHECK_DISCARDS, WDR_STATE_WARNING, more,
			"discards do not reach %s: it wears more evenly if some of it is never written",
			target->name);
}

void wdr_ready_disks(WdrReady *r)
{
	check_target(r);
	check_room(r);
	check_link(r, &r->around.it->source, r->around.source);
	check_link(r, &r->around.it->target, r->around.target);
	check_discards(r);
}
