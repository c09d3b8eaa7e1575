/* The source of a move, opened for reading only and looked through: table, volumes, boot and root.
 */
#pragma once

#include "boot/system/system.h"
#include "world/world.h"

/* How our folders of copies are called; one that a kill left behind can go. */
#define WDR_SCRATCH_PREFIX ".wanderitas-scratch-"
/* The folders that an itinerary is drawn in, where the state of the move is to be. */
#define WDR_DRAFT_PREFIX "draft-"

typedef struct WdrSource {
	WdrDisk *disk;
	WdrSystem *system;
	char *scratch; /* our folder of copies; removed with the source */
	GArray *sound; /* what was checked at length; source.c's own */
	/* More than one is going to be opened after it: the copies that it made stay. */
	bool is_shared;
} WdrSource;

/* REFUSED: somebody else may write to the disk while it is read as it lies. */
bool wdr_source_check_quiet(
	const WdrWorld *world, const WdrDisk *disk, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* All of it is borrowed. */
typedef struct {
	const char *scratch; /* an existing folder */
	GPtrArray *notes;    /* char *: what is to be told is added */
	/* The same disk, opened before, which stays open as long as this one; NULL: none. An ext
	 * volume whose superblock is what it was then is not checked, or recovered, once more. */
	const WdrSource *earlier;
} WdrSourceOpening;

/* disk is taken over, also on failure. Fails, with the reason, for a disk without a sound table, a
 * damaged volume, or a kind of system that cannot be moved. A volume whose journal holds changes is
 * recovered in a copy below scratch, and the notes say so. */
bool wdr_source_open(const WdrWorld *world, WdrDisk *disk, const WdrSourceOpening *how,
	WdrSource **ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;
void wdr_source_free(WdrSource *s);
/* It only stays open, for another one to be opened after it: gives up what its volumes hold in
 * memory, and its folder unless that has a copy in it (scratch is NULL then). */
void wdr_source_rest(WdrSource *s);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(WdrSource, wdr_source_free)

/* e2fsck -fn over a volume of a disk. FORMAT with its first finding unless it is clean. Works on a
 * path with any characters, by way of a link in the folder `scratch`. */
bool wdr_check_ext(const WdrWorld *world, const char *path, uint64_t offset, const char *scratch,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
