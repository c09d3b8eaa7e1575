/* Looks at the machine and all its disks. */
#include "boot/system/survey.h"

#include "base/io.h"
#include "base/text.h"
#include "disk/backing.h"
#include "disk/users.h"

#include <errno.h>
#include <string.h>

enum { TEXT_BYTES_MAX = 65536 };

static void survey_disk_free(void *data)
{
	WdrSurveyDisk *d = data;

	wdr_system_free(d->system);
	wdr_disk_free(d->disk);
	g_free(d->loader);
	g_free(d->loader_problem);
	g_free(d->problem);
	g_ptr_array_unref(d->mounted);
	g_free(d);
}

void wdr_survey_free(WdrSurvey *s)
{
	if (!s)
		return;
	g_ptr_array_unref(s->disks);
	g_ptr_array_unref(s->others);
	g_free(s->board);
	g_free(s->os_name);
	g_free(s->host_name);
	g_free(s->kernel);
	g_free(s->root_source);
	g_free(s);
}

char *wdr_survey_part_name(const WdrSurveyDisk *d, unsigned number)
{
	if (number == 0)
		return g_strdup(d->disk->name);
	if (!d->disk->is_image)
		return wdr_disk_partition_name(d->disk, number);
	g_autofree char *base = g_path_get_basename(d->disk->name);
	return g_strdup_printf("%s:%u", base, number);
}

/* ---- disks ---- */

static void note_mounts(const WdrWorld *world, WdrSurveyDisk *d)
{
	for (guint i = 0; i < d->system->parts->len; i++) {
		const WdrSystemPart *p = d->system->parts->pdata[i];
		g_ptr_array_add(
			d->mounted, wdr_disk_mount_point(world, d->disk, p->partition->number));
	}
}

bool wdr_system_open(const WdrWorld *world, const WdrDisk *disk, WdrSystem **ret, GError **error)
{
	g_autoptr(WdrSystem) s = NULL;

	if (!wdr_system_read(world, disk, &s, error) || !wdr_system_look(s, world, error))
		return false;
	*ret = g_steal_pointer(&s);
	return true;
}

static WdrSurveyDisk *look_at(const WdrWorld *world, WdrDisk *disk)
{
	WdrSurveyDisk *d = g_new0(WdrSurveyDisk, 1);
	g_autoptr(GError) error = NULL;

	d->disk = disk;
	d->mounted = g_ptr_array_new_with_free_func(g_free);
	d->is_live = wdr_disk_is_live(world, disk);
	if (!wdr_system_open(world, disk, &d->system, &error)) {
		int err = wdr_error_get_errno(error);
		d->lacks_rights = err == EACCES || err == EPERM;
		d->problem = g_strdup(error->message);
		return d;
	}
	note_mounts(world, d);
	return d;
}

static bool add_all(const WdrWorld *world, WdrSurvey *s, GError **error)
{
	g_autoptr(GPtrArray) disks = NULL;

	if (!wdr_disks_list(world, &disks, error))
		return false;
	g_ptr_array_set_free_func(disks, NULL);
	for (guint i = 0; i < disks->len; i++)
		g_ptr_array_add(s->disks, look_at(world, disks->pdata[i]));
	s->has_machine = true;
	return true;
}

static bool is_among(const WdrWorld *world, const WdrSurvey *s, const WdrDisk *disk)
{
	for (guint i = 0; i < s->disks->len; i++) {
		if (wdr_disk_is_same(
			    world, ((const WdrSurveyDisk *)s->disks->pdata[i])->disk, disk))
			return true;
	}
	return false;
}

/* The machine's further disks, for what mentions on the named ones may name. */
static void add_others(const WdrWorld *world, WdrSurvey *s)
{
	g_autoptr(GPtrArray) disks = NULL;

	if (!wdr_disks_list(world, &disks, NULL))
		return;
	g_ptr_array_set_free_func(disks, NULL);
	for (guint i = 0; i < disks->len; i++) {
		if (is_among(world, s, disks->pdata[i]))
			wdr_disk_free(disks->pdata[i]);
		else
			g_ptr_array_add(s->others, look_at(world, disks->pdata[i]));
	}
}

static bool add_named(const WdrWorld *world, WdrSurvey *s, char *const *names, GError **error)
{
	for (size_t i = 0; names[i]; i++) {
		WdrDisk *disk = NULL;
		if (!wdr_disk_find_source(world, names[i], &disk, error))
			return false;
		s->has_machine |= !disk->is_image;
		g_ptr_array_add(s->disks, look_at(world, disk));
	}
	if (s->has_machine)
		add_others(world, s);
	return true;
}

/* ---- the machine ---- */

static char *line_of(const WdrWorld *world, const char *path)
{
	g_autofree char *line = wdr_world_line(world, path);

	return line ? wdr_escape(line) : NULL;
}

static char *os_of(const WdrWorld *world)
{
	g_autofree char *where = wdr_world_path(world, "/etc/os-release");
	g_autofree char *text = NULL;
	size_t len = 0;

	if (!wdr_read_file(where, TEXT_BYTES_MAX, &text, &len, NULL))
		return NULL;
	return wdr_os_name(text);
}

static void look_at_machine(const WdrWorld *world, WdrSurvey *s)
{
	s->board = line_of(world, "/proc/device-tree/model");
	s->os_name = os_of(world);
	s->host_name = line_of(world, "/etc/hostname");
	s->kernel = line_of(world, "/proc/sys/kernel/osrelease");
	for (guint i = 0; i < s->disks->len && !s->root_source; i++) {
		const WdrSurveyDisk *d = s->disks->pdata[i];
		for (guint k = 0; k < d->mounted->len; k++) {
			const WdrSystemPart *p = d->system->parts->pdata[k];
			if (g_strcmp0(d->mounted->pdata[k], "/") == 0)
				s->root_source = wdr_survey_part_name(d, p->partition->number);
		}
	}
}

bool wdr_survey_make(const WdrWorld *world, char *const *names, WdrSurvey **ret, GError **error)
{
	g_autoptr(WdrSurvey) s = g_new0(WdrSurvey, 1);

	s->disks = g_ptr_array_new_with_free_func(survey_disk_free);
	s->others = g_ptr_array_new_with_free_func(survey_disk_free);
	if (!(names && names[0] ? add_named(world, s, names, error) : add_all(world, s, error)))
		return false;
	if (s->has_machine)
		look_at_machine(world, s);
	*ret = g_steal_pointer(&s);
	return true;
}

bool wdr_systems_beside(
	const WdrWorld *world, const WdrDisk *a, const WdrDisk *b, GPtrArray **ret, GError **error)
{
	g_autoptr(GPtrArray) disks = NULL;
	GPtrArray *systems = NULL;

	if (!wdr_disks_list(world, &disks, error))
		return false;
	systems = g_ptr_array_new_with_free_func((GDestroyNotify)wdr_system_free);
	for (guint i = 0; i < disks->len; i++) {
		const WdrDisk *d = disks->pdata[i];
		WdrSystem *system = NULL;
		if (!wdr_disk_is_same(world, d, a) && !(b && wdr_disk_is_same(world, d, b)) &&
			wdr_system_open(world, d, &system, NULL))
			g_ptr_array_add(systems, system);
	}
	*ret = systems;
	return true;
}
