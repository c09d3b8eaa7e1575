/* Plans for missing drivers: settings of the initramfs generator, and one more segment now. */
#include "change/add_drivers.h"

#include "base/text.h"
#include "boot/kernel/naming.h"
#include "boot/kernel/segment.h"
#include "volume/lookup.h"

#include <string.h>

enum { INITRAMFS_BYTES_MAX = WDR_EDITED_BYTES_MAX };

#define DEBIAN_FOLDER "etc/initramfs-tools"
#define DEBIAN_LIST DEBIAN_FOLDER "/modules"
#define DRACUT_FOLDER "etc/dracut.conf.d"
#define DRACUT_FILE DRACUT_FOLDER "/80-root-drivers.conf"

void wdr_drivers_plan_free(WdrDriversPlan *p)
{
	if (!p)
		return;
	g_free(p->target);
	g_free(p->medium);
	if (p->buses)
		g_ptr_array_unref(p->buses);
	if (p->starts)
		g_ptr_array_unref(p->starts);
	if (p->files)
		g_ptr_array_unref(p->files);
	if (p->runs)
		g_ptr_array_unref(p->runs);
	if (p->left)
		g_ptr_array_unref(p->left);
	if (p->board)
		wdr_board_free(p->board);
	wdr_disk_session_free(p->site);
	g_free(p);
}

static void leave_to_user(WdrDriversPlan *p, const char *format, ...) G_GNUC_PRINTF(2, 3);
static void leave_to_user(WdrDriversPlan *p, const char *format, ...)
{
	va_list args;

	va_start(args, format);
	g_autofree char *text = g_strdup_vprintf(format, args);
	va_end(args);
	g_ptr_array_add(p->left, wdr_escape(text));
}

/* ---- which disk it is for ---- */

static bool find_target(
	WdrDriversPlan *p, const WdrDriversOptions *options, const WdrWorld *world, GError **error)
{
	g_autoptr(WdrDisk) found = NULL;
	const WdrDisk *disk = p->site->disk;

	if (options->target) {
		if (!wdr_disk_find(world, options->target, &found, error))
			return false;
		disk = found;
	}
	p->target = g_strdup(disk->name);
	p->medium = g_strdup(options->medium  ? options->medium
			     : disk->is_image ? NULL
					      : disk->medium);
	/* What drives the buses of this machine tells nothing of another medium. */
	bool is_as_it_is = !disk->is_image && g_strcmp0(p->medium, disk->medium) == 0;
	p->buses = is_as_it_is ? wdr_disk_modules(world, disk) : NULL;
	p->board = p->site->disk->is_image ? NULL : wdr_board_look(world);
	return true;
}

/* ---- the generator's settings ---- */

static bool has_folder(const WdrSystemPart *root, const char *path)
{
	g_auto(WdrEntry) entry = { 0 };

	return wdr_follow(root->volume, path, NULL, NULL, &entry) && entry.kind == WDR_KIND_FOLDER;
}

/* Of all starts, what is not there only since another module needs it. */
static GPtrArray *wanted_names(const WdrDriversPlan *p)
{
	GPtrArray *names = g_ptr_array_new_with_free_func(g_free);

	for (guint i = 0; i < p->starts->len; i++) {
		const WdrDrivers *of = p->starts->pdata[i];
		for (guint k = 0; k < of->list->len; k++) {
			const WdrDriver *d = of->list->pdata[k];
			if (d->where == WDR_DRIVER_ON_ROOT && !d->is_needed_by_other &&
				!g_ptr_array_find_with_equal_func(
					names, d->name, g_str_equal, NULL))
				g_ptr_array_add(names, g_strdup(d->name));
		}
	}
	return names;
}

/* A list of one module a line, the rest of the line its options, behind # a comment. */
static bool is_listed(const char *text, const char *name)
{
	g_auto(GStrv) lines = g_strsplit(text, "\n", -1);

	for (size_t i = 0; lines[i]; i++) {
		const char *start = lines[i] + strspn(lines[i], " \t");
		g_autofree char *word = g_strndup(start, strcspn(start, " \t\r#"));
		if (*word && wdr_module_is_named(word, name))
			return true;
	}
	return false;
}

static void add_to_list(WdrDriversPlan *p, const WdrSystemPart *root, const GPtrArray *names)
{
	g_autofree char *path = NULL;
	g_auto(WdrEntry) entry = { 0 };
	size_t len = 0;
	g_autofree char *before =
		wdr_follow_read(root->volume, DEBIAN_LIST, WDR_BOOT_FILE_BYTES_MAX, &len);
	g_autoptr(GString) text = g_string_new(before);
	bool is_there = wdr_follow(root->volume, DEBIAN_LIST, &path, NULL, &entry);

	if (is_there && !before) {
		leave_to_user(
			p, "/" DEBIAN_LIST " cannot be read: put the modules into it yourself");
		return;
	}
	if (text->len > 0 && text->str[text->len - 1] != '\n')
		g_string_append_c(text, '\n');
	size_t had = text->len;
	for (guint i = 0; i < names->len; i++) {
		if (!is_listed(text->str, names->pdata[i]))
			g_string_append_printf(text, "%s\n", (const char *)names->pdata[i]);
	}
	if (text->len == had)
		return;
	g_autoptr(GBytes) content = g_bytes_new(text->str, text->len);
	wdr_file_plans_add(
		p->files, root->partition->number, path ? path : DEBIAN_LIST, before, len, content);
}

