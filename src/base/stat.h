/* What the kernel knows of a file, its birth time included. Everything in src/ looks at files
 * through this header, or statx(2) itself where it wants more, and never through stat(2): where
 * time_t has 32 bits (Debian 12 on armhf and i386), struct stat cannot hold a date after January
 * 2038, and stat(2) fails with EOVERFLOW. statx(2) has 64-bit times on every processor; glibc
 * emulates it on kernels before 4.11. */
#pragma once

#include <stdbool.h>
#include <stdint.h>
#include <sys/stat.h>
#include <sys/types.h>

typedef struct statx WdrStat;

/* Like stat(2), lstat(2), fstat(2) and fstatat(2): 0, or -1 with errno set. wdr_stat_below()
 * follows no link. */
int wdr_stat(const char *path, WdrStat *ret);
int wdr_lstat(const char *path, WdrStat *ret);
int wdr_fstat(int fd, WdrStat *ret);
int wdr_stat_below(int folder, const char *name, WdrStat *ret);

/* The file system that the file is on, and the device that a device node means. */
dev_t wdr_stat_device(const WdrStat *st);
dev_t wdr_stat_node(const WdrStat *st);
/* When the content changed last, in nanoseconds since 1970. */
int64_t wdr_stat_mtime_ns(const WdrStat *st);

/* Whether a folder or a regular file is at `path`, links followed. False when nobody can look, too.
 */
bool wdr_is_folder(const char *path);
bool wdr_is_file(const char *path);

/* Sets the time of the last change to the content, and no other: 0, or -1 with errno set. A kernel
 * before 5.1 on a 32-bit processor refuses (EOVERFLOW) what does not fit into 32 bits. */
int wdr_set_mtime(int fd, int64_t seconds, uint32_t nanoseconds);
