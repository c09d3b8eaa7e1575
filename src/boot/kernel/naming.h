/* An initramfs that lies beside its kernel, and the line of a boot file that makes the loader load
 * it. */
#pragma once

#include "boot/kernel/initramfs.h"
#include "boot/system/system.h"

/* The one that the system's generator made for this kernel, by the usual names; NULL: there is
 * none, or it is for another kernel. *ret_path is the caller's. */
WdrInitramfs *wdr_initramfs_beside(
	WdrVolume *boot, const char *kernel, const char *release, char **ret_path);
/* A boot file that a line is added to. */
typedef struct {
	char *file;
	char *before;
	size_t before_len;
} WdrNamedIn;
void wdr_named_in_clear(WdrNamedIn *in);
G_DEFINE_AUTO_CLEANUP_CLEAR_FUNC(WdrNamedIn, wdr_named_in_clear)
/* A boot file's text with a line more, that names the initramfs `path` for the kernel that `said`
 * ("extlinux/extlinux.conf:6"; NULL: config.txt's default) names. *ret_in, empty before, is that
 * file as it is now. NULL: in this boot flow nobody can tell how. */
GBytes *wdr_initramfs_named(
	WdrVolume *boot, const char *flow, const char *said, const char *path, WdrNamedIn *ret_in);
