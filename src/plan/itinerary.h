/* The itinerary: the complete plan of one move, decided before anything is written, kept as a JSON
 * file (docs/formats/itinerary.md) that can be read, reviewed, and carried out on another
 * day. */
#pragma once

#include "boot/board/loaderarea.h"
#include "boot/formats/edit.h"
#include "boot/system/system.h"
#include "copy/exclude.h"
#include "plan/target_contents.h"

/* A disk as it was when the itinerary was drawn; it is refused for any other. */
typedef struct {
	char *name, *path, *medium;
	char *link, *model, *serial; /* NULL: unknown */
	bool is_image;
	uint64_t size;
	uint32_t sector_size;
	WdrTableKind table;
	char *table_id; /* NULL: there was no table */
} WdrItineraryDisk;

/* Where one volume is and how it is addressed. */
typedef struct {
	uint64_t start, size;
	char *uuid, *label, *partuuid, *partlabel; /* NULL: none */
} WdrItineraryVolume;

typedef struct {
	unsigned number;
	WdrRole role;
	char *fs; /* "vfat", "ext4", "swap", or another type; "none" */
	WdrItineraryVolume from, to;
	char *type;       /* of the new partition, as in WdrPartition */
	char *attributes; /* NULL: none */
	bool is_active;
	uint64_t entries, bytes; /* to copy */
	uint64_t unread;         /* entries and folders that the medium does not give */
	uint64_t spare;          /* bytes that stay free on the new volume */
	uint64_t inodes;         /* ext: of the new volume */
	uint32_t cluster_bytes;  /* FAT: of the new volume */
} WdrItineraryPart;

/* What logical partitions lie in on the new disk, see move/logical.h. */
typedef struct {
	unsigned number; /* 0: there are none */
	char *type;      /* two hex digits */
	uint64_t start, size;
} WdrExtended;

/* How a part comes to the target. */
typedef enum {
	WDR_METHOD_EXT,
	WDR_METHOD_FAT,
	WDR_METHOD_SWAP,  /* made new */
	WDR_METHOD_BLOCKS /* block by block */
} WdrPartMethod;
WdrPartMethod wdr_itinerary_method(const WdrItineraryPart *p);

typedef enum {
	WDR_MOVE_EVERYTHING,
	WDR_MOVE_ROOT,   /* boot stays on the source, whose boot files change */
	WDR_MOVE_NOTHING /* only mentions, and identifiers if asked: source and target are one disk
			  */
} WdrWhat;
const char *wdr_what_name(WdrWhat what); /* "everything", "root", "nothing" */
bool wdr_what_parse(const char *text, WdrWhat *ret);

typedef struct {
	char *made_by; /* version of the program */
	int64_t made_at;
	WdrWhat what;
	WdrItineraryDisk source, target;
	WdrTableKind table; /* the new one */
	char *table_id;
	unsigned into; /* the partition of the target that root moves into, all else stays; 0: none
			*/
	WdrExtended extended;
	GPtrArray *target_contents; /* WdrTargetContent: what is on the target, and is going to be
				       erased */
	GPtrArray *parts;           /* WdrItineraryPart, by their new start */
	GPtrArray *edits;           /* WdrEdit */
	GPtrArray *diffs;           /* char *, one an edit, for reading */
	GPtrArray *notes;           /* char * */
	WdrLoaderArea loader;       /* what comes along of it; size 0: nothing */
	GPtrArray *left;            /* WdrLeft: what stays behind, one for each pattern */
	char **pause; /* units that are stopped for the last pass, NULL-ended; NULL: none */
} WdrItinerary;

WdrItinerary *wdr_itinerary_new(void);
void wdr_itinerary_free(WdrItinerary *it);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(WdrItinerary, wdr_itinerary_free)
/* A part as it is, without `to`; the caller's, to be put into parts. */
WdrItineraryPart *wdr_itinerary_part_like(const WdrSystemPart *from);
WdrItineraryPart *wdr_itinerary_part(const WdrItinerary *it, unsigned number); /* NULL: none */
WdrItineraryPart *wdr_itinerary_root(const WdrItinerary *it); /* NULL: there is none */
enum { WDR_PRIMARY_MAX = 4 }; /* of an MBR; higher numbers are logical partitions */
/* The number that a part has on the target. The source's own, except into a partition that is there
 * already, and for a logical root that moves alone into a new table. */
