/* Compares firmware files by the build date in them and plans newer ones as complete sets. */
#include "change/update_firmware.h"

#include "base/io.h"
#include "base/text.h"
#include "volume/lookup.h"

#include <string.h>

enum { FILE_BYTES_MAX = 32 * 1024 * 1024 };

#define PACKAGE_FOLDER "usr/lib/raspi-firmware"

void wdr_firmware_plan_free(WdrFirmwarePlan *p)
{
	if (!p)
		return;
	wdr_disk_session_free(p->site);
	wdr_board_free(p->board);
	g_free(p->from);
	if (p->list)
		g_ptr_array_unref(p->list);
	if (p->files)
		g_ptr_array_unref(p->files);
	if (p->left)
		g_ptr_array_unref(p->left);
	g_free(p);
}

static void file_free(void *data)
{
	WdrFirmwareFile *f = data;

	g_free(f->name);
	if (f->from)
		g_bytes_unref(f->from);
	g_free(f);
}

/* ---- what the folder has ---- */

static void add_from(WdrFirmwarePlan *p, const char *name, char *bytes, size_t len)
{
	WdrFirmwareFile *f = g_new0(WdrFirmwareFile, 1);

	f->name = g_strdup(name);
	f->set = wdr_firmware_set(name);
	f->state = WDR_FIRMWARE_MISSING;
	f->day_from = wdr_build_day(bytes, len);
	f->from = g_bytes_new_take(bytes, len);
	g_ptr_array_add(p->list, f);
}

static bool read_folder(WdrFirmwarePlan *p, const char *folder, GError **error)
{
	g_autoptr(GError) local = NULL;
	g_autoptr(GDir) dir = g_dir_open(folder, 0, &local);

	if (!dir)
		return wdr_error_set(error, WDR_ERROR_USAGE, "%s", local->message);
	for (const char *name; (name = g_dir_read_name(dir));) {
		g_autofree char *path = g_build_filename(folder, name, NULL);
		char *bytes = NULL;
		size_t len = 0;
		if (wdr_firmware_set(name) == WDR_FIRMWARE_NONE)
			continue;
		if (!wdr_read_file(path, FILE_BYTES_MAX, &bytes, &len, error))
			return false;
		if (len > 0)
			add_from(p, name, bytes, len);
		else
			g_free(bytes);
	}
	p->from = g_strdup(folder);
	return true;
}

static void read_package(WdrFirmwarePlan *p)
{
	const WdrSystemPart *root = p->site->system->root;
	g_autoptr(GPtrArray) names =
		root && root->volume ? wdr_follow_names(root->volume, PACKAGE_FOLDER, NULL) : NULL;

	for (guint i = 0; names && i < names->len; i++) {
		g_autofree char *path =
			g_strconcat(PACKAGE_FOLDER "/", (char *)names->pdata[i], NULL);
		size_t len = 0;
		if (wdr_firmware_set(names->pdata[i]) == WDR_FIRMWARE_NONE)
			continue;
		char *bytes = wdr_follow_read(root->volume, path, FILE_BYTES_MAX, &len);
		if (bytes && len > 0)
			add_from(p, names->pdata[i], bytes, len);
		else
			g_free(bytes);
	}
	p->from = g_strdup("/" PACKAGE_FOLDER);
}

/* ---- beside what is there ---- */

static WdrFirmwareState compare(const WdrFirmwareFile *f, const char *there, size_t len)
{
	size_t from_len = 0;
	const void *from = g_bytes_get_data(f->from, &from_len);

	if (len == from_len && memcmp(there, from, len) == 0)
		return WDR_FIRMWARE_SAME;
	if (f->day_there == 0 || f->day_from == 0 || f->day_there == f->day_from)
		return WDR_FIRMWARE_DIFFERS;
	return f->day_there < f->day_from ? WDR_FIRMWARE_OLDER : WDR_FIRMWARE_NEWER;
}

static WdrFirmwareFile *find(const WdrFirmwarePlan *p, const char *name)
{
	for (guint i = 0; i < p->list->len; i++) {
		WdrFirmwareFile *f = p->list->pdata[i];
		if (g_ascii_strcasecmp(f->name, name) == 0)
			return f;
	}
	return NULL;
}

