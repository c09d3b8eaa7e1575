/* Lists this machine's or bench's disks, and finds one by name, path or image file.
 *
 * On a machine they come from /sys/block, without virtual ones that have no content (loop devices
 * without a file, empty card readers). On a bench they are the files in its dev/ folder. */
#include "disk/disks.h"

#include "base/closest.h"
#include "base/command.h"
#include "base/io.h"
#include "base/stat.h"
#include "packed/packed.h"

#include <dirent.h>
#include <errno.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

void wdr_disk_free(WdrDisk *disk)
{
	if (!disk)
		return;
	g_free(disk->name);
	g_free(disk->path);
	g_free(disk->packed);
	g_free(disk->medium);
	g_free(disk->link);
	g_free(disk->model);
	g_free(disk->serial);
	g_free(disk);
}

/* From a disk up to the root of all devices there are fewer. */
enum { DEVICES_MAX = 32 };

static char *attribute(const char *folder, const char *name)
{
	g_autofree char *path = g_build_filename(folder, name, NULL);
	g_autofree char *line = wdr_read_line(path);

	return line && *line ? g_steal_pointer(&line) : NULL;
}

static uint64_t number(const char *folder, const char *name)
{
	g_autofree char *line = attribute(folder, name);

	return line ? g_ascii_strtoull(line, NULL, 10) : 0;
}

/* The folder above `device` that has this attribute: a USB disk's speed is some levels up. */
static char *above_with(const char *device, const char *name)
{
	g_autofree char *real = realpath(device, NULL);

	for (int i = 0; real && i < 10 && strlen(real) > 1; i++) {
		g_autofree char *found = attribute(real, name);
		if (found)
			return g_steal_pointer(&real);
		char *up = g_path_get_dirname(real);
		g_free(real);
		real = up;
	}
	return NULL;
}

static void look_at_mmc(WdrDisk *d, const char *device)
{
	g_autofree char *type = attribute(device, "type");

	d->medium = g_strdup(type && strcmp(type, "MMC") == 0 ? "eMMC" : "SD card");
	d->model = attribute(device, "name");
	d->serial = attribute(device, "serial");
}

/* "5.0 GT/s PCIe" and "1"; NULL: it is not told. */
static char *pcie_link(const char *device, const char *which)
{
	g_autofree char *pci = g_build_filename(device, "device", NULL);
	g_autofree char *speed_name = g_strdup_printf("%s_link_speed", which);
	g_autofree char *width_name = g_strdup_printf("%s_link_width", which);
	g_autofree char *speed = attribute(pci, speed_name);
	g_autofree char *width = attribute(pci, width_name);
	g_auto(GStrv) words = g_strsplit(speed ? speed : "", " ", -1);

	return speed && width ? g_strdup_printf("PCIe %s GT/s x%s", words[0], width) : NULL;
}

static void look_at_nvme(WdrDisk *d, const char *device)
{
	d->medium = g_strdup("NVMe");
	d->model = attribute(device, "model");
	d->serial = attribute(device, "serial");
	d->link = pcie_link(device, "current");
}

char *wdr_disk_best_link(const WdrWorld *world, const WdrDisk *disk)
{
	g_autofree char *in_sys = g_strdup_printf("/sys/block/%s/device", disk->name);
	g_autofree char *device = wdr_world_path(world, in_sys);

	return disk->is_image ? NULL : pcie_link(device, "max");
}

static void look_at_other(WdrDisk *d, const char *device)
{
	g_autofree char *usb = above_with(device, "bMaxPacketSize0");
	g_autofree char *vendor = attribute(device, "vendor");
	g_autofree char *model = attribute(device, "model");

	/* SCSI pads both with blanks; a virtio "vendor" is a number. */
	if (model)
		d->model = vendor && !g_str_has_prefix(vendor, "0x")
				   ? g_strjoin(" ", vendor, model, NULL)
				   : g_strdup(model);
	d->medium = g_strdup(usb                               ? "USB disk"
			     : g_str_has_prefix(d->name, "vd") ? "virtual disk"
							       : "disk");
	if (usb) {
		g_autofree char *speed = attribute(usb, "speed");
		d->serial = attribute(usb, "serial");
		d->link = speed ? g_strdup_printf("USB %s Mbit/s", speed) : NULL;
	} else {
		d->serial = attribute(device, "serial");
	}
}

