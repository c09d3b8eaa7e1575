/* Finds which drivers root needs and where each of them is. */
#include "boot/rehearse/root_drivers.h"

#include "boot/kernel/naming.h"
#include "boot/rehearse/rehearse_priv.h"
#include "volume/lookup.h"

#include <string.h>

enum { INDEX_BYTES_MAX = 16 * 1024 * 1024 };

static const struct {
	const char *medium;
	const char *modules[3];
} media[] = {
	{ "NVMe", { "nvme", NULL } },
	{ "USB disk", { "usb_storage", "sd_mod", NULL } },
	{ "SD card", { "mmc_block", NULL } },
	{ "eMMC", { "mmc_block", NULL } },
};

const char *const *wdr_medium_modules(const char *medium)
{
	for (size_t i = 0; i < G_N_ELEMENTS(media); i++) {
		if (g_strcmp0(medium, media[i].medium) == 0)
			return media[i].modules;
	}
	return NULL;
}

/* ---- what a kernel has ---- */

static bool add_folder(void *data, const WdrName *name, GError **error)
{
	(void)error;
	if (name->kind == WDR_KIND_FOLDER)
		g_ptr_array_add(data, g_strdup(name->name));
	return true;
}

/* The release that the root volume has modules for, when there is but one. The caller's. */
static char *only_release(const WdrSystemPart *root)
{
	g_autoptr(GPtrArray) names = g_ptr_array_new_with_free_func(g_free);
	g_autofree char *path = NULL;
	g_auto(WdrEntry) entry = { 0 };
	WdrNode node = { 0, NULL };

	if (!wdr_follow(root->volume, "lib/modules", &path, &node.id, &entry) ||
		entry.kind != WDR_KIND_FOLDER)
		return NULL;
	node.path = path;
	return wdr_volume_list(root->volume, &node, add_folder, names, NULL) && names->len == 1
		       ? g_strdup(names->pdata[0])
		       : NULL;
}

static char *read_index(
	const WdrSystemPart *root, const char *release, const char *name, size_t *ret_len)
{
	g_autofree char *path = g_strdup_printf("lib/modules/%s/%s", release, name);

	return wdr_follow_read(root->volume, path, INDEX_BYTES_MAX, ret_len);
}

WdrModules *wdr_drivers_modules(const WdrSystemPart *root, const char *release, char **ret_release)
{
	g_autofree char *found = NULL;

	if (!root || !root->volume)
		return NULL;
	found = release ? g_strdup(release) : only_release(root);
	if (!found)
		return NULL;
	size_t len = 0;
	g_autofree char *built_in = read_index(root, found, "modules.builtin", &len);
	g_autofree char *dependencies = read_index(root, found, "modules.dep", &len);
	g_autofree char *before = read_index(root, found, "modules.softdep", &len);
	g_autofree char *aliases = read_index(root, found, "modules.alias", &len);
	g_autofree char *info = read_index(root, found, "modules.builtin.modinfo", &len);
	if (!built_in)
		return NULL;
	if (ret_release)
		*ret_release = g_steal_pointer(&found);
	return wdr_modules_new(
		&(WdrModuleTexts){ built_in, dependencies, before, aliases, info, len });
}

/* ---- where a driver is ---- */

WdrDriverLocation wdr_driver_location(
	const WdrModules *modules, const WdrInitramfs *initramfs, const char *name)
{
	WdrModuleState state = modules ? wdr_modules_state(modules, name) : WDR_MODULE_ABSENT;

	if (state == WDR_MODULE_BUILT_IN)
		return WDR_DRIVER_BUILT_IN;
	if (initramfs && wdr_initramfs_module(initramfs, name))
		return WDR_DRIVER_IN_INITRAMFS;
	return !modules                       ? WDR_DRIVER_UNKNOWN
	       : state == WDR_MODULE_LOADABLE ? WDR_DRIVER_ON_ROOT
					      : WDR_DRIVER_ABSENT;
}

const char *wdr_driver_missing_need(
	const WdrModules *modules, const WdrInitramfs *initramfs, const char *name)
{
	const GPtrArray *needs = modules ? wdr_modules_needs(modules, name) : NULL;

	for (guint i = 0; needs && i < needs->len; i++) {
		if (wdr_driver_location(modules, initramfs, needs->pdata[i]) >
			WDR_DRIVER_IN_INITRAMFS)
			return needs->pdata[i];
	}
	return NULL;
}

static bool is_given(const WdrModuleWish *wish, const WdrInitramfs *initramfs)
{
	bool is_given = wish->is_built_in || wish->givers->len == 0;

	for (guint i = 0; !is_given && initramfs && i < wish->givers->len; i++)
		is_given = wdr_initramfs_module(initramfs, wish->givers->pdata[i]) != NULL;
	return is_given;
}

