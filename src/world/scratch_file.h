/* Scratch files without a name: they go with the last program that has them open, however it ends.
 */
#pragma once

#include "base/error.h"
#include "world/world.h"

/* In TMPDIR, or else in the one of /var/tmp and `beside` that has more room. *ret is the caller's
 * (WdrFd); *ret_folder is where it lies, the caller's. */
bool wdr_scratch_file_new(
	const char *beside, int *ret, char **ret_folder, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* A path that opens it, in this program, what it forks, and what it runs. The caller's. */
char *wdr_scratch_file_path(int fd);
