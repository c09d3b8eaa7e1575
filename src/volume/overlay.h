/* A volume as it will be: some of its files with other contents, others not there. Only for
 * reading. */
#pragma once

#include "volume/volume.h"

/* Whether this entry, and all that is in it, is not there. */
typedef bool (*WdrHidesFunc)(void *data, const char *path, WdrKind kind);

typedef struct {
	GHashTable *contents; /* path (char *) -> GBytes *: takes the place of what a file has;
				 NULL: none */
	WdrHidesFunc hides;   /* NULL: everything is there */
	void *data;
	GDestroyNotify free_data; /* NULL: it is borrowed */
} WdrOverlay;

/* base is taken over, and so is a reference to the contents. It counts as a volume of the base's
 * type. */
WdrVolume *wdr_overlay_new(WdrVolume *base, const WdrOverlay *overlay);
