/* Changing files of a disk in place: the original is kept and the logbook told before each change,
 * which is written whole or not at all and read back; rewind.h takes it back. */
#pragma once

#include "boot/formats/edit.h"
#include "boot/system/system.h"
#include "change/edit_volume.h"
#include "journal/logbook.h"

/* The disk whose files are changed. */
typedef struct {
	const WdrWorld *world;
	WdrLogbook *logbook;
	const char *state;   /* the logbook's folder */
	const WdrDisk *disk; /* borrowed, like the rest */
	WdrSystem *system;   /* where its volumes lie; those that are mounted are trees */
	WdrBlockDev *dev;    /* open for writing; NULL: all changes are in trees */
	unsigned next;       /* number of the next change; 1 at first */
} WdrChanging;

/* The next change as the logbook keeps it, all but what is changed; the caller's. table_id: what
 * the disk's table is known by once the change is made. */
WdrChange *wdr_change_of_disk(WdrChanging *c, const char *table_id);
/* Keeps bytes as they are before a change, in the logbook's folder and on the medium; `name` is for
 * people who look there. Sets the change's `before` and `original`. */
bool wdr_change_keep(const char *state, WdrChange *change, const char *name, const void *bytes,
	size_t len, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* A file's new content as a whole. */
typedef struct {
	unsigned number;       /* of the partition */
	const char *file;      /* path on its volume */
	const WdrHash *before; /* of the content that must be found; NULL: there must be none */
	GBytes *content;       /* NULL: the file is taken away */
	uint32_t mode;         /* of a file that is new */
} WdrNewContent;
bool wdr_change_content(
	WdrChanging *c, const WdrNewContent *n, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* keeps_copy: the original is also put beside the file, as NAME.old. */
bool wdr_change_file(WdrChanging *c, const WdrEdit *edit, bool keeps_copy,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Nobody else may be at a disk that is changed: REFUSED when it is mounted or in use. A bench's
 * mounts are made up. */
bool wdr_change_check_rest(
	const WdrWorld *world, const WdrDisk *disk, GError **error) G_GNUC_WARN_UNUSED_RESULT;
