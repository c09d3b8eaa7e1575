/* What is on a target before it is erased: shown with the itinerary, kept in it, and looked at once
 * more before the first write, so that nothing is erased that nobody has seen. Only reads. */
#pragma once

#include "base/cleanup.h"
#include "base/hash.h"
#include "disk/blockdev.h"

typedef struct {
	unsigned number; /* of the partition; 0: there is no table, it is about the whole disk */
	uint64_t start, size;
	char *fs;           /* as libblkid calls it; NULL: nothing that is known */
	char *uuid, *label; /* NULL: none */
	bool has_used;
	uint64_t used; /* bytes, of kinds that we read */
	bool is_blank; /* its first MiB is zeros */
	WdrHash head;  /* of its first MiB, where file systems note that they were written to */
} WdrOccupant;

/* A list of WdrOccupant. */
GPtrArray *wdr_occupants_new(void);
/* of: the partition that is asked for; 0: all of the disk. */
bool wdr_occupants_find(
	WdrBlockDev *dev, unsigned of, GPtrArray **ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* What is otherwise now, a line each (char *); empty: nothing. The caller's. */
GPtrArray *wdr_occupants_compare(const GPtrArray *then, const GPtrArray *now);
/* What it holds: a file system, or a word for what is none. */
const char *wdr_occupant_kind(const WdrOccupant *o);
/* "partition 1 (ext4, label music, 58 GiB)"; escaped. The caller's. */
char *wdr_occupant_text(const WdrOccupant *o);

json_t *wdr_occupants_to_json(const GPtrArray *list);
/* false: it makes no sense. */
bool wdr_occupants_from_json(json_t *json, GPtrArray *ret);
