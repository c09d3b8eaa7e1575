/* The logbook: what a move has done so far, one JSON object a line, each line on the medium before
 * the step that it announces begins.
 *
 *   {"format": "wanderitas-logbook/1", "at": SECONDS, "event": "begun", "itinerary": FILE}
 *   {"at": SECONDS, "event": "step", "what": "…"}          about to do this
 *   {"at": SECONDS, "event": "stopped", "what": "…"}       an error or a signal ended it
 *   {"at": SECONDS, "event": "done"}
 */
#pragma once

#include "world/world.h"

typedef struct WdrLogbook WdrLogbook;

/* Starts a new one in place of an old one. */
bool wdr_logbook_begin(const WdrWorld *world, const char *path, const char *itinerary_file,
	WdrLogbook **ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Also tells the world's observer. */
bool wdr_logbook_step(WdrLogbook *l, GError **error, const char *format, ...) G_GNUC_PRINTF(3, 4);
bool wdr_logbook_done(WdrLogbook *l, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* As well as it goes: the error that it tells of is the one that counts. */
void wdr_logbook_stopped(WdrLogbook *l, const char *why);
void wdr_logbook_free(WdrLogbook *l);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(WdrLogbook, wdr_logbook_free)