char *wdr_disk_usb_driver(const WdrWorld *world, const WdrDisk *disk)
{
	g_autofree char *in_sys = g_strdup_printf("/sys/block/%s/device", disk->name);
	g_autofree char *device = wdr_world_path(world, in_sys);
	g_autofree char *interface = above_with(device, "bInterfaceClass");
	g_autofree char *link = interface ? g_build_filename(interface, "driver", NULL) : NULL;
	g_autofree char *target = link ? g_file_read_link(link, NULL) : NULL;

	return target ? g_path_get_basename(target) : NULL;
}

char *wdr_disk_usb_ids(const WdrWorld *world, const WdrDisk *disk)
{
	g_autofree char *in_sys = g_strdup_printf("/sys/block/%s/device", disk->name);
	g_autofree char *device = wdr_world_path(world, in_sys);
	g_autofree char *usb = above_with(device, "idVendor");
	g_autofree char *vendor = usb ? attribute(usb, "idVendor") : NULL;
	g_autofree char *product = usb ? attribute(usb, "idProduct") : NULL;

	return vendor && product ? g_strdup_printf("%s:%s", vendor, product) : NULL;
}

/* A folder of sysfs that stands for a port: of a USB hub, a PCI slot, a card's host. */
static char *port_of(const char *folder)
{
	static const struct {
		const char *kind, *shape;
	} ports[] = {
		{ "usb", "^[0-9]+-[0-9]+(\\.[0-9]+)*$" },
		{ "pci", "^[0-9a-f]{4}:[0-9a-f]{2}:[0-9a-f]{2}\\.[0-7]$" },
		{ "mmc", "^mmc[0-9]+$" },
	};

	for (size_t i = 0; i < G_N_ELEMENTS(ports); i++) {
		if (g_regex_match_simple(ports[i].shape, folder, 0, 0))
			return g_strdup_printf("%s %s", ports[i].kind, folder);
	}
	return NULL;
}

char *wdr_disk_port(const WdrWorld *world, const WdrDisk *disk)
{
	g_autofree char *in_sys = g_strdup_printf("/sys/block/%s/device", disk->name);
	g_autofree char *device = wdr_world_path(world, in_sys);
	g_autofree char *real = disk->is_image ? NULL : realpath(device, NULL);
	char *port = NULL;

	for (int i = 0; real && !port && i < DEVICES_MAX && strlen(real) > 1; i++) {
		g_autofree char *folder = g_path_get_basename(real);
		char *up = g_path_get_dirname(real);
		port = port_of(folder);
		g_free(real);
		real = up;
	}
	return port;
}

/* Each device on the way up has a link "driver", and a driver that is a module one to it; what is
 * built in may have one too, but no state. */
GPtrArray *wdr_disk_modules(const WdrWorld *world, const WdrDisk *disk)
{
	GPtrArray *modules = g_ptr_array_new_with_free_func(g_free);
	g_autofree char *in_sys = g_strdup_printf("/sys/block/%s/device", disk->name);
	g_autofree char *device = wdr_world_path(world, in_sys);
	g_autofree char *real = disk->is_image ? NULL : realpath(device, NULL);

	for (int i = 0; real && i < DEVICES_MAX && strlen(real) > 1; i++) {
		g_autofree char *link = g_build_filename(real, "driver", "module", NULL);
		g_autofree char *state = attribute(link, "initstate");
		g_autofree char *module = state ? g_file_read_link(link, NULL) : NULL;
		char *name = module ? g_path_get_basename(module) : NULL;
		if (name && !g_ptr_array_find_with_equal_func(modules, name, g_str_equal, NULL))
			g_ptr_array_add(modules, name);
		else
			g_free(name);
		char *up = g_path_get_dirname(real);
		g_free(real);
		real = up;
	}
	return modules;
}

