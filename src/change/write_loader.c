/* What boot loader lies where, and writing one to SPI flash or to a medium's loader area. */
#include "change/write_loader.h"

#include "base/command.h"
#include "base/io.h"
#include "base/text.h"
#include "boot/board/loaderarea.h"
#include "boot/board/ubootenv.h"
#include "change/disk_session.h"
#include "change/rewind.h"
#include "disk/disks.h"

#include <errno.h>
#include <string.h>

enum { IMAGE_BYTES_MAX = 64 * 1024 * 1024 };

#define INSTALLED "/usr/lib/u-boot"

void wdr_loader_plan_free(WdrLoaderPlan *p)
{
	if (!p)
		return;
	wdr_board_free(p->board);
	wdr_disk_free(p->disk);
	g_ptr_array_unref(p->facts);
	wdr_loader_file_clear(&p->file);
	if (p->bytes)
		g_bytes_unref(p->bytes);
	g_free(p->device);
	g_free(p);
}

static bool is_of_image(const WdrLoaderPlan *p)
{
	return p->disk && p->disk->is_image;
}

/* ---- what is where ---- */

/* It is slow to read: what the board was asked about is not read again. */
static void tell_flash(WdrLoaderPlan *p)
{
	bool is_known = p->board && p->board->series == 0;
	g_autoptr(GPtrArray) list =
		is_known ? g_ptr_array_ref(p->board->flash) : wdr_board_look_at_flash(p->world);

	for (guint i = 0; i < list->len; i++) {
		const WdrBoardFlash *f = list->pdata[i];
		g_autofree char *size = wdr_format_size(f->size);
		const char *what = f->problem ? f->problem : f->what ? f->what : "empty";
		wdr_facts_add(
			p->facts, f->kind, f->problem != NULL, "%s, %s: %s", f->name, size, what);
	}
}

/* Nothing lies there: ret->size is 0. */
static bool find_area(const WdrDisk *d, WdrLoaderArea *ret, GError **error)
{
	g_autoptr(WdrBlockDev) dev = NULL;
	g_autoptr(WdrPartTable) t = NULL;

	return wdr_blockdev_open(d->path, WDR_OPEN_READ, &dev, error) &&
	       wdr_parttable_read(dev, &t, error) &&
	       (t->kind == WDR_TABLE_NONE || wdr_loader_area_find(dev, t, ret, error));
}

static void tell_disk(WdrLoaderPlan *p, const WdrDisk *d)
{
	g_auto(WdrLoaderArea) area = { 0 };
	g_autoptr(GError) error = NULL;

	p->has_unread |= !find_area(d, &area, &error);
	g_autofree char *command = wdr_command_by_root();
	g_autofree char *by_root = g_strdup_printf("; to run it as root: %s", command);
	if (error)
		wdr_facts_add(p->facts, "medium", true, "%s cannot be read: %s%s", d->name,
			error->message, wdr_error_get_errno(error) == EACCES ? by_root : "");
	else if (area.size > 0)
		wdr_facts_add(p->facts, "medium", false, "%s, before its first partition: %s",
			d->name, area.what);
	else if (d->is_image)
		wdr_facts_add(p->facts, "medium", true, "%s has nothing before its first partition",
			d->name);
}

static void tell_disks(WdrLoaderPlan *p)
{
	g_autoptr(GPtrArray) disks = NULL;

	if (!wdr_disks_list(p->world, &disks, NULL))
		return;
	for (guint i = 0; i < disks->len; i++)
		tell_disk(p, disks->pdata[i]);
}

static bool is_for_board(const WdrLoaderPlan *p, const uint8_t *bytes, size_t len)
{
	return p->board && p->board->names[0] &&
	       wdr_loader_file_names(bytes, len, p->board->names[0]);
}

static void tell_installed_file(WdrLoaderPlan *p, const char *path)
{
	g_autofree char *full = wdr_world_path(p->world, path);
	g_autofree char *bytes = NULL;
	g_auto(WdrLoaderFile) file = { 0 };
	size_t len = 0;

	if (!wdr_read_file(full, IMAGE_BYTES_MAX, &bytes, &len, NULL))
		return;
	wdr_loader_file_look((const uint8_t *)bytes, len, &file);
	if (file.family && is_for_board(p, (const uint8_t *)bytes, len))
		wdr_facts_add(p->facts, "installed", false, "%s: %s%s%s, for %s", path, file.family,
			file.version ? ", " : "", file.version ? file.version : "",
			file.is_whole ? "SPI flash" : "a medium");
}