/* A line more of a file of our own. */
static void add_to_dracut(WdrDriversPlan *p, const WdrSystemPart *root, const GPtrArray *names)
{
	size_t len = 0;
	g_autofree char *before =
		wdr_follow_read(root->volume, DRACUT_FILE, WDR_BOOT_FILE_BYTES_MAX, &len);
	g_autoptr(GString) line = g_string_new("add_drivers+=\"");

	for (guint i = 0; i < names->len; i++)
		g_string_append_printf(line, " %s", (const char *)names->pdata[i]);
	g_string_append(line, " \"\n");
	if (before && strstr(before, line->str))
		return;
	g_autofree char *text = g_strconcat(
		before ? before : "# Drivers that root's disk needs.\n", line->str, NULL);
	g_autoptr(GBytes) content = g_bytes_new(text, strlen(text));
	wdr_file_plans_add(p->files, root->partition->number, DRACUT_FILE, before, len, content);
}

static void plan_settings(WdrDriversPlan *p)
{
	const WdrSystemPart *root = p->site->system->root;
	g_autoptr(GPtrArray) names = wanted_names(p);

	if (names->len == 0)
		return;
	if (!root || !root->volume) {
		leave_to_user(p,
			"root is not on %s: put the modules into the settings of its generator "
			"there, or the next kernel loses them",
			p->site->disk->name);
		return;
	}
	bool is_debian = has_folder(root, DEBIAN_FOLDER);
	bool is_dracut = has_folder(root, DRACUT_FOLDER);
	if (is_debian)
		add_to_list(p, root, names);
	if (is_dracut)
		add_to_dracut(p, root, names);
	if (!is_debian && !is_dracut)
		leave_to_user(p, "root has neither /" DEBIAN_FOLDER " nor /" DRACUT_FOLDER
				 ": see that the next initramfs that is made has the modules too");
}

/* ---- the initramfs ---- */

static void add_run(WdrDriversPlan *p, const WdrDrivers *of)
{
	const WdrSystemPart *root = p->site->system->root;
	const char *release = of->release ? of->release : "all";
	const char *debian[] = { "update-initramfs", "-u", "-k", release, NULL };
	const char *dracut[] = { "dracut", "--force", "--kver", release, NULL };

	if (root && root->volume && has_folder(root, DEBIAN_FOLDER))
		g_ptr_array_add(p->runs, g_strdupv((char **)debian));
	else if (root && root->volume && has_folder(root, DRACUT_FOLDER) && of->release)
		g_ptr_array_add(p->runs, g_strdupv((char **)dracut));
	else
		leave_to_user(p, "%s: no generator of initramfs is known on root", of->started_by);
}

static void describe_segment(WdrFilePlan *file, const WdrDrivers *of, const WdrSegment *segment)
{
	g_autofree char *size = wdr_format_size(g_bytes_get_size(segment->bytes));
	g_autofree char *firmware =
		segment->firmware ? g_strdup_printf(" and %u firmware file%s", segment->firmware,
					    segment->firmware == 1 ? "" : "s")
				  : g_strdup("");

	/* Of an /init of somebody's own nobody knows what it reads. */
	file->note = g_strdup_printf("%u module%s%s with indexes and load list, as one segment of "
				     "%s behind what is in it%s",
		of->missing, of->missing == 1 ? "" : "s", firmware, size,
		wdr_initramfs_generator(of->initramfs)
			? ""
			: "; no generator that is known made it, so whether its /init loads them is "
			  "not known");
}

static bool make_segment(WdrDriversPlan *p, const WdrDrivers *of, GError **error)
{
	WdrSegmentFrom from = { of->initramfs, of->release, of->modules, of->root->volume,
		wdr_world_now(p->site->world) };
	g_autoptr(GPtrArray) names = g_ptr_array_new();
	g_autoptr(GPtrArray) load = g_ptr_array_new();
	g_auto(WdrSegment) segment = { 0 };
	g_autoptr(GBytes) content = NULL;
	size_t len = 0;
	g_autofree char *before =
		wdr_follow_read(of->boot->volume, of->file, INITRAMFS_BYTES_MAX, &len);

	for (guint i = 0; i < of->list->len; i++) {
		const WdrDriver *d = of->list->pdata[i];
		if (d->where != WDR_DRIVER_ON_ROOT)
			continue;
		g_ptr_array_add(names, d->name);
		/* Nothing loads a wish by itself where there is no modprobe. */
		if (!d->is_needed_by_other || d->is_wish)
			g_ptr_array_add(load, d->name);
	}
	if (!before)
		return wdr_error_set(error, WDR_ERROR_UNSUPPORTED,
			"/%s cannot be read, or is larger than can be changed in place", of->file);
	if (!wdr_segment_make(&from, names, load, &segment, error) ||
		!wdr_segment_append(before, len, segment.bytes, &content, error))
		return false;
	describe_segment(wdr_file_plans_add(p->files, of->boot->partition->number, of->file, before,
				 len, content),
		of, &segment);
	return true;
}