static void look_at_boot(WdrFirmwarePlan *p)
{
	WdrVolume *boot = p->site->system->boot->volume;
	g_autoptr(GPtrArray) names = wdr_follow_names(boot, "", NULL);

	for (guint i = 0; i < names->len; i++) {
		WdrFirmwareFile *f = find(p, names->pdata[i]);
		size_t len = 0;
		if (wdr_firmware_set(names->pdata[i]) == WDR_FIRMWARE_NONE)
			continue;
		g_autofree char *there =
			wdr_follow_read(boot, names->pdata[i], FILE_BYTES_MAX, &len);
		if (!there)
			continue;
		if (!f) {
			f = g_new0(WdrFirmwareFile, 1);
			f->name = g_strdup(names->pdata[i]);
			f->set = wdr_firmware_set(f->name);
			f->state = WDR_FIRMWARE_EXTRA;
			g_ptr_array_add(p->list, f);
		}
		f->day_there = wdr_build_day(there, len);
		if (f->from)
			f->state = compare(f, there, len);
	}
}

static int by_set_and_name(const void *a, const void *b)
{
	const WdrFirmwareFile *first = *(WdrFirmwareFile *const *)a;
	const WdrFirmwareFile *second = *(WdrFirmwareFile *const *)b;

	if (first->set != second->set)
		return first->set < second->set ? -1 : 1;
	return strcmp(first->name, second->name);
}

/* ---- which sets are brought over ---- */

typedef struct {
	unsigned there, older, newer, differ, missing;
	unsigned unclear; /* of those that differ: ones that tell their day, as a rule */
} Count;

static bool is_program(const char *name)
{
	const char *dot = strrchr(name, '.');

	return dot && g_ascii_strcasecmp(dot, ".elf") == 0;
}

static Count count_set(const WdrFirmwarePlan *p, WdrFirmwareSet set)
{
	Count c = { 0 };

	for (guint i = 0; i < p->list->len; i++) {
		const WdrFirmwareFile *f = p->list->pdata[i];
		if (f->set != set)
			continue;
		c.there += f->state != WDR_FIRMWARE_MISSING;
		c.older += f->state == WDR_FIRMWARE_OLDER;
		c.newer += f->state == WDR_FIRMWARE_NEWER;
		c.differ += f->state == WDR_FIRMWARE_DIFFERS;
		c.unclear += f->state == WDR_FIRMWARE_DIFFERS && is_program(f->name);
		c.missing += f->state == WDR_FIRMWARE_MISSING;
	}
	return c;
}

/* The set that this board starts with, or that anybody put there. */
static bool is_of_use(const WdrFirmwarePlan *p, WdrFirmwareSet set, const Count *c)
{
	unsigned series = p->board ? p->board->series : 0;

	if (c->there > 0)
		return true;
	return series > 0 && series <= 4 &&
	       set == (series == 4 ? WDR_FIRMWARE_4 : WDR_FIRMWARE_OLD);
}

static bool add_plan(WdrFirmwarePlan *p, const WdrFirmwareFile *f, GError **error)
{
	const WdrSystemPart *boot = p->site->system->boot;
	g_autofree char *path = NULL;
	g_auto(WdrEntry) entry = { 0 };
	size_t len = 0;
	g_autofree char *before = NULL;

	/* As it is written there, in whatever capitals. */
	if (f->state != WDR_FIRMWARE_MISSING) {
		if (!wdr_follow(boot->volume, f->name, &path, NULL, &entry))
			return wdr_error_set(error, WDR_ERROR_IO, "/%s cannot be read", f->name);
		before = wdr_follow_read(boot->volume, f->name, FILE_BYTES_MAX, &len);
		if (!before)
			return wdr_error_set(error, WDR_ERROR_IO, "/%s cannot be read", f->name);
	}
	g_autofree char *day = f->day_from ? wdr_format_day(f->day_from) : NULL;
	WdrFilePlan *plan = wdr_file_plans_add(
		p->files, boot->partition->number, path ? path : f->name, before, len, f->from);
	g_clear_pointer(&plan->diff, g_free);
	plan->note = day ? g_strdup_printf("that of %s", day) : g_strdup("that of the same set");
	return true;
}

