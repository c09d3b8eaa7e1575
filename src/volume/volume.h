/* Volumes: one file system each, wherever it lies (a mounted tree, a partition of a disk, memory),
 * read through one interface, and builders that fill a new one with a stream of entries.
 *
 * Sizes and offsets are bytes, times are UTC. Names and paths are bytes without '/' in names and
 * without 0; paths are relative to the volume's root, which is "". Strings and nodes given to
 * functions are borrowed; what a function returns through `ret` belongs to the caller. */
#pragma once

#include "base/derived.h"
#include "disk/blockdev.h"

#include <stddef.h>
#include <stdint.h>

typedef enum {
	WDR_KIND_FILE,
	WDR_KIND_FOLDER,
	WDR_KIND_SYMLINK,
	WDR_KIND_CHAR,
	WDR_KIND_BLOCK,
	WDR_KIND_FIFO,
	WDR_KIND_SOCKET,
} WdrKind;

typedef struct {
	int64_t sec;
	uint32_t nsec;
} WdrTime;

typedef struct {
	char *name; /* with its prefix: "user.x", "security.capability", "system.posix_acl_access"
		     */
	uint8_t *value; /* ACLs in the form of the xattr system calls (version 2) */
	size_t len;
} WdrXattr;

/* FAT's second name of an entry: 8 + 3 bytes as on the medium, and which parts are shown in lower
 * case. */
enum { WDR_FAT_NAME_BYTES = 12 };

/* What only FAT knows of an entry. */
typedef struct {
	bool is_set;
	uint8_t attributes; /* read-only, hidden, system, archive */
	uint8_t name[WDR_FAT_NAME_BYTES];
} WdrFatEntry;

/* All of an entry but its name and its content. */
typedef struct {
	WdrKind kind;
	uint32_t mode; /* permission bits, setuid, setgid, sticky: 07777 */
	uint32_t uid, gid;
	uint64_t links;
	uint64_t size;
	bool has_allocated;
	uint64_t allocated; /* bytes that it takes on its volume */
	WdrTime atime, mtime, ctime, crtime;
	uint32_t rdev_major, rdev_minor;
	uint32_t flags; /* FS_*_FL of linux/fs.h, those that a user can set */
	uint32_t project;
	char *target;     /* of a symbolic link */
	WdrXattr *xattrs; /* by name, sorted */
	size_t n_xattrs;
	WdrFatEntry fat;
	uint64_t
		place; /* where its content starts, for reading in the medium's order; 0: unknown */
} WdrEntry;

bool wdr_time_equal(WdrTime a, WdrTime b);
void wdr_entry_clear(WdrEntry *entry);
G_DEFINE_AUTO_CLEANUP_CLEAR_FUNC(WdrEntry, wdr_entry_clear)
/* Takes a copy of name and value into the entry. Call wdr_entry_sort_xattrs() after the last. */
void wdr_entry_add_xattr(WdrEntry *entry, const char *name, const void *value, size_t len);
void wdr_entry_sort_xattrs(WdrEntry *entry);
/* In place of what it was: an empty entry of this kind, for one whose name is known and which is
 * gone.
 */
void wdr_entry_stand_in(WdrEntry *entry, WdrKind kind, int64_t now);
/* From the type bits of a mode (S_IFMT), which ext has on the medium as the kernel tells them.
 * False: no known kind. */
bool wdr_kind_of_mode(unsigned mode, WdrKind *ret);
const char *wdr_kind_name(WdrKind kind); /* "file", "folder", … */

/* An entry's identity within its volume: back ends use the number or the path. The number is the
 * same for all hard links of one file. */
typedef struct {
	uint64_t id;
	const char *path;
} WdrNode;

/* A name in a folder. */
typedef struct {
	const char *name;
	uint64_t id;
	WdrKind kind;
	uint64_t links;          /* of anything but a folder; more than 1: hard links */
	const uint8_t *fat_name; /* WDR_FAT_NAME_BYTES; NULL: not from a FAT volume */
	/* What tells whether the entry changed, where listing it gives that: kind, mode, owner,
	 * size and times. NULL: stat tells. */
	const WdrEntry *glance;
} WdrName;

typedef bool (*WdrListFunc)(void *data, const WdrName *name, GError **error);

/* A call to write stamps its file first, and may be held up before its bytes come: on a disk with
 * much to do for many seconds. A file that changed this long ago has come to rest. */
enum { WDR_SETTLED_AFTER_S = 30 };

/* A piece of a file's content. Between pieces are holes. */
typedef struct {
	uint64_t offset;
	uint64_t len;      /* 0: no more pieces */
	bool is_unwritten; /* allocated, reads as zeros, nothing was put into the buffer */
} WdrPiece;

typedef struct {
	uint64_t offset, len;
} WdrRange;

/* As many in a row: the medium is gone, not damaged. */
enum { WDR_FAILURES_MAX = 1024 };

