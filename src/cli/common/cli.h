/* What the commands share: the global options, the table of commands, errors and progress on
 * stderr. */
#pragma once

#include "present/out.h"
#include "world/world.h"

enum {
	WDR_EXIT_DONE = 0,
	WDR_EXIT_FOUND = 1, /* looked and found something wrong */
	WDR_EXIT_USAGE = 2,
	WDR_EXIT_REFUSED = 3, /* nothing was changed */
	WDR_EXIT_STOPPED = 4, /* part-way */
};

/* gboolean, since GOption writes those. */
typedef struct {
	char *bench;
	gboolean json, quiet, verbose, no_color, version;
	int progress_to; /* a descriptor; 0: none */
} WdrGlobals;

/* An option. What it does is described in docs/manual, whose text --help prints. */
#define WDR_OPTION(long_name, short_name, kind, into)                                              \
	{                                                                                          \
		long_name, short_name, 0, G_OPTION_ARG_##kind, into, NULL, NULL                    \
	}

typedef struct {
	const char *name;
	int (*run)(WdrGlobals *globals, int argc, char **argv);
} WdrCommand;

extern const WdrCommand wdr_cmd_survey, wdr_cmd_ready, wdr_cmd_rehearse, wdr_cmd_draft,
	wdr_cmd_move, wdr_cmd_catchup, wdr_cmd_arrive, wdr_cmd_status, wdr_cmd_readdress,
	wdr_cmd_rewind, wdr_cmd_drivers, wdr_cmd_order, wdr_cmd_loader, wdr_cmd_firmware,
	wdr_cmd_tune, wdr_cmd_pace, wdr_cmd_report, wdr_cmd_demo, wdr_cmd_roster;

/* Entries for the global options; they write into `globals`. Ends with an empty one. The caller's.
 */
GOptionEntry *wdr_cli_global_entries(WdrGlobals *globals);
/* Parses a command's own options and the global ones; what is left over stays in argv. */
bool wdr_cli_parse(const WdrCommand *command, WdrGlobals *globals, const GOptionEntry *entries,
	int *argc, char ***argv, GError **error);

/* The world that the global options ask for, with progress on stderr. */
bool wdr_cli_world(const WdrGlobals *globals, WdrWorld **ret, GError **error);
WdrOut wdr_cli_stdout(const WdrGlobals *globals);

/* What is going to be lost is agreed to by its name, or the last part of it: `given` (NULL: what a
 * person answers to a question that was printed). REFUSED: it is another name; `what` it is none
 * of.
 */
bool wdr_cli_agree(const char *name, const char *given, const char *what,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* Prints the error and its hint on stderr, and as a document on stdout with --json. Returns the
 * exit code: `otherwise`, or USAGE for such an error. */
int wdr_cli_fail(const WdrGlobals *globals, const GError *error, int otherwise);
/* The same where a document was printed already: there is one on stdout, always. */
int wdr_cli_fail_told(const WdrGlobals *globals, const GError *error, int otherwise);
