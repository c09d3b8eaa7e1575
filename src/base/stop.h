/* A request to stop (SIGINT, SIGTERM, SIGHUP), seen by every long loop of the core. Process-wide,
 * as signals are. */
#pragma once

#include "base/error.h"

/* Safe in a signal handler. */
void wdr_stop_request(int signal_number);
void wdr_stop_clear(void);
/* From now on something is being changed: a stop waits for what was begun, however long it takes.
 * Until then nothing is lost with the process. */
void wdr_stop_needs_care(void);
bool wdr_stop_is_careful(void); /* safe in a signal handler */
/* False with WDR_ERROR_STOPPED once a stop was asked for. */
bool wdr_stop_check(GError **error);