/* The system's packages put them into a folder for each board. */
static void tell_installed(WdrLoaderPlan *p)
{
	g_autofree char *top = wdr_world_path(p->world, INSTALLED);
	g_autoptr(GDir) boards = g_dir_open(top, 0, NULL);

	for (const char *board; boards && (board = g_dir_read_name(boards));) {
		g_autofree char *folder = g_build_filename(top, board, NULL);
		g_autoptr(GDir) dir = g_dir_open(folder, 0, NULL);
		for (const char *name; dir && (name = g_dir_read_name(dir));) {
			g_autofree char *path = g_build_filename(INSTALLED, board, name, NULL);
			tell_installed_file(p, path);
		}
	}
}

static void tell(WdrLoaderPlan *p)
{
	/* What this machine has says nothing of an image that is made here for another. */
	if (is_of_image(p)) {
		tell_disk(p, p->disk);
		return;
	}
	if (p->board && p->board->names[0])
		wdr_facts_add(p->facts, "board", false, "%s", p->board->names[0]);
	tell_flash(p);
	tell_disks(p);
	tell_installed(p);
	if (p->board && p->board->series > 0)
		wdr_facts_add(p->facts, "firmware", false,
			p->board->series >= 4
				? "this board's is in an EEPROM; the command order shows it"
				: "this board's is in files on its boot volume (bootcode.bin, *.elf)");
	else if (p->facts->len <= 1 && !p->has_unread)
		wdr_facts_add(p->facts, "loader", true,
			"the kernel knows no SPI flash here, and no disk has anything before its "
			"first partition");
}

/* ---- the image ---- */

static bool is_despite(const WdrLoaderOptions *o, const char *word)
{
	return o->despite && g_strv_contains((const char *const *)o->despite, word);
}

static bool refuse(GError **error, const char *word, const char *format, ...) G_GNUC_PRINTF(3, 4);
static bool refuse(GError **error, const char *word, const char *format, ...)
{
	va_list args;

	va_start(args, format);
	g_autofree char *text = g_strdup_vprintf(format, args);
	va_end(args);
	wdr_error_set(error, WDR_ERROR_REFUSED, "%s", text);
	g_autofree char *despite = wdr_command_again("--despite", word ? word : "");
	wdr_error_hint(error, "nothing was changed%s%s", word ? "; if you know better: " : "",
		word ? despite : "");
	return false;
}

static const char *family_of_board(const WdrBoard *b)
{
	for (size_t i = 0; b && b->names[i]; i++) {
		const char *family = wdr_loader_family_of_chip(b->names[i]);
		if (family)
			return family;
	}
	return NULL;
}

/* An image has no board; what lies on it already is for its chip. */
static bool check_for_image(const WdrLoaderPlan *p, const WdrLoaderOptions *o, GError **error)
{
	g_auto(WdrLoaderArea) area = { 0 };
	bool is_known = find_area(p->disk, &area, NULL) && area.size > 0 &&
			strcmp(area.what, "unknown") != 0;
	bool is_same = is_known && g_str_has_prefix(area.what, p->file.family);

	if (is_known && !is_same && !is_despite(o, "kind"))
		return refuse(error, "kind", "%s is a loader for %s, and on %s lies one for %s",
			o->image, p->file.family, p->disk->name, area.what);
	if (!is_known && !is_despite(o, "kind"))
		return refuse(error, "kind",
			"%s is a loader for %s, and which chip %s is for is not known", o->image,
			p->file.family, p->disk->name);
	return is_despite(o, "board") ||
	       refuse(error, "board", "which board %s is for is not known", p->disk->name);
}

static bool check_image(const WdrLoaderPlan *p, const WdrLoaderOptions *o, const uint8_t *bytes,
	size_t len, GError **error)
{
	const char *wanted = family_of_board(p->board);
	const char *name = p->board ? p->board->names[0] : NULL;

	if (!p->file.family)
		return refuse(error, NULL, "%s is no boot loader that is known", o->image);
	if (is_of_image(p))
		return check_for_image(p, o, error);
	if (wanted && strcmp(wanted, p->file.family) != 0 && !is_despite(o, "kind"))
		return refuse(error, "kind",
			"%s is a loader for %s, and this board has a chip of %s", o->image,
			p->file.family, wanted);
	if (!wanted && !is_despite(o, "kind"))
		return refuse(error, "kind",
			"%s is a loader for %s, and which chip this board has is not known",
			o->image, p->file.family);
	if (!is_for_board(p, bytes, len) && !is_despite(o, "board"))
		return refuse(error, "board", "%s names no board like this one (%s)", o->image,
			name ? name : "unknown");
	return true;
}