/* What could not be read of a content. */
typedef struct {
	GArray *ranges; /* WdrRange: bytes of the file, in rising order */
	gint *failures; /* borrowed: of all contents of one reading, since a request went well */
} WdrDamage;
/* `failures` is changed from the threads that read, and starts at 0. */
WdrDamage *wdr_damage_new(gint *failures);
void wdr_damage_free(WdrDamage *d);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(WdrDamage, wdr_damage_free)

typedef bool (*WdrMediumRead)(void *self, void *buf, size_t len, uint64_t at, GError **error);
/* Reads a range. With a damage, what the medium fails to give is asked for again in smaller
 * requests; what it never gives becomes zeros, and is added as bytes `offset` on. Without: an
 * error. */
typedef struct {
	WdrMediumRead read;
	void *self;
	WdrDamage *damage; /* NULL: none */
	uint64_t at;       /* where the reading function has it */
	uint64_t offset;   /* where the content has it */
} WdrCarefulRead;
bool wdr_damage_read(
	const WdrCarefulRead *c, void *buf, size_t len, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* As WdrMediumRead: of a disk (WdrBlockDev). */
bool wdr_read_device(void *dev, void *buf, size_t len, uint64_t at, GError **error);
/* The medium failed: a damaged place, as opposed to a disk that is not there. */
bool wdr_error_is_medium(const GError *error);

typedef struct WdrContent WdrContent;
typedef struct {
	bool (*next)(WdrContent *content, void *buf, size_t cap, WdrPiece *ret, GError **error);
	void (*free)(WdrContent *content);
	/* What lies before `to` needs not be given any more; NULL: it is read and passed over. */
	void (*skip)(WdrContent *content, uint64_t to);
	/* As WdrPlaced.places; NULL, or 0: it is in no places of its own, or they are not known. */
	uint64_t (*places)(const WdrContent *content);
} WdrContentOps;
struct WdrContent { /* back ends embed this first */
	const WdrContentOps *ops;
	WdrDamage *damage; /* borrowed; NULL: what cannot be read is an error */
};

/* The next piece in rising order, at most cap bytes of data. Different contents may be read from
 * different threads at a time. */
bool wdr_content_next(WdrContent *content, void *buf, size_t cap, WdrPiece *ret,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* The same of what lies from `from` on; a piece that begins before is cut. */
bool wdr_content_next_from(WdrContent *content, void *buf, size_t cap, uint64_t from, WdrPiece *ret,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
uint64_t wdr_content_places(const WdrContent *content);
/* Nothing but a hole. The caller's. */
WdrContent *wdr_content_hole(uint64_t size);
/* These bytes, which get another reference. The caller's. */
WdrContent *wdr_content_bytes(GBytes *bytes);
void wdr_content_free(WdrContent *content);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(WdrContent, wdr_content_free)

/* What a name leads to. */
typedef struct {
	bool is_there; /* there is such a name */
	uint64_t id;
	WdrKind kind;
} WdrNamed;

/* Where a file system lies on a disk. */
typedef struct {
	WdrBlockDev *dev;
	uint64_t offset, size;
} WdrVolumeSpan;

typedef struct WdrVolume WdrVolume;
typedef struct {
	const char *type; /* "ext4", "vfat", "tree", "memory" */
	bool (*list)(
		WdrVolume *v, const WdrNode *folder, WdrListFunc each, void *data, GError **error);
	bool (*stat)(WdrVolume *v, const WdrNode *node, WdrEntry *ret, GError **error);
	bool (*open)(WdrVolume *v, const WdrNode *node, WdrEntry *entry, WdrContent **ret,
		GError **error);
	void (*free)(WdrVolume *v);
	/* One name without listing all; NULL: all are listed. */
	bool (*find)(WdrVolume *v, const WdrNode *folder, const char *name, WdrNamed *ret,
		GError **error);
} WdrVolumeOps;
struct WdrVolume { /* back ends embed this first */
	const WdrVolumeOps *ops;
	char *name; /* for messages */
	uint64_t root_id;
	bool is_changing; /* others write to it while it is read: what was listed may be gone */
};

/* Folders are listed without "." and "..", in any order. */
bool wdr_volume_list(WdrVolume *v, const WdrNode *folder, WdrListFunc each, void *data,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* A single name of a folder; where there are many to be found, listing is quicker. */
bool wdr_volume_find(WdrVolume *v, const WdrNode *folder, const char *name, WdrNamed *ret,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
bool wdr_volume_stat(
	WdrVolume *v, const WdrNode *node, WdrEntry *ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* entry: what stat gave for the node, a file; its place is set where only opening tells it. */
bool wdr_volume_open(WdrVolume *v, const WdrNode *node, WdrEntry *entry, WdrContent **ret,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
void wdr_volume_free(WdrVolume *v);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(WdrVolume, wdr_volume_free)
const char *wdr_volume_name(const WdrVolume *v);
/* The error says that an entry of a changing volume, which was there a moment ago, is gone. */
bool wdr_volume_is_gone(const WdrVolume *v, const GError *error);
/* The path of a name in a folder. The caller's. */
char *wdr_volume_path(const char *folder, const char *name);

/* Conveniences over the above. A path is looked up name by name; symbolic links are not followed.
 * `*found` false: there is no such entry (not an error). */
bool wdr_volume_lookup(WdrVolume *v, const char *path, bool *found, uint64_t *ret_id, WdrEntry *ret,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* A whole file of at most `limit` bytes with a 0 behind it; *ret NULL when it is not there. */
bool wdr_volume_read_file(WdrVolume *v, const char *path, size_t limit, char **ret, size_t *ret_len,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* The same for a file that stat was asked about; it has entry->size bytes, and a 0 behind them. */
bool wdr_volume_read_node(WdrVolume *v, const WdrNode *node, WdrEntry *entry, size_t limit,
	char **ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* ---- building ---- */

/* A folder with all its names, whose entries follow later in any order. Serials number the entries
 * of a volume in the order of their first name; the root is 0, the next is 1, and new names of one
 * folder have serials that follow each other. */
typedef struct {
	const char *name;
	WdrKind kind;
	uint64_t serial;         /* that of the first name for a further hard link */
	const uint8_t *fat_name; /* as in WdrName: kept by the FAT builder */
} WdrChild;

typedef struct {
	uint64_t serial;
	uint64_t parent; /* serial of the folder it is in; 0 for the root itself */
	const char *path;
} WdrBuildNode;

/* Bytes of a file, and of the volume that they lie on. */
typedef struct {
	uint64_t offset, at, len;
} WdrPlacedRun;
/* Where a file's content was put. */
typedef struct {
	uint64_t id;     /* of the node that it will be when the volume is read */
	uint64_t places; /* a hash over all runs of the file, unwritten ones too; never 0 */
	GArray *runs;    /* WdrPlacedRun: those with data, in rising order */
	uint64_t end;    /* bytes of the file that were given so far */
	uint64_t mark;   /* all is with the medium when the target's `done` has counted so much */
} WdrPlaced;

typedef struct WdrBuilder WdrBuilder;
typedef struct {
	/* The names in a folder; called once for each folder, after its own entry was added (the
	 * root's too). The children may be reordered. */
	bool (*fill_folder)(WdrBuilder *b, const WdrBuildNode *folder, WdrChild *children, size_t n,
		GError **error);
	/* An entry without content: anything but a non-empty file. A folder's own entry comes
	 * before its names. */
	bool (*add)(WdrBuilder *b, const WdrBuildNode *at, const WdrEntry *entry, GError **error);
	/* A non-empty file: begin, pieces in rising order, end. */
	bool (*begin_file)(
		WdrBuilder *b, const WdrBuildNode *at, const WdrEntry *entry, GError **error);
	bool (*piece)(WdrBuilder *b, const WdrPiece *piece, const void *data, GError **error);
	/* A piece of data at the start of a buffer (disk/buffers.h), which may be exchanged for
	 * another. NULL: piece does. */
	bool (*give)(WdrBuilder *b, const WdrPiece *piece, uint8_t **buffer, GError **error);
	bool (*end_file)(WdrBuilder *b, GError **error);
	/* Of the file that was begun last, ended or not; runs are appended to ret->runs. NULL:
	 * places are not told. */
	void (*placed)(WdrBuilder *b, WdrPlaced *ret);
	/* Fewer names than the entry's links said were found. NULL: the format has no links. */
	bool (*set_links)(WdrBuilder *b, uint64_t serial, uint64_t links, GError **error);
	/* What was given so far is on the medium when this returns; *ret has what is needed to go
	 * on from here with a builder of the same kind (a full reference). Between files, or at a
	 * whole block of one. NULL: of a builder that only changes what is there. */
	bool (*checkpoint)(WdrBuilder *b, GVariant **ret, GError **error);
	/* Drops what this volume has no room for from an entry that is going to be given (fractions
	 * of seconds, birth times): what is recorded and compared is what is left. NULL: it holds
	 * everything. */
	void (*fit)(WdrBuilder *b, WdrEntry *entry);
	/* Everything is on the medium when this returns. */
	bool (*finish)(WdrBuilder *b, GError **error);
	void (*free)(WdrBuilder *b);
} WdrBuilderOps;
struct WdrBuilder { /* back ends embed this first */
	const WdrBuilderOps *ops;
};
void wdr_builder_free(WdrBuilder *b);

/* Where a builder makes its volume: [offset, offset + size) of a disk, which is borrowed. */
typedef struct {
	WdrBlockDev *dev;
	uint64_t offset, size;
	const char *scratch; /* an existing folder */
	/* Called from another thread with bytes that reached the medium; may be NULL. */
	void (*done)(void *data, uint64_t bytes);
	void *data;
} WdrBuildTarget;
G_DEFINE_AUTOPTR_CLEANUP_FUNC(WdrBuilder, wdr_builder_free)
