/* Putting back what was changed in place. */
#pragma once

#include "base/error.h"
#include "world/world.h"

/* What became of one change. */
typedef struct {
	char *what;    /* "/cmdline.txt on mmcblk0, partition 1" */
	bool is_back;  /* it is as it was, now or already */
	bool was_back; /* already */
	char *why;     /* it was left: why */
	char *diff;    /* it was left: what somebody changed since; NULL: nothing to be shown */
} WdrRewound;

/* Undoes the changes in a logbook, the last first: content, owner, mode and
 * modification time of every file, and identifiers that were renewed. A file that somebody changed
 * since is left alone unless `forced`. *ret: WdrRewound, in the order of the work. An error stops
 * it, and *ret is what came before, NULL if nothing was begun; doing it again goes on. */
bool wdr_rewind(const WdrWorld *world, const char *logbook, bool forced, GPtrArray **ret,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* The newest logbook of all in folders below `base` with changes that are still in force; prefix:
 * of folders whose names begin so (NULL: all). *ret is the caller's; NULL: there is none. What
 * cannot be read is an error, since it may tell of changes. */
bool wdr_rewind_newest_in(
	const char *base, const char *prefix, char **ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* The same of this machine. */
bool wdr_rewind_newest(const WdrWorld *world, const char *prefix, char **ret,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
