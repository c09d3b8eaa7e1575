/* What the commands around a move share: they show what would be changed, and change it on --write.
 */
#pragma once

#include "change/disk_session.h"
#include "cli/common/cli.h"
#include "present/out.h"

/* The options that these commands share. */
typedef struct {
	char *on;    /* the disk whose files are looked at; NULL: none was named */
	char *state; /* folder for the records; NULL: the default */
	gboolean write;
} WdrStepOptions;
void wdr_step_options_clear(WdrStepOptions *o);

/* How a command takes its arguments. */
typedef struct {
	const WdrCommand *command;
	const GOptionEntry *own; /* its own options; an empty one ends them */
	bool has_on;             /* takes --on */
	const char *instead; /* how things are named, as it takes no words; NULL: nothing to say */
	int words_max;
} WdrStepUsage;
bool wdr_cli_step_parse(const WdrStepUsage *usage, WdrGlobals *globals, WdrStepOptions *o,
	int *argc, char ***argv, GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* What is the same for all runs of one step. */
typedef struct {
	const char *name; /* of the command, and of its folder of records */
	void (*show)(const WdrOut *out, const void *plan);
	/* state: where the records of what was done are; NULL: nothing was. */
	void (*show_json)(FILE *file, const void *plan, const char *state);
	/* *ret_has_begun: something may have been changed. */
	bool (*write)(void *plan, const char *state, bool *ret_has_begun, GError **error);
	/* Nothing is wrong or left to the user; NULL: never is. */
	bool (*is_fine)(const void *plan, bool is_done);
} WdrStepSort;
extern const WdrStepSort wdr_step_drivers, wdr_step_order, wdr_step_firmware;

typedef struct {
	const WdrStepSort *sort;
	void *plan;
	const WdrDiskSession *site; /* the disk that is changed; NULL: what is changed is on none */
	const WdrWorld *world;      /* then */
	const char *state;          /* that the user named; NULL: the default */
	bool has_work, is_writing;
	bool is_asked;          /* for a change, which may be there already */
	const bool *has_unread; /* set by write: something can be read back only later; NULL: no */
} WdrStepRun;

/* Shows, writes if it is to be, and tells. The exit code. */
int wdr_cli_step(const WdrGlobals *globals, const WdrStepRun *step);
/* Shows it, unless the user wants quiet, writes and tells, as a part of another command.
 * *ret_has_begun is set when it fails after something may have been changed. */
bool wdr_cli_step_write(const WdrGlobals *globals, const WdrStepRun *step, bool *ret_has_begun,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* "nvme", …: what a disk is or will be attached as, as in WdrDisk; text NULL: *ret is too. */
bool wdr_cli_medium(const char *text, const char **ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Undoes the changes in a logbook (NULL: there is none), and reports them. The exit code. */
int wdr_cli_rewind(
	const WdrGlobals *globals, const WdrWorld *world, const char *logbook, bool is_forced);
