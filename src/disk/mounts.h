/* Mounts as the kernel tells them (proc_pid_mountinfo(5)): of this process, and of every other
 * mount namespace that can be seen; swap areas. */
#pragma once

#include "world/world.h"

#include <stdint.h>

typedef struct {
	unsigned id;   /* of the mount, as statx(2) tells it */
	char *device;  /* "8:1" */
	char *root;    /* the folder of the file system that is shown; "/": all of it */
	char *point;   /* where */
	char *type;    /* "ext4" */
	char *source;  /* "/dev/sda1" */
	char *options; /* of the file system, whatever this mount's own are: "rw,data=journal" */
	char *who;     /* a process that sees it, "pid 812 (dockerd)"; NULL: this one */
} WdrMount;

void wdr_mount_free(WdrMount *mount);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(WdrMount, wdr_mount_free)

/* This process's mounts (WdrMount *), in the order in which they were made. The caller's. */
GPtrArray *wdr_mounts(const WdrWorld *world);
/* The same, also when the world is a bench: where its files themselves lie. */
GPtrArray *wdr_mounts_of_this_machine(void);
/* Those of all mount namespaces that proc shows, this process's first. The caller's. */
GPtrArray *wdr_mounts_everywhere(const WdrWorld *world);
bool wdr_mount_has_option(const WdrMount *mount, const char *option);
/* It shows the whole file system. */
bool wdr_mount_is_whole(const WdrMount *mount);
/* What is seen at its point is this mount: nothing lies over it. Only of this process's mounts. */
bool wdr_mount_is_seen(const WdrWorld *world, const WdrMount *mount);
/* The swap areas in use, as the kernel names them: devices and files. The caller's. */
char **wdr_swaps(const WdrWorld *world);
