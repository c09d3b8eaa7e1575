/* Whether a disk would start a board by itself: the chain from the medium to the mounts after root,
 * walked as loader, kernel and system do it, with all other disks treated as unplugged. Only reads.
 */
#pragma once

#include "base/state.h"
#include "boot/board/board.h"
#include "boot/system/system.h"

typedef enum {
	WDR_STAGE_MEDIUM,
	WDR_STAGE_BOOT,   /* the volume and configuration that the loader reads */
	WDR_STAGE_FILES,  /* kernel, initramfs, device tree */
	WDR_STAGE_DRIVER, /* what the kernel needs before it can mount root */
	WDR_STAGE_ROOT,
	WDR_STAGE_INIT,
	WDR_STAGE_AFTER, /* mounts, swap, and the like */
} WdrStage;
const char *wdr_stage_name(WdrStage stage);

typedef struct {
	WdrStage stage;
	WdrState state;
	char *text;
	char *hint; /* NULL: there is none to say */
} WdrStep;

typedef enum {
	WDR_VERDICT_BOOTS,
	WDR_VERDICT_WARNINGS,
	WDR_VERDICT_UNKNOWN,
	WDR_VERDICT_FAILS,
} WdrVerdict;
const char *wdr_verdict_name(WdrVerdict verdict); /* "boots", … */

typedef struct {
	GPtrArray *steps; /* WdrStep, in the order of the start */
	WdrVerdict verdict;
	const WdrStep *reason; /* the first fault, or the first doubt; NULL: none */
} WdrRehearsal;

typedef struct {
	const char *medium; /* as in WdrDisk, where it is to be another than the disk's own; NULL:
			       that, and where nobody knows, drivers are not looked at */
	const WdrBoard *board;   /* that it is to start; NULL: any that such a disk is for */
	const GPtrArray *others; /* const WdrSystem *: disks that stay in beside it; NULL: none */
	const GPtrArray *away;   /* and those that are treated as unplugged, but may come back */
	bool is_planned; /* the disk is not made yet: what only a disk that is there can get comes
			    after the move */
	/* For advice: the disk whose files a fix would change (NULL: the running system's), and the
	 * one that root is going to be on where that is another one (NULL: it is not). */
	const char *fix_on, *fix_for;
} WdrRehearsing;
WdrRehearsal *wdr_rehearse(const WdrSystem *s, const WdrRehearsing *how);
void wdr_rehearsal_free(WdrRehearsal *r);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(WdrRehearsal, wdr_rehearsal_free)
