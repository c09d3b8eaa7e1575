/* The logbook: what a move, or a change in place, has done so far, one JSON object a line, each
 * line on the medium before the step that it announces begins.
 *
 *   {"format": "wanderitas-logbook/2", "at": SECONDS, "event": "begun", "itinerary": FILE}
 *   {"at": SECONDS, "event": "step", "what": "…"}          about to do this
 *   {"at": SECONDS, "event": "change", "number": N, …}     about to change a file: see WdrChange
 *   {"at": SECONDS, "event": "changed", "number": N}       it was changed and read back
 *   {"at": SECONDS, "event": "rewound", "number": N}       it was put back
 *   {"at": SECONDS, "event": "mark", "what": "cleared"}    how far it has come: see move_progress.h
 *   {"at": SECONDS, "event": "part", "number": N, "what": "copied"}
 *   {"at": SECONDS, "event": "range", "number": N, "start": BYTES, "size": BYTES, "xxh128": "…"}
 *   {"at": SECONDS, "event": "unreadable", …}              see unreadable.h
 *   {"at": SECONDS, "event": "figures", "entries": N, "bytes": N, "bytes_before": N,
 *    "copy_ms": N, "read_back_while_copying_bytes": N, "read_back_bytes": N, "read_back_ms": N}
 *                                                          how fast it went
 *   {"at": SECONDS, "event": "boot-time", "firmware_us": N, "loader_us": N, "kernel_us": N,
 *    "initramfs_us": N, "services_us": N}               how long the old disk took to boot
 *   {"at": SECONDS, "event": "stopped", "what": "…"}       an error or a signal ended it
 *   {"at": SECONDS, "event": "done"}
 *
 * Paths and names are as base/json.h has bytes. Originals of changed files lie in the folder
 * "originals" beside it. */
#pragma once

#include "base/cleanup.h"
#include "base/hash.h"
#include "copy/unreadable.h"
#include "volume/volume.h"
#include "world/boot_time.h"
#include "world/world.h"

enum { WDR_LOGBOOK_BYTES_MAX = 64 * 1024 * 1024 };

/* One change in place. With a file: its content before is kept as `original` (NULL: the file was
 * added). Without: the identifiers `identifiers` of the disk were changed, or what lies outside of
 * its volumes: `region`, or settings that are kept where only a command reaches them. */
typedef struct {
	unsigned number;
	char *disk, *disk_name; /* path; name or NULL for an image */
	char *table_id;         /* of the disk, at that time */
	unsigned partition;
	char *tree; /* where the volume was mounted; NULL: it was not */
	char *file; /* NULL: a change of identifiers */
	char *original;
	bool is_removal; /* the file was taken away */
	WdrHash before, after;
	uint32_t mode, uid, gid;
	WdrTime mtime;
	char *identifiers; /* JSON: see renew_identifiers.h */
	char *region;      /* a device of which bytes were changed; NULL: none */
	uint64_t region_at, region_size;
	bool is_settings; /* the firmware's settings were changed; the original is their text */
	/* When read. */
	bool is_done; /* it was carried out to its end */
	bool is_rewound;
} WdrChange;
void wdr_change_free(WdrChange *change);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(WdrChange, wdr_change_free)
/* One of these (WdrChange) was not put back. */
bool wdr_changes_are_in_force(const GPtrArray *changes);

/* What a copied part was like when that was said. */
typedef struct {
	uint64_t list_bytes; /* of its packing list; 0: it has none */
	bool has_head;
	WdrHash head; /* of the first bytes of its volume, where file systems note that they were
			 mounted */
} WdrPartSeal;

typedef struct WdrLogbook WdrLogbook;

/* itinerary_file may be NULL: no plan lies beside it. Starts a new one. An old one with changes
 * that were not put back is kept under another name. */
bool wdr_logbook_begin(const WdrWorld *world, const char *path, const char *itinerary_file,
	WdrLogbook **ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Goes on with one; a last line that was cut short is taken away. */
bool wdr_logbook_open(const WdrWorld *world, const char *path, WdrLogbook **ret,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Also tells the world's observer. */
bool wdr_logbook_step(WdrLogbook *l, GError **error, const char *format, ...) G_GNUC_PRINTF(3, 4);
/* One of the numbered steps of a work; the number goes to the observer alone. */
bool wdr_logbook_numbered_step(WdrLogbook *l, unsigned number, const char *what, GError **error);
bool wdr_logbook_change(WdrLogbook *l, const WdrChange *change, GError **error);
bool wdr_logbook_changed(WdrLogbook *l, unsigned number, GError **error);
bool wdr_logbook_rewound(WdrLogbook *l, unsigned number, GError **error);
/* The words are explained in move_progress.h. */
bool wdr_logbook_mark(WdrLogbook *l, const char *what, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* The same with what tells later whether the part is still what it was. */
bool wdr_logbook_sealed(
	WdrLogbook *l, unsigned number, const char *what, const WdrPartSeal *seal, GError **error);
bool wdr_logbook_part(
	WdrLogbook *l, unsigned number, const char *what, GError **error) G_GNUC_WARN_UNUSED_RESULT;
bool wdr_logbook_range(WdrLogbook *l, unsigned number, const WdrRange *range, WdrHash hash,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
bool wdr_logbook_unreadable(WdrLogbook *l, unsigned partition, const char *path,
	const GArray *ranges, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* How much was copied and read back, and in which time. */
typedef struct {
	uint64_t entries, bytes;
	uint64_t bytes_before;    /* of these, by a run before this one */
	uint64_t read_back_bytes; /* after copying, in read_back_s */
	uint64_t behind_bytes;    /* while copying */
	double copy_s, read_back_s;
} WdrLogbookFigures;
bool wdr_logbook_figures(
	WdrLogbook *l, const WdrLogbookFigures *figures, GError **error) G_GNUC_WARN_UNUSED_RESULT;
bool wdr_logbook_boot_time(
	WdrLogbook *l, const WdrBootTime *time, GError **error) G_GNUC_WARN_UNUSED_RESULT;
bool wdr_logbook_done(WdrLogbook *l, GError **error);
/* As well as it goes: the error that it records is the one that counts. */
void wdr_logbook_stopped(WdrLogbook *l, const char *why);
void wdr_logbook_free(WdrLogbook *l);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(WdrLogbook, wdr_logbook_free)

/* Each line of a logbook but the first; false from `each`: the line is none that there is. */
typedef bool (*WdrLogbookEach)(json_t *line, void *data);
bool wdr_logbook_each(const char *name, const char *text, WdrLogbookEach each, void *data,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* The changes in a logbook (WdrChange), in their order. A last line that was cut short
 * is passed over: what it announced was not begun. FORMAT: it is no logbook, or damaged. `name` is
 * for messages; the text has a 0 behind it. */
bool wdr_logbook_parse(const char *name, const char *text, GPtrArray **ret,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
bool wdr_logbook_read(const char *path, GPtrArray **ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;