static WdrDisk *look_at_disk(const WdrWorld *world, const char *name)
{
	g_autofree char *in_sys = g_strdup_printf("/sys/block/%s", name);
	g_autofree char *in_dev = g_strdup_printf("/dev/%s", name);
	g_autofree char *folder = wdr_world_path(world, in_sys);
	g_autofree char *device = g_build_filename(folder, "device", NULL);
	WdrDisk *d = g_new0(WdrDisk, 1);

	d->name = g_strdup(name);
	d->path = wdr_world_path(world, in_dev);
	d->size = number(folder, "size") * 512;
	d->is_read_only = number(folder, "ro") != 0;
	if (g_str_has_prefix(name, "mmcblk"))
		look_at_mmc(d, device);
	else if (g_str_has_prefix(name, "nvme"))
		look_at_nvme(d, device);
	else if (g_str_has_prefix(name, "loop"))
		d->medium = g_strdup("loop device");
	else
		look_at_other(d, device);
	return d;
}

/* RAM disks, compressed swap, optical drives, and eMMC's boot partitions are nobody's move. */
static bool is_wanted(const WdrDisk *d)
{
	static const char *const unwanted[] = { "ram", "zram", "sr", "fd", "dm-", "md" };

	for (size_t i = 0; i < G_N_ELEMENTS(unwanted); i++) {
		if (g_str_has_prefix(d->name, unwanted[i]))
			return false;
	}
	if (g_str_has_prefix(d->name, "mmcblk") && strstr(d->name, "boot"))
		return false;
	return d->size > 0;
}

static int by_name(const void *a, const void *b)
{
	return strcmp((*(WdrDisk *const *)a)->name, (*(WdrDisk *const *)b)->name);
}

bool wdr_disks_list(const WdrWorld *world, GPtrArray **ret, GError **error)
{
	g_autoptr(GPtrArray) disks = g_ptr_array_new_with_free_func((GDestroyNotify)wdr_disk_free);
	g_autofree char *folder = wdr_world_path(world, "/sys/block");
	DIR *dir = opendir(folder);

	if (!dir)
		return wdr_error_set_errno(error, errno, "listing disks in %s", folder);
	for (struct dirent *e; (e = readdir(dir));) {
		if (*e->d_name == '.')
			continue;
		WdrDisk *d = look_at_disk(world, e->d_name);
		if (is_wanted(d))
			g_ptr_array_add(disks, d);
		else
			wdr_disk_free(d);
	}
	closedir(dir);
	g_ptr_array_sort(disks, by_name);
	*ret = g_steal_pointer(&disks);
	return true;
}

static WdrDisk *image_disk(const char *path, const WdrStat *st)
{
	WdrDisk *d = g_new0(WdrDisk, 1);

	d->name = g_strdup(path);
	d->path = g_strdup(path);
	d->size = st->stx_size;
	d->is_image = true;
	d->packed_kind = wdr_packed_kind(path);
	d->medium =
		d->packed_kind ? g_strconcat(d->packed_kind, " image", NULL) : g_strdup("image");
	d->is_read_only = d->packed_kind || access(path, W_OK) != 0;
	return d;
}

/* NULL: there is no such path. /dev/shm/… may be a path of this machine, where the bench has none.
 */
static char *real_path(const WdrWorld *world, const char *text)
{
	g_autofree char *there = wdr_world_path(world, text);
	char *found = g_str_has_prefix(text, "/dev/") ? realpath(there, NULL) : NULL;

	return found ? found : realpath(text, NULL);
}

