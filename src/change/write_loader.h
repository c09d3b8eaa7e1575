/* Boot loaders outside of volumes: what is where, and writing one to SPI flash or to a medium's
 * loader area. */
#pragma once

#include "boot/board/board.h"
#include "boot/board/loaderfile.h"
#include "change/fact.h"
#include "change/raw_change.h"
#include "disk/disks.h"

typedef struct {
	const char *image; /* the file to be written; NULL: nothing is */
	const char *on; /* "mtd0", "mmcblk1", with /dev/ or without, or an image file; NULL: the SPI
			   flash */
	char **despite; /* "kind", "board": NULL-ended; NULL: none */
} WdrLoaderOptions;

typedef struct {
	const WdrWorld *world;
	WdrBoard *board;  /* NULL: not known */
	WdrDisk *disk;    /* that was named: this machine's, or an image; NULL: none */
	GPtrArray *facts; /* WdrFact */
	bool has_unread;  /* a disk could not be looked at */
	WdrLoaderFile file;
	GBytes *bytes; /* to be written; NULL: nothing is, or it is there already */
	char *device;  /* see disk/flash.h */
	uint64_t at;
} WdrLoaderPlan;

/* REFUSED: the image is not for this board, flash or medium, or would lie over a partition or the
 * table. */
bool wdr_loader_plan(const WdrWorld *world, const WdrLoaderOptions *options, WdrLoaderPlan **ret,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
void wdr_loader_plan_free(WdrLoaderPlan *p);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(WdrLoaderPlan, wdr_loader_plan_free)
bool wdr_loader_write(WdrLoaderPlan *p, const char *state, bool *ret_has_begun,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Where the records of it are kept unless the user says otherwise. The caller's. */
char *wdr_loader_state(const WdrLoaderPlan *p);
/* The newest logbook of such work, on this image or (NULL, or no image) on this machine, that is
 * still in force, whether it came to its end or not. The caller's; NULL: there is none. */
bool wdr_loader_last(const WdrWorld *world, const char *on, char **ret,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
