#include "move/logbook.h"

#include "base/cleanup.h"
#include "base/io.h"

#include <fcntl.h>
#include <string.h>

struct WdrLogbook {
	const WdrWorld *world;
	char *path;
	int fd;
	uint64_t size;
};

/* entry is taken over. */
static bool append(WdrLogbook *l, json_t *entry, GError **error)
{
	g_autoptr(json_t) owned = entry;
	g_autofree char *dumped = json_dumps(owned, 0);
	g_autofree char *line = g_strconcat(dumped ? dumped : "{}", "\n", NULL);
	size_t len = strlen(line);

	if (!wdr_pwrite_all(l->fd, line, len, l->size, error) || fdatasync(l->fd) != 0) {
		if (error && !*error)
			wdr_error_set_errno(error, errno, "flushing");
		g_prefix_error(error, "the logbook %s: ", l->path);
		wdr_error_hint(error, "a move needs a folder for its state: see --state DIR");
		return false;
	}
	l->size += len;
	return true;
}

bool wdr_logbook_begin(const WdrWorld *world, const char *path, const char *itinerary_file,
	WdrLogbook **ret, GError **error)
{
	g_autoptr(WdrLogbook) l = g_new0(WdrLogbook, 1);

	l->world = world;
	l->path = g_strdup(path);
	l->fd = open(path, O_WRONLY | O_CREAT | O_TRUNC | O_CLOEXEC | O_NOFOLLOW, 0600);
	if (l->fd < 0)
		return wdr_error_set_errno(error, errno, "creating the logbook %s", path);
	if (!append(l,
		    json_pack("{s:s, s:I, s:s, s:s}", "format", "wanderitas-logbook/1", "at",
			    (json_int_t)wdr_world_now(world), "event", "begun", "itinerary",
			    itinerary_file),
		    error))
		return false;
	*ret = g_steal_pointer(&l);
	return true;
}

bool wdr_logbook_step(WdrLogbook *l, GError **error, const char *format, ...)
{
	va_list args;

	va_start(args, format);
	g_autofree char *what = g_strdup_vprintf(format, args);
	va_end(args);
	wdr_world_step(l->world, "%s", what);
	return append(l,
		json_pack("{s:I, s:s, s:s}", "at", (json_int_t)wdr_world_now(l->world), "event",
			"step", "what", what),
		error);
}

bool wdr_logbook_done(WdrLogbook *l, GError **error)
{
	return append(l,
		json_pack("{s:I, s:s}", "at", (json_int_t)wdr_world_now(l->world), "event", "done"),
		error);
}

void wdr_logbook_stopped(WdrLogbook *l, const char *why)
{
	(void)append(l,
		json_pack("{s:I, s:s, s:s}", "at", (json_int_t)wdr_world_now(l->world), "event",
			"stopped", "what", why),
		NULL);
}

void wdr_logbook_free(WdrLogbook *l)
{
	if (!l)
		return;
	if (l->fd >= 0)
		close(l->fd);
	g_free(l->path);
	g_free(l);
}
