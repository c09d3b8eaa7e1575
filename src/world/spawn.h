/* Copies of this program that each do a piece of work beside it: started, listened to, told to
 * stop.
 *
 * A copy has all that the program has in memory, without paying for it twice: what both leave as it
 * is they share. Of the program's threads only the calling one goes on in a copy, so no other may
 * hold a lock when it is started. */
#pragma once

#include "base/error.h"

typedef struct WdrSpawn WdrSpawn;

typedef struct {
	/* Returns the copy's exit code. `says` is a pipe on which it tells how far it is, a line at
	 * a time. Nothing that the program would do at its end is done at the copy's. */
	int (*work)(void *data, int says);
	void *data;
	const char *out_path, *err_path; /* get what it prints */
} WdrSpawnTask;

/* The copy is added to `children` (WdrSpawn), which are all that there are. It ends even when the
 * program does not wait for it, and goes on when the program is killed. Signals of the terminal do
 * not reach it: wdr_spawn_stop() does. */
bool wdr_spawn_start(
	const WdrSpawnTask *task, GPtrArray *children, GError **error) G_GNUC_WARN_UNUSED_RESULT;
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