/* Those of the system's packages are named as the machine has them. */
static char *image_path(const WdrWorld *world, const char *image)
{
	return g_str_has_prefix(image, INSTALLED "/") ? wdr_world_path(world, image)
						      : g_strdup(image);
}

/* ---- where it goes ---- */

static const WdrFlash *flash_named(const GPtrArray *list, const char *name)
{
	for (guint i = 0; i < list->len; i++) {
		const WdrFlash *f = list->pdata[i];
		bool is_block = g_str_has_prefix(name, "mtdblock") &&
				g_str_has_prefix(f->name, "mtd") &&
				strcmp(name + strlen("mtdblock"), f->name + strlen("mtd")) == 0;
		if (strcmp(f->name, name) == 0 || is_block)
			return f;
	}
	return NULL;
}

/* SPI flash takes the file from its first byte on. */
static bool aim_at_flash(
	WdrLoaderPlan *p, const WdrLoaderOptions *o, const WdrFlash *f, size_t len, GError **error)
{
	g_autofree char *size = wdr_format_size(f->size);
	g_autofree char *needed = wdr_format_size(len);

	if (!g_str_has_prefix(f->name, "mtd"))
		return refuse(error, NULL,
			"%s is an %s: loaders there are not changed by this program", f->name,
			f->kind);
	if (!wdr_loader_fits_flash(&p->file))
		return refuse(error, NULL,
			"%s is made for a medium (it begins where the chip looks there), not for SPI "
			"flash",
			o->image);
	if (len > f->size)
		return refuse(
			error, NULL, "%s has %s, and %s holds %s", o->image, needed, f->name, size);
	p->at = 0;
	return true;
}

/* Where that family's loader lies on the medium now; failing that, where its chips look first. */
static bool aim_at_disk(WdrLoaderPlan *p, const WdrLoaderOptions *o, size_t len, GError **error)
{
	const uint64_t *places = wdr_loader_locations(p->file.family);
	uint64_t found = 0;

	if (p->file.is_whole || !places[0])
		return refuse(error, NULL, "%s is made for SPI flash, not for a medium", o->image);
	for (size_t i = 0; !found && places[i]; i++) {
		g_autofree uint8_t *head = NULL;
		g_auto(WdrLoaderFile) there = { 0 };
		if (!wdr_flash_read_at(p->world, p->device, (int64_t)places[i], 4096, &head, error))
			return false;
		wdr_loader_file_look(head, 4096, &there);
		if (!there.is_whole && g_strcmp0(there.family, p->file.family) == 0)
			found = places[i];
	}
	if (!found && g_str_has_prefix(p->file.family, "i.MX 8M"))
		return refuse(error, NULL,
			"chips of %s look at 33 KiB or at 32 KiB, and it is unknown which one %s needs",
			p->file.family, wdr_device_name(p->device));
	p->at = found ? found : places[0];
	return wdr_raw_change_check(p->world, p->device, p->at, len, error);
}

static const char *base_of(const char *device)
{
	const char *slash = strrchr(device, '/');

	return slash ? slash + 1 : device;
}

static const WdrFlash *first_spi(const GPtrArray *list)
{
	for (guint i = 0; i < list->len; i++) {
		const WdrFlash *f = list->pdata[i];
		if (g_str_has_prefix(f->name, "mtd"))
			return f;
	}
	return NULL;
}

static bool aim(WdrLoaderPlan *p, const WdrLoaderOptions *o, size_t len, GError **error)
{
	g_autoptr(GPtrArray) flash = NULL;
	const WdrFlash *f = NULL;

	if (p->disk) {
		g_autofree char *full = g_canonicalize_filename(p->disk->path, NULL);
		p->device = is_of_image(p) ? g_strconcat(WDR_DEVICE_IMAGE, full, NULL)
					   : g_strdup_printf("/dev/%s", p->disk->name);
		return aim_at_disk(p, o, len, error);
	}
	flash = wdr_flash_list(p->world);
	f = o->on ? flash_named(flash, base_of(o->on)) : first_spi(flash);
	if (!f) {
		wdr_error_set(error, WDR_ERROR_UNSUPPORTED,
			"the kernel knows no SPI flash on this board");
		wdr_error_hint(error, "--on DISK names a medium; nothing was changed");
		return false;
	}
	p->device = g_strdup_printf("/dev/%s", o->on ? base_of(o->on) : f->name);
	return aim_at_flash(p, o, f, len, error);
}

