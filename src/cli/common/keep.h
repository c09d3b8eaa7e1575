/* Documents that are kept with the records of a move, for its report. */
#pragma once

#include "base/cleanup.h"
#include "base/json.h"
#include "world/world.h"

/* Puts it into the folder, in the place of an older one; takes it. Where that cannot be done a note
 * says so: it is no reason to fail. */
void wdr_cli_keep(const WdrWorld *world, const char *folder, const char *name, json_t *document);
/* The same with what 'ready' found, for 'status', where the state of all moves is; borrows it.
 * Where it cannot be kept, it is not. */
void wdr_cli_keep_ready(const WdrWorld *world, const json_t *document);
