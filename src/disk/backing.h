/* What the bytes of a disk lie on: a loop device on its file, a partition on its disk, a mapped or
 * RAID device on its members, an image file on the device of its file system. The one place that
 * decides whether two names mean the same bytes.
 *
 * Sources: loop(4) (LO_GET_STATUS64), Documentation/ABI/stable/sysfs-block of the kernel. */
#pragma once

#include "disk/disks.h"

typedef struct WdrBacking WdrBacking;

/* Never fails: what the kernel does not tell is left out. The caller's. */
WdrBacking *wdr_backing_of(const WdrWorld *world, const WdrDisk *disk);
/* Of any file, folder or device of this machine. The caller's. */
WdrBacking *wdr_backing_of_path(const char *path);
void wdr_backing_free(WdrBacking *backing);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(WdrBacking, wdr_backing_free)

/* A write to one of them changes what the other one reads. */
bool wdr_backing_is_shared(const WdrBacking *a, const WdrBacking *b);
/* `file` is a file (or a loop device over one, a folder, …) that lies in a file system on `disk`:
 * erasing the disk takes the file away. */
bool wdr_backing_holds(const WdrBacking *disk, const WdrBacking *file);

/* The other loop devices of this machine that show some of these bytes (char *, "loop3"). The
 * disk's own name is left out. The caller's. */
GPtrArray *wdr_backing_loops(const WdrBacking *backing, const char *own_name);
/* A write to one changes the other: both are the same disk or file, whatever they are called, or
 * one shows the other's bytes (a loop device, a mapping, another path to it). */
bool wdr_disk_is_same(const WdrWorld *world, const WdrDisk *a, const WdrDisk *b);
