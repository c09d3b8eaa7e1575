/* An initramfs as the kernel unpacks it: cpio archives (newc) one behind the other, plain or
 * packed, with zeros between them; what comes later takes the place of what came before. Format:
 * Linux's Documentation/driver-api/early-userspace/buffer-format.rst and init/initramfs.c. */
#pragma once

#include "base/error.h"

#include <stddef.h>
#include <stdint.h>

/* A list of modules that are loaded at the start, of our own, in one of systemd's folders. */
#define WDR_LOAD_LIST_NAME "modules-load.d/wanderitas.conf"

/* Paths are without a leading slash, and as they are once links among them are followed. */
typedef struct {
	GHashTable *files;   /* char *: files, and links */
	GHashTable *folders; /* char * */
	GHashTable *links;   /* char * -> char *: what a link leads to */
	GHashTable *kept;  /* char * -> GBytes *: contents of the lists of what is loaded and of the
			      text  indexes of modules, of the last segment that has them */
	GPtrArray *packed; /* const char *: how each segment is packed; "plain" */
	char *release;     /* of the kernel that its modules are for; NULL: it has none */
	bool has_init;     /* without it the kernel mounts root by itself */
} WdrInitramfs;

/* FORMAT: the kernel would not unpack it, or not to its end; which segment, at which byte, and why.
 */
bool wdr_initramfs_read(const void *bytes, size_t len, WdrInitramfs **ret,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* The same of a boot file, which may be a loader image around one. */
bool wdr_initramfs_read_file(const void *bytes, size_t len, WdrInitramfs **ret,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
void wdr_initramfs_free(WdrInitramfs *i);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(WdrInitramfs, wdr_initramfs_free)
/* What made it, by the files that such archives have: how its /init loads modules and finds root is
 * known then. NULL: nothing that is known. */
const char *wdr_initramfs_generator(const WdrInitramfs *i);
/* Where the module is in it, under any name that it can have: "usb-storage" and "usb_storage" are
 * one. Borrowed; NULL: it is not. */
const char *wdr_initramfs_module(const WdrInitramfs *i, const char *name);
/* The path with all links in it followed, but for its last name; that need not be there. The
 * caller's. */
char *wdr_initramfs_real(const WdrInitramfs *i, const char *path);
/* The text of a kept file; NULL: it has none. The caller's. */
char *wdr_initramfs_text(const WdrInitramfs *i, const char *path);
