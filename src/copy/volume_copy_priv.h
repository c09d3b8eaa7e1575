/* Batches: some thousand entries of a tree at a time, in the order of their folders, with the
 * contents of their files opened and sorted by place. Made by the planner (tree_walk.c), used up by
 * volume_copy.c. */
#pragma once

#include "base/share.h"
#include "copy/volume_copy.h"
#include "disk/buffers.h"

#include <stdatomic.h>

/* How far a file was read where its hash can be taken up again. */
typedef struct {
	WdrHashMark mark;
	GArray *missing; /* WdrRange: what could not be read before */
} WdrReached;
void wdr_reached_free(WdrReached *reached);

/* Memory of which each chunk of small files has a part. Under the copy's lock. */
typedef struct {
	uint8_t *bytes; /* WDR_SLAB_BYTES, page-aligned */
	size_t used;
	unsigned users; /* chunks, and the reader that takes more of it */
} WdrSlab;

/* A piece of content on its way from a reader to the writer. */
typedef struct {
	WdrPiece piece;
	uint8_t *data;
	size_t room;         /* bytes that data holds */
	WdrSlab *slab;       /* that data is a part of; NULL: data is a buffer */
	WdrReached *reached; /* within the piece or before it; NULL: nothing since the last */
	GList link;          /* in a queue of its file, or of idle ones */
} WdrChunk;

typedef struct {
	char *path;
	uint64_t id; /* of the source's node */
	WdrEntry entry;
	uint64_t serial, parent;
	char *link_to;       /* a further hard link; no content */
	WdrContent *content; /* non-empty files only */
	WdrHash hash;
	uint64_t places;     /* as in WdrCopied */
	WdrDamage *damage;   /* NULL: nothing may be missing */
	WdrReached *reached; /* what an earlier run copied of it; NULL: it is to be begun */
	/* Shared between a reader and the writer, under the copy's lock. */
	uint64_t turn; /* position among all files with content */
	GQueue chunks; /* WdrChunk * */
	bool is_read;
	bool is_blocked; /* its reader waits for room */
	GList link;      /* among those that are to be read */
} WdrJob;

/* The strings of a folder's names: the walk and the builder's list share them, each with a
 * reference. A folder may have a hundred thousand. Added to by the walk alone, before anybody else
 * has a reference. */
typedef struct {
	GStringChunk *strings;
} WdrNames;
WdrNames *wdr_names_new(void);
void wdr_names_unref(WdrNames *names);

typedef struct {
	uint64_t serial, parent;
	char *path;
	WdrNames *names;
	GArray *children; /* WdrChild */
} WdrFolderJob;

typedef struct {
	GPtrArray *folders; /* WdrFolderJob */
	GPtrArray *jobs; /* WdrJob: each folder's entries, before the folder's own list of names */
	GPtrArray *by_place; /* the WdrJobs with content, borrowed, sorted */
	GArray *order;       /* WdrBatchStep */
	GPtrArray *unread;   /* char *: paths of entries, and of folders' names, that could not be
				read */
	GVariant *after;     /* the plan behind this batch, where a checkpoint is wanted; or NULL */
} WdrBatch;

/* What the builder gets, in this order; contents follow after all of it. */
typedef struct {
	bool is_folder; /* a list of names; otherwise an entry */
	guint index;
} WdrBatchStep;

/* Checkpoints are made within longer files too. Such a one ends its batch. */
#define WDR_LONG_BYTES (UINT64_C(1024) * 1024 * 1024)
bool wdr_job_is_long(const WdrJob *job);
WdrJob *wdr_job_new(void); /* all of it is empty */
WdrBatch *wdr_batch_new(void);
void wdr_batch_free(WdrBatch *w);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(WdrBatch, wdr_batch_free)

