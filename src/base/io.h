/* Whole reads and writes of plain files, and replacing a file so that a power cut leaves either the
 * old or the new one. */
#pragma once

#include "base/error.h"

#include <stddef.h>
#include <stdint.h>
#include <sys/types.h>

/* Exactly len bytes, or an error; a short read is an error that names the byte. */
bool wdr_pread_all(int fd, void *buf, size_t len, uint64_t offset, GError **error);
bool wdr_pwrite_all(int fd, const void *buf, size_t len, uint64_t offset, GError **error);

/* As many bytes as there are up to the end; -1: errno says why. */
ssize_t wdr_pread_some(int fd, void *buf, size_t len, uint64_t offset);
bool wdr_is_zero(const void *data, size_t len);

/* The whole file, at most `limit` bytes (larger: WDR_ERROR_FORMAT), with a 0 byte behind it that
 * does not count. Files in proc and sysfs, which claim a size of 0 or 4096, are read to their end.
 * *ret belongs to the caller. */
bool wdr_read_file(const char *path, size_t limit, char **ret, size_t *ret_len, GError **error);
/* First line of a small file (sysfs), stripped; NULL when it cannot be read. */
char *wdr_read_line(const char *path);

/* Into a file of sysfs, as it is; errno says why not. */
bool wdr_write_attribute(const char *path, const char *text);

/* For our own records: written to a temporary name beside it, flushed, renamed, and the folder
 * flushed. Only the user may read it (0600). A link of that name is replaced, not followed. */
bool wdr_write_file(const char *path, const void *data, size_t len, GError **error);
/* Names that were made, renamed or removed in the folder of this file are on the medium. */
bool wdr_sync_folder_of(const char *path, GError **error);

/* For a file that the user named: "-" is stdout; links are followed; a device or a pipe is written
 * to as it is; a file is replaced as above, and keeps its mode. */
bool wdr_write_output(const char *path, const void *data, size_t len, GError **error);
/* Whether that can be done, as far as it can be told before the work for it. */
bool wdr_output_check(const char *path, GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* An error of a program that wrote into this file's folder: when the folder's disk is full, that is
 * what it is made to say. False. */
bool wdr_blame_full_disk(const char *path, GError **error);

/* Makes the folder and its parents (mode 0755). */
bool wdr_make_folder(const char *path, GError **error);
/* *ret NULL: there is no such folder, or it is none. Without the rights to look into it: an error.
 */
bool wdr_open_folder(const char *path, GDir **ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Makes its parents, and the folder itself for this user alone (0700). REFUSED: it is there, and
 * others may write to it. */
bool wdr_make_private_folder(const char *path, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Removes a folder with all that is in it; never follows links; for our own scratch folders. */
void wdr_remove_folder(const char *path);
