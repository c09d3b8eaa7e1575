/* Opens a disk's partitions and finds boot and root.
 *
 * Root is the ext4 volume with /etc/fstab; boot is what fstab mounts at /boot or /boot/firmware, or
 * what looks like a boot volume, or a folder of root. Why a volume could not be opened is kept: "no
 * root" alone helps nobody. */
#include "boot/system/system.h"

#include "base/stop.h"
#include "base/text.h"
#include "boot/formats/config.h"
#include "boot/system/system_priv.h"

#include <string.h>

static void part_free(void *data)
{
	WdrSystemPart *p = data;

	wdr_volume_free(p->volume);
	wdr_volume_free(p->on_disk);
	wdr_blockdev_free(p->dev);
	wdr_probe_clear(&p->probe);
	wdr_ext_info_clear(&p->ext);
	g_free(p->problem);
	g_free(p->unseen);
	g_free(p->mounted_at);
	g_free(p->mounted_root);
	g_free(p);
}

void wdr_system_close_volumes(WdrSystem *s)
{
	for (guint i = 0; i < s->parts->len; i++) {
		WdrSystemPart *p = s->parts->pdata[i];
		g_clear_pointer(&p->volume, wdr_volume_free);
		g_clear_pointer(&p->on_disk, wdr_volume_free);
	}
}

void wdr_system_free(WdrSystem *s)
{
	if (!s)
		return;
	g_ptr_array_unref(s->parts);
	g_ptr_array_unref(s->mentions);
	g_ptr_array_unref(s->warnings);
	g_ptr_array_unref(s->unread);
	wdr_parttable_free(s->table);
	g_free(s->whole);
	wdr_blockdev_free(s->dev);
	g_free(s->flow);
	g_free(s->os_name);
	g_free(s->host_name);
	g_free(s->home);
	g_free(s->serial);
	g_free(s->medium);
	g_clear_pointer(&s->modules, g_ptr_array_unref);
	g_free(s);
}

const char *wdr_role_name(WdrRole role)
{
	static const char *const names[] = { "", "boot", "root", "swap", "data" };

	return names[role];
}

/* ---- volumes ---- */

static bool open_ext(WdrSystem *s, WdrSystemPart *p, GError **error)
{
	if (!wdr_ext_volume_open(
		    s->dev, p->partition->start, p->partition->size, &p->volume, error))
		return false;
	wdr_ext_volume_info(p->volume, &p->ext);
	p->used_bytes = p->ext.size_bytes - p->ext.free_bytes;
	p->has_usage = true;
	return true;
}

static bool open_fat(WdrSystem *s, WdrSystemPart *p, GError **error)
{
	if (!wdr_fat_volume_open(
		    s->dev, p->partition->start, p->partition->size, &p->volume, error) ||
		!wdr_fat_volume_info(p->volume, &p->fat, error))
		return false;
	p->used_bytes = (p->fat.clusters - p->fat.free_clusters) * p->fat.cluster_bytes;
	p->has_usage = true;
	return true;
}

static void open_volume(WdrSystem *s, WdrSystemPart *p)
{
	g_autoptr(GError) error = NULL;
	bool is_fine = true;

	if (!wdr_probe_read(s->dev, p->partition->start, p->partition->size, &p->probe, &error)) {
		p->problem = g_strdup(error->message);
		return;
	}
	p->is_unfinished = wdr_probe_is_unfinished(s->dev, p->partition->start);
	if (p->probe.is_ambiguous)
		p->problem = g_strdup("signatures of several file systems");
	if (!p->probe.type)
		return;
	if (strncmp(p->probe.type, "ext", 3) == 0)
		is_fine = open_ext(s, p, &error);
	else if (strcmp(p->probe.type, "vfat") == 0)
		is_fine = open_fat(s, p, &error);
	else if (strcmp(p->probe.type, "swap") == 0)
		p->role = WDR_ROLE_SWAP;
	if (is_fine)
		return;
	p->problem = g_strdup(error->message);
	g_clear_pointer(&p->volume, wdr_volume_free);
}

static void add_part(WdrSystem *s, WdrPartition *partition)
{
	WdrSystemPart *p = g_new0(WdrSystemPart, 1);

	p->partition = partition;
	g_ptr_array_add(s->parts, p);
	if (!partition->is_extended && partition->size <= wdr_blockdev_size(s->dev) &&
		partition->start <= wdr_blockdev_size(s->dev) - partition->size)
		open_volume(s, p);
}

/* ---- roles ---- */

/* False for a file that cannot be looked for, too. The reason is kept in p->unseen, for messages
 * that would call it missing. */
static bool has_file(WdrSystemPart *p, const char *path)
{
	g_autoptr(GError) error = NULL;
	g_auto(WdrEntry) entry = { 0 };
	bool found = false;

	if (!p->volume)
		return false;
	if (!wdr_volume_lookup(p->volume, path, &found, NULL, &entry, &error) && !p->unseen)
		p->unseen = g_strdup(error->message);
	return found;
}

static bool is_type(const WdrSystemPart *p, const char *prefix)
{
	return p->volume && g_str_has_prefix(p->probe.type, prefix);
}

