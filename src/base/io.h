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

/* Written to a temporary name beside it, flushed, renamed, and the folder flushed. */
bool wdr_write_file(const char *path, const void *data, size_t len, GError **error);

/* An error of a program that wrote into this file's folder: when the folder's disk is full, that is
 * what it is made to say. False. */
bool wdr_blame_full_disk(const char *path, GError **error);

/* Makes the folder and its parents (mode 0755). */
bool wdr_make_folder(const char *path, GError **error);
/* Removes a folder with all that is in it; never follows links; for our own scratch folders. */
void wdr_remove_folder(const char *path);
