/* Services that are stopped for the time in which the last changes of a running system are copied,
 * so that what they write is whole, and started again whatever happens to this program.
 * Interface: systemctl(1), systemd-run(1), systemd.service(5). */
#pragma once

#include "world/world.h"

/* Stopped services; freeing it starts them again if nobody did. */
typedef struct WdrPause WdrPause;
void wdr_pause_free(WdrPause *p);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(WdrPause, wdr_pause_free)

/* USAGE: no name of a unit; REFUSED: there is no such unit, it does not run, or this program is a
 * part of it; UNSUPPORTED: the machine has no systemd. Names without a suffix are services. */
bool wdr_pause_check(
	const WdrWorld *world, char *const *units, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Checks and stops them, with what goes down with them. Before that a transient unit is begun,
 * which starts them as soon as this program has ended, even by a kill. On failure all run again. */
bool wdr_pause_begin(const WdrWorld *world, char *const *units, WdrPause **ret,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* All that are down. Borrowed. */
char *const *wdr_pause_units(const WdrPause *p);
/* When all were stopped: seconds since 1970, nanoseconds. */
int64_t wdr_pause_begun_ns(const WdrPause *p);
/* Starts them, and waits until they have started. *ret_s: seconds that they were down. An error
 * says which do not run now, with the command that starts them. */
bool wdr_pause_end(WdrPause *p, double *ret_s, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* "postgresql.service, mosquitto.service". The caller's. */
char *wdr_pause_names(char *const *units);
/* The unit that a process belongs to, from its /proc/PID/cgroup; NULL: none is known. The caller's.
 */
char *wdr_unit_of_process(const char *process);
