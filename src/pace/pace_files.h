/* Small files in a folder, one after the other: made, written, flushed, read back from the medium,
 * and removed. What package managers, mail and logs do all day. */
#pragma once

#include "pace/pace.h"

typedef struct WdrPaceFiles WdrPaceFiles;

/* In a folder of their own below `folder`, which goes away with them. A kill leaves it, with one
 * file at most. */
bool wdr_pace_files_new(
	const char *folder, WdrPaceFiles **ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;
void wdr_pace_files_free(WdrPaceFiles *f);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(WdrPaceFiles, wdr_pace_files_free)

/* As wdr_pace_measure(), of WDR_PACE_SMALL_FILES. */
bool wdr_pace_files_measure(const WdrWorld *world, WdrPaceFiles *f, double seconds,
	WdrPaceFigure *ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;
