/* An initramfs as the kernel unpacks it: cpio archives (newc) one behind the other, plain or
 * packed, with zeros between them; what comes later takes the place of what came before. Format:
 * Linux's Documentation/driver-api/early-userspace/buffer-format.rst and init/initramfs.c. */
#pragma once

#include "base/error.h"

#include <stddef.h>
#include <stdint.h>

typedef struct {
	GHashTable *files; /* char *: paths of files and links, without a leading slash */
	GPtrArray *packed; /* const char *: how each segment is packed; "plain" */
	char *modules;     /* conf/modules, of the last segment that has one; NULL: none */
	char *release;     /* of the kernel that its modules are for; NULL: it has none */
	bool has_init;     /* without it the kernel mounts root by itself */
} WdrInitramfs;

/* FORMAT: the kernel would not unpack it, or not to its end; which segment, at which byte, and why.
 */
bool wdr_initramfs_read(const void *bytes, size_t len, WdrInitramfs **ret,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
void wdr_initramfs_free(WdrInitramfs *i);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(WdrInitramfs, wdr_initramfs_free)
/* The module is in it, under any name that it can have: "usb-storage" and "usb_storage" are one. */
bool wdr_initramfs_has_module(const WdrInitramfs *i, const char *name);
