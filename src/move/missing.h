/* What the medium failed to give: files with ranges that are zeros on the target now, entries and
 * folders that could not be looked at. Kept in the logbook:
 *   {"at": SECONDS, "event": "missing", "number": PARTITION, "path": PATH, "ranges": [[OFFSET,
 * LENGTH], …]} where "ranges" is null for an entry as a whole, "path" is null for a partition
 * without a volume (offsets count from its start), and a later line for the same path takes the
 * place of an earlier one; with no ranges it is all there. In paths, bytes that are no text are
 * escaped. */
#pragma once

#include "base/cleanup.h"
#include "volume/volume.h"

typedef struct {
	unsigned partition;
	char *path;     /* escaped for showing; NULL: the partition's own blocks */
	GArray *ranges; /* WdrRange; NULL: the entry as a whole, or the names in a folder */
} WdrMissing;

/* A list of WdrMissing. */
GPtrArray *wdr_missing_list_new(void);
/* Puts what is missing of a path (not escaped; NULL as above) in the place of what was said of it.
 */
void wdr_missing_set(GPtrArray *list, unsigned partition, const char *path, const GArray *ranges);
void wdr_missing_forget_partition(GPtrArray *list, unsigned partition);
/* NULL: nothing. Borrowed. */
const WdrMissing *wdr_missing_find(const GPtrArray *list, unsigned partition, const char *path);
uint64_t wdr_missing_bytes(const WdrMissing *m);

/* The fields of a line; the caller's. */
json_t *wdr_missing_to_json(unsigned partition, const char *path, const GArray *ranges);
/* False: it is no such line. */
bool wdr_missing_take_json(GPtrArray *list, json_t *line);
