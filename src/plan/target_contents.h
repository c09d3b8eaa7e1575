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
} WdrTargetContent;

/* A list of WdrTargetContent. */
GPtrArray *wdr_target_contents_new(void);
/* of: the partition that is asked for; 0: all of the disk. */
bool wdr_target_contents_find(
	WdrBlockDev *dev, unsigned of, GPtrArray **ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* What is otherwise now, a line each (char *); empty: nothing. The caller's. */
GPtrArray *wdr_target_contents_compare(const GPtrArray *then, const GPtrArray *now);
/* What it holds: a file system, or a word for what is none. */
const char *wdr_target_content_kind(const WdrTargetContent *o);
/* "partition 1 (ext4, label music, 58 GiB)"; escaped. The caller's. */
char *wdr_target_content_text(const WdrTargetContent *o);

json_t *wdr_target_contents_to_json(const GPtrArray *list);
/* false: it makes no sense. */
bool wdr_target_contents_from_json(json_t *json, GPtrArray *ret);