/* The name of the world's disk that the text means; NULL: none. */
static char *name_of(const WdrWorld *world, const char *text)
{
	g_autofree char *dev = NULL;
	const char *name = text;

	if (strchr(text, '/')) {
		dev = real_path(world, text);
		g_autofree char *devices = wdr_world_path(world, "/dev");
		g_autofree char *real_devices = realpath(devices, NULL);
		if (!dev || !real_devices || !g_str_has_prefix(dev, real_devices) ||
			dev[strlen(real_devices)] != '/')
			return NULL;
		name = dev + strlen(real_devices) + 1;
	}
	g_autofree char *in_sys = g_strdup_printf("/sys/block/%s", name);
	g_autofree char *folder = wdr_world_path(world, in_sys);
	return *name && !strchr(name, '/') && wdr_is_folder(folder) ? g_strdup(name) : NULL;
}

/* The disk that a mistyped name was meant to be; NULL: none. The caller's. */
static char *closest_disk(const WdrWorld *world, const char *text)
{
	g_autoptr(GPtrArray) disks = NULL;
	g_autoptr(GPtrArray) names = g_ptr_array_new();

	if (!wdr_disks_list(world, &disks, NULL))
		return NULL;
	for (guint i = 0; i < disks->len; i++)
		g_ptr_array_add(names, ((const WdrDisk *)disks->pdata[i])->name);
	g_ptr_array_add(names, NULL);
	return g_strdup(wdr_closest(text, (const char *const *)names->pdata));
}

/* The disk that a partition of this name would be on; NULL: it is no such name. The caller's. */
static char *disk_of_partition(const WdrWorld *world, const char *text)
{
	g_autoptr(GPtrArray) disks = NULL;
	g_autofree char *name = g_path_get_basename(text);

	if (!wdr_disks_list(world, &disks, NULL))
		return NULL;
	for (guint i = 0; i < disks->len; i++) {
		const WdrDisk *d = disks->pdata[i];
		const char *rest = g_str_has_prefix(name, d->name) ? name + strlen(d->name) : "";
		rest += *rest == 'p' ? 1 : 0;
		if (*rest && rest[strspn(rest, "0123456789")] == '\0')
			return g_strdup(d->name);
	}
	return NULL;
}

static bool refuse_partition(const char *text, const char *disk, GError **error)
{
	wdr_error_set(error, WDR_ERROR_USAGE, "%s is a partition, not a whole disk", text);
	if (disk)
		wdr_error_hint(error, "name the disk that it is on: %s", disk);
	else
		wdr_error_hint(error, "name the disk that it is on");
	return false;
}

/* A file that no disk image is, but that one can be made of. */
static bool check_form(const WdrDisk *image, bool may_be_packed, GError **error)
{
	g_autofree char *convert = NULL;
	const char *foreign = wdr_packed_foreign(image->path, &convert);

	if (foreign) {
		wdr_error_set(error, WDR_ERROR_UNSUPPORTED, "%s is %s, not a raw disk image",
			image->path, foreign);
		if (convert)
			wdr_error_hint(error, "to convert it: %s", convert);
		else
			wdr_error_hint(error, "unpack it, and name the image that is in it");
		return false;
	}
	if (!image->packed_kind || may_be_packed)
		return true;
	wdr_error_set(error, WDR_ERROR_USAGE,
		"%s is packed with %s: it can be read as a source, and nothing else", image->path,
		image->packed_kind);
	g_autofree char *unpack = wdr_packed_command(image->path, image->packed_kind);
	wdr_error_hint(error, "to unpack it: %s", unpack);
	return false;
}

/* Puts the unpacked image in the place of the packed one. */
static bool unpack(const WdrWorld *world, WdrDisk *image, GError **error)
{
	WdrStat st;
	char *path = NULL;

	if (!wdr_packed_unpack(world, image->path, &path, error))
		return false;
	image->packed = image->path;
	image->path = path;
	if (wdr_stat(path, &st) != 0)
		return wdr_error_set_errno(error, errno, "opening %s", path);
	image->size = st.stx_size;
	return true;
}

