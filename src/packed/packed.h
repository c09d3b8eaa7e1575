/* Disk images that are packed. An image is unpacked once for each command, into a file without a
 * name, which goes with the program, however it ends. The packed file is only read. */
#pragma once

#include "base/error.h"
#include "world/world.h"

#include <stdint.h>

/* What packed the file, by its first bytes: "xz", "gzip", "bzip2", "zstd", "zip". NULL: it is not
 * packed, is no plain file, or cannot be read. */
const char *wdr_packed_kind(const char *path);
/* A disk image of a form that has to be converted before anything here can read it: "qcow2".
 * *ret_hint is the command that converts it, the caller's. NULL: it is none. */
const char *wdr_packed_foreign(const char *path, char **ret_hint);

/* The command that unpacks it beside itself. The caller's. */
char *wdr_packed_command(const char *path, const char *kind);

/* Unpacks it and compares it with a checksum file, if there is one beside it. *ret_path is what to
 * open, and is valid as long as the world: of another file than it was the last time, it is
 * unpacked anew. The caller's. */
bool wdr_packed_unpack(const WdrWorld *world, const char *path, char **ret_path,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
