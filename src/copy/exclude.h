/* What stays behind in a move: files that the user named by patterns, and what is of no use on the
 * new disk (sockets, lost+found and our own state on a running system).
 *
 * A pattern with a slash is a path of the system, with the wildcards of a shell that stay within a
 * folder ("/var/cache/apt/archives/X*"); one without is a name in any folder. A folder is left
 * behind with all that is in it. */
#pragma once

#include "volume/volume.h"

typedef struct WdrExclude WdrExclude;

/* What a pattern has met with. */
typedef struct {
	char *pattern; /* NULL: a rule of ours, not counted */
	uint64_t entries, bytes;
} WdrLeft;
/* One for each pattern (WdrLeft). */
GPtrArray *wdr_left_new(char *const *patterns);

/* USAGE: a pattern that can match nothing. */
bool wdr_exclude_check(char *const *patterns, GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* For one volume, which the system mounts at `point` (NULL: nobody knows; patterns with a slash
 * then match nothing). */
WdrExclude *wdr_exclude_new(char *const *patterns, const char *point);
void wdr_exclude_free(WdrExclude *l);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(WdrExclude, wdr_exclude_free)
void wdr_exclude_sockets(WdrExclude *l);
/* A path of the volume. */
void wdr_exclude_path(WdrExclude *l, const char *path);

enum { WDR_EXCLUDE_COPIED = -1, WDR_EXCLUDE_OURS = -2 };
/* The number of the pattern that leaves this path behind, or one of the above. It says nothing of
 * the folders that the path is in. */
int wdr_exclude_rule(const WdrExclude *l, const char *path, WdrKind kind);
