/* What was measured of one disk, image, folder or partition, with warnings and notes. */
#pragma once

#include "disk/disks.h"
#include "disk/link.h"
#include "pace/pace.h"

typedef struct {
	char *name;   /* as the user called it; a disk's own name */
	char *kind;   /* "disk", "image", "folder", "partition" */
	char *disk;   /* the disk that it is or is on; NULL: unknown */
	char *medium; /* of that, as in WdrDisk; NULL: unknown */
	char *model, *serial;
	WdrLink link;  /* of that disk */
	uint64_t size; /* of the disk, or of the image; 0: unknown */
	uint64_t span; /* bytes that were measured */
	bool is_past_cache;
	bool is_stand_in; /* a file was measured, not the medium that it is made for */
	WdrPaceFigure figures[WDR_PACE_KINDS];
	GPtrArray *warnings; /* char *: whole sentences, fit to be shown */
	char *failure;       /* it stopped answering, or the like: NULL: it did not */
	char *label;         /* what tells it from others of its name; NULL: nothing needs to */
} WdrPaced;
WdrPaced *wdr_paced_new(const char *name, const char *kind);
void wdr_paced_free(WdrPaced *p);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(WdrPaced, wdr_paced_free)
/* "nvme0n1 (before)", or its name alone. The caller's. */
char *wdr_paced_title(const WdrPaced *p);
bool wdr_paced_has_figures(const WdrPaced *p);

/* There is such a disk, image or folder. */
bool wdr_paced_is_there(
	const WdrWorld *world, const char *what, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Measures it: a disk or an image is read only; in a folder a scratch file is written and read,
 * which is gone afterwards whatever happens. A failure of the medium half-way is no error but
 * `failure`. Every figure takes about `seconds`. */
bool wdr_paced_measure(const WdrWorld *world, const char *what, double seconds, WdrPaced **ret,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* A partition whose contents the user gives up, to be written to. REFUSED: it is in use, or the
 * running system's. */
typedef struct {
	WdrDisk *disk;
	unsigned number;
	char *name;       /* "nvme0n1p3" */
	char *path;       /* what to open: its own device, or its disk */
	WdrPaceRun place; /* in that */
	char *contents;   /* in words: what would be lost */
} WdrPaceStretch;
void wdr_pace_stretch_clear(WdrPaceStretch *s);
G_DEFINE_AUTO_CLEANUP_CLEAR_FUNC(WdrPaceStretch, wdr_pace_stretch_clear)
/* `partition`: its name, or its number on the disk. */
bool wdr_pace_stretch_find(const WdrWorld *world, const char *disk, const char *partition,
	WdrPaceStretch *ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;
bool wdr_paced_measure_stretch(const WdrWorld *world, const WdrPaceStretch *stretch, double seconds,
	WdrPaced **ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* Adds warnings and notes on its figures: see pace_judge.c. */
void wdr_paced_judge(const WdrWorld *world, WdrPaced *p);
