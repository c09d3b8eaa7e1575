/* What the commands around a move share: they show what would be changed, and change it on --write.
 */
#pragma once

#include "cli/cli.h"
#include "move/onsite.h"

typedef struct {
	const char *name;      /* of the command, and of its folder of records */
	const char *state;     /* that the user named; NULL: the default */
	const WdrOnSite *site; /* the disk that is changed; NULL: what is changed is on none */
	const WdrWorld *world; /* then */
	bool has_work, is_writing;
	/* *ret_has_begun: something may have been changed. */
	bool (*write)(void *data, const char *state, bool *ret_has_begun, GError **error);
	void *data;
	const bool *has_unread; /* set by it: something can be read back only later; NULL: no */
	/* What came of it. */
	bool has_begun;
	char *done_in; /* where the records are; the caller's; NULL: nothing was done */
} WdrStepRun;

/* Writes if it is to be, and tells; an error names the way on. */
bool wdr_cli_step(
	const WdrGlobals *globals, WdrStepRun *step, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* "nvme", …: what a disk is or will be attached as, as in WdrDisk; text NULL: *ret is too. */
bool wdr_cli_medium(const char *text, const char **ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Puts back what a logbook tells of (NULL: there is none), and tells. The exit code. */
int wdr_cli_rewind(
	const WdrGlobals *globals, const WdrWorld *world, const char *logbook, bool is_forced);
