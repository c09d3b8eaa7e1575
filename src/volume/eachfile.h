/* Every file below a folder of a volume. */
#pragma once

#include "volume/volume.h"

/* The node's path is from the volume's root. */
typedef void (*WdrFileFunc)(void *data, const WdrNode *node, WdrEntry *entry);

/* In the order of names, without following links; nothing happens where nothing is. `path` may be a
 * file itself. A folder that cannot be listed gives a warning (char *; NULL: nobody wants them).
 */
void wdr_each_file(
	WdrVolume *volume, const char *path, WdrFileFunc take, void *data, GPtrArray *warnings);
