/* An initramfs that lies beside its kernel, and the line of a boot file that makes the loader load
 * it. */
#pragma once

#include "boot/kernel/initramfs.h"
#include "boot/system/system.h"

/* The one that the system's generator made for this kernel, by the usual names; NULL: there is
 * none, or it is for another kernel. *ret_path is the caller's. */
WdrInitramfs *wdr_initramfs_beside(
	WdrVolume *boot, const char *kernel, const char *release, char **ret_path);
/* A boot file's text with a line more, that names the initramfs `path` for the kernel that `said`
 * ("extlinux/extlinux.conf:6"; NULL: config.txt's default) names. *ret_file is that file. NULL: in
 * this boot flow nobody can tell how. */
GBytes *wdr_initramfs_named(WdrVolume *boot, const char *flow, const char *said, const char *path,
	char **ret_file, char **ret_before, size_t *ret_before_len);
