/* Writing a boot loader to SPI flash, a medium, partitions of its own or an eMMC boot partition. */
#include "change/loader/write_loader_priv.h"

#include "base/command.h"
#include "base/text.h"
#include "boot/board/ubootenv.h"
#include "change/disk_session.h"
#include "change/rewind.h"
#include "disk/emmc_boot.h"
#include "disk/flash.h"

#include <string.h>

enum { STEP = 64 * 1024 };

static void write_free(void *data)
{
	WdrLoaderWrite *w = data;

	g_free(w->device);
	g_bytes_unref(w->bytes);
	g_free(w);
}

void wdr_loader_plan_free(WdrLoaderPlan *p)
{
	if (!p)
		return;
	wdr_board_free(p->board);
	wdr_disk_board_clear(&p->of_image);
	if (p->boards)
		g_ptr_array_unref(p->boards);
	if (p->packages_volume)
		wdr_volume_free(p->packages_volume);
	wdr_system_free(p->system);
	wdr_disk_free(p->disk);
	g_ptr_array_unref(p->facts);
	g_ptr_array_unref(p->writes);
	wdr_loader_set_free(p->set);
	g_free(p->boot_partition);
	g_free(p);
}

/* ---- what it would change ---- */

static void tell_environment(WdrLoaderPlan *p, const WdrLoaderWrite *w)
{
	g_autoptr(WdrUbootEnv) e = wdr_uboot_env_find(p->world);
	size_t len = g_bytes_get_size(w->bytes);

	for (size_t i = 0; e && i < e->n; i++) {
		const WdrEnvCopy *c = &e->copies[i];
		if (strcmp(c->device, w->device) == 0 && c->offset >= 0 &&
			(uint64_t)c->offset < w->at + len && (uint64_t)c->offset + c->size > w->at)
			wdr_facts_add(p->facts, "environment", true,
				"the one at %" G_GINT64_FORMAT
				" is overwritten: U-Boot will boot with its built-in settings",
				c->offset);
	}
}

/* *ret_is_there: every byte is as it is to be. */
static bool compare(WdrLoaderPlan *p, const WdrLoaderWrite *w, bool *ret_is_there, GError **error)
{
	g_autofree uint8_t *now = NULL;
	size_t len = 0;
	const uint8_t *bytes = g_bytes_get_data(w->bytes, &len);
	unsigned differ = 0;
	unsigned all = 0;
	bool is_one = p->set->parts->len == 1;

	if (!wdr_flash_read_at(p->world, w->device, (int64_t)w->at, len, &now, error))
		return false;
	for (size_t at = 0; at < len; at += STEP) {
		all++;
		differ += memcmp(now + at, bytes + at, MIN((size_t)STEP, len - at)) != 0;
	}
	g_autofree char *size = wdr_format_size(len);
	wdr_facts_add(p->facts, "goes to", false,
		"%s at %" G_GUINT64_FORMAT ": %s, of which %u of %u pieces of 64 KiB differ%s%s%s",
		wdr_device_name(w->device), w->at, size, differ, all, is_one ? "" : " (",
		is_one ? "" : w->file, is_one ? "" : ")");
	*ret_is_there = differ == 0;
	if (differ > 0)
		tell_environment(p, w);
	return true;
}

/* What is there already is not written again. */
static bool compare_all(WdrLoaderPlan *p, GError **error)
{
	for (guint i = 0; i < p->writes->len;) {
		bool is_there = false;
		if (!compare(p, p->writes->pdata[i], &is_there, error))
			return false;
		if (is_there)
			g_ptr_array_remove_index(p->writes, i);
		else
			i++;
	}
	return true;
}

