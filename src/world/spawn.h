/* Programs that run beside this one: started, listened to, told to stop. Several at a time. */
#pragma once

#include "base/error.h"

typedef struct WdrSpawn WdrSpawn;

/* What it prints goes to two files. It has a pipe as descriptor WDR_SPAWN_SAYS, on which it says
 * how far it is, a line at a time; it ends itself where nobody reads that. Signals of the terminal
 * do not reach it: wdr_spawn_stop() does. */
enum { WDR_SPAWN_SAYS = 3 };
bool wdr_spawn_start(const char *program, const char *const *argv, const char *out_path,
	const char *err_path, WdrSpawn **ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* The child goes on where it still runs; nobody listens to it then. */
void wdr_spawn_free(WdrSpawn *c);

/* Waits until any of these (WdrSpawn) said something or ended, for so long at most. */
void wdr_spawns_wait(const GPtrArray *children, int milliseconds);
/* The last whole line that it said; NULL: none. Borrowed until the next wait. */
const char *wdr_spawn_said(const WdrSpawn *c);
bool wdr_spawn_is_over(const WdrSpawn *c);
int wdr_spawn_exit_code(const WdrSpawn *c); /* 128 + N when ended by signal N */
/* As Ctrl-C would, once. */
void wdr_spawn_stop(WdrSpawn *c);
