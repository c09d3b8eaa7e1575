/* What the medium failed to give: files with ranges that are zeros on the target now, entries and
 * folders that could not be looked at. Kept in the logbook:
 *   {"at": SECONDS, "event": "unreadable", "number": PARTITION, "path": PATH, "ranges": [[OFFSET,
 * LENGTH], …]} where "ranges" is null for an entry as a whole, "path" is null for a partition
 * without a volume (offsets count from its start), and a later line for the same path takes the
 * place of an earlier one; with no ranges it is all there. In paths, bytes that are no text are
 * escaped. */
#pragma once

#include "base/cleanup.h"
#include "volume/volume.h"

typedef struct {
	unsigned partition;
	char *path;       /* escaped for showing; NULL: the partition's own blocks */
	GArray *ranges;   /* WdrRange; NULL: the entry as a whole, or the names in a folder */
	bool is_accepted; /* the target was released with this gap, since the user accepted it */
} WdrUnreadable;

/* A list of WdrUnreadable. */
GPtrArray *wdr_unreadable_list_new(void);
/* Puts what is missing of a path (not escaped; NULL as above) in the place of what was said of it.
 */
void wdr_unreadable_set(
	GPtrArray *list, unsigned partition, const char *path, const GArray *ranges);
void wdr_unreadable_forget_partition(GPtrArray *list, unsigned partition);
/* NULL: nothing. Borrowed. */
WdrUnreadable *wdr_unreadable_find(const GPtrArray *list, unsigned partition, const char *path);
uint64_t wdr_unreadable_bytes(const WdrUnreadable *m);
void wdr_unreadable_accept_all(GPtrArray *list);
/* Those that nobody has accepted yet. */
unsigned wdr_unreadable_count_open(const GPtrArray *list);

/* The fields of a line; the caller's. */
json_t *wdr_unreadable_to_json(unsigned partition, const char *path, const GArray *ranges);
/* False: it is no such line. */
bool wdr_unreadable_take_json(GPtrArray *list, json_t *line);
