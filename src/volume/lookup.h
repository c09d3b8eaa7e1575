/* Paths as loaders and running systems follow them: links are followed within the volume, and on
 * FAT capitals do not matter. */
#pragma once

#include "volume/volume.h"

/* *ret_path is the path of what it leads to, which is no link. false: nothing is there, or a link
 * leads out of the volume, to nothing, or in a circle; `ret_path` may be NULL. */
bool wdr_follow(WdrVolume *v, const char *path, char **ret_path, uint64_t *ret_id, WdrEntry *ret);
/* A file that it leads to, as a whole; NULL: it is none, or larger. The caller's. */
char *wdr_follow_read(WdrVolume *v, const char *path, size_t limit, size_t *ret_len);
/* Names of the files and links in a folder that it leads to, and its own path; an empty list
 * and NULL: it is none, or cannot be read. Both the caller's; `ret_path` may be NULL. */
GPtrArray *wdr_follow_names(WdrVolume *v, const char *path, char **ret_path);
