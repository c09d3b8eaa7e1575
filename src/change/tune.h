/* Settings of the firmware's boot files that a new medium may want: shown with what they do and
 * their risk, set and taken out. */
#pragma once

#include "boot/board/board.h"
#include "change/disk_session.h"
#include "change/fact.h"

typedef struct {
	const char *on;      /* disk or image whose boot files are looked at */
	const char *target;  /* disk that the settings are for; NULL: the same */
	char **set, **unset; /* names, NULL-ended; NULL: none */
} WdrTuneOptions;

typedef struct {
	WdrDiskSession *site;
	WdrBoard *board;  /* NULL: not known */
	char *usb_ids;    /* of the target's bridge; NULL: it has none */
	GPtrArray *facts; /* WdrFact */
	GPtrArray *files; /* WdrFilePlan */
} WdrTunePlan;

/* USAGE: there is no such setting; UNSUPPORTED: the boot files are not of such firmware, or the
 * setting is not for this board. */
bool wdr_tune_plan(const WdrWorld *world, const WdrTuneOptions *options, WdrTunePlan **ret,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
void wdr_tune_plan_free(WdrTunePlan *p);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(WdrTunePlan, wdr_tune_plan_free)
