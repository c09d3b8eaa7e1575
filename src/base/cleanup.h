/* Cleanup for handles of other libraries and plain file descriptors (g_auto, g_autoptr). */
#pragma once

#include <errno.h>
#include <glib.h>
#include <jansson.h>
#include <unistd.h>

/* A file descriptor that closes itself; -1 means none. errno is kept. */
typedef int WdrFd;

static inline void wdr_fd_clear(WdrFd *fd)
{
	if (*fd >= 0) {
		int saved = errno;
		close(*fd);
		errno = saved;
	}
	*fd = -1;
}
G_DEFINE_AUTO_CLEANUP_CLEAR_FUNC(WdrFd, wdr_fd_clear)

/* Takes the descriptor out of its variable, so that it is not closed. */
static inline int wdr_fd_steal(WdrFd *fd)
{
	int taken = *fd;
	*fd = -1;
	return taken;
}

static inline void wdr_json_unref(json_t *json)
{
	json_decref(json);
}
G_DEFINE_AUTOPTR_CLEANUP_FUNC(json_t, wdr_json_unref)
