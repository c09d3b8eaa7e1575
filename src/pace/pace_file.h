/* What can be measured: a disk or an image that is read, a stretch of a disk that is written to, or
 * a scratch file in a folder. */
#pragma once

#include "pace/pace.h"

typedef struct WdrPaceFile WdrPaceFile;

/* A disk or an image, to be read: of an image, what it holds data in (holes cost nothing to read).
 * REFUSED: too little for requests of 1 MiB. */
bool wdr_pace_file_open(
	const char *path, WdrPaceFile **ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* A stretch of a disk or an image, to be written to; taken exclusively. */
bool wdr_pace_file_open_stretch(const char *path, WdrPaceRun stretch, WdrPaceFile **ret,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* A file in the folder that has no name, or loses it at once: it is gone with the program, whatever
 * ends that. As large as fits well, 1 GiB at most; NO_SPACE: less than 64 MiB. */
bool wdr_pace_file_new_scratch(
	const char *folder, WdrPaceFile **ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Only the first `size` bytes are measured from now on, which are written first as far as they were
 * not before (`written`): what was never written is read from nowhere. */
bool wdr_pace_file_fill(
	WdrPaceFile *f, uint64_t written, uint64_t size, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* The stretch holds nothing worth keeping: tells the medium so, where it can be told. */
void wdr_pace_file_discard(WdrPaceFile *f);
void wdr_pace_file_free(WdrPaceFile *f);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(WdrPaceFile, wdr_pace_file_free)

/* Requests go past the page cache. */
bool wdr_pace_file_is_past_cache(const WdrPaceFile *f);
/* What is measured, in bytes. */
uint64_t wdr_pace_file_span(const WdrPaceFile *f);
/* The kernel's number of the device that it lies on; 0: none. */
dev_t wdr_pace_file_device(const WdrPaceFile *f);
/* When an image was written last, in nanoseconds; 0: it is none. */
int64_t wdr_pace_file_written_at(const WdrPaceFile *f);

/* As wdr_pace_measure(). Several requests at a time go through io_uring, or, where the kernel or a
 * sandbox refuses that, through threads. */
bool wdr_pace_file_measure(const WdrWorld *world, WdrPaceFile *f, WdrPaceKind kind, double seconds,
	WdrPaceFigure *ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;
