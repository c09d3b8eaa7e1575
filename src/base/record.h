/* The files of our own records, in a folder that belongs to this user or root alone.
 *
 * Each file is reached below a handle of its folder. What decides is the folder behind the handle:
 * nobody else may own it or write to it, so nobody can put a link or another file in the way.
 * A folder that was exchanged for somebody else's meanwhile is refused. Links of a file's name are
 * never followed; a link of the folder's name is, if this user or root made it. */
#pragma once

#include "base/error.h"

#include <stddef.h>
#include <sys/types.h>

/* Makes its parents, and the folder itself for this user alone (0700). REFUSED: it is there, and
 * belongs to somebody else or can be written to by others. */
bool wdr_make_private_folder(const char *path, GError **error) G_GNUC_WARN_UNUSED_RESULT;

typedef enum {
	WDR_RECORD_NEW,    /* for writing; a file or a link of that name is removed first */
	WDR_RECORD_APPEND, /* for reading and writing; it has to be there */
	WDR_RECORD_READ,
} WdrRecordMode;
/* The descriptor is the caller's; -1: error is set. */
int wdr_record_open(const char *path, WdrRecordMode mode, GError **error);

/* The whole file, as wdr_read_file(). */
bool wdr_record_read(const char *path, size_t limit, char **ret, size_t *ret_len, GError **error);
/* Written under a temporary name, flushed, renamed, and the folder flushed; 0600. */
bool wdr_record_write(const char *path, const void *data, size_t len, GError **error);
/* Both names lie in one folder, which is flushed. */
bool wdr_record_rename(const char *from, const char *to, GError **error);
/* Whether it was there or not. */
void wdr_record_remove(const char *path);
