/* Looking through a system's files for mentions: those that a row of the places names by their
 * readers, all other text under the boot volume and /etc by searching. */
#pragma once

#include "boot/system/system.h"
#include "world/world.h"

/* Fills s->mentions and s->warnings anew; needs s->boot, s->root and s->boot_folder. `world` (may
 * be NULL) is where the user's places are. What cannot be read gives a warning. */
void wdr_scan(WdrSystem *s, const WdrWorld *world);
/* Adds what is to be said of its boot files as a whole. */
void wdr_scan_warn(WdrSystem *s);