static bool plan_set(WdrFirmwarePlan *p, WdrFirmwareSet set, GError **error)
{
	Count c = count_set(p, set);
	const char *name = set == WDR_FIRMWARE_4 ? "the 4 series" : "the series up to 3";

	if (!is_of_use(p, set, &c) || c.older + c.missing + c.differ == 0)
		return true;
	bool is_clear = c.unclear == 0 && c.older + c.missing > 0;
	if (c.newer > 0 || !is_clear) {
		g_ptr_array_add(p->left,
			g_strdup_printf(
				"firmware of %s: %s; its files belong together, so none is updated",
				name,
				c.newer > 0 ? "some or all files there are newer"
					    : "files differ, and it is unknown which are newer"));
		return true;
	}
	for (guint i = 0; i < p->list->len; i++) {
		const WdrFirmwareFile *f = p->list->pdata[i];
		bool is_wanted = f->set == set && f->from && f->state != WDR_FIRMWARE_SAME;
		if (is_wanted && !add_plan(p, f, error))
			return false;
	}
	return true;
}

/* A set that is brought over in part would be worse than the old one. */
static bool check_room(const WdrFirmwarePlan *p, GError **error)
{
	const WdrSystemPart *boot = p->site->system->boot;
	uint64_t needed = 0;

	for (guint i = 0; i < p->files->len; i++) {
		const WdrFilePlan *f = p->files->pdata[i];
		needed += wdr_round_up(g_bytes_get_size(f->content), 65536);
	}
	if (g_strcmp0(boot->probe.type, "vfat") != 0)
		return true;
	uint64_t room = boot->fat.free_clusters * boot->fat.cluster_bytes;
	if (needed <= room)
		return true;
	g_autofree char *want = wdr_format_size(needed);
	g_autofree char *has = wdr_format_size(room);
	return wdr_error_set(error, WDR_ERROR_NO_SPACE,
		"the boot volume has %s free, and the files take %s beside the old ones", has,
		want);
}

bool wdr_firmware_plan(const WdrWorld *world, const WdrFirmwareOptions *options,
	WdrFirmwarePlan **ret, GError **error)
{
	g_autoptr(WdrFirmwarePlan) p = g_new0(WdrFirmwarePlan, 1);

	p->list = g_ptr_array_new_with_free_func(file_free);
	p->files = wdr_file_plans_new();
	p->left = g_ptr_array_new_with_free_func(g_free);
	if (!wdr_disk_session_find(world, options->on, &p->site, error))
		return false;
	const WdrSystem *s = p->site->system;
	if (g_strcmp0(s->flow, "UEFI") == 0)
		return wdr_error_set(error, WDR_ERROR_UNSUPPORTED,
			"%s boots by UEFI: its firmware is in the board's own flash, not on the disk",
			p->site->disk->name);
	if (g_strcmp0(s->flow, "firmware") != 0 || !s->boot || !s->boot->volume)
		return wdr_error_set(error, WDR_ERROR_UNSUPPORTED,
			"%s has no boot volume that a board's firmware reads", p->site->disk->name);
	p->board = p->site->disk->is_image ? NULL : wdr_board_look(world);
	if (options->from && !read_folder(p, options->from, error))
		return false;
	if (!options->from)
		read_package(p);
	/* Its firmware is in an EEPROM, and the system may well have none of these files. */
	if (p->list->len == 0 && (options->from || !p->board || p->board->series != 5)) {
		wdr_error_set(
			error, WDR_ERROR_USAGE, "%s has no firmware files (start*.elf)", p->from);
		wdr_error_hint(error, "--from FOLDER names one that has; nothing was changed");
		return false;
	}
	look_at_boot(p);
	g_ptr_array_sort(p->list, by_set_and_name);
	if (!plan_set(p, WDR_FIRMWARE_OLD, error) || !plan_set(p, WDR_FIRMWARE_4, error) ||
		!check_room(p, error))
		return false;
	*ret = g_steal_pointer(&p);
	return true;
}