static bool is_root_volume(WdrSystemPart *p)
{
	return is_type(p, "ext") && (has_file(p, "etc/fstab") || has_file(p, "etc/os-release"));
}

static const struct {
	const char *file, *flow;
	bool is_firmware;
} signs[] = { { "config.txt", "firmware", true }, { "cmdline.txt", "firmware", true },
	{ "extlinux/extlinux.conf", "extlinux", false }, { "boot.scr", "loader script", false } };

static bool has_boot_files(WdrSystemPart *p)
{
	return is_type(p, "vfat") && (has_file(p, "config.txt") || has_file(p, "cmdline.txt"));
}

/* The firmware reads autoboot.txt on the first FAT volume alone; what it leads to has the boot
 * files.
 */
static void follow_autoboot(WdrSystem *s)
{
	WdrSystemPart *first = NULL;
	g_autofree char *text = NULL;
	size_t len = 0;

	for (guint i = 0; i < s->parts->len && !first; i++) {
		if (is_type(s->parts->pdata[i], "vfat"))
			first = s->parts->pdata[i];
	}
	if (!first || !has_file(first, "autoboot.txt") ||
		!wdr_volume_read_file(
			first->volume, "autoboot.txt", WDR_BOOT_FILE_BYTES_MAX, &text, &len, NULL))
		return;
	s->autoboot = first;
	s->autoboot_to = wdr_autoboot_partition(text, len, false);
	s->autoboot_trial = wdr_autoboot_partition(text, len, true);
	WdrSystemPart *to = wdr_system_part(s, s->autoboot_to);
	if (s->autoboot_to == 0 || !to || !has_boot_files(to))
		return;
	s->boot = to;
	s->flow = g_strdup("firmware");
}

/* An EFI system partition with a program on it; failing that, any FAT volume with one. */
static void find_efi(WdrSystem *s)
{
	for (unsigned round = 0; round < 2 && !s->boot; round++) {
		for (guint i = 0; i < s->parts->len && !s->boot; i++) {
			WdrSystemPart *p = s->parts->pdata[i];
			bool can_be = is_type(p, "vfat") &&
				      (round > 0 || wdr_efi_is_system_partition(s, p->partition));
			g_autofree char *program = can_be ? wdr_efi_first_program(p) : NULL;
			s->boot = program ? p : NULL;
		}
	}
	if (s->boot)
		s->flow = g_strdup("UEFI");
}

/* The first FAT volume with boot files, as the firmware looks for it; failing that, any volume but
 * root's with a loader's configuration. */
static void find_boot(WdrSystem *s)
{
	follow_autoboot(s);
	for (guint i = 0; i < s->parts->len && !s->boot; i++) {
		WdrSystemPart *p = s->parts->pdata[i];
		for (size_t k = 0; k < G_N_ELEMENTS(signs) && !s->boot; k++) {
			bool can_be =
				is_type(p, "vfat") ||
				(!signs[k].is_firmware && is_type(p, "ext") && !is_root_volume(p));
			if (can_be && has_file(p, signs[k].file)) {
				s->boot = p;
				s->flow = g_strdup(signs[k].flow);
			}
		}
	}
	if (!s->boot)
		find_efi(s);
	if (s->boot)
		s->boot->role = WDR_ROLE_BOOT;
}

static void find_root(WdrSystem *s)
{
	for (guint i = 0; i < s->parts->len; i++) {
		WdrSystemPart *p = s->parts->pdata[i];
		if (!s->root && p != s->boot && is_root_volume(p))
			s->root = p;
		else if (p->volume && p->role == WDR_ROLE_NONE)
			p->role = WDR_ROLE_DATA;
	}
	if (s->root)
		s->root->role = WDR_ROLE_ROOT;
}

/* Boot files in a folder of the root volume, where no volume of their own has any. */
static void find_boot_folder(WdrSystem *s)
{
	s->boot_folder = "";
	if (g_strcmp0(s->flow, "UEFI") == 0)
		s->other_boot = wdr_efi_other_boot(s, &s->other_folder);
	for (size_t k = 0; !s->flow && s->root && k < G_N_ELEMENTS(signs); k++) {
		g_autofree char *path = g_strconcat("boot/", signs[k].file, NULL);
		if (!signs[k].is_firmware && has_file(s->root, path)) {
			s->flow = g_strdup(signs[k].flow);
			s->boot_folder = "boot/";
		}
	}
}

WdrSystemPart *wdr_system_boot_part(const WdrSystem *s)
{
	return s->boot ? s->boot : s->flow ? s->root : NULL;
}

static char *read_text(WdrSystemPart *p, const char *path)
{
	char *text = NULL;
	size_t len = 0;

	if (!p || !p->volume ||
		!wdr_volume_read_file(p->volume, path, WDR_BOOT_FILE_BYTES_MAX, &text, &len, NULL))
		return NULL;
	return text;
}

char *wdr_os_name(const char *release)
{
	g_auto(GStrv) lines = g_strsplit(release ? release : "", "\n", -1);

	for (size_t i = 0; lines[i]; i++) {
		if (!g_str_has_prefix(lines[i], "PRETTY_NAME="))
			continue;
		g_autofree char *value = g_shell_unquote(lines[i] + strlen("PRETTY_NAME="), NULL);
		return value ? wdr_escape(value) : NULL;
	}
	return NULL;
}