/* What is there is of no use before its loader loads it. */
static void plan_name(WdrDriversPlan *p, const WdrDrivers *of)
{
	g_auto(WdrNamedIn) in = { 0 };
	g_autoptr(GBytes) content = wdr_initramfs_named(
		of->boot->volume, p->site->system->flow, of->kernel_said, of->file, &in);

	if (!content) {
		leave_to_user(p, "%s: /%s exists, but the loader does not load it: add it by hand",
			of->started_by, of->file);
		return;
	}
	wdr_file_plans_add(
		p->files, of->boot->partition->number, in.file, in.before, in.before_len, content);
}

static void plan_start(WdrDriversPlan *p, const WdrDrivers *of, const WdrDriversOptions *options)
{
	g_autoptr(GError) error = NULL;

	if (of->problem) {
		leave_to_user(p, "%s: %s", of->started_by, of->problem);
		return;
	}
	for (guint i = 0; i < of->list->len; i++) {
		const WdrDriver *d = of->list->pdata[i];
		if (d->where == WDR_DRIVER_ABSENT)
			leave_to_user(p, "%s: this kernel has no %s: install one that has",
				of->started_by, d->name);
	}
	if (of->is_unnamed)
		plan_name(p, of);
	if (of->missing == 0)
		return;
	if (of->is_inside) {
		leave_to_user(p,
			"%s: the initramfs is inside the unified kernel image /%s: add the drivers to the "
			"settings of the system's generator, and make the image anew with kernel-install",
			of->started_by, of->file);
		return;
	}
	if (options->generates)
		add_run(p, of);
	else if (!of->file)
		leave_to_user(p,
			"%s: it boots without an initramfs, and none is created here: create one "
			"with the system's generator (--generate), or install a kernel that has "
			"the "
			"drivers built in and name root by PARTUUID",
			of->started_by);
	else if (!make_segment(p, of, &error))
		leave_to_user(p, "%s: %s", of->started_by, error->message);
}

/* ---- all of it ---- */

static void look(WdrDriversPlan *p)
{
	WdrDriversFor how = { p->medium, p->buses, p->board };

	p->starts = wdr_drivers_look(p->site->system, &how);
	p->missing = 0;
	for (guint i = 0; i < p->starts->len; i++) {
		const WdrDrivers *of = p->starts->pdata[i];
		unsigned lacks =
			of->problem ? 1 : of->missing + of->absent + (of->is_unnamed ? 1 : 0);
		p->missing += lacks;
		if (i == 0)
			p->is_first_fine = lacks == 0;
	}
}

bool wdr_drivers_plan(const WdrWorld *world, const WdrDriversOptions *options, WdrDriversPlan **ret,
	GError **error)
{
	g_autoptr(WdrDriversPlan) p = g_new0(WdrDriversPlan, 1);

	p->files = wdr_file_plans_new();
	p->runs = g_ptr_array_new_with_free_func((GDestroyNotify)g_strfreev);
	p->left = g_ptr_array_new_with_free_func(g_free);
	if (!wdr_disk_session_find(world, options->on, &p->site, error) ||
		!find_target(p, options, world, error))
		return false;
	look(p);
	if (p->starts->len == 0)
		return wdr_error_set(error, WDR_ERROR_UNSUPPORTED,
			"%s: found no kernel that its loader would boot", p->site->disk->name);
	/* First what may find no room. */
	for (guint i = 0; i < p->starts->len; i++)
		plan_start(p, p->starts->pdata[i], options);
	plan_settings(p);
	*ret = g_steal_pointer(&p);
	return true;
}

static bool run_generator(WdrDriversPlan *p, char *const *argv, GError **error)
{
	g_auto(WdrRun) run = { 0 };

	wdr_world_step(p->site->world, "%s creates the initramfs again", argv[0]);
	if (!wdr_world_run(p->site->world, (const char *const *)argv, NULL, &run, error))
		return false;
	if (run.exit_code == 0)
		return true;
	g_autofree char *said = wdr_escape(run.output);
	return wdr_error_set(
		error, WDR_ERROR_IO, "%s ended with %d: %s", argv[0], run.exit_code, said);
}

bool wdr_drivers_write(WdrDriversPlan *p, const char *state, bool *ret_has_begun, GError **error)
{
	*ret_has_begun = false;
	if (p->files->len > 0 &&
		!wdr_disk_session_write(p->site, state, p->files, ret_has_begun, error))
		return false;
	for (guint i = 0; i < p->runs->len; i++) {
		*ret_has_begun = true;
		if (!run_generator(p, p->runs->pdata[i], error))
			return false;
	}
	return true;
}
