/* Finds and reads SPI flash and eMMC boot partitions. */
#include "disk/flash.h"

#include "base/cleanup.h"
#include "base/io.h"

#include <errno.h>
#include <fcntl.h>
#include <string.h>

static void flash_free(void *data)
{
	WdrFlash *f = data;

	g_free(f->name);
	g_free(f);
}

static char *attribute(const char *folder, const char *device, const char *name)
{
	g_autofree char *path = g_build_filename(folder, device, name, NULL);

	return wdr_read_line(path);
}

static uint64_t number(const char *folder, const char *device, const char *name)
{
	g_autofree char *line = attribute(folder, device, name);

	return line ? g_ascii_strtoull(line, NULL, 10) : 0;
}

/* "mtd0" with "mtd" and "": a name that is these with a number between. */
static bool is_named(const char *name, const char *before, const char *behind)
{
	size_t len = strlen(before);
	size_t digits = g_str_has_prefix(name, before) ? strspn(name + len, "0123456789") : 0;

	return digits > 0 && g_str_has_prefix(name + len + digits, behind);
}

static void add(GPtrArray *list, const char *name, const char *kind, uint64_t size, uint64_t erased)
{
	WdrFlash *f = g_new0(WdrFlash, 1);

	f->name = g_strdup(name);
	f->kind = kind;
	f->size = size;
	f->erased = erased;
	g_ptr_array_add(list, f);
}

/* NAND holds no loader that lies at a fixed place. */
static void add_mtd(GPtrArray *list, const char *folder, const char *name)
{
	g_autofree char *type = attribute(folder, name, "type");

	if (is_named(name, "mtd", "") && !g_str_has_suffix(name, "ro") &&
		g_strcmp0(type, "nor") == 0)
		add(list, name, "SPI flash", number(folder, name, "size"),
			number(folder, name, "erasesize"));
}

static void add_boot_partition(GPtrArray *list, const char *folder, const char *name)
{
	if (is_named(name, "mmcblk", "boot"))
		add(list, name, "eMMC boot partition", number(folder, name, "size") * 512, 0);
}

static int by_name(const void *a, const void *b)
{
	return strcmp((*(WdrFlash *const *)a)->name, (*(WdrFlash *const *)b)->name);
}

static void add_all(const WdrWorld *world, const char *in_sys, GPtrArray *list,
	void (*consider)(GPtrArray *list, const char *folder, const char *name))
{
	g_autofree char *folder = wdr_world_path(world, in_sys);
	g_autoptr(GDir) dir = g_dir_open(folder, 0, NULL);

	for (const char *name; dir && (name = g_dir_read_name(dir));)
		consider(list, folder, name);
}

GPtrArray *wdr_flash_list(const WdrWorld *world)
{
	GPtrArray *list = g_ptr_array_new_with_free_func(flash_free);

	add_all(world, "/sys/class/mtd", list, add_mtd);
	add_all(world, "/sys/block", list, add_boot_partition);
	g_ptr_array_sort(list, by_name);
	return list;
}

const char *wdr_device_name(const char *device)
{
	bool is_image = g_str_has_prefix(device, WDR_DEVICE_IMAGE);

	return device + (is_image ? strlen(WDR_DEVICE_IMAGE) : 0);
}

char *wdr_device_path(const WdrWorld *world, const char *device)
{
	const char *name = wdr_device_name(device);

	return name == device ? wdr_world_path(world, device) : g_strdup(name);
}

bool wdr_flash_read_at(const WdrWorld *world, const char *device, int64_t offset, size_t len,
	uint8_t **ret, GError **error)
{
	g_autofree char *path = wdr_device_path(world, device);
	g_auto(WdrFd) fd = open(path, O_RDONLY | O_CLOEXEC | O_NONBLOCK);
	g_autofree uint8_t *bytes = g_malloc(len);

	if (fd < 0)
		return wdr_error_set_errno(error, errno, "opening %s", path);
	off_t at = lseek(fd, (off_t)offset, offset < 0 ? SEEK_END : SEEK_SET);
	if (at < 0)
		return wdr_error_set_errno(
			error, errno, "looking for byte %" G_GINT64_FORMAT " of %s", offset, path);
	if (!wdr_pread_all(fd, bytes, len, (uint64_t)at, error)) {
		g_prefix_error(error, "%s: ", path);
		return false;
	}
	*ret = g_steal_pointer(&bytes);
	return true;
}

bool wdr_flash_read(const WdrWorld *world, const WdrFlash *flash, uint8_t **ret, size_t *ret_len,
	GError **error)
{
	g_autofree char *device = g_strdup_printf("/dev/%s", flash->name);

	*ret_len = (size_t)MIN(flash->size, WDR_FLASH_BYTES_MAX);
	return wdr_flash_read_at(world, device, 0, *ret_len, ret, error);
}