const WdrModuleWish *wdr_driver_missing_wish(
	const WdrModules *modules, const WdrInitramfs *initramfs, const char *name)
{
	const GPtrArray *wishes = modules && wdr_module_is_named(name, "ext4")
					  ? wdr_modules_wishes(modules, name)
					  : NULL;

	for (guint i = 0; wishes && i < wishes->len; i++) {
		if (!is_given(wishes->pdata[i], initramfs))
			return wishes->pdata[i];
	}
	return NULL;
}

/* ---- all that one start needs ---- */

static void driver_free(void *data)
{
	WdrDriver *d = data;

	g_free(d->name);
	g_free(d->use);
	g_free(d->file);
	g_free(d);
}

static void drivers_free(void *data)
{
	WdrDrivers *d = data;

	g_free(d->started_by);
	g_free(d->release);
	g_free(d->kernel);
	g_free(d->kernel_said);
	g_free(d->file);
	if (d->initramfs)
		wdr_initramfs_free(d->initramfs);
	if (d->modules)
		wdr_modules_free(d->modules);
	g_free(d->problem);
	g_ptr_array_unref(d->list);
	g_free(d);
}

static bool has_driver(const WdrDrivers *of, const char *name)
{
	for (guint i = 0; i < of->list->len; i++) {
		if (wdr_module_is_named(((const WdrDriver *)of->list->pdata[i])->name, name))
			return true;
	}
	return false;
}

/* Who wants it. */
typedef enum { FOR_ITSELF, FOR_ANOTHER, AS_A_WISH } Reason;

static void add_driver(WdrDrivers *of, const char *name, const char *use, Reason reason);

static void add_needs(WdrDrivers *of, const char *name)
{
	const GPtrArray *needs = wdr_modules_needs(of->modules, name);
	g_autofree char *use = g_strdup_printf("%s needs it", name);

	for (guint i = 0; needs && i < needs->len; i++)
		add_driver(of, needs->pdata[i], use, FOR_ANOTHER);
}

/* All that can give it, as modprobe loads them all. */
static void add_givers(WdrDrivers *of, const char *name, const WdrModuleWish *wish)
{
	g_autofree char *use = g_strdup_printf("%s asks for it", name);

	for (guint i = 0; i < wish->givers->len; i++)
		add_driver(of, wish->givers->pdata[i], use, AS_A_WISH);
}

/* Of what is going to be put into the initramfs, and of what fails without. */
static void add_wishes(WdrDrivers *of, const WdrDriver *d)
{
	const GPtrArray *wishes = wdr_modules_wishes(of->modules, d->name);
	const WdrModuleWish *missing = wdr_driver_missing_wish(of->modules, of->initramfs, d->name);

	if (missing && d->where != WDR_DRIVER_ON_ROOT)
		add_givers(of, d->name, missing);
	for (guint i = 0; d->where == WDR_DRIVER_ON_ROOT && wishes && i < wishes->len; i++) {
		if (!is_given(wishes->pdata[i], of->initramfs))
			add_givers(of, d->name, wishes->pdata[i]);
	}
}

static void add_driver(WdrDrivers *of, const char *name, const char *use, Reason reason)
{
	WdrDriver *d = NULL;

	if (has_driver(of, name))
		return;
	d = g_new0(WdrDriver, 1);
	d->name = wdr_module_name(name);
	d->use = g_strdup(use);
	d->is_needed_by_other = reason != FOR_ITSELF;
	d->is_wish = reason == AS_A_WISH;
	d->where = wdr_driver_location(of->modules, of->initramfs, name);
	if (d->where == WDR_DRIVER_IN_INITRAMFS)
		d->file = g_strdup(wdr_initramfs_module(of->initramfs, name));
	else if (d->where == WDR_DRIVER_ON_ROOT)
		d->file = g_strdup(wdr_modules_path(of->modules, name));
	of->missing += d->where == WDR_DRIVER_ON_ROOT;
	of->absent += d->where == WDR_DRIVER_ABSENT;
	g_ptr_array_add(of->list, d);
	if (!of->modules || d->where == WDR_DRIVER_BUILT_IN || d->where == WDR_DRIVER_ABSENT)
		return;
	add_needs(of, d->name);
	add_wishes(of, d);
}

/* Another kernel may have another name for what drives a bus. */
static void add_buses(WdrDrivers *of, const GPtrArray *modules)
{
	for (guint i = 0; modules && i < modules->len; i++) {
		const char *name = modules->pdata[i];
		if (of->modules && wdr_modules_state(of->modules, name) != WDR_MODULE_ABSENT)
			add_driver(of, name, "its buses", FOR_ITSELF);
	}
}

