/* A bench of its own for each test of the built program, copied from one that is made once. */
#pragma once

#include "support.h"

void bench_make(void);       /* unchecked fixture */
void bench_make_moved(void); /* the same, and one on which the first board's move is done */
void bench_remove(void);

/* The bench on which the move is done, to be changed once for all tests of a case; the caller's. */
char *bench_moved(void);
/* Restarts a bench from its drive, as a board is after a move. */
void bench_restart(const char *bench);
/* The test's bench is a copy of that on which the move is done; nothing was taken from it yet. */
void bench_take_moved(void);

/* The copy of a bench below it ("boards/…"), once. */
void bench_add(const char *below);
const char *bench_path(const char *path);
/* wanderitas --bench BENCH arguments... */
SupRun bench_run(const char *input, const char *const *arguments);
#define BENCH_RUN(...) bench_run("", (const char *const[]){ __VA_ARGS__, NULL })
#define WANDERITAS(...) SUP_RUN(sup_program(), __VA_ARGS__)

/* Between these, programs that are run have failing media. */
void bench_begin_faults(const char *faults);
/* The library that makes faults, as LD_PRELOAD takes it. WANDERITAS_TEST_FAULTS names another, for
 * tests of a program for another processor: with $LIB in it, it serves the system's own programs,
 * too. */
const char *bench_faults(void);
/* The program as others can start it: a copy, when it lies in a folder of root's own. */
const char *bench_program_for_others(void);
/* The same on a kernel that lacks openat2(2), open_tree(2) and fsopen(2). */
void bench_begin_old_kernel(void);
void bench_end_faults(void);
/* Runs the program on a failing medium; what `faults` means is told in faults/faults.c. */
SupRun bench_run_with_faults(const char *faults, const char *const *arguments);
#define BENCH_WITH_FAULTS(faults, ...)                                                             \
	bench_run_with_faults(faults, (const char *const[]){ __VA_ARGS__, NULL })
/* Byte of the image at which block `index` of a file of the root volume lies. */
uint64_t bench_root_block(const char *image, const char *file, unsigned index);

/* Runs the program, which gets the signal as soon as its logbook has a line with this text. Its
 * exit code, or 128 + N; what it printed is in sup_path("out"). */
int bench_interrupt(int number, const char *when, const char *const *arguments);
#define BENCH_INTERRUPT(number, when, ...)                                                         \
	bench_interrupt(number, when, (const char *const[]){ __VA_ARGS__, NULL })
#define BENCH_LOGBOOK bench_path("root/var/lib/wanderitas/to-nvme0n1/logbook.jsonl")

/* Runs and expects a code and, if not NULL, a text on stdout or stderr. */
void bench_expect(const SupRun *run, int code, const char *text);

/* One file of a volume of an image, through mtools and debugfs. */
char *bench_boot_file(const char *image, const char *file);
char *bench_root_file(const char *image, const char *file);
void bench_put_boot_file(const char *image, const char *file, const char *text);
/* Requests to debugfs for the root volume. */
void bench_change_root(const char *image, const char *const *requests);
void bench_put_root_file(const char *image, const char *file, const char *text);

#define BOOT_AT UINT64_C(4194304)
#define ROOT_AT UINT64_C(138412032)
