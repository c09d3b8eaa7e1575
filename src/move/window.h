/* Windows: some thousand entries of a tree at a time, in the order of their folders, with the
 * contents of their files opened and sorted by place. Made by the planner (plan.c), used up by
 * carry.c. */
#pragma once

#include "move/carry.h"

/* How far a file was read where its hash can be taken up again. */
typedef struct {
	WdrHashMark mark;
	GArray *missing; /* WdrRange: what could not be read before */
} WdrReached;
void wdr_reached_free(WdrReached *reached);

/* A piece of content on its way from a reader to the writer. */
typedef struct {
	WdrPiece piece;
	uint8_t *data;
	size_t room;         /* bytes that data holds, and that count against the budget */
	WdrReached *reached; /* within the piece or before it; NULL: nothing since the last */
} WdrChunk;

typedef struct {
	char *path;
	uint64_t id; /* of the source's node */
	WdrEntry entry;
	uint64_t serial, parent;
	char *link_to;       /* a further hard link; no content */
	WdrContent *content; /* non-empty files only */
	WdrHash hash;
	WdrDamage *damage;   /* NULL: nothing may be missing */
	WdrReached *reached; /* what an earlier run carried of it; NULL: it is to be begun */
	/* Shared between a reader and the writer, under the carry's lock. */
	uint64_t turn; /* position among all files with content */
	GQueue chunks; /* WdrChunk * */
	bool is_read;
} WdrJob;

typedef struct {
	uint64_t serial, parent;
	char *path;
	GStringChunk *names;
	GArray *children; /* WdrChild */
} WdrFolderJob;

typedef struct {
	GPtrArray *folders; /* WdrFolderJob */
	GPtrArray *jobs; /* WdrJob: each folder's entries, before the folder's own list of names */
	GPtrArray *by_place; /* the WdrJobs with content, borrowed, sorted */
	GArray *order;       /* WdrWindowStep */
	GPtrArray *unread;   /* char *: paths of entries, and of folders' names, that could not be
				read */
	GVariant *after; /* the plan behind this window, where a checkpoint is wanted; or NULL */
} WdrWindow;

/* What the builder is told, in this order; contents follow after all of it. */
typedef struct {
	bool is_folder; /* a list of names; otherwise an entry */
	guint index;
} WdrWindowStep;

/* Checkpoints are made within longer files too. Such a one ends its window. */
#define WDR_LONG_BYTES (UINT64_C(1024) * 1024 * 1024)
bool wdr_job_is_long(const WdrJob *job);
WdrJob *wdr_job_new(void); /* all of it is empty */
WdrWindow *wdr_window_new(void);
void wdr_window_free(WdrWindow *w);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(WdrWindow, wdr_window_free)
void wdr_chunk_free(WdrChunk *chunk);

typedef struct WdrPlan WdrPlan;
/* Source, replacements and what is left behind come from the carry, which is borrowed. */
WdrPlan *wdr_plan_new(const WdrCarry *carry, int64_t now);
void wdr_plan_free(WdrPlan *plan);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(WdrPlan, wdr_plan_free)
/* The next window; *ret NULL after the last one. */
bool wdr_plan_next(WdrPlan *plan, WdrWindow **ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* Hard links of which fewer names were found than their entry says (after the last window). */
typedef bool (*WdrPlanLinkFunc)(void *data, uint64_t serial, uint64_t links, GError **error);
bool wdr_plan_short_links(const WdrPlan *plan, WdrPlanLinkFunc each, void *data, GError **error);

/* The walk as it stands between two windows (a full reference), and going on from there with a plan
 * that was just made. FORMAT: it is no such state. */
GVariant *wdr_plan_state(const WdrPlan *plan);
bool wdr_plan_restore(WdrPlan *plan, GVariant *state, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* The same of a carrying: `walk` and, where it is within a long file, that file (NULL: it is not).
 */
GVariant *wdr_carry_state(GVariant *walk, const WdrJob *job, const WdrReached *reached);
/* *ret_open: the window with what is left of the long file; NULL: there is none. */
bool wdr_carry_restore(WdrPlan *plan, GVariant *state, WdrWindow **ret_open,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