static void add_all(WdrDrivers *of, const WdrDriversFor *how)
{
	const char *const *modules = wdr_medium_modules(how->medium);
	const char *fs = of->root ? of->root->probe.type : NULL;

	for (size_t i = 0; modules && modules[i]; i++)
		add_driver(of, modules[i], how->medium, FOR_ITSELF);
	/* Where the disk is seen, it is known whether this one is of that kind. */
	bool is_seen = how->modules && how->modules->len > 0;
	if (g_strcmp0(how->medium, "USB disk") == 0 && !is_seen && of->modules &&
		wdr_modules_state(of->modules, WDR_DRIVER_UAS) == WDR_MODULE_LOADABLE)
		add_driver(of, WDR_DRIVER_UAS, "USB bridges that speak UAS", FOR_ITSELF);
	add_buses(of, how->modules);
	add_driver(of,
		fs && g_str_has_prefix(fs, "ext") ? "ext4"
		: fs                              ? fs
						  : "ext4",
		"root's file system", FOR_ITSELF);
}

/* ---- each kernel ---- */

static const WdrStep *last_fault(const WdrWalk *w)
{
	for (guint i = w->steps->len; i-- > 0;) {
		const WdrStep *step = w->steps->pdata[i];
		if (step->state == WDR_STATE_STOP)
			return step;
	}
	return NULL;
}

static WdrDrivers *same_start(const GPtrArray *all, const char *kernel, const char *file)
{
	for (guint i = 0; i < all->len; i++) {
		WdrDrivers *of = all->pdata[i];
		if (g_strcmp0(of->kernel, kernel) == 0 && g_strcmp0(of->file, file) == 0)
			return of;
	}
	return NULL;
}

/* Its name without the comma of one that has a clause in it. The caller's. */
static char *named(const WdrBootEntry *entry)
{
	size_t len = strlen(entry->name);

	return g_strndup(entry->name, len > 0 && entry->name[len - 1] == ',' ? len - 1 : len);
}

/* A kernel that is started without one: the system may have made one all the same. */
static void look_beside(WdrDrivers *of, const WdrDriversFor *how)
{
	of->initramfs = wdr_initramfs_beside(of->boot->volume, of->kernel, of->release, &of->file);
	of->is_unnamed = of->initramfs != NULL;
	if (!of->is_unnamed)
		return;
	g_ptr_array_set_size(of->list, 0);
	of->missing = of->absent = 0;
	add_all(of, how);
}

static void look_at_entry(WdrWalk *w, const WdrBootEntries *entries, const WdrBootEntry *entry,
	const WdrDriversFor *how, GPtrArray *ret)
{
	const WdrSystemPart *part = wdr_boot_entry_part(entries, entry);
	g_autofree char *file = NULL;
	g_auto(WdrEntry) found = { 0 };
	WdrDrivers *of = NULL;

	if (entry->doubt || !entry->kernel.path)
		return;
	if (entry->initramfs.path &&
		!wdr_follow(part->volume, entry->initramfs.path, &file, NULL, &found))
		file = NULL;
	of = same_start(ret, entry->kernel.path, file);
	if (of) {
		g_autofree char *before = of->started_by;
		g_autofree char *name = named(entry);
		of->started_by = g_strdup_printf("%s, %s", before, name);
		return;
	}
	wdr_walk_forget(w);
	w->entry = entry;
	bool is_whole = wdr_walk_files(w, part);
	of = g_new0(WdrDrivers, 1);
	of->list = g_ptr_array_new_with_free_func(driver_free);
	of->started_by = named(entry);
	of->boot = part;
	of->is_inside = entry->initramfs.bytes > 0;
	of->kernel = g_strdup(entry->kernel.path);
	of->kernel_said = g_strdup(entry->kernel.said);
	of->file = g_steal_pointer(&file);
	g_ptr_array_add(ret, of);
	if (!is_whole) {
		of->problem = g_strdup(last_fault(w) ? last_fault(w)->text : "it cannot be read");
		return;
	}
	wdr_walk_find_modules(w);
	of->root = w->root ? w->root : w->s->root;
	of->release = g_strdup(w->release);
	of->initramfs = g_steal_pointer(&w->initramfs);
	of->modules = g_steal_pointer(&w->modules);
	add_all(of, how);
	if (of->missing > 0 && !of->file)
		look_beside(of, how);
}

GPtrArray *wdr_drivers_look(const WdrSystem *s, const WdrDriversFor *how)
{
	GPtrArray *ret = g_ptr_array_new_with_free_func(drivers_free);
	g_autoptr(WdrBootEntries) entries = wdr_boot_entries_find(s, how->board, NULL);
	const WdrRehearsing none = { 0 };
	WdrWalk w = { .s = s, .how = &none, .medium = how->medium, .board = how->board };

	w.steps = wdr_walk_steps_new();
	for (guint i = 0; entries->part && entries->part->volume && i < entries->list->len; i++)
		look_at_entry(&w, entries, entries->list->pdata[i], how, ret);
	wdr_walk_forget(&w);
	g_ptr_array_unref(w.steps);
	return ret;
}