unsigned wdr_itinerary_new_number(const WdrItinerary *it, const WdrItineraryPart *p);
/* It is a logical partition, which lies within it->extended. */
bool wdr_logical_is(const WdrItinerary *it, const WdrItineraryPart *p);
/* What it will be called on the target, but for the disk's serial; strings are the itinerary's. */
WdrIdentity wdr_itinerary_identity(const WdrItinerary *it, const WdrItineraryPart *p);
/* What is changed in a file of this part; NULL: nothing yet. */
WdrEdit *wdr_itinerary_edit(
	const WdrItinerary *it, unsigned number, const char *file, bool is_on_source);

/* The patterns of what stays behind, NULL-ended; strings are borrowed, the list is the caller's. */
char **wdr_itinerary_patterns(const WdrItinerary *it);

struct WdrSource;

/* What the user asked for. */
typedef struct {
	const char *from, *to; /* disks, as the user named them */
	const char *scratch;   /* a folder for scratch files */
	WdrWhat what;
	WdrTableKind table;        /* NONE: as on the source */
	const char *leave_free;    /* a size or a percentage; NULL: nothing */
	const char *into;          /* a partition of the target; NULL: the whole disk */
	const char *boot_size;     /* of the boot partition; NULL: as on the source */
	char *const *leave_behind; /* patterns, see copy/exclude.h; NULL: none */
	bool has_name_by;
	WdrIdentifierKind name_by;
	bool keep_identifiers;
	bool with_loader;        /* copy the loader area to any medium */
	uint32_t sector_size;    /* of an image; 0: 512, or as its table says */
	char *const *pause;      /* units, see world/pause.h; NULL: none */
	const char *second_name; /* the target becomes another machine's, of this name; NULL: not */
	const struct WdrSource
		*looked_at; /* the source as it was opened before; NULL: it was not */
} WdrDraftOptions;

/* Draws it. Reads both disks, writes nothing but scratch files. *ret_source is the caller's to
 * free, before the scratch folder goes; NULL: it is not wanted. */
bool wdr_itinerary_draft(const WdrWorld *world, const WdrDraftOptions *options, WdrItinerary **ret,
	struct WdrSource **ret_source, GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* As text. The caller's. */
char *wdr_itinerary_to_json(const WdrItinerary *it);
/* Checks everything that a hand could have changed: FORMAT says what and where. */
bool wdr_itinerary_from_json(
	const char *text, size_t len, WdrItinerary **ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;
enum { WDR_ITINERARY_BYTES_MAX = 16 * 1024 * 1024 }; /* a larger file is none */
bool wdr_itinerary_load(
	const char *path, WdrItinerary **ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* Both disks are still those that it was drawn for. */
bool wdr_itinerary_check_disk(const WdrItineraryDisk *then, const WdrItineraryDisk *now,
	const char *which, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* The disk that has its name now, or the image at its path. */
bool wdr_itinerary_disk_find(const WdrWorld *world, const WdrItineraryDisk *disk, WdrDisk **ret,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* `dev` may be NULL for a disk that was not opened. */
bool wdr_itinerary_disk_describe(
	const WdrDisk *disk, WdrBlockDev *dev, WdrItineraryDisk *ret, GError **error);
/* What a command calls it: its name, or an image's path. Borrowed. */
const char *wdr_itinerary_disk_word(const WdrItineraryDisk *disk);
/* The command that draws the itinerary anew, for the disks as they are now. The caller's. */
char *wdr_itinerary_redraw_command(const WdrItinerary *it);
void wdr_itinerary_disk_clear(WdrItineraryDisk *disk);
G_DEFINE_AUTO_CLEANUP_CLEAR_FUNC(WdrItineraryDisk, wdr_itinerary_disk_clear)
/* Replaces the occupants by those that `dev`, the target, has now, and tells what is otherwise than
 * it was when it was shown, a line each (char *). */
bool wdr_itinerary_look_at_target_contents(WdrItinerary *it, WdrBlockDev *dev,
	GPtrArray **ret_changes, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Refuses a target that is the source or holds it, is in use, read-only, or the running system's.
 */
bool wdr_check_target(const WdrWorld *world, const WdrDisk *source, const WdrDisk *target,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Refuses a target that this folder or file (or where it would be made) lies on. */
bool wdr_check_target_spares(const WdrWorld *world, const WdrDisk *target, const char *folder,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* The target as a move leaves it; everything in it is the itinerary's. */
WdrItineraryDisk wdr_itinerary_moved_target(const WdrItinerary *it);
/* The new partition table, from the itinerary's parts. */
WdrPartTable *wdr_itinerary_table(const WdrItinerary *it);
