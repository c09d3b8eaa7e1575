/* Giving a disk other identifiers: its own, its partitions', its volumes'. */
#pragma once

#include "disk/disks.h"
#include "disk/parttable.h"
#include "plan/itinerary.h"

typedef struct {
	unsigned number;
	uint64_t start, size;
	char *fs;              /* "ext4", "vfat", "swap"; others keep what they have */
	char *uuid, *partuuid; /* NULL: none */
} WdrIdentifiedPart;

typedef struct {
	char *table_id;
	GPtrArray *parts; /* WdrIdentifiedPart */
} WdrIdentifiers;
void wdr_identifiers_free(WdrIdentifiers *ids);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(WdrIdentifiers, wdr_identifiers_free)

/* The old or the new ones of an itinerary. */
WdrIdentifiers *wdr_identifiers_of(const WdrItinerary *it, bool is_new);
/* {"table_id": …, "partitions": [{"number", "start", "size", "fs", "uuid", "partuuid"}]}. The
 * caller's. */
char *wdr_identifiers_to_json(const WdrIdentifiers *ids);
bool wdr_identifiers_from_json(
	const char *text, WdrIdentifiers **ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* Sets them: volumes first, then the table. Nobody may have the disk open. May be done again after
 * an interruption. */
bool wdr_identifiers_set(const WdrWorld *world, const WdrDisk *disk, const WdrIdentifiers *ids,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