typedef struct WdrTreeWalk WdrTreeWalk;
/* Source, replacements and what is left behind come from the copy, which is borrowed. */
WdrTreeWalk *wdr_tree_walk_new(const WdrCopy *copy, int64_t now);
void wdr_tree_walk_free(WdrTreeWalk *walk);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(WdrTreeWalk, wdr_tree_walk_free)
/* The next batch; *ret NULL after the last one. */
bool wdr_tree_walk_next(
	WdrTreeWalk *walk, WdrBatch **ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* Hard links of which fewer names were found than their entry says (after the last batch). */
typedef bool (*WdrTreeWalkLinkFunc)(void *data, uint64_t serial, uint64_t links, GError **error);
bool wdr_tree_walk_short_links(
	const WdrTreeWalk *walk, WdrTreeWalkLinkFunc each, void *data, GError **error);

/* The state of the walk between two batches (a full reference), and going on from there with a plan
 * that was just made. FORMAT: it is no such state. */
GVariant *wdr_tree_walk_state(const WdrTreeWalk *walk);
bool wdr_tree_walk_restore(
	WdrTreeWalk *walk, GVariant *state, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* The same of a copying: `walk` and, where it is within a long file, that file (NULL: it is not).
 */
GVariant *wdr_copy_state(GVariant *walk, const WdrJob *job, const WdrReached *reached);
/* *ret_open: the batch with what is left of the long file; NULL: there is none. */
bool wdr_copy_restore(WdrTreeWalk *walk, GVariant *state, WdrBatch **ret_open,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* One run of the engine. Three kinds of threads share it: the planner makes batches, the readers
 * fill chunks, the writer (the caller's thread) takes both in the order of the walk. Everything
 * from `batches` on is read and changed under the lock, unless it says otherwise. Each kind waits
 * for a condition of its own, and looks at is_stopping, too. Waking a thread costs more than
 * copying a small file, so none is woken that does not wait, and the writer only for several files
 * at once.
 */
enum {
	WDR_CHUNK_BYTES = WDR_BUFFER_BYTES,
	WDR_SLAB_BYTES = 128 * 1024,
	WDR_CHUNK_COST_MIN =
		32 * 1024, /* as much counts against the budget, so that few tiny files wait */
};
/* What is read ahead of the writer. */
static inline size_t wdr_copy_ahead_bytes(void)
{
	return wdr_share_of((size_t)6 * 1024 * 1024);
}

typedef struct {
	const WdrWorld *world;
	const WdrCopy *copy;
	WdrCopyCount *count;
	WdrTreeWalk *walk;
	GMutex lock;
	GCond for_planner, for_readers, for_writer;
	/* All below under the lock. */
	bool planner_waits, writer_waits;
	unsigned readers_waiting;
	unsigned ready;          /* files that were read since the writer began to wait */
	GQueue batches;          /* planned, not yet taken by the writer */
	GQueue to_read;          /* WdrJob, in turn */
	bool is_planned;         /* no batch will follow */
	atomic_bool is_stopping; /* also read without it */
	GError *failure;         /* the first one */
	atomic_bool wants_state; /* the planner shall add the state of the walk to its next batch */
	gint read_failures;      /* in a row; atomic */
	size_t in_flight;        /* bytes that chunks cost which were not yet written */
	/* To be used again: fresh memory costs as much as copying it. */
	GQueue idle;        /* WdrChunk, without memory */
	GPtrArray *buffers; /* of WDR_CHUNK_BYTES */
	GPtrArray *slabs;
	uint64_t turn; /* of the file that the writer is at */
	uint64_t read_bytes, entries;
	int64_t waited_for_target; /* microseconds, of all readers */
	GCond over;                /* ends the reporter: */
	bool is_over;
	/* The writer's own. */
	int64_t waited_for_source; /* microseconds */
	int64_t checkpoint_at;     /* when the last one was made */
	uint64_t checkpoint_bytes;
} WdrCopyRun;

/* Keeps the first error (taken over), and stops all threads. */
void wdr_copy_run_fail(WdrCopyRun *r, GError *error);
/* Both under the lock: wake those who wait. */
void wdr_copy_run_wake_readers(WdrCopyRun *r);
void wdr_copy_run_wake_writer(WdrCopyRun *r);
/* Takes a chunk that is done with. */
void wdr_copy_run_give_room(WdrCopyRun *r, WdrChunk *chunk);
void wdr_slab_free(WdrSlab *slab);
/* Under the lock: one of its users is done with it. */
void wdr_copy_run_leave_slab(WdrCopyRun *r, WdrSlab *slab);
/* A reader's thread; data is the WdrCopyRun. */
void *wdr_copy_read_thread(void *data);
