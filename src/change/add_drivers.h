/* Putting the drivers that a kernel needs before root is there where it can reach them: into the
 * settings of the system's generator of initramfs, so that the next one has them, and as one more
 * segment into the initramfs that there is. */
#pragma once

#include "boot/rehearse/root_drivers.h"
#include "change/disk_session.h"

typedef struct {
	const char *on;     /* disk or image whose system is looked at */
	const char *target; /* disk that root will be on; NULL: the same */
	const char *medium; /* what that will be attached as, as in WdrDisk; NULL: what it is */
	bool generates;     /* the system's own generator is to make the initramfs anew */
} WdrDriversOptions;

typedef struct {
	WdrDiskSession *site;
	char *target;       /* name of the disk that root will be on */
	char *medium;       /* NULL: nobody knows */
	GPtrArray *buses;   /* char *: modules */
	WdrBoard *board;    /* NULL: not known */
	GPtrArray *starts;  /* WdrDrivers */
	GPtrArray *files;   /* WdrFilePlan: what is to be changed */
	GPtrArray *runs;    /* GStrv: commands that make an initramfs anew, after the files */
	GPtrArray *left;    /* char *: what cannot be done, and what to do instead */
	unsigned missing;   /* drivers that are not where they are needed, over all starts */
	bool is_first_fine; /* what starts by itself lacks nothing */
} WdrDriversPlan;

/* Finds out; changes nothing. */
bool wdr_drivers_plan(const WdrWorld *world, const WdrDriversOptions *options, WdrDriversPlan **ret,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
void wdr_drivers_plan_free(WdrDriversPlan *p);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(WdrDriversPlan, wdr_drivers_plan_free)
/* Does it; *ret_has_begun: something may have been changed. */
bool wdr_drivers_write(WdrDriversPlan *p, const char *state, bool *ret_has_begun,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
