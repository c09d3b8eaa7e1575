/* GRUB's shell, as far as a configuration uses it: variables, conditions, and which commands run.
 * What a condition asks of the running loader cannot be told; commands in its branches are seen,
 * but not believed. Private to this folder. */
#pragma once

#include "boot/formats/grub_words.h"
#include "boot/formats/includes.h"
#include "boot/system/system.h"

/* A file of commands. */
typedef struct {
	char *file;          /* "boot/grub/grub.cfg" */
	WdrSystemPart *part; /* NULL: built into the loader */
	char *text;
	size_t len;
	GArray *tokens;
} WdrGrubScript;

typedef enum {
	WDR_GRUB_PASSED,  /* a branch that is not taken */
	WDR_GRUB_PERHAPS, /* one that is taken if a condition holds that nobody knows */
	WDR_GRUB_TAKEN,
} WdrGrubMode;

typedef enum { WDR_GRUB_FALSE, WDR_GRUB_TRUE, WDR_GRUB_UNKNOWN } WdrGrubTruth;

typedef struct WdrGrubShell WdrGrubShell;
struct WdrGrubShell {
	const WdrSystem *s;
	const GPtrArray *others; /* const WdrSystem *: disks beside it; NULL: none */
	GHashTable *variables;
	WdrSystemPart memdisk;       /* the volume inside the loader, without a partition */
	GPtrArray *scripts;          /* WdrGrubScript: all that were read */
	const WdrGrubScript *script; /* that is run */
	WdrIncludes includes;
	unsigned depth;
	WdrGrubTruth status; /* of the last command */
	char *doubt;         /* the first thing that nobody knows; NULL: none */
	char *missed; /* the last search that found nothing, in words; NULL: all found something */
	/* A command that is not the shell's own: words expanded, NULL-ended; `body` and `body_end`
	 * are the tokens of the block behind it (0: none). Returns its status. */
	WdrGrubTruth (*command)(WdrGrubShell *sh, char **words, const WdrGrubToken *first,
		guint body, guint body_end);
	/* It would change what starts. */
	bool (*matters)(char *const *words);
	void *data;
};

void wdr_grub_shell_begin(WdrGrubShell *sh, const WdrSystem *s);
void wdr_grub_shell_end(WdrGrubShell *sh);
/* The FAT volume that GRUB calls (memdisk); another kind of volume is passed over. */
void wdr_grub_shell_memdisk(WdrGrubShell *sh, const void *bytes, size_t len);
const char *wdr_grub_get(const WdrGrubShell *sh, const char *name); /* "" where it is not set */
void wdr_grub_set(WdrGrubShell *sh, const char *name, const char *value);
/* The part and path that GRUB means by "(hd0,gpt2)/boot/x" or "/boot/x"; NULL: another disk, or
 * nobody knows. *ret_path points into `path`. */
WdrSystemPart *wdr_grub_locate(WdrGrubShell *sh, const char *path, const char **ret_path);
/* The name of a device for a part of the disk; the caller's. */
char *wdr_grub_device(const WdrGrubShell *sh, const WdrSystemPart *part);
/* Reads a file, or takes a text over that is built in (part NULL). NULL: it is not there, or there
 * are too many. Borrowed. */
const WdrGrubScript *wdr_grub_script(WdrGrubShell *sh, WdrSystemPart *part, const char *path);
const WdrGrubScript *wdr_grub_script_of(WdrGrubShell *sh, const char *file, const char *text);
/* Runs the tokens [at, end) of a script. */
void wdr_grub_run(WdrGrubShell *sh, const WdrGrubScript *script, guint at, guint end);
