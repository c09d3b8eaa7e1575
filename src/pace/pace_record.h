/* The record of a measurement, kept as a JSON file so that before and after can be compared. The
 * format: docs/formats/pace.md. Unknown members are passed over, unknown figures too. */
#pragma once

#include "base/cleanup.h"
#include "pace/pace_figures.h"

typedef struct {
	int64_t at;
	char *host, *board, *kernel; /* NULL: unknown */
	double seconds;
	GPtrArray *measured; /* WdrPaced */
} WdrPaceRecord;
/* An empty one of this machine, now. */
WdrPaceRecord *wdr_pace_record_new(const WdrWorld *world, double seconds);
void wdr_pace_record_free(WdrPaceRecord *r);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(WdrPaceRecord, wdr_pace_record_free)

/* Digits that count; more would say what nobody measured. */
#define WDR_PACE_JSON_FLAGS (JSON_INDENT(2) | JSON_REAL_PRECISION(6))
/* The caller's. */
json_t *wdr_pace_record_to_json(const WdrPaceRecord *r);
/* FORMAT: it is no record, damaged, or of a version that this program does not know; `name` is for
 * messages. */
bool wdr_pace_record_parse(const char *name, const char *text, size_t len, WdrPaceRecord **ret,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
bool wdr_pace_record_load(
	const char *path, WdrPaceRecord **ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;
bool wdr_pace_record_save(
	const WdrPaceRecord *r, const char *path, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* What tells the things of a record from those of others: "before" of "figures/before.json". The
 * caller's. */
char *wdr_pace_record_label(const char *path);
/* Takes `p`. Things of one name are put together. */
void wdr_pace_record_add(WdrPaceRecord *r, WdrPaced *p);
/* Puts what another one has with what `r` has; `label` tells its things from others of the same
 * name. Takes `other`. is_all: nothing is measured now, `r` is about the machine and the time of
 * the first one. */
void wdr_pace_record_take(WdrPaceRecord *r, WdrPaceRecord *other, const char *label, bool is_all);
