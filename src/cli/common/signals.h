/* What asks the program to stop: Ctrl-C and the like. */
#pragma once

/* From now on SIGINT, SIGTERM and SIGHUP ask for a stop (base/stop.h) instead of ending the
 * process. If it has not come to one after two seconds, it is ended while it only looks; once it
 * changes something it says so, and another such signal then ends it as a power cut would. Until
 * then a further one, as of a key held down, changes nothing. */
void wdr_signals_set_up(void);
