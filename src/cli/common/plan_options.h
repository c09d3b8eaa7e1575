/* The options that say what a move is to be like: draft and move share them. */
#pragma once

#include "cli/common/cli.h"
#include "plan/itinerary.h"
#include "plan/source.h"

typedef struct {
	char *from, *to, *what, *into, *table, *leave_free, *boot_size, *with, *name_by, *state;
	char **pause;                      /* units */
	char **leave_behind, **all_behind; /* the latter with those of a second machine */
	char *second;
	gboolean keep_identifiers;
	int sector_size;
	bool takes_steps;  /* the command does the steps around the move that --with names: */
	bool keeps_source; /* that was opened for drawing */
	const WdrSource *looked_at; /* it, opened before; borrowed; NULL: it was not */
	unsigned steps;             /* WdrMoveSteps; set by wdr_plan_options_draft() */
	WdrSource *source;          /* it; NULL: there is none */
	char *scratch;              /* the folder that it has files in */
} WdrPlanOptions;

void wdr_plan_options_clear(WdrPlanOptions *o);
G_DEFINE_AUTO_CLEANUP_CLEAR_FUNC(WdrPlanOptions, wdr_plan_options_clear)
/* Entries for these and, behind them, for `more` (ended by an empty one). The caller's. */
GOptionEntry *wdr_plan_options_entries(WdrPlanOptions *o, const GOptionEntry *more);
/* Draws the itinerary that the options ask for. Without --from the disk that the system runs from
 * is the source. */
bool wdr_plan_options_draft(
	const WdrWorld *world, WdrPlanOptions *o, WdrItinerary **ret, GError **error);

/* What readdress shares with them: a form of identifier, and the disk that / is mounted from. */
bool wdr_cli_name_by(const char *text, WdrIdentifierKind *ret, GError **error);
bool wdr_cli_running_disk(const WdrWorld *world, char **ret, GError **error);
/* The disk that was named, or (NULL) that one. */
bool wdr_cli_source_disk(const WdrWorld *world, const char *from, WdrDisk **ret, GError **error);