/* The eMMC boots from the partition that is written only when this one is enabled. */
static void tell_enabled(WdrLoaderPlan *p)
{
	WdrEmmcBoot b;
	const char *digit = p->boot_partition ? strstr(p->boot_partition, "boot") : NULL;

	if (!digit)
		return;
	unsigned number = (unsigned)g_ascii_strtoull(digit + strlen("boot"), NULL, 10) + 1;
	g_autofree char *disk = g_strndup(p->boot_partition, (size_t)(digit - p->boot_partition));
	g_autofree char *device = g_strdup_printf("/dev/%s", disk);
	g_autofree char *wanted = g_strdup_printf("%u", number);
	g_autofree char *command =
		wdr_system_command("mmc", "bootpart", "enable", wanted, "1", device);
	if (!wdr_emmc_boot_read(p->world, p->boot_partition, &b))
		wdr_facts_add(p->facts, "enabled", true,
			"cannot read whether %s boots from %s; to have it do so: %s", disk,
			p->boot_partition, command);
	else if (b.enabled != number)
		wdr_facts_add(p->facts, "enabled", true,
			"%s does not boot from %s yet; to have it do so: %s", disk,
			p->boot_partition, command);
}

/* ---- the plan ---- */

/* Whether there is such a flash or disk is asked first: all else would be about another. */
static bool find_on(WdrLoaderPlan *p, const char *on, GError **error)
{
	return !on || wdr_loader_is_flash(p->world, on) ||
	       wdr_disk_find(p->world, on, &p->disk, error);
}

/* What the system on an image tells; without one, only what the user says is known. */
static void look_at_image(WdrLoaderPlan *p)
{
	g_autoptr(WdrSystem) s = NULL;

	if (!wdr_system_read(p->world, p->disk, &s, NULL) || !wdr_system_look(s, p->world, NULL))
		return;
	wdr_disk_board_find(s, &p->of_image);
	p->system = g_steal_pointer(&s);
}

bool wdr_loader_plan(
	const WdrWorld *world, const WdrLoaderOptions *options, WdrLoaderPlan **ret, GError **error)
{
	g_autoptr(WdrLoaderPlan) p = g_new0(WdrLoaderPlan, 1);

	p->world = world;
	p->facts = wdr_facts_new();
	p->writes = g_ptr_array_new_with_free_func(write_free);
	if (!find_on(p, options->on, error))
		return false;
	if (wdr_loader_is_of_image(p))
		look_at_image(p);
	else
		p->board = wdr_board_look(world);
	wdr_loader_tell(p);
	if ((options->is_wanted || (options->on && p->has_installed)) &&
		(!wdr_loader_choose(p, options, wdr_loader_is_for_flash(p, options), error) ||
			!wdr_loader_aim(p, options, error) || !compare_all(p, error)))
		return false;
	tell_enabled(p);
	*ret = g_steal_pointer(&p);
	return true;
}

/* ---- doing it ---- */

bool wdr_loader_write(WdrLoaderPlan *p, const char *state, bool *ret_has_begun, GError **error)
{
	g_auto(WdrRawChange) o = { 0 };
	GError *failure = NULL;

	*ret_has_begun = false;
	if (!wdr_raw_change_begin(p->world, state, &o, error))
		return false;
	for (guint i = 0; !failure && i < p->writes->len; i++) {
		const WdrLoaderWrite *w = p->writes->pdata[i];
		if (!wdr_raw_change_write(&o, w->device, w->at, w->bytes, &failure))
			*ret_has_begun = o.has_begun;
	}
	return wdr_raw_change_end(&o, failure, error);
}

char *wdr_loader_state(const WdrLoaderPlan *p)
{
	return wdr_loader_is_of_image(p)
		       ? wdr_disk_state(p->world, p->disk, "loader", wdr_world_now(p->world))
		       : wdr_raw_change_state(p->world, "loader");
}

bool wdr_loader_last(const WdrWorld *world, const char *on, char **ret, GError **error)
{
	g_autoptr(WdrDisk) disk = NULL;

	if (!on || !wdr_disk_find(world, on, &disk, NULL))
		return wdr_rewind_newest(world, "loader-", ret, error);
	g_autofree char *folder = wdr_disk_records(world, disk);
	return wdr_rewind_newest_in(folder, "loader-", ret, error);
}
