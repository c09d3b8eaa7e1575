/* Finds programs that hold database files open for writing.
 *
 * A database that is copied file by file while it runs is what a power cut would leave. The user is
 * told before the move, with the name of the program. What may not be read of /proc without root is
 * not called absent. */
#include "plan/database_writers.h"

#include "base/io.h"
#include "disk/disks.h"
#include "disk/writer.h"
#include "world/pause.h"

#include <stdio.h>
#include <string.h>

/* Below /var/lib. */
static const char *const busy[] = { "clickhouse", "containerd", "couchdb", "docker",
	"elasticsearch", "etcd", "grafana", "influxdb", "mongodb", "mysql", "postgresql",
	"prometheus", "rabbitmq", "redis", "victoria-metrics" };

static void writer_free(void *data)
{
	WdrWriter *w = data;

	g_free(w->name);
	g_free(w->folder);
	g_free(w->unit);
	g_free(w);
}

/* The busy folder that a path lies in; NULL: none. The caller's. */
static char *folder_of(const char *path)
{
	for (size_t i = 0; i < G_N_ELEMENTS(busy); i++) {
		g_autofree char *folder = g_strconcat("/var/lib/", busy[i], NULL);
		size_t len = strlen(folder);
		if (strncmp(path, folder, len) == 0 && path[len] == '/')
			return g_steal_pointer(&folder);
	}
	return NULL;
}

static void note(GPtrArray *writers, const char *process, const char *name, const char *folder)
{
	for (guint i = 0; i < writers->len; i++) {
		WdrWriter *w = writers->pdata[i];
		if (strcmp(w->name, name) == 0 && strcmp(w->folder, folder) == 0) {
			w->files++;
			return;
		}
	}
	WdrWriter *w = g_new0(WdrWriter, 1);
	*w = (WdrWriter){ g_strdup(name), g_strdup(folder), 1, wdr_unit_of_process(process) };
	g_ptr_array_add(writers, w);
}

static void look_at(GPtrArray *writers, const char *process)
{
	g_autofree char *fds = g_build_filename(process, "fd", NULL);
	g_autofree char *comm = g_build_filename(process, "comm", NULL);
	g_autoptr(GDir) dir = g_dir_open(fds, 0, NULL);
	g_autofree char *name = dir ? wdr_read_line(comm) : NULL;

	for (const char *fd; name && (fd = g_dir_read_name(dir));) {
		g_autofree char *link = g_build_filename(fds, fd, NULL);
		g_autofree char *path = g_file_read_link(link, NULL);
		g_autofree char *folder = path ? folder_of(path) : NULL;
		if (folder && wdr_fd_is_writing(process, fd))
			note(writers, process, name, folder);
	}
}

static int by_name(const void *a, const void *b)
{
	const WdrWriter *x = *(WdrWriter *const *)a;
	const WdrWriter *y = *(WdrWriter *const *)b;
	int order = strcmp(x->name, y->name);

	return order ? order : strcmp(x->folder, y->folder);
}

GPtrArray *wdr_writers_find(const WdrWorld *world)
{
	g_autofree char *proc = wdr_world_path(world, "/proc");
	g_autoptr(GDir) dir = g_dir_open(proc, 0, NULL);
	GPtrArray *writers = g_ptr_array_new_with_free_func(writer_free);

	for (const char *name; dir && (name = g_dir_read_name(dir));) {
		g_autofree char *process = g_build_filename(proc, name, NULL);
		if (g_ascii_isdigit(*name))
			look_at(writers, process);
	}
	g_ptr_array_sort(writers, by_name);
	return writers;
}
