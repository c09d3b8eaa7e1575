/* Documents that are kept with the records of a move, for its report. */
#pragma once

#include "base/cleanup.h"
#include "world/world.h"

/* Puts it into the folder, in the place of an older one; takes it. Where that cannot be done a note
 * says so: it is no reason to fail. */
void wdr_cli_keep(const WdrWorld *world, const char *folder, const char *name, json_t *document);
