/* Bringing a volume that was copied up to what its source is now. */
#pragma once

#include "copy/difference.h"
#include "volume/ext/ext.h"

/* Copies differences to an ext volume that nobody has mounted since it was made. Entries are
 * looked at once more; `now` of each difference becomes what was copied, and its content's hash. A
 * file that is gone by then leaves an empty one behind, which the next difference takes away. Until
 * this returns true the volume is not whole. *ret_bytes: contents that were copied. */
bool wdr_apply_ext(const WdrDifference *d, const WdrBuildTarget *target, GPtrArray *diffs,
	uint64_t *ret_bytes, GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* Writes the list anew, with what the differences say in it, which was found at `begun`. */
bool wdr_apply_list(const char *path, GPtrArray *diffs, int64_t begun,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* Everything that was copied reads back from this volume as it was. */
bool wdr_apply_verify(
	WdrVolume *medium, GPtrArray *diffs, GError **error) G_GNUC_WARN_UNUSED_RESULT;
