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
/* The same of an open file; `name` is for messages. */
bool wdr_read_whole(
	int fd, const char *name, size_t limit, char **ret, size_t *ret_len, GError **error);
/* First line of a small file (sysfs), stripped; NULL when it cannot be read. */
char *wdr_read_line(const char *path);

/* Into a file of sysfs, as it is; errno says why not. */
bool wdr_write_attribute(const char *path, const char *text);

/* Replaces the file of this name in the folder that `folder` is open for: written to a temporary
 * name there, flushed, renamed, and the folder flushed. A link of that name is replaced, not
 * followed. `path` is for messages, and its last part is the name. */
bool wdr_replace_file(
	int folder, const char *path, const void *data, size_t len, mode_t mode, GError **error);
/* Names that were made, renamed or removed in the folder of this file are on the medium. */
bool wdr_sync_folder_of(const char *path, GError **error);

/* For a file that the user named: "-" is stdout; links are followed; a device or a pipe is written
 * to as it is; a file is replaced as above, and keeps its mode. */
bool wdr_write_output(const char *path, const void *data, size_t len, GError **error);
/* Whether that can be done, as far as it can be told before the work for it. */
bool wdr_output_check(const char *path, GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* A scratch file of zeros, open for reading and writing; a file or a link of that name is removed
 * first. *ret is the caller's (WdrFd). */
bool wdr_make_scratch_file(const char *path, uint64_t size, int *ret, GError **error);
/* Bytes that are left in the folder's file system for this user; UINT64_MAX: unknown. */
uint64_t wdr_folder_room(const char *folder);
/* An error of a program that wrote into this file's folder: when the folder's disk is full, that is
 * what it is made to say. False. */
bool wdr_blame_full_disk(const char *path, GError **error);

/* Makes the folder and its parents (mode 0755). */
bool wdr_make_folder(const char *path, GError **error);
/* *ret NULL: there is no such folder, or it is none. Without the rights to look into it: an error.
 */
bool wdr_open_folder(const char *path, GDir **ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Removes a folder with all that is in it; never follows links; for our own scratch folders. */
void wdr_remove_folder(const char *path);
