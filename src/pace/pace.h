/* How fast a medium is: requests of one kind for a set time, in rounds, with the latency of each.
 *
 * The requests go through a table, so that tests can measure a medium whose speed is known, with a
 * clock of its own; pace_file.h has the one over a file or a device. Times are nanoseconds. */
#pragma once

#include "world/world.h"

#include <stddef.h>

enum {
	WDR_PACE_ROUNDS = 7,
	WDR_PACE_BIG = 1024 * 1024,
	WDR_PACE_SMALL = 4096,
	WDR_PACE_FILE = 16 * 1024,
	WDR_PACE_AT_ONCE_MAX = 8, /* what a board's services keep under way */
};

/* What is measured. */
typedef enum {
	WDR_PACE_READ_IN_SEQUENCE,
	WDR_PACE_WRITE_IN_SEQUENCE,
	WDR_PACE_READ_AT_RANDOM,
	WDR_PACE_READ_MANY,
	WDR_PACE_COMMIT,
	WDR_PACE_SMALL_FILES, /* in a folder only */
	WDR_PACE_KINDS
} WdrPaceKind;

typedef struct {
	const char *name; /* in JSON: "read-in-sequence" */
	const char *text; /* "reads in sequence, 1 MiB" */
	bool is_write, is_random;
	bool is_flushed; /* each request, before it counts as ended: what a database waits for */
	uint32_t request_bytes;
	unsigned at_once;
} WdrPaceKindInfo;
const WdrPaceKindInfo *wdr_pace_kind(WdrPaceKind kind);

typedef struct {
	bool is_write;
	uint8_t *buf; /* aligned to a page */
	size_t len;
	uint64_t offset;
	uint64_t begun, ended; /* set by the code that measures */
	int failed;            /* errno; 0: it went well */
} WdrPaceRequest;

/* At most `at_once` requests are under way at a time. */
typedef struct {
	/* It may be begun now or when reap() is called. */
	void (*submit)(void *self, WdrPaceRequest *r);
	/* Waits until one has ended; borrowed from who submitted it. */
	WdrPaceRequest *(*reap)(void *self);
	/* What was written is with the medium: 0, or errno. */
	int (*flush)(void *self);
	uint64_t (*now)(void *self);
} WdrPaceOps;

/* A stretch that is measured, in bytes. */
typedef struct {
	uint64_t start, size;
} WdrPaceRun;

/* Of all runs (WdrPaceRun) together, in bytes. */
uint64_t wdr_pace_runs_size(const GArray *runs);
/* Contents that cannot be made smaller, as a medium may try; len is a multiple of 4. */
void wdr_pace_scramble(GRand *dice, uint8_t *buf, size_t len);

typedef struct {
	const WdrPaceOps *ops;
	void *self;         /* borrowed */
	const char *name;   /* for messages */
	const GArray *runs; /* WdrPaceRun: multiples of WDR_PACE_BIG, rising; borrowed */
} WdrPaceMedium;

typedef struct {
	bool is_there;
	double bytes_per_s[WDR_PACE_ROUNDS]; /* of each round */
	double median, min, max;             /* of these */
	uint64_t requests, bytes, duration;  /* of all rounds */
	uint64_t latency_median, latency_p99, latency_max;
	uint64_t moved;   /* bytes, those of the warm-up too */
	uint64_t reached; /* bytes: in sequence, how far the farthest request went into the runs */
	double cpu;       /* of one processor's time while it was measured: 0.03 is 3 % */
	double zeros;     /* of what was read: nothing but zeros was there */
} WdrPaceFigure;

/* Half of the distance between the slowest and the fastest round, against the median. */
double wdr_pace_spread(const WdrPaceFigure *f);
/* It is too wide for the figure to be relied on. */
bool wdr_pace_is_unsteady(const WdrPaceFigure *f);

/* Measures one kind for about `seconds`, after a short warm-up; tells the world's observer how far
 * it is. IO: a request failed. REFUSED: the runs are too small. */
bool wdr_pace_measure(const WdrWorld *world, const WdrPaceMedium *medium, WdrPaceKind kind,
	double seconds, WdrPaceFigure *ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;
