/* What is otherwise on the source than its packing list says. */
#pragma once

#include "copy/packing_list.h"
#include "copy/unreadable.h"

typedef enum {
	WDR_DIFF_REMOVED,
	WDR_DIFF_NEW,
	WDR_DIFF_CONTENT,
	WDR_DIFF_METADATA,
	WDR_DIFF_LINE,   /* a further name of something that changed: only its line is another */
	WDR_DIFF_EDITED, /* a file that the target has in an edited form has changed on the source
			  */
} WdrDiffKind;
const char *wdr_diff_name(WdrDiffKind kind); /* "removed", "new", "changed", … */

typedef struct {
	WdrDiffKind kind;
	WdrListEntry was;   /* not of NEW, unless it was renamed */
	WdrListEntry now;   /* not of REMOVED; content is that of `was` unless CONTENT or NEW */
	GArray *missing;    /* WdrRange: what could not be read of the content that was copied */
	char *renamed_from; /* NEW: the path that the same file had; NULL: a new one */
} WdrDiff;

/* An empty one; its contents and paths are to be put in. The caller's. */
WdrDiff *wdr_diff_new(WdrDiffKind kind);
/* A list of them, which owns them. */
GPtrArray *wdr_diffs_new(void);

/* What is compared. */
typedef struct {
	const WdrWorld *world;
	WdrVolume *source;
	const WdrExclude *exclude;
	/* Paths of files that the target has in an edited form -> WdrHash * of what they were made
	 * from; NULL: none. */
	GHashTable *edited;
	/* What could not be read when it was copied (WdrUnreadable), of this partition: it may fail
	 * again. NULL: nothing. */
	const GPtrArray *missing;
	unsigned partition;
} WdrDifference;

/* Differences (WdrDiff) in the order of the walk; where something else took the place of what
 * was removed, REMOVED comes first. A file is told by size, inode, modification and change time;
 * its content is hashed where these leave a doubt. *ret_begun: seconds when the walk began. */
bool wdr_difference_find(const WdrDifference *d, WdrPacking *list, GPtrArray **ret,
	int64_t *ret_begun, GError **error) G_GNUC_WARN_UNUSED_RESULT;
