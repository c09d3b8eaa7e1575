/* The machine that the tool works on: this one, or a bench, a folder that stands in for one with
 *   dev/  disk images     proc/  sys/  as a kernel shows them     root/  the running tree
 *   bin/  stand-ins for board commands
 * Core code asks the world where things are and runs programs through it alone. */
#pragma once

#include "base/error.h"

#include <stdint.h>

/* What the core tells while it works. Any member may be NULL. Called from one thread at a time. */
typedef struct {
	uint64_t bytes_done, bytes_total; /* on the medium, or read back from it */
	uint64_t entries_done, entries_total;
	uint64_t bytes_read; /* of the source, so far; 0: not counted */
	/* Of copying that reads back behind itself: how much waits for that. */
	bool reads_behind;
	uint64_t bytes_waiting;
	bool is_reading_back; /* from the target, to compare it; false: copying */
	/* Of work that takes a set time: how much of that has passed, 0 to 1, and the rate so far
	 * (0: not known yet). Then there are no totals. */
	double share, bytes_per_s;
} WdrProgress;

/* A work of several steps, told before the first of them. All of it is copied, and read back. */
typedef struct {
	unsigned steps; /* numbered ones; 0: unknown */
	uint64_t bytes, entries;
	double read_back_per_s; /* bytes a second, measured on the target; 0: not known yet */
	/* Bytes a second that copying is expected to make, by what was measured on another day; 0:
	 * unknown. */
	double copy_per_s;
} WdrWork;

typedef struct {
	void (*on_work)(void *data, const WdrWork *work);
	/* number: of the step within the work; 0: it has none. */
	void (*on_step)(void *data, unsigned number, const char *step);
	void (*on_progress)(void *data, const WdrProgress *progress);
	void (*on_note)(void *data, const char *note);
	void *data;
} WdrObserver;

typedef struct WdrWorld WdrWorld;

/* bench NULL: this machine. Fails when the folder is not a bench. */
bool wdr_world_new(const char *bench, WdrWorld **ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;
void wdr_world_free(WdrWorld *world);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(WdrWorld, wdr_world_free)

const char *wdr_world_bench(const WdrWorld *world); /* NULL: this machine */
/* Where an absolute path of the machine lies: "/etc/fstab" -> "BENCH/root/etc/fstab",
 * "/sys/block" -> "BENCH/sys/block". The result belongs to the caller. */
char *wdr_world_path(const WdrWorld *world, const char *path);
/* The first line of a small file of the machine, as it is; NULL: empty, or not to be had. The
 * caller's. */
char *wdr_world_line(const WdrWorld *world, const char *path);
/* Whether what its proc says is mounted can be read through its root folder: always so on this
 * machine; on a bench when root/ holds a whole system, which an init in it is the sign of. On other
 * benches root/ has only the files that are looked at, and the disks count as at rest. */
bool wdr_world_is_running(const WdrWorld *world);
/* SOURCE_DATE_EPOCH is set: the time stands still, and the same move gives the same bytes. Nothing
 * that was measured may then be recorded. */
bool wdr_world_is_reproducible(const WdrWorld *world);
/* By the clock that stamps files, to be compared with their times: never later than it, and never
 * later than SOURCE_DATE_EPOCH. */
int64_t wdr_world_stamp(const WdrWorld *world);
/* Seconds since 1970; SOURCE_DATE_EPOCH, when set, replaces the clock. */
int64_t wdr_world_now(const WdrWorld *world);

/* When this program began its work, in microseconds since the machine was started, as the kernel's
 * log counts them. Of a bench: what its proc/uptime says now; 0: it says nothing. */
int64_t wdr_world_began_us(const WdrWorld *world);

void wdr_world_observe(WdrWorld *world, const WdrObserver *observer);
void wdr_world_work(const WdrWorld *world, const WdrWork *work);
void wdr_world_step(const WdrWorld *world, const char *format, ...) G_GNUC_PRINTF(2, 3);
void wdr_world_numbered_step(const WdrWorld *world, unsigned number, const char *step);
void wdr_world_note(const WdrWorld *world, const char *format, ...) G_GNUC_PRINTF(2, 3);
void wdr_world_progress(const WdrWorld *world, const WdrProgress *progress);

/* An open file that is kept until the world goes, under a key: what was made once, and several
 * parts of a command want. `fd` is taken over; the result is the path, borrowed. */
const char *wdr_world_keep(const WdrWorld *world, const char *key, const char *path, int fd);
/* The path that was kept under this key; NULL: none. Borrowed. */
const char *wdr_world_kept(const WdrWorld *world, const char *key);

typedef struct {
	int exit_code; /* 128 + N when killed by signal N */
	char *output;  /* stdout and stderr, one after the other */
} WdrRun;
void wdr_run_clear(WdrRun *run);
G_DEFINE_AUTO_CLEANUP_CLEAR_FUNC(WdrRun, wdr_run_clear)

/* Where such a program is, as below; NULL: nowhere. The caller's. */
char *wdr_world_program(const WdrWorld *world, const char *name);
/* Runs a program of the operating system (never through a shell; also found in the sbin folders,
 * which are not in everybody's PATH), with LC_ALL=C and an empty standard input. `environment` is
 * NULL or a NULL-ended list of NAME=VALUE to add. An exit code other than 0 is a result, not an
 * error. */
bool wdr_world_run(const WdrWorld *world, const char *const *argv, const char *const *environment,
	WdrRun *ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;