/* ---- what it would change ---- */

static void tell_environment(WdrLoaderPlan *p, size_t len)
{
	g_autoptr(WdrUbootEnv) e = wdr_uboot_env_find(p->world);

	for (size_t i = 0; e && i < e->n; i++) {
		const WdrEnvCopy *c = &e->copies[i];
		if (strcmp(c->device, p->device) == 0 && c->offset >= 0 &&
			(uint64_t)c->offset < p->at + len && (uint64_t)c->offset + c->size > p->at)
			wdr_facts_add(p->facts, "environment", true,
				"the one at %" G_GINT64_FORMAT
				" is overwritten: U-Boot will boot with its built-in settings",
				c->offset);
	}
}

static bool compare(WdrLoaderPlan *p, GBytes *image, GError **error)
{
	enum { STEP = 64 * 1024 };
	g_autofree uint8_t *now = NULL;
	size_t len = 0;
	const uint8_t *bytes = g_bytes_get_data(image, &len);
	unsigned differ = 0;
	unsigned all = 0;

	if (!wdr_flash_read_at(p->world, p->device, (int64_t)p->at, len, &now, error))
		return false;
	for (size_t at = 0; at < len; at += STEP) {
		all++;
		differ += memcmp(now + at, bytes + at, MIN((size_t)STEP, len - at)) != 0;
	}
	g_autofree char *size = wdr_format_size(len);
	wdr_facts_add(p->facts, "goes to", false,
		"%s at %" G_GUINT64_FORMAT ": %s, of which %u of %u pieces of 64 KiB differ",
		wdr_device_name(p->device), p->at, size, differ, all);
	if (differ == 0)
		return true;
	tell_environment(p, len);
	p->bytes = g_bytes_ref(image);
	return true;
}

static bool plan_image(WdrLoaderPlan *p, const WdrLoaderOptions *o, GError **error)
{
	g_autofree char *path = image_path(p->world, o->image);
	char *bytes = NULL;
	size_t len = 0;

	if (!wdr_read_file(path, IMAGE_BYTES_MAX, &bytes, &len, error))
		return false;
	g_autoptr(GBytes) image = g_bytes_new_take(bytes, len);
	if (len == 0)
		return refuse(error, NULL, "%s is empty", o->image);
	wdr_loader_file_look((const uint8_t *)bytes, len, &p->file);
	wdr_facts_add(p->facts, "image", !p->file.version, "%s: %s, %s, for %s", o->image,
		p->file.family ? p->file.family : "nothing known",
		p->file.version ? p->file.version : "which does not say its version",
		p->file.is_whole ? "SPI flash" : "a medium");
	return check_image(p, o, (const uint8_t *)bytes, len, error) && aim(p, o, len, error) &&
	       compare(p, image, error);
}

/* Whether there is such a flash or disk is asked first: all else would be about another. */
static bool find_on(WdrLoaderPlan *p, const char *on, GError **error)
{
	g_autoptr(GPtrArray) flash = wdr_flash_list(p->world);

	return !on || flash_named(flash, base_of(on)) ||
	       wdr_disk_find(p->world, on, &p->disk, error);
}

bool wdr_loader_plan(
	const WdrWorld *world, const WdrLoaderOptions *options, WdrLoaderPlan **ret, GError **error)
{
	g_autoptr(WdrLoaderPlan) p = g_new0(WdrLoaderPlan, 1);

	p->world = world;
	p->facts = wdr_facts_new();
	if (!find_on(p, options->on, error))
		return false;
	p->board = is_of_image(p) ? NULL : wdr_board_look(world);
	tell(p);
	if (options->image && !plan_image(p, options, error))
		return false;
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
	if (!wdr_raw_change_write(&o, p->device, p->at, p->bytes, &failure))
		*ret_has_begun = o.has_begun;
	return wdr_raw_change_end(&o, failure, error);
}

char *wdr_loader_state(const WdrLoaderPlan *p)
{
	return is_of_image(p) ? wdr_disk_state(p->world, p->disk, "loader", wdr_world_now(p->world))
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
