/* Whether unused blocks of the new disk are discarded from time to time. */
#include "base/command.h"

#include "boot/formats/fstab.h"
#include "check/arrive_priv.h"
#include "disk/health/discards.h"

#include <string.h>

/* Where systemd keeps that the timer is on, for the whole system or by a package. */
static const char *const timers[] = {
	"etc/systemd/system/timers.target.wants/fstrim.timer",
	"usr/lib/systemd/system/timers.target.wants/fstrim.timer",
	"lib/systemd/system/timers.target.wants/fstrim.timer",
};

static bool has_timer(WdrVolume *root)
{
	for (size_t i = 0; i < G_N_ELEMENTS(timers); i++) {
		g_auto(WdrEntry) entry = { 0 };
		bool is_there = false;
		if (wdr_volume_lookup(root, timers[i], &is_there, NULL, &entry, NULL) && is_there)
			return true;
	}
	return false;
}

/* Root's line of fstab, which may have the kernel do it at each removal. */
static bool is_mounted_with_discard(const WdrArriving *a)
{
	for (guint i = 0; i < a->fstab->len; i++) {
		const WdrFstabLine *l = a->fstab->pdata[i];
		if (strcmp(l->point, "/") == 0 && wdr_fstab_has_option(l, "discard"))
			return true;
	}
	return false;
}

void wdr_arrive_discards(WdrArriving *a)
{
	WdrDiscards reach = wdr_disk_discards(a->world, a->disk);
	const char *name = a->disk->name;

	if (reach == WDR_DISCARDS_DO_NOT)
		wdr_checks_say(a->checks, WDR_ARRIVED_DISCARDS, WDR_STATE_OK, NULL,
			"discards do not reach %s: nothing tells it which blocks are unused", name);
	if (reach != WDR_DISCARDS_REACH_IT)
		return;
	g_autofree char *enable =
		wdr_system_command("systemctl", "enable", "--now", "fstrim.timer");
	bool is_done = has_timer(a->system->root->volume) || is_mounted_with_discard(a);
	if (is_done)
		wdr_checks_say(a->checks, WDR_ARRIVED_DISCARDS, WDR_STATE_OK, NULL,
			"discards reach %s, and unused blocks are discarded", name);
	else
		wdr_checks_say(a->checks, WDR_ARRIVED_DISCARDS, WDR_STATE_WARNING, enable,
			"nothing discards the unused blocks of %s: fstrim.timer is off", name);
}