static bool find(
	const WdrWorld *world, const char *text, bool may_be_packed, WdrDisk **ret, GError **error)
{
	g_autofree char *name = name_of(world, text);
	WdrStat st;

	if (name) {
		*ret = look_at_disk(world, name);
		return true;
	}
	if (wdr_stat(text, &st) != 0) {
		int failed = errno;
		if (failed != ENOENT)
			return wdr_error_set_errno(error, failed, "opening %s", text);
		g_autofree char *whole = disk_of_partition(world, text);
		if (whole)
			return refuse_partition(text, whole, error);
		g_autofree char *meant = closest_disk(world, text);
		wdr_error_set(error, WDR_ERROR_USAGE,
			"there is no disk and no image file '%s'%s%s%s", text,
			meant ? "; did you mean '" : "", meant ? meant : "", meant ? "'?" : "");
		g_autofree char *look = wdr_command("survey");
		g_autofree char *image = wdr_shell_word(text);
		if (strchr(text, '/') || strchr(text, '.'))
			wdr_error_hint(error,
				"an image file must exist; to make one: truncate -s 32G %s", image);
		else
			wdr_error_hint(error, "to list the disks: %s", look);
		return false;
	}
	if (S_ISREG(st.stx_mode)) {
		g_autoptr(WdrDisk) image = image_disk(text, &st);
		if (!check_form(image, may_be_packed, error) ||
			(image->packed_kind && !unpack(world, image, error)))
			return false;
		*ret = g_steal_pointer(&image);
		return true;
	}
	if (S_ISBLK(st.stx_mode)) {
		g_autofree char *whole = disk_of_partition(world, text);
		return refuse_partition(text, whole, error);
	}
	return wdr_error_set(error, WDR_ERROR_USAGE, "%s is %s, not a disk or an image file", text,
		S_ISDIR(st.stx_mode) ? "a folder" : "a device of another kind");
}

bool wdr_disk_find(const WdrWorld *world, const char *text, WdrDisk **ret, GError **error)
{
	return find(world, text, false, ret, error);
}

bool wdr_disk_find_source(const WdrWorld *world, const char *text, WdrDisk **ret, GError **error)
{
	return find(world, text, true, ret, error);
}

bool wdr_disk_open_source(const WdrDisk *disk, WdrBlockDev **ret, GError **error)
{
	if (!wdr_blockdev_open(disk->path, WDR_OPEN_READ, ret, error))
		return false;
	if (disk->packed)
		wdr_blockdev_set_name(*ret, disk->packed);
	return true;
}

char *wdr_disk_file(const WdrWorld *world, const WdrDisk *disk)
{
	g_autofree char *in_sys = g_strdup_printf("/sys/block/%s/loop/backing_file", disk->name);

	return disk->is_image ? g_strdup(wdr_disk_file_named(disk)) : wdr_world_line(world, in_sys);
}

const char *wdr_disk_word(const WdrDisk *disk)
{
	return disk->is_image ? wdr_disk_file_named(disk) : disk->name;
}

const char *wdr_disk_file_named(const WdrDisk *disk)
{
	return disk->packed ? disk->packed : disk->path;
}

char *wdr_disk_partition_name(const WdrDisk *disk, unsigned partition)
{
	size_t len = strlen(disk->name);
	bool ends_in_digit = len > 0 && g_ascii_isdigit(disk->name[len - 1]);

	return g_strdup_printf("%s%s%u", disk->name, ends_in_digit ? "p" : "", partition);
}

char *wdr_disk_volume_word(const WdrDisk *disk, unsigned number, uint64_t start)
{
	g_autofree char *name = wdr_disk_partition_name(disk, number);
	g_autofree char *folder = g_path_get_dirname(disk->path);
	g_autofree char *device = g_build_filename(folder, name, NULL);

	return !disk->is_image && access(device, F_OK) == 0
		       ? g_steal_pointer(&device)
		       : g_strdup_printf("%s?offset=%" G_GUINT64_FORMAT, disk->path, start);
}

bool wdr_medium_is_card(const char *medium)
{
	return g_strcmp0(medium, "SD card") == 0 || g_strcmp0(medium, "eMMC") == 0;
}
