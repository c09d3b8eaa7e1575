/* What the parts of the mounted tree back end share: the tree itself (tree.c), opening files below
 * it (tree_open.c), where the contents of its files lie on the disk (tree_place.c), and reading
 * them (tree_content.c). */
#pragma once

#include "base/stat.h"
#include "volume/sweep.h"
#include "volume/tree/tree.h"

#include <stdatomic.h>
#include <sys/types.h>

typedef struct {
	WdrVolume volume;
	int root;  /* folder handle */
	int mount; /* keeps a detached mount in being; -1: none */
	dev_t device;
	GHashTable *hidden; /* paths of folders that are seen as empty */
	/* Contents may be read from the disk itself; NULL: not. */
	WdrSweep *sweep;
	WdrBlockDev *disk;
	uint64_t offset, size; /* of the file system on that disk */
	WdrTime settled;       /* what was changed last before this is on the medium */
	int64_t clock_offset;  /* microseconds between the clock and the time since the start */
	atomic_uint_fast64_t from_disk, through_kernel; /* bytes read */
	GThread *ahead;                                 /* reads metadata; NULL: none did */
	atomic_bool stops_ahead;
	GMutex ahead_lock;
	GCond ahead_changed;
	bool may_walk; /* under the lock */
} WdrTree;

static inline WdrTime wdr_tree_time(const struct statx_timestamp *t)
{
	return (WdrTime){ t->tv_sec, t->tv_nsec };
}

/* Opens below the root with flags of open(2); -1: errno. */
int wdr_tree_open(const WdrTree *t, const char *path, int flags);
/* The same for reading, without noting the access where that is allowed; -1: errno. */
int wdr_tree_open_quietly(const WdrTree *t, const char *path);

/* A run of a file's content on the disk; bytes. */
typedef struct {
	uint64_t logical, physical, len; /* physical: within the file system */
	bool is_unwritten;
} WdrTreeRun;

/* What a file was like when its place was looked up: if it is still so after its content was read
 * from the disk, the content is the file's. */
typedef struct {
	GArray *runs; /* WdrTreeRun */
	ino_t ino;
	uint64_t size;
	WdrTime changed;
	uint64_t moment; /* of the sweep */
	WdrSweepGroup *group;
} WdrTreePlace;
WdrTreePlace *wdr_tree_place_new(WdrTree *t, int fd); /* NULL: to be read through the kernel */
void wdr_tree_place_free(WdrTree *t, WdrTreePlace *place);
bool wdr_tree_place_still_holds(const WdrTreePlace *place, int fd);

/* Stops reading ahead. */
void wdr_tree_end_ahead(WdrTree *t);

bool wdr_tree_content_open(
	WdrVolume *v, const WdrNode *node, WdrEntry *entry, WdrContent **ret, GError **error);