static void read_names(WdrSystem *s)
{
	/* /etc/os-release is a link on most systems; the file is in usr/lib. */
	g_autofree char *release = read_text(s->root, "etc/os-release");
	g_autofree char *other = release ? NULL : read_text(s->root, "usr/lib/os-release");
	g_autofree char *host = read_text(s->root, "etc/hostname");

	s->os_name = wdr_os_name(release ? release : other);
	s->host_name = host ? wdr_escape(g_strstrip(host)) : NULL;
}

bool wdr_system_look(WdrSystem *s, const WdrWorld *world, GError **error)
{
	s->boot = s->root = s->autoboot = s->other_boot = NULL;
	s->other_folder = NULL;
	s->autoboot_to = s->autoboot_trial = 0;
	g_clear_pointer(&s->flow, g_free);
	g_clear_pointer(&s->os_name, g_free);
	g_clear_pointer(&s->host_name, g_free);
	for (guint i = 0; i < s->parts->len; i++) {
		WdrSystemPart *p = s->parts->pdata[i];
		p->role = p->role == WDR_ROLE_SWAP ? WDR_ROLE_SWAP : WDR_ROLE_NONE;
	}
	find_boot(s);
	find_root(s);
	find_boot_folder(s);
	read_names(s);
	wdr_scan(s, world);
	return wdr_stop_check(error);
}

bool wdr_system_read(const WdrWorld *world, const WdrDisk *disk, WdrSystem **ret, GError **error)
{
	g_autoptr(WdrSystem) s = g_new0(WdrSystem, 1);

	s->parts = g_ptr_array_new_with_free_func(part_free);
	s->mentions = wdr_mentions_new();
	s->warnings = wdr_warnings_new();
	s->unread = g_ptr_array_new_with_free_func(g_free);
	s->home = disk->is_image ? NULL : g_strdup(disk->name);
	s->serial = g_strdup(disk->serial);
	s->medium = disk->is_image ? NULL : g_strdup(disk->medium);
	s->modules = wdr_disk_modules(world, disk);
	if (!wdr_disk_open_source(disk, &s->dev, error) ||
		!wdr_parttable_read(s->dev, &s->table, error))
		return false;
	for (guint i = 0; i < s->table->partitions->len; i++)
		add_part(s, s->table->partitions->pdata[i]);
	if (s->table->kind == WDR_TABLE_NONE) {
		s->whole = wdr_partition_new();
		s->whole->size = wdr_blockdev_size(s->dev);
		add_part(s, s->whole);
		if (!((WdrSystemPart *)s->parts->pdata[0])->probe.type)
			g_ptr_array_set_size(s->parts, 0);
	}
	*ret = g_steal_pointer(&s);
	return true;
}

void wdr_system_use_copy(WdrSystemPart *part, WdrBlockDev *dev, WdrVolume *volume)
{
	wdr_volume_free(part->volume);
	wdr_blockdev_free(part->dev);
	part->volume = volume;
	part->dev = dev;
	wdr_ext_info_clear(&part->ext);
	wdr_ext_volume_info(volume, &part->ext);
}

void wdr_system_use_tree(WdrSystemPart *part, WdrVolume *tree)
{
	part->on_disk = part->volume;
	part->volume = tree;
}

void wdr_system_use_device(WdrSystemPart *part, WdrBlockDev *dev, WdrVolume *volume)
{
	wdr_volume_free(part->volume);
	wdr_blockdev_free(part->dev);
	part->volume = volume;
	part->dev = dev;
}

WdrVolume *wdr_system_part_ext(const WdrSystemPart *part)
{
	return part->on_disk ? part->on_disk : part->volume;
}

bool wdr_system_is_unread(const WdrSystem *s, const char *file)
{
	return g_ptr_array_find_with_equal_func(s->unread, file, g_str_equal, NULL);
}

WdrSystemPart *wdr_system_part(const WdrSystem *s, unsigned number)
{
	for (guint i = 0; i < s->parts->len; i++) {
		WdrSystemPart *p = s->parts->pdata[i];
		if (p->partition->number == number)
			return p;
	}
	return NULL;
}

WdrIdentity wdr_system_identity(const WdrSystem *s, const WdrSystemPart *part)
{
	return (WdrIdentity){ part->probe.uuid, part->probe.label, part->partition->partuuid,
		part->partition->name, part->partition->number, s->home, s->serial };
}

WdrSystemPart *wdr_system_resolve(const WdrSystem *s, const WdrIdentifier *a, unsigned *ret_count)
{
	WdrSystemPart *found = NULL;

	*ret_count = 0;
	for (guint i = 0; i < s->parts->len; i++) {
		WdrSystemPart *p = s->parts->pdata[i];
		WdrIdentity id = wdr_system_identity(s, p);
		if (!wdr_identifier_matches(a, &id))
			continue;
		found = found ? found : p;
		(*ret_count)++;
	}
	return found;
}
