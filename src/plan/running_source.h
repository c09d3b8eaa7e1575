/* A source that runs: what of it is mounted is read through the kernel, the rest from the disk. */
#pragma once

#include "boot/system/survey.h"
#include "copy/exclude.h"
#include "plan/itinerary.h"

/* Gives each mounted ext part its tree to be read through (see wdr_tree_volume_open_mount()), and
 * each mounted FAT the medium past the page cache, flushed before: so short names, attributes and
 * dates come along as they are. Sets mounted_at. On a bench that is not running, and for images,
 * nothing. */
bool wdr_running_use(const WdrWorld *world, const WdrDisk *disk, WdrSystem *system,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* A disk's system opened for reading and looked through so; volumes at rest are read as they are on
 * the disk, journals included. */
bool wdr_running_open(const WdrWorld *world, const WdrDisk *disk, WdrSystem **ret,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Before a further look: flushes what is mounted, and opens mounted FATs anew, to see what is on
 * the medium by now. */
bool wdr_running_refresh(const WdrWorld *world, const WdrDisk *disk, WdrSystem *system,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* All mounted ext parts will be walked: their metadata is read ahead. */
void wdr_running_read_ahead(WdrSystem *system);
/* Mounted FATs are changed through their mounts, not on the disk: gives them their trees. */
bool wdr_running_use_trees(
	const WdrWorld *world, WdrSystem *system, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Some part of it is mounted. */
bool wdr_running_is(const WdrSystem *system);

/* What of this part stays behind: the user's patterns, and of a mounted tree sockets, lost+found,
 * the target itself where that is a file on it, and our own state, which is in the folder `state`
 * (NULL: not yet made). The caller's. */
WdrExclude *wdr_running_exclude(const WdrWorld *world, const WdrItinerary *it,
	const WdrSystem *system, const WdrSystemPart *part, const char *state);
