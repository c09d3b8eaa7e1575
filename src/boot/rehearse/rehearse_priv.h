/* What the stages of a rehearsal share. Private to this folder. */
#pragma once

#include "boot/kernel/initramfs.h"
#include "boot/kernel/modules.h"
#include "boot/kernel/program.h"
#include "boot/rehearse/boot_entry.h"
#include "boot/rehearse/rehearse.h"

typedef struct {
	const WdrSystem *s;
	const WdrRehearsing *how;
	const char *medium;
	const WdrBoard *board; /* NULL: not known */
	const GPtrArray *others, *away;
	GPtrArray *steps;
	/* Of the entry that is walked, as far as it came. */
	const WdrBootEntry *entry;
	WdrKernel kernel;
	WdrInitramfs *initramfs; /* NULL: none */
	WdrModules *modules;     /* of that kernel; NULL: nothing tells */
	char *release;           /* of it; NULL: nothing tells */
	char *root_type;         /* rootfstype=; NULL: not said */
	const WdrSystemPart *root;
	const WdrSystem *root_disk; /* that it is on */
} WdrWalk;

/* The partition that an identifier names, on the disk itself or on one that stays in; *ret_disk is
 * that one, *ret_count how many it names in all. NULL: none. */
const WdrSystemPart *wdr_walk_resolve(
	const WdrWalk *w, const WdrIdentifier *a, const WdrSystem **ret_disk, unsigned *ret_count);

/* The steps of a walk; the caller's. */
GPtrArray *wdr_walk_steps_new(void);
/* Forgets what was found of the entry before. */
void wdr_walk_forget(WdrWalk *w);
/* Of the kernel that was found: what it has, and which it is. */
void wdr_walk_find_modules(WdrWalk *w);
/* Adds a step; `hint` may be NULL. */
void wdr_walk_say(WdrWalk *w, WdrStage stage, WdrState state, const char *hint, const char *format,
	...) G_GNUC_PRINTF(5, 6);

/* The command that corrects identifiers on the disk whose files are read, with an option
 * ("--renew"; NULL: none). The caller's. */
char *wdr_walk_readdress(const WdrWalk *w, const char *option);

/* Each returns whether the start goes on behind it. */
bool wdr_walk_medium(WdrWalk *w, const WdrBootEntries *entries); /* rehearse_medium.c */
bool wdr_walk_efi(WdrWalk *w, const WdrBootEntries *entries);    /* rehearse_efi.c */
bool wdr_walk_files(WdrWalk *w, const WdrSystemPart *boot);      /* rehearse_files.c */
bool wdr_walk_drivers(WdrWalk *w);                               /* rehearse_kernel.c */
bool wdr_walk_root(WdrWalk *w);
bool wdr_walk_init(WdrWalk *w); /* rehearse_after.c */
void wdr_walk_after(WdrWalk *w);
/* The value of the last KEY= among the kernel arguments; NULL: there is none. The caller's. */
char *wdr_walk_argument(const WdrWalk *w, const char *key);
bool wdr_walk_has_word(const WdrWalk *w, const char *word);
