/* Searching any text for the identifiers of a disk, wherever they are. */
#pragma once

#include "boot/formats/mention.h"

typedef struct WdrSearch WdrSearch;
/* For the identifiers of these partitions (copied). */
WdrSearch *wdr_search_new(const WdrIdentity *ids, size_t n);
void wdr_search_free(WdrSearch *s);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(WdrSearch, wdr_search_free)

/* Adds a mention for each in the text outside of the mentions from `first` on, with
 * `frozen` as the reason why it is only reported (NULL: it may be changed). */
void wdr_search_text(const WdrSearch *s, const WdrReading *r, guint first, const char *frozen);
