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
	g_free(f->label);
	g_free(f);
}

static char *attribute(const char *folder, const char *name)
{
	g_autofree char *path = g_build_filename(folder, name, NULL);
	g_autofree char *line = wdr_read_line(path);

	return line && *line ? g_steal_pointer(&line) : NULL;
}

/* mtd0, not mtd0ro; NAND holds no loader that lies at a fixed place. */
static WdrFlash *look_at(const char *folder, const char *name)
{
	g_autofree char *device = g_build_filename(folder, name, NULL);
	g_autofree char *type = attribute(device, "type");
	g_autofree char *size = attribute(device, "size");
	size_t digits = g_str_has_prefix(name, "mtd") ? strspn(name + 3, "0123456789") : 0;

	if (digits == 0 || name[3 + digits] || g_strcmp0(type, "nor") != 0 || !size)
		return NULL;
	WdrFlash *f = g_new0(WdrFlash, 1);
	f->name = g_strdup(name);
	f->label = attribute(device, "name");
	f->size = g_ascii_strtoull(size, NULL, 10);
	return f;
}

static int by_name(const void *a, const void *b)
{
	return strcmp((*(WdrFlash *const *)a)->name, (*(WdrFlash *const *)b)->name);
}

GPtrArray *wdr_flash_list(const WdrWorld *world)
{
	GPtrArray *list = g_ptr_array_new_with_free_func(flash_free);
	g_autofree char *folder = wdr_world_path(world, "/sys/class/mtd");
	g_autoptr(GDir) dir = g_dir_open(folder, 0, NULL);

	for (const char *name; dir && (name = g_dir_read_name(dir));) {
		WdrFlash *f = look_at(folder, name);
		if (f)
			g_ptr_array_add(list, f);
	}
	g_ptr_array_sort(list, by_name);
	return list;
}

bool wdr_flash_read(const WdrWorld *world, const WdrFlash *flash, uint8_t **ret, size_t *ret_len,
	GError **error)
{
	g_autofree char *in_dev = g_strdup_printf("/dev/%s", flash->name);
	g_autofree char *path = wdr_world_path(world, in_dev);
	g_auto(WdrFd) fd = open(path, O_RDONLY | O_CLOEXEC);
	size_t len = (size_t)MIN(flash->size, WDR_FLASH_BYTES_MAX);

	if (fd < 0)
		return wdr_error_set_errno(error, errno, "opening %s", path);
	g_autofree uint8_t *bytes = g_malloc(len);
	if (!wdr_pread_all(fd, bytes, len, 0, error)) {
		g_prefix_error(error, "%s: ", path);
		return false;
	}
	*ret = g_steal_pointer(&bytes);
	*ret_len = len;
	return true;
}
