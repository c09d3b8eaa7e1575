/* A machine's name in its files. */
#pragma once

#include "volume/volume.h"

/* Where the name is a word of its own, at or behind `from`, which is in the text: also
 * before a dot ("heron-hide-3.field"), not after one, nor as a part of another name. Borrowed;
 * NULL: nowhere. */
const char *wdr_host_name_in(const char *text, const char *from, const char *name);
/* Notes (char *) of the files below /etc that name it and are not the ones that everybody knows. */
void wdr_host_name_left(WdrVolume *root, const char *name, GPtrArray *notes);
