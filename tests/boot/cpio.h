/* Archives for tests of initramfs files, made by libarchive. */
#pragma once

#include <archive.h>
#include <glib.h>

/* Bytes that it writes go to the end of `to`. packing NULL: plain; end: the archive's length is a
 * multiple of it. */
struct archive *cpio_begin(
	GByteArray *to, int (*packing)(struct archive *a), const char *options, int end);
/* A file or folder with this text, or a link that leads to it. */
void cpio_add(struct archive *a, const char *path, unsigned mode, const char *text);
void cpio_end(struct archive *a);
