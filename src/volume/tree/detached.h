/* Private views of what is mounted. Nobody else sees them, nothing that is mounted or unmounted
 * later changes them, and they go when their descriptor is closed, however the program ends. Both
 * need root.
 *
 * Each returns a descriptor of the view's top folder, or -1 with errno set. */
#pragma once

#include "disk/mounts.h"

/* A copy of the mount at `point` alone: what other mounts cover is seen, what is mounted there is
 * not. */
int wdr_detached_copy(const char *point);
/* Mounts the device of `mount` once more, read-only. Its file system must be in use meanwhile: then
 * this reads and writes nothing by itself. */
int wdr_detached_again(const WdrMount *mount);
