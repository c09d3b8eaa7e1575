/* Boot loaders outside of volumes: what is where, and writing one to SPI flash, to a medium's
 * loader area, to partitions of its own, or to an eMMC boot partition. */
#pragma once

#include "boot/board/board.h"
#include "boot/board/loader_set.h"
#include "boot/rehearse/board_of_disk.h"
#include "change/fact.h"
#include "change/raw_change.h"
#include "disk/disks.h"

typedef struct {
	const char *image; /* a file, or a folder with the files of a set; NULL: the set that the
			      system's packages have for the board */
	const char *board; /* the name of its folder; NULL: it is found */
	const char *on; /* "mtd0", "mmcblk1", with /dev/ or without, or an image file; NULL: the SPI
			   flash */
	char **despite; /* "kind", "board": NULL-ended; NULL: none */
	bool is_wanted; /* a loader is to be written, or shown what would be; else what a medium
			   that is named would get is shown if the packages have something for it */
} WdrLoaderOptions;

/* One stretch that is written. */
typedef struct {
	char *device; /* see disk/flash.h */
	uint64_t at;
	GBytes *bytes;
	const char *file; /* the name of the file that they are; borrowed from the set */
} WdrLoaderWrite;

typedef struct {
	const WdrWorld *world;
	WdrBoard *board;            /* NULL: not known */
	WdrDisk *disk;              /* that was named: this machine's, or an image; NULL: none */
	WdrSystem *system;          /* of an image; NULL: there is none on it */
	WdrDiskBoard of_image;      /* the board that it is for; empty: nothing tells */
	WdrVolume *packages_volume; /* of this machine's packages; NULL: they are the image's, or
				       none */
	WdrLoaderFolder packages;
	GPtrArray
		*boards; /* WdrLoaderBoard, that the packages have loaders for; NULL: no packages */
	GPtrArray *facts;     /* WdrFact */
	bool has_unread;      /* a disk could not be looked at */
	bool has_installed;   /* the packages have one set for the board */
	WdrLoaderSet *set;    /* NULL: none is to be written */
	GPtrArray *writes;    /* WdrLoaderWrite, in their order; empty: nothing is, or it is there
				 already */
	char *boot_partition; /* an eMMC boot partition is written to: its name; NULL: none is */
} WdrLoaderPlan;

/* REFUSED: the loader is not for this board, flash or medium, or would lie over a partition or the
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
